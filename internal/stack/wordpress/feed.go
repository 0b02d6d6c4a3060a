package wordpress

import (
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"

	"alibi/internal/site"
	"alibi/internal/tables"
)

// The form in which the CMS exports content and imports it: RSS 2.0 with
// namespaces of its own (wp-admin/includes/export.php).
const (
	feedVersion = "1.2"
	feedSpace   = "http://wordpress.org/export/1.2/"
)

type feed struct {
	XMLName xml.Name    `xml:"rss"`
	Version string      `xml:"version,attr"`
	Spaces  []xml.Attr  `xml:",any,attr"`
	Channel feedChannel `xml:"channel"`
}

type feedChannel struct {
	Title       string       `xml:"title"`
	Link        string       `xml:"link"`
	Description string       `xml:"description"`
	Generator   string       `xml:"generator"`
	WXR         string       `xml:"wp:wxr_version"`
	Site        string       `xml:"wp:base_site_url"`
	Blog        string       `xml:"wp:base_blog_url"`
	Authors     []feedAuthor `xml:"wp:author"`
	Terms       []feedTerm   `xml:"wp:term"`
}

type feedAuthor struct {
	ID    int64  `xml:"wp:author_id"`
	Login string `xml:"wp:author_login"`
	Mail  string `xml:"wp:author_email"`
	Name  string `xml:"wp:author_display_name"`
}

type feedTerm struct {
	ID       int64  `xml:"wp:term_id"`
	Taxonomy string `xml:"wp:term_taxonomy"`
	Slug     string `xml:"wp:term_slug"`
	Parent   string `xml:"wp:term_parent"`
	Name     string `xml:"wp:term_name"`
}

type feedItem struct {
	XMLName    xml.Name       `xml:"item"`
	Title      string         `xml:"title"`
	Link       string         `xml:"link"`
	Creator    string         `xml:"dc:creator"`
	GUID       feedGUID       `xml:"guid"`
	Content    string         `xml:"content:encoded"`
	Excerpt    string         `xml:"excerpt:encoded"`
	ID         int64          `xml:"wp:post_id"`
	Date       string         `xml:"wp:post_date"`
	DateGMT    string         `xml:"wp:post_date_gmt"`
	Comments   string         `xml:"wp:comment_status"`
	Pings      string         `xml:"wp:ping_status"`
	Slug       string         `xml:"wp:post_name"`
	Status     string         `xml:"wp:status"`
	Parent     int64          `xml:"wp:post_parent"`
	Order      int64          `xml:"wp:menu_order"`
	Type       string         `xml:"wp:post_type"`
	Password   string         `xml:"wp:post_password"`
	Sticky     int            `xml:"wp:is_sticky"`
	Attachment string         `xml:"wp:attachment_url,omitempty"`
	Categories []feedCategory `xml:"category"`
	Meta       []feedMeta     `xml:"wp:postmeta"`
	Replies    []feedComment  `xml:"wp:comment"`
}

type feedGUID struct {
	Permanent bool   `xml:"isPermaLink,attr"`
	Text      string `xml:",chardata"`
}

type feedCategory struct {
	Domain string `xml:"domain,attr"`
	Slug   string `xml:"nicename,attr"`
	Name   string `xml:",chardata"`
}

type feedMeta struct {
	Key   string `xml:"wp:meta_key"`
	Value string `xml:"wp:meta_value"`
}

type feedComment struct {
	ID       int64  `xml:"wp:comment_id"`
	Author   string `xml:"wp:comment_author"`
	Mail     string `xml:"wp:comment_author_email"`
	URL      string `xml:"wp:comment_author_url"`
	Date     string `xml:"wp:comment_date"`
	DateGMT  string `xml:"wp:comment_date_gmt"`
	Text     string `xml:"wp:comment_content"`
	Approved string `xml:"wp:comment_approved"`
	Type     string `xml:"wp:comment_type"`
	Parent   int64  `xml:"wp:comment_parent"`
}

// exporting gathers what the items of a feed refer to.
type exporting struct {
	*data
	authors map[int64]string
	terms   map[int64]feedTerm // by their number in the taxonomy
	byGroup map[int64]feedTerm
	links   map[int64][]int64
	meta    map[int64][]feedMeta
	replies map[int64][]feedComment
	sticky  []int64
}

