package wordpress

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// What is read of a feed. Names without a space match in any: older exports have
// other ones.
type inItem struct {
	Title      string       `xml:"title"`
	Creator    string       `xml:"creator"`
	GUID       string       `xml:"guid"`
	Content    string       `xml:"http://purl.org/rss/1.0/modules/content/ encoded"`
	Encoded    []inEncoded  `xml:"encoded"`
	ID         int64        `xml:"post_id"`
	Date       string       `xml:"post_date"`
	DateGMT    string       `xml:"post_date_gmt"`
	Comments   string       `xml:"comment_status"`
	Pings      string       `xml:"ping_status"`
	Slug       string       `xml:"post_name"`
	Status     string       `xml:"status"`
	Parent     int64        `xml:"post_parent"`
	Order      int64        `xml:"menu_order"`
	Type       string       `xml:"post_type"`
	Categories []inCategory `xml:"category"`
	Meta       []inMeta     `xml:"postmeta"`
	Replies    []inComment  `xml:"comment"`
}

type inEncoded struct {
	XMLName xml.Name
	Text    string `xml:",chardata"`
}

type inCategory struct {
	Domain string `xml:"domain,attr"`
	Slug   string `xml:"nicename,attr"`
	Name   string `xml:",chardata"`
}

type inMeta struct {
	Key   string `xml:"meta_key"`
	Value string `xml:"meta_value"`
}

type inComment struct {
	ID       int64  `xml:"comment_id"`
	Author   string `xml:"comment_author"`
	Mail     string `xml:"comment_author_email"`
	URL      string `xml:"comment_author_url"`
	Date     string `xml:"comment_date"`
	DateGMT  string `xml:"comment_date_gmt"`
	Text     string `xml:"comment_content"`
	Approved string `xml:"comment_approved"`
	Type     string `xml:"comment_type"`
	Parent   int64  `xml:"comment_parent"`
}

// bringing makes rows of a feed's items.
type bringing struct {
	*data
	there   map[string]int64 // items that are there already, by what they are known by
	groups  map[[2]string]int64
	next    map[string]int64 // the next free number, by table
	authors map[string]int64
	first   int64 // the author of what nobody wrote who is here
	add     map[string][]tables.Row
	counts  map[int64]int64 // published items by term, to be added
	numbers map[int64]int64 // of items: in the feed, and here
	rw      *rewrite.Rewriter
	out     stack.Brought
}

// Bring reads content in the form in which the CMS exports it, and says which
// rows are to be added for it: items that are there already, by their lasting
// addresses, are passed by; authors are found by their names, else the first
// administrator has written it; groups are found or made.
func (s Stack) Bring(
	ctx context.Context,
	snap tables.Snapshot,
	prefix string,
	from io.Reader,
) (func(tables.Table) stack.Cleanup, stack.Brought, error) {
	b := &bringing{
		data:    &data{ctx: ctx, snap: snap, prefix: prefix},
		there:   map[string]int64{},
		groups:  map[[2]string]int64{},
		next:    map[string]int64{},
		authors: map[string]int64{},
		add:     map[string][]tables.Row{},
		counts:  map[int64]int64{},
		numbers: map[int64]int64{},
	}
	if err := b.look(); err != nil {
		return nil, b.out, err
	}
	items, err := b.parse(from)
	if err != nil {
		return nil, b.out, err
	}
	for i := range items { // numbers first: items refer to each other
		b.number(&items[i])
	}
	for _, it := range items {
		b.item(it)
	}
	b.countAdded()
	return b.cleanup, b.out, nil
}

// cleanup is what becomes of a table.
func (b *bringing) cleanup(t tables.Table) stack.Cleanup {
	c := stack.Cleanup{Add: b.add[t.Name]}
	if t.Name == b.prefix+"term_taxonomy" && len(b.counts) > 0 {
		c.Row = func(r tables.Row) (tables.Row, bool) { return b.counted(t, r), true }
	}
	return c
}

// counted adds to a group what came into it.
func (b *bringing) counted(t tables.Table, r tables.Row) tables.Row {
	x := row{t, r}
	if n := b.counts[x.number("term_taxonomy_id")]; n > 0 {
		return with(t, r, "count", strconv.FormatInt(x.number("count")+n, 10))
	}
	return r
}

// countAdded counts in groups that come too.
func (b *bringing) countAdded() {
	t, ok := b.snap.Schema().Table(b.prefix + "term_taxonomy")
	if !ok {
		return
	}
	for i, r := range b.add[t.Name] {
		b.add[t.Name][i] = b.counted(t, r)
	}
}

