package wordpress

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// things are numbers of rows by what they are of: those that are put back as
// they were, and those that come along because these refer to them, where they
// are not there any more.
type things struct{ chosen, along ids }

// drops tells whether what is there of a thing is to go.
func (t things) drops(id int64) bool { return t.chosen[id] }

// brings tells whether what was there of a thing is to come.
func (t things) brings(id int64) bool { return t.chosen[id] || t.along[id] }

// putting is what of one site of an installation is put back.
type putting struct {
	posts, comments, terms, groups, users things
}

// PutBack finds the content that was chosen, and what it refers to: authors,
// terms, pictures. The latter only come where they are not there any more.
func (Stack) PutBack(
	ctx context.Context,
	was, now tables.Snapshot,
	prefix string,
	c stack.Content,
) (func(string) (drop, bring stack.Rows), error) {
	parts := map[string]*putting{}
	found := 0
	users := things{ids{}, ids{}}
	needed := ids{}
	for _, t := range was.Schema().Tables {
		p, ok := strings.CutSuffix(t.Name, "posts")
		if !ok || !isTable(t.Name, prefix, "posts") {
			continue
		}
		only := c
		if p != prefix {
			only.Items = nil // numbers are the main site's
		}
		x, n, err := putBack(ctx, was, now, p, only, needed)
		if err != nil {
			return nil, err
		}
		found += n
		x.users = users
		parts[p] = x
	}
	if found == 0 && !slices.Contains(c.Kinds, site.Users) {
		return nil, fmt.Errorf("the restore point has no such content")
	}
	if err := chooseUsers(ctx, was, now, prefix, slices.Contains(c.Kinds, site.Users), needed, users); err != nil {
		return nil, err
	}
	return func(table string) (drop, bring stack.Rows) {
		for p, x := range parts {
			rest, ok := strings.CutPrefix(table, p)
			of, known := x.of(rest)
			if !ok || !known {
				continue
			}
			column := rowsOf[rest].by
			return func(t tables.Table, r tables.Row) bool { return of.drops(row{t, r}.number(column)) },
				func(t tables.Table, r tables.Row) bool { return of.brings(row{t, r}.number(column)) }
		}
		return nil, nil
	}, nil
}

// of gives the things that the rows of a table are of.
func (x *putting) of(table string) (things, bool) {
	switch rowsOf[table].of {
	case anItem:
		return x.posts, true
	case aComment:
		return x.comments, true
	case aTerm:
		return x.terms, true
	case aName:
		return x.groups, true
	case anAccount:
		return x.users, true
	}
	return things{}, false
}

// putBack works out what of one site of an installation is put back, and how
// much was chosen. Users who are needed are noted.
func putBack(
	ctx context.Context,
	was, now tables.Snapshot,
	prefix string,
	c stack.Content,
	needed ids,
) (*putting, int, error) {
	then, err := readPart(ctx, was, prefix)
	if err != nil {
		return nil, 0, err
	}
	there, err := readPart(ctx, now, prefix)
	if err != nil {
		return nil, 0, err
	}
	x := &putting{
		posts:    things{ids{}, ids{}},
		comments: things{ids{}, ids{}},
		terms:    things{ids{}, ids{}},
		groups:   things{ids{}, ids{}},
	}
	for id, p := range then.posts {
		if !p.revision && (slices.Contains(c.Kinds, p.kind) || slices.Contains(c.Items, id)) {
			then.keep(id, needed)
			for _, same := range append(then.revs[id], id) {
				x.posts.chosen[same] = true
			}
		}
	}
	for id, k := range then.comments {
		if slices.Contains(c.Kinds, site.Comments) || x.posts.chosen[k.post] {
			then.comment(id, needed)
			x.comments.chosen[id] = slices.Contains(c.Kinds, site.Comments)
		}
	}
	for id, t := range then.terms {
		if slices.Contains(c.Kinds, site.Terms) && t.taxonomy != "nav_menu" ||
			slices.Contains(c.Kinds, site.Menus) && t.taxonomy == "nav_menu" {
			then.term(id)
			x.terms.chosen[id], x.groups.chosen[t.id] = true, true
		}
	}
	gone(then.keptPosts, there.posts, x.posts.along)
	gone(then.keptComments, there.comments, x.comments.along)
	gone(then.keptTerms, there.terms, x.terms.along)
	groups := map[int64]bool{}
	for _, t := range there.terms {
		groups[t.id] = true
	}
	for id := range then.keptTerms {
		then.groups[then.terms[id].id] = true
	}
	gone(then.groups, groups, x.groups.along)
	return x, len(x.posts.chosen) + len(x.comments.chosen) + len(x.terms.chosen), nil
}

// gone adds to out what is in kept and not there.
func gone[T any](kept ids, there map[int64]T, out ids) {
	for id := range kept {
		if _, is := there[id]; !is {
			out[id] = true
		}
	}
}

// chooseUsers puts users back: all, or those who are needed and not there any more.
func chooseUsers(ctx context.Context, was, now tables.Snapshot, prefix string, all bool, needed ids, out things) error {
	there := map[int64]bool{}
	if err := (&data{ctx: ctx, snap: now, prefix: prefix}).each("users",
		func(r row) { there[r.number("ID")] = true }); err != nil {
		return err
	}
	return (&data{ctx: ctx, snap: was, prefix: prefix}).each("users", func(r row) {
		switch id := r.number("ID"); {
		case all:
			out.chosen[id] = true
		case needed[id] && !there[id]:
			out.along[id] = true
		}
	})
}
