package wordpress

import (
	"context"
	"slices"
	"strings"

	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// kindOf are the kinds that content types belong to. "" comes always: it is how
// the site looks. A type that is not here is of the kind Other.
var kindOf = map[string]site.Kind{
	"post": site.Posts, "page": site.Pages, "attachment": site.Media, "nav_menu_item": site.Menus,
	"product": site.Products, "product_variation": site.Products,
	"shop_order": site.Orders, "shop_order_refund": site.Orders, "shop_coupon": site.Orders,
	"wp_template": "", "wp_template_part": "", "wp_global_styles": "", "wp_navigation": "", "custom_css": "",
	"wp_font_family": "", "wp_font_face": "",
}

// typeKind gives the kind of a content type. Revisions go with what they are of.
func typeKind(t string) site.Kind {
	if k, known := kindOf[t]; known {
		return k
	}
	return site.Other
}

// ids is a set of numbers of rows.
type ids map[int64]bool

// chosen is what is brought of an installation.
type chosen struct {
	prefix string
	parts  map[string]*part // by table prefix
	users  ids              // nil: all
}

// Choose follows the references of the kinds that are wanted, so that nothing
// that is brought names something that is not.
func (Stack) Choose(ctx context.Context, snap tables.Snapshot, f site.Facts, only []site.Kind) (stack.Keeper, error) {
	c := &chosen{prefix: f.Prefix, parts: map[string]*part{}, users: ids{}}
	for _, t := range snap.Schema().Tables {
		prefix, ok := strings.CutSuffix(t.Name, "posts")
		if !ok || !isTable(t.Name, f.Prefix, "posts") {
			continue
		}
		p, err := readPart(ctx, snap, prefix)
		if err != nil {
			return nil, err
		}
		if err := p.follow(only, c.users); err != nil {
			return nil, err
		}
		c.parts[prefix] = p
	}
	if slices.Contains(only, site.Users) {
		c.users = nil
		return c, nil
	}
	d := &data{ctx: ctx, snap: snap, prefix: f.Prefix}
	return c, d.each("usermeta", func(r row) { // somebody must be able to sign in
		if strings.HasSuffix(r.text("meta_key"), "capabilities") &&
			strings.Contains(r.text("meta_value"), `"administrator"`) {
			c.users[r.number("user_id")] = true
		}
	})
}

// base takes a table's name apart: the part that it belongs to, and its name there.
func (c *chosen) base(table string) (*part, string) {
	for prefix, p := range c.parts {
		rest, ok := strings.CutPrefix(table, prefix)
		if !ok || rowsOf[rest].of == 0 ||
			strings.HasPrefix(rest, "term") && len(p.terms) == 0 { // nothing tells which are needed
			continue
		}
		return p, rest
	}
	return nil, ""
}

// Chooses tells whether rows of the table may stay behind.
func (c *chosen) Chooses(table string) bool {
	p, name := c.base(table)
	return p != nil && (c.users != nil || name != "users" && name != "usermeta")
}

// Keeps tells whether a row is brought.
func (c *chosen) Keeps(t tables.Table, r tables.Row) bool {
	p, name := c.base(t.Name)
	x := row{t, r}
	id := x.number(rowsOf[name].by)
	if name == "term_relationships" {
		to := x.number(grouped)
		return p.keptTerms[to] && (p.terms[to].taxonomy == "link_category" || p.keptPosts[id])
	}
	switch rowsOf[name].of {
	case anItem:
		return p.keptPosts[id]
	case aComment:
		return p.keptComments[id]
	case aTerm:
		return p.keptTerms[id]
	case aName:
		return p.groups[id]
	}
	return c.users == nil || c.users[id]
}

// countKinds counts what there is of each kind.
func (d *data) countKinds(f *site.Facts) {
	n := map[site.Kind]int{site.Comments: d.contents["comments"], site.Terms: d.contents["terms"]}
	for t, of := range d.types {
		if t != "revision" {
			n[typeKind(t)] += of
		}
	}
	for _, t := range f.Tables {
		if t.Name == f.Prefix+"users" {
			n[site.Users] = int(t.Rows)
		}
	}
	for _, k := range site.Kinds {
		f.Kinds = append(f.Kinds, site.Count{Kind: string(k), N: n[k]})
	}
}
