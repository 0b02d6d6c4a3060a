package wordpress

import (
	"context"
	"regexp"
	"slices"
	"strconv"
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

// post is what is known of a piece of content before it is decided on.
type post struct {
	kind           site.Kind
	revision       bool
	parent, author int64
	refs           []int64 // other content that it names
}

// term is a group as it stands in one taxonomy.
type term struct {
	id, parent int64
	taxonomy   string
}

type comment struct{ post, parent, user int64 }

// part is one site of an installation, and what of it is brought.
type part struct {
	d        *data
	posts    map[int64]*post
	revs     map[int64][]int64 // of a post
	terms    map[int64]term    // by the number in the taxonomy
	links    map[int64][]int64 // from a post to terms
	comments map[int64]comment

	keptPosts, keptTerms, keptComments, groups ids // groups: of the terms that are kept
}

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

func (r row) number(col string) int64 {
	n, _ := strconv.ParseInt(r.text(col), 10, 64)
	return n
}

// inText are the ways in which a text names other content by number.
var inText = regexp.MustCompile(
	`wp-image-(\d+)|wp-att-(\d+)|` +
		`"(?:id|ref|mediaId|mediaID|attachmentId|imageID)":\s*"?(\d+)|"?ids"?[=:]\s*["\[]([\d,\s]+)`,
)

// metaRef are names of fields that hold numbers of other content.
var metaRef = regexp.MustCompile(
	`(?i)(^|[_-])(ids?|images?|thumbnail|attachments?|gallery|logo|icon|file|video|audio)$`,
)

var numbers = regexp.MustCompile(`\d+`)

func numbersIn(s string) (out []int64) {
	for _, m := range numbers.FindAllString(s, 200) {
		if n, err := strconv.ParseInt(m, 10, 64); err == nil && n > 0 {
			out = append(out, n)
		}
	}
	return out
}

// read gathers what refers to what.
func (p *part) read() error {
	reads := []struct {
		table string
		give  func(row)
	}{
		{"posts", p.post},
		{"postmeta", p.meta},
		{"term_taxonomy", func(r row) {
			p.terms[r.number("term_taxonomy_id")] = term{
				id:       r.number("term_id"),
				parent:   r.number("parent"),
				taxonomy: r.text("taxonomy"),
			}
		}},
		{"term_relationships", func(r row) {
			p.links[r.number("object_id")] = append(p.links[r.number("object_id")], r.number("term_taxonomy_id"))
		}},
		{"comments", func(r row) {
			p.comments[r.number("comment_ID")] = comment{
				post:   r.number("comment_post_ID"),
				parent: r.number("comment_parent"),
				user:   r.number("user_id"),
			}
		}},
	}
	for _, rd := range reads {
		if err := p.d.each(rd.table, rd.give); err != nil {
			return err
		}
	}
	return nil
}

func (p *part) post(r row) {
	id := r.number("ID")
	x := &post{
		kind:     typeKind(r.text("post_type")),
		revision: r.text("post_type") == "revision",
		parent:   r.number("post_parent"),
		author:   r.number("post_author"),
	}
	for _, m := range inText.FindAllStringSubmatch(r.text("post_content"), -1) {
		for _, g := range m[1:] {
			x.refs = append(x.refs, numbersIn(g)...)
		}
	}
	if x.revision {
		p.revs[x.parent] = append(p.revs[x.parent], id)
	}
	p.posts[id] = x
}

// meta adds what the fields of a piece of content name.
func (p *part) meta(r row) {
	x := p.posts[r.number("post_id")]
	if x == nil || !metaRef.MatchString(r.text("meta_key")) {
		return
	}
	if v := r.text("meta_value"); len(v) < 4096 {
		x.refs = append(x.refs, numbersIn(v)...)
	}
}

// follow decides what is brought, beginning with the kinds that are wanted.
func (p *part) follow(only []site.Kind, users ids) error {
	for id, x := range p.posts {
		if !x.revision && (x.kind == "" || slices.Contains(only, x.kind)) {
			p.keep(id, users)
		}
	}
	if slices.Contains(only, site.Comments) {
		for id := range p.comments {
			p.comment(id, users)
		}
	}
	for id, t := range p.terms {
		if slices.Contains(only, site.Terms) && t.taxonomy != "nav_menu" ||
			slices.Contains(only, site.Menus) && t.taxonomy == "nav_menu" {
			p.term(id)
		}
	}
	err := p.d.each("options", func(r row) { p.setting(r.text("option_name"), r.text("option_value"), users) })
	for id := range p.keptTerms {
		p.groups[p.terms[id].id] = true
	}
	return err
}

// keep brings a piece of content and all that it refers to.
func (p *part) keep(id int64, users ids) {
	for todo := []int64{id}; len(todo) > 0; {
		id, todo = todo[len(todo)-1], todo[:len(todo)-1]
		x := p.posts[id]
		if x == nil || p.keptPosts[id] {
			continue
		}
		p.keptPosts[id] = true
		users[x.author] = true
		for _, t := range p.links[id] {
			p.term(t)
		}
		if x.kind == site.Menus { // an entry may lead to a group
			for t, g := range p.terms {
				if slices.Contains(x.refs, g.id) {
					p.term(t)
				}
			}
		}
		todo = append(append(append(todo, x.parent), x.refs...), p.revs[id]...)
	}
}

func (p *part) comment(id int64, users ids) {
	c, known := p.comments[id]
	if !known || p.keptComments[id] {
		return
	}
	p.keptComments[id] = true
	users[c.user] = true
	p.keep(c.post, users)
	p.comment(c.parent, users)
}

func (p *part) term(id int64) {
	t, known := p.terms[id]
	if !known || p.keptTerms[id] {
		return
	}
	p.keptTerms[id] = true
	for other, o := range p.terms {
		if t.parent != 0 && o.id == t.parent && o.taxonomy == t.taxonomy {
			p.term(other)
		}
	}
}

// settingRefs are settings that name content.
var settingRefs = []string{"page_on_front", "page_for_posts", "wp_page_for_privacy_policy", "site_icon", "site_logo"}

var logo = regexp.MustCompile(`"custom_logo";i:(\d+)`)

// setting brings what a setting names.
func (p *part) setting(name, value string, users ids) {
	switch {
	case slices.Contains(settingRefs, name), strings.HasSuffix(name, "_page_id"):
		for _, n := range numbersIn(value) {
			p.keep(n, users)
		}
	case strings.HasPrefix(name, "theme_mods_"):
		for _, m := range logo.FindAllStringSubmatch(value, -1) {
			for _, n := range numbersIn(m[1]) {
				p.keep(n, users)
			}
		}
	case strings.HasPrefix(name, "default_") && strings.HasSuffix(name, "category"):
		for id, t := range p.terms {
			if strconv.FormatInt(t.id, 10) == value {
				p.term(id)
			}
		}
	}
}

// chooses are the tables of which rows may stay behind, with the column that
// tells of which thing a row is.
var chooses = map[string]string{
	"posts": "ID", "postmeta": "post_id", "comments": "comment_ID", "commentmeta": "comment_id",
	"terms": "term_id", "termmeta": "term_id", "term_taxonomy": "term_taxonomy_id",
	"term_relationships": "term_taxonomy_id",
	"users":              "ID", "usermeta": "user_id",
}

// base takes a table's name apart: the part that it belongs to, and its name there.
func (c *chosen) base(table string) (*part, string) {
	for prefix, p := range c.parts {
		rest, ok := strings.CutPrefix(table, prefix)
		if !ok || chooses[rest] == "" ||
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
	id := x.number(chooses[name])
	switch name {
	case "posts", "postmeta":
		return p.keptPosts[id]
	case "comments", "commentmeta":
		return p.keptComments[id]
	case "term_taxonomy":
		return p.keptTerms[id]
	case "terms", "termmeta":
		return p.groups[id]
	case "term_relationships":
		return p.keptTerms[id] && (p.terms[id].taxonomy == "link_category" || p.keptPosts[x.number("object_id")])
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