// look reads what is there.
func (b *bringing) look() error {
	if err := b.read(); err != nil {
		return err
	}
	most := func(table, column string) func(row) {
		return func(r row) { b.next[table] = max(b.next[table], r.number(column)) }
	}
	slugs := map[int64]string{}
	reads := []struct {
		table string
		give  func(row)
	}{
		{"posts", func(r row) {
			most("posts", "ID")(r)
			b.there[known(r.text("post_type"), r.text("guid"), r.text("post_name"),
				r.text("post_date"))] = r.number("ID")
		}},
		{"postmeta", most("postmeta", "meta_id")}, {"comments", most("comments", "comment_ID")},
		{"terms", func(r row) {
			most("terms", "term_id")(r)
			slugs[r.number("term_id")] = r.text("slug")
		}},
		{"term_taxonomy", func(r row) {
			most("term_taxonomy", "term_taxonomy_id")(r)
			b.groups[[2]string{r.text("taxonomy"), slugs[r.number("term_id")]}] = r.number("term_taxonomy_id")
		}},
		{"users", func(r row) {
			b.authors[r.text("user_login")] = r.number("ID")
			if b.first == 0 {
				b.first = r.number("ID")
			}
		}},
	}
	for _, rd := range reads {
		if err := b.each(rd.table, rd.give); err != nil {
			return err
		}
	}
	return nil
}

// known is what an item is known by.
func known(kind, guid, slug, date string) string {
	if guid != "" {
		return kind + " " + guid
	}
	return kind + " " + slug + " " + date
}

// parse reads the items of a feed.
func (b *bringing) parse(from io.Reader) (items []inItem, err error) {
	dec := xml.NewDecoder(from)
	seen := false
	for {
		tok, err := dec.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("the content can't be read: %w; nothing was brought", err)
		}
		el, ok := tok.(xml.StartElement)
		switch {
		case !ok:
		case el.Name.Local == "wxr_version":
			seen = true
		case el.Name.Local == "base_site_url":
			var base string
			if err := dec.DecodeElement(&base, &el); err != nil {
				return nil, fmt.Errorf("the content can't be read: %w; nothing was brought", err)
			}
			b.from(base)
		case el.Name.Local == "item":
			var it inItem
			if err := dec.DecodeElement(&it, &el); err != nil {
				return nil, fmt.Errorf("the %d. item can't be read: %w; nothing was brought", len(items)+1, err)
			}
			items = append(items, it)
		}
	}
	if !seen {
		return nil, errors.New("this is no content that the CMS exported: it has no wxr_version")
	}
	return items, nil
}

// from has addresses of the site that the content comes from become this one's.
func (b *bringing) from(base string) {
	a, err := site.ParseAddress(strings.TrimSpace(base))
	if err != nil {
		return
	}
	to, err := site.ParseAddress(b.options["siteurl"])
	if err != nil || a == to {
		return
	}
	b.rw, _ = rewrite.New([]rewrite.Pair{{From: a, To: to}}, nil) // without one nothing is changed
}

func (b *bringing) local(text string) string {
	if b.rw == nil {
		return text
	}
	out, _, _ := b.rw.Value([]byte(text), rewrite.Prose)
	return string(out)
}

// free gives the next free number of a table.
func (b *bringing) free(table string) int64 {
	b.next[table]++
	return b.next[table]
}

// number gives an item the number that it has here.
func (b *bringing) number(it *inItem) {
	it.GUID = b.local(it.GUID)
	if id, is := b.there[known(it.Type, it.GUID, it.Slug, it.Date)]; is {
		b.numbers[it.ID] = id
		it.Type = "" // it is here
		b.out.Skipped++
		return
	}
	b.numbers[it.ID] = b.free("posts")
}