// Export writes content of some kinds, or all, in the form in which the CMS itself
// exports it, and tells how many items that was. Sessions and passwords of
// accounts are no part of it.
func (Stack) Export(
	ctx context.Context,
	snap tables.Snapshot,
	prefix string,
	kinds []site.Kind,
	to io.Writer,
) (int, error) {
	x := &exporting{
		data:    &data{ctx: ctx, snap: snap, prefix: prefix},
		authors: map[int64]string{},
		terms:   map[int64]feedTerm{},
		byGroup: map[int64]feedTerm{},
		links:   map[int64][]int64{},
		meta:    map[int64][]feedMeta{},
		replies: map[int64][]feedComment{},
	}
	if err := x.read(); err != nil {
		return 0, err
	}
	f := feed{
		Version: "2.0",
		Channel: feedChannel{
			Title:       x.options["blogname"],
			Link:        x.options["home"],
			Description: x.options["blogdescription"],
			Generator:   "alibi",
			WXR:         feedVersion,
			Site:        x.options["siteurl"],
			Blog:        x.options["home"],
		},
	}
	for prefix, space := range map[string]string{"excerpt": feedSpace + "excerpt/",
		"content": "http://purl.org/rss/1.0/modules/content/", "dc": "http://purl.org/dc/elements/1.1/",
		"wp": feedSpace} {
		f.Spaces = append(f.Spaces, xml.Attr{Name: xml.Name{Local: "xmlns:" + prefix}, Value: space})
	}
	slices.SortFunc(f.Spaces, func(a, b xml.Attr) int { return strings.Compare(a.Name.Local, b.Name.Local) })
	if err := x.gather(&f.Channel); err != nil {
		return 0, err
	}
	head, err := xml.MarshalIndent(f, "", " ")
	if err != nil {
		return 0, fmt.Errorf("writing the content: %w", err)
	}
	begin, end, _ := strings.Cut(string(head), "\n </channel>")
	if _, err := io.WriteString(to, xml.Header+begin+"\n"); err != nil {
		return 0, err
	}
	n := 0
	enc := xml.NewEncoder(to)
	enc.Indent("  ", " ")
	var failed error
	err = x.each("posts", func(r row) {
		kind := typeKind(r.text("post_type"))
		if failed != nil || r.text("post_type") == "revision" || r.text("post_status") == "auto-draft" ||
			len(kinds) > 0 && !slices.Contains(kinds, kind) {
			return
		}
		n++
		failed = enc.Encode(x.item(r))
	})
	if err == nil {
		err = failed
	}
	if err == nil {
		_, err = io.WriteString(to, "\n </channel>"+end+"\n")
	}
	return n, err
}

// gather reads what items refer to.
func (x *exporting) gather(ch *feedChannel) error {
	groups := map[int64][2]string{}
	parents := map[int64]int64{}
	for _, id := range x.list("sticky_posts") {
		x.sticky = append(x.sticky, numbersIn(id)...)
	}
	reads := []struct {
		table string
		give  func(row)
	}{
		{"users", func(r row) {
			x.authors[r.number("ID")] = r.text("user_login")
			ch.Authors = append(ch.Authors, feedAuthor{r.number("ID"), r.text("user_login"), r.text("user_email"),
				r.text("display_name")})
		}},
		{"terms", func(r row) { groups[r.number("term_id")] = [2]string{r.text("slug"), r.text("name")} }},
		{"term_taxonomy", func(r row) {
			g := groups[r.number("term_id")]
			t := feedTerm{ID: r.number("term_id"), Taxonomy: r.text("taxonomy"), Slug: g[0], Name: g[1]}
			x.terms[r.number("term_taxonomy_id")], x.byGroup[t.ID] = t, t
			parents[r.number("term_taxonomy_id")] = r.number("parent")
		}},
		{"term_relationships", func(r row) {
			x.links[r.number("object_id")] = append(x.links[r.number("object_id")], r.number("term_taxonomy_id"))
		}},
		{"postmeta", func(r row) {
			if key := r.text("meta_key"); key != "_edit_lock" {
				x.meta[r.number("post_id")] = append(x.meta[r.number("post_id")], feedMeta{key, r.text("meta_value")})
			}
		}},
		{"comments", func(r row) {
			x.replies[r.number("comment_post_ID")] = append(
				x.replies[r.number("comment_post_ID")],
				feedComment{
					ID:       r.number("comment_ID"),
					Author:   r.text("comment_author"),
					Mail:     r.text("comment_author_email"),
					URL:      r.text("comment_author_url"),
					Date:     r.text("comment_date"),
					DateGMT:  r.text("comment_date_gmt"),
					Text:     r.text("comment_content"),
					Approved: r.text("comment_approved"),
					Type:     r.text("comment_type"),
					Parent:   r.number("comment_parent"),
				},
			)
		}},
	}
	for _, rd := range reads {
		if err := x.each(rd.table, rd.give); err != nil {
			return err
		}
	}
	for id, t := range x.terms {
		t.Parent = x.byGroup[parents[id]].Slug
		ch.Terms = append(ch.Terms, t)
	}
	slices.SortFunc(ch.Terms, func(a, b feedTerm) int { return int(a.ID - b.ID) })
	return nil
}

func (x *exporting) item(r row) feedItem {
	id := r.number("ID")
	it := feedItem{
		Title:    r.text("post_title"),
		Link:     r.text("guid"),
		Creator:  x.authors[r.number("post_author")],
		GUID:     feedGUID{Text: r.text("guid")},
		Content:  r.text("post_content"),
		Excerpt:  r.text("post_excerpt"),
		ID:       id,
		Date:     r.text("post_date"),
		DateGMT:  r.text("post_date_gmt"),
		Comments: r.text("comment_status"),
		Pings:    r.text("ping_status"),
		Slug:     r.text("post_name"),
		Status:   r.text("post_status"),
		Parent:   r.number("post_parent"),
		Order:    r.number("menu_order"),
		Type:     r.text("post_type"),
		Meta:     x.meta[id],
		Replies:  x.replies[id],
	}
	if slices.Contains(x.sticky, id) {
		it.Sticky = 1
	}
	if it.Type == "attachment" {
		it.Attachment = it.GUID.Text
	}
	for _, t := range x.links[id] {
		if term, ok := x.terms[t]; ok {
			it.Categories = append(it.Categories, feedCategory{term.Taxonomy, term.Slug, term.Name})
		}
	}
	return it
}
