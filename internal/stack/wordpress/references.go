package wordpress

import (
	"context"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/site"
	"alibi/internal/tables"
)

// What refers to what, known once: for copying some kinds of content, for putting content back or
// taking it away, and for bringing it in.

// thing is what a row of content is a row of.
type thing int

// The things. A name is that of terms: it may stand in several taxonomies, as a term in each.
const (
	anItem thing = iota + 1
	aComment
	aTerm
	aName
	anAccount
)

// rowsOf are the tables of content: what each row is a row of, and the column that says of which.
var rowsOf = map[string]struct {
	of thing
	by string
}{
	"posts": {anItem, "ID"}, "postmeta": {anItem, "post_id"}, "term_relationships": {anItem, "object_id"},
	"comments": {aComment, "comment_ID"}, "commentmeta": {aComment, "comment_id"},
	"term_taxonomy": {aTerm, "term_taxonomy_id"}, "terms": {aName, "term_id"}, "termmeta": {aName, "term_id"},
	"users": {anAccount, "ID"}, "usermeta": {anAccount, "user_id"},
}

// grouped is the column of term_relationships that says with which term an item goes.
const grouped = "term_taxonomy_id"

// referring are fields that hold the number of another item.
var referring = []string{"_thumbnail_id", "_menu_item_object_id", "_menu_item_menu_item_parent"}

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

func (r row) number(col string) int64 {
	n, _ := strconv.ParseInt(r.text(col), 10, 64)
	return n
}

// readPart reads what refers to what in one site of an installation.
func readPart(ctx context.Context, snap tables.Snapshot, prefix string) (*part, error) {
	p := &part{
		d:            &data{ctx: ctx, snap: snap, prefix: prefix},
		posts:        map[int64]*post{},
		revs:         map[int64][]int64{},
		terms:        map[int64]term{},
		links:        map[int64][]int64{},
		comments:     map[int64]comment{},
		keptPosts:    ids{},
		keptTerms:    ids{},
		keptComments: ids{},
		groups:       ids{},
	}
	return p, p.read()
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
