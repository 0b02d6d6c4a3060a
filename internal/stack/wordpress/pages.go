package wordpress

import (
	"context"
	"fmt"
	"strings"

	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// noPages are types of content that are no pages of their own.
var noPages = map[string]bool{
	"revision":            true,
	"nav_menu_item":       true,
	"custom_css":          true,
	"customize_changeset": true,
	"oembed_cache":        true,
	"user_request":        true,
	"wp_block":            true,
	"wp_template":         true,
	"wp_template_part":    true,
	"wp_global_styles":    true,
	"wp_navigation":       true,
	"wp_font_family":      true,
	"wp_font_face":        true,
}

// Draft makes a row of a page one of a draft.
func (Stack) Draft(prefix string, t tables.Table, r tables.Row, from string) bool {
	x := row{t, r}
	kind := x.text("post_type")
	if _, name := partOf(prefix, t.Name); name != "posts" || noPages[kind] || kind == "attachment" ||
		strings.HasPrefix(kind, "shop_order") {
		return false
	}
	set := func(column, text string) {
		if i := t.Column(column); i >= 0 {
			r.Values[i].Kind, r.Values[i].Bytes = tables.Text, []byte(text)
		}
	}
	set("post_title", x.text("post_title")+" ("+from+")")
	set("post_status", "draft")
	set("post_name", "")
	return true
}

// Pages gives one page of each kind that the site has, by the short form that
// leads to it whatever its link structure is.
func (Stack) Pages(ctx context.Context, snap tables.Snapshot, f site.Facts) ([]stack.Page, error) {
	d := &data{ctx: ctx, snap: snap, prefix: f.Prefix}
	newest := map[string]int64{}
	author := int64(0)
	if err := d.each("posts", func(r row) {
		kind := r.text("post_type")
		if s := r.text("post_status"); noPages[kind] || s != "publish" && (kind != "attachment" || s != "inherit") {
			return
		}
		if id := r.number("ID"); id > newest[kind] {
			newest[kind] = id
			if kind == "post" {
				author = r.number("post_author")
			}
		}
	}); err != nil {
		return nil, err
	}
	group := map[string]int64{}
	if err := d.each("term_taxonomy", func(r row) {
		if r.number("count") > 0 {
			group[r.text("taxonomy")] = r.number("term_id")
		}
	}); err != nil {
		return nil, err
	}
	out := []stack.Page{
		{Kind: "first page", Path: "/"},
		{Kind: "search", Path: "/?s=the"},
		{Kind: "feed", Path: "/?feed=rss2"},
		{Kind: "sign-in", Path: "/wp-login.php"},
		{Kind: "nothing there", Path: "/no-such-page-here/", Missing: true},
		{Kind: "interface for programs", Path: "/?rest_route=/wp/v2/types"},
	}
	param := map[string]string{"post": "p", "page": "page_id", "attachment": "attachment_id"}
	for kind, id := range newest {
		p := stack.Page{Kind: strings.ReplaceAll(kind, "_", " "), Path: fmt.Sprintf("/?post_type=%s&p=%d", kind, id)}
		if q := param[kind]; q != "" {
			p.Path = fmt.Sprintf("/?%s=%d", q, id)
		}
		out = append(out, p)
	}
	if id := group["category"]; id > 0 {
		out = append(out, stack.Page{Kind: "category", Path: fmt.Sprintf("/?cat=%d", id)})
	}
	if author > 0 {
		out = append(out, stack.Page{Kind: "author", Path: fmt.Sprintf("/?author=%d", author)})
	}
	for _, p := range []string{"", "plugins.php", "themes.php", "edit.php", "options-general.php"} {
		out = append(
			out,
			stack.Page{
				Kind:     strings.TrimRight("administration "+strings.TrimSuffix(p, ".php"), " "),
				Path:     "/wp-admin/" + p,
				SignedIn: true,
			},
		)
	}
	stack.SortPages(out)
	return out, nil
}