// item makes the rows of one item.
func (b *bringing) item(it inItem) {
	if it.Type == "" || it.Type == "revision" {
		return
	}
	b.out.Items++
	id := b.numbers[it.ID]
	author, is := b.authors[it.Creator]
	if !is {
		author = b.first
		if it.Creator != "" && !slices.Contains(b.out.Unknown, it.Creator) {
			b.out.Unknown = append(b.out.Unknown, it.Creator)
		}
	}
	excerpt := ""
	for _, e := range it.Encoded {
		if strings.Contains(e.XMLName.Space, "excerpt") {
			excerpt = e.Text
		}
	}
	b.put(
		"posts",
		map[string]string{
			"ID":                str(id),
			"post_author":       str(author),
			"post_date":         it.Date,
			"post_date_gmt":     it.DateGMT,
			"post_content":      b.local(it.Content),
			"post_title":        it.Title,
			"post_excerpt":      b.local(excerpt),
			"post_status":       it.Status,
			"comment_status":    it.Comments,
			"ping_status":       it.Pings,
			"post_name":         it.Slug,
			"post_modified":     it.Date,
			"post_modified_gmt": it.DateGMT,
			"post_parent":       str(b.numbers[it.Parent]),
			"guid":              it.GUID,
			"menu_order":        str(it.Order),
			"post_type":         it.Type,
			"comment_count":     str(int64(len(it.Replies))),
		},
	)
	b.fields(it, id)
	for _, c := range it.Categories {
		t := b.term(c)
		if t == 0 {
			continue
		}
		b.put("term_relationships", map[string]string{"object_id": str(id), "term_taxonomy_id": str(t),
			"term_order": "0"})
		if it.Status == "publish" {
			b.counts[t]++
		}
	}
	b.replies(it, id)
}

// fields makes the rows of an item's fields.
func (b *bringing) fields(it inItem, id int64) {
	for _, m := range it.Meta {
		if slices.Contains(referring, m.Key) {
			if n, err := strconv.ParseInt(m.Value, 10, 64); err == nil && b.numbers[n] != 0 {
				m.Value = str(b.numbers[n])
			}
		}
		b.put(
			"postmeta",
			map[string]string{
				"meta_id":    str(b.free("postmeta")),
				"post_id":    str(id),
				"meta_key":   m.Key,
				"meta_value": m.Value,
			},
		)
	}
}

// replies makes the rows of the comments on an item.
func (b *bringing) replies(it inItem, id int64) {
	replies := map[int64]int64{}
	for _, c := range it.Replies {
		replies[c.ID] = b.free("comments")
	}
	for _, c := range it.Replies {
		b.out.Comments++
		b.put(
			"comments",
			map[string]string{
				"comment_ID":           str(replies[c.ID]),
				"comment_post_ID":      str(id),
				"comment_author":       c.Author,
				"comment_author_email": c.Mail,
				"comment_author_url":   c.URL,
				"comment_date":         c.Date,
				"comment_date_gmt":     c.DateGMT,
				"comment_content":      b.local(c.Text),
				"comment_approved":     c.Approved,
				"comment_type":         c.Type,
				"comment_parent":       str(replies[c.Parent]),
			},
		)
	}
}

func str(n int64) string { return strconv.FormatInt(n, 10) }

// term finds a group, or makes it; 0 where the site has no such tables.
func (b *bringing) term(c inCategory) int64 {
	if _, ok := b.snap.Schema().Table(b.prefix + "term_taxonomy"); !ok || c.Slug == "" {
		return 0
	}
	key := [2]string{c.Domain, c.Slug}
	if id, is := b.groups[key]; is {
		return id
	}
	group, id := b.free("terms"), b.free("term_taxonomy")
	b.put("terms", map[string]string{"term_id": str(group), "name": c.Name, "slug": c.Slug, "term_group": "0"})
	b.put(
		"term_taxonomy",
		map[string]string{
			"term_taxonomy_id": str(id),
			"term_id":          str(group),
			"taxonomy":         c.Domain,
			"description":      "",
			"parent":           "0",
			"count":            "0",
		},
	)
	b.groups[key] = id
	return id
}

// put adds a row; columns that are not named are empty.
func (b *bringing) put(table string, values map[string]string) {
	t, ok := b.snap.Schema().Table(b.prefix + table)
	if !ok {
		return
	}
	var r tables.Row
	for _, c := range t.Columns {
		kind := strings.ToLower(c.Type)
		v := tables.Value{Kind: tables.Text, Bytes: []byte(values[c.Name])}
		if strings.Contains(kind, "int") {
			n, _ := strconv.ParseInt(values[c.Name], 10, 64)
			v = tables.Value{Kind: tables.Int, Int: n, Bytes: []byte(str(n))}
		} else if v.Bytes == nil || len(v.Bytes) == 0 && strings.Contains(kind, "date") {
			v = tables.Value{Kind: tables.Text, Bytes: []byte("1970-01-01 00:00:00")}
		}
		r.Values = append(r.Values, v)
	}
	b.add[t.Name] = append(b.add[t.Name], keyed(t, r))
}
