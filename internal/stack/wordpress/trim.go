package wordpress

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"alibi/internal/stack"
	"alibi/internal/tables"
)

var _ stack.Trimming = Stack{}

// The parts of a site that visitors do not see, and that can be done without.
const (
	trimRevisions  = "revisions"
	trimBin        = "bin"
	trimSpam       = "spam"
	trimTransients = "transients"
	trimOrphans    = "orphans"
	trimMedia      = "media"
	trimCopies     = "copies"
)

// Trims names them.
func (Stack) Trims() []stack.TrimPart {
	return []stack.TrimPart{
		{Name: trimRevisions, About: "earlier versions of posts and pages, that can be gone back to in the editor"},
		{Name: trimBin, About: "posts, pages and comments that somebody has put into the bin, with all that is theirs"},
		{Name: trimSpam, About: "comments that are marked as spam"},
		{Name: trimTransients, About: "results that were kept for a time which is over"},
		{Name: trimOrphans, About: "fields of posts, comments and terms that are not there any more"},
		{Name: trimMedia, Files: true, About: "files of the media library that no text in the tables names, in any size; " +
			"code that names them is not looked into"},
		{Name: trimCopies, Files: true, About: "archives and dumps of databases that lie in the site's folder, and that no " +
			"text in the tables names"},
	}
}

// Trim tells of each row to which of the parts it belongs; "" for a row that the site needs.
func (Stack) Trim(ctx context.Context, snap tables.Snapshot, prefix string, at time.Time) (
	func(t tables.Table) func(tables.Row) string, error) {
	x := &trim{d: &data{ctx: ctx, snap: snap, prefix: prefix}, posts: map[int64]string{}, comments: map[int64]string{},
		links: ids{}, terms: ids{}, over: map[string]bool{}}
	for _, read := range []func() error{x.readPosts, x.readComments, x.readNames, x.readTimes(at)} {
		if err := read(); err != nil {
			return nil, err
		}
	}
	return func(t tables.Table) func(tables.Row) string {
		name, ours := strings.CutPrefix(t.Name, prefix)
		if !ours {
			return nil
		}
		of := x.table(name)
		if of == nil {
			return nil
		}
		return func(r tables.Row) string { return of(row{t, r}) }
	}, nil
}

// trim is what is known of a site's rows, by their numbers: the part to which they belong, "" for those that stay.
type trim struct {
	d               *data
	posts, comments map[int64]string
	links, terms    ids
	over            map[string]bool // names of what was kept for a time that is over
}

func (x *trim) readPosts() error {
	parents := map[int64]int64{} // of revisions
	err := x.d.each("posts", func(r row) {
		id := r.number("ID")
		switch {
		case r.text("post_type") == "revision":
			x.posts[id], parents[id] = trimRevisions, r.number("post_parent")
		case r.text("post_status") == "trash":
			x.posts[id] = trimBin
		default:
			x.posts[id] = ""
		}
	})
	for id, parent := range parents {
		if x.posts[parent] == trimBin {
			x.posts[id] = trimBin // what is in the bin is brought back with all its versions, or not at all
		}
	}
	return err
}

func (x *trim) readComments() error {
	return x.d.each("comments", func(r row) {
		part := map[string]string{"spam": trimSpam, "trash": trimBin, "post-trashed": trimBin}[r.text("comment_approved")]
		if x.posts[r.number("comment_post_ID")] == trimBin {
			part = trimBin
		}
		x.comments[r.number("comment_ID")] = part
	})
}

func (x *trim) readNames() error {
	if err := x.d.each("links", func(r row) { x.links[r.number("link_id")] = true }); err != nil {
		return err
	}
	return x.d.each("terms", func(r row) { x.terms[r.number("term_id")] = true })
}

// transients are how the names begin of what is kept for a time, and of that time.
var transients = map[string]string{"_transient_timeout_": "_transient_", "_site_transient_timeout_": "_site_transient_"}

func (x *trim) readTimes(at time.Time) func() error {
	return func() error {
		for table, columns := range map[string][2]string{"options": {"option_name", "option_value"},
			"sitemeta": {"meta_key", "meta_value"}} {
			if _, has := x.d.snap.Schema().Table(x.d.prefix + table); !has {
				continue
			}
			if err := x.d.each(table, func(r row) {
				name := r.text(columns[0])
				for timeout, kept := range transients {
					if rest, is := strings.CutPrefix(name, timeout); is {
						until, err := strconv.ParseInt(r.text(columns[1]), 10, 64)
						x.over[name] = err == nil && until < at.Unix()
						x.over[kept+rest] = x.over[name]
					}
				}
			}); err != nil {
				return err
			}
		}
		return nil
	}
}

// table gives the part of each row of a table.
func (x *trim) table(name string) func(row) string {
	whose := func(of map[int64]string, column string) func(row) string {
		return func(r row) string {
			part, there := of[r.number(column)]
			if !there {
				return trimOrphans
			}
			return part
		}
	}
	passing := func(column string) func(row) string {
		return func(r row) string {
			if x.over[r.text(column)] {
				return trimTransients
			}
			return ""
		}
	}
	switch name {
	case "posts":
		return whose(x.posts, "ID")
	case "postmeta":
		return whose(x.posts, "post_id")
	case "comments":
		return whose(x.comments, "comment_ID")
	case "commentmeta":
		return whose(x.comments, "comment_id")
	case "options":
		return passing("option_name")
	case "sitemeta":
		return passing("meta_key")
	case "termmeta":
		return func(r row) string {
			if !x.terms[r.number("term_id")] {
				return trimOrphans
			}
			return ""
		}
	case "term_relationships":
		return func(r row) string {
			id := r.number("object_id")
			if part, there := x.posts[id]; there || x.links[id] {
				return part
			}
			return "" // plugins group other things, too
		}
	}
	return nil
}

// cleanTrim takes out rows of some parts.
func (s Stack) cleanTrim(ctx context.Context, snap tables.Snapshot, prefix string, w stack.Wish) (
	func(tables.Table) stack.Cleanup, error) {
	of, err := s.Trim(ctx, snap, prefix, w.At)
	if err != nil {
		return nil, err
	}
	return func(t tables.Table) stack.Cleanup {
		part := of(t)
		if part == nil {
			return stack.Cleanup{}
		}
		return stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) { return r, !slices.Contains(w.Trim, part(r)) }}
	}, nil
}
