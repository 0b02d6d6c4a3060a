package carry

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"alibi/internal/drift"
	"alibi/internal/merge"
	"alibi/internal/tables"
)

// Conflict is a place of an item that both sides changed, for people to write what is to stand.
type Conflict struct {
	Place string // names it in Wish.Hand
	Field string // for people
	Text  string // with the copy's addresses; all versions, with marks around them, where they can't be merged
}

// ErrMarks says that a text still has the marks between its versions.
var ErrMarks = errors.New("the marks <<<<<<<, ||||||| and >>>>>>> are still in it: leave the lines that are to " +
	"stand, and take the marks out")

// place names a value of a row.
func place(r *drift.Row, i int) string {
	return r.Table.Name + " " + (tables.Row{Key: r.Key}).Address() + " " + r.Table.Columns[i].Name
}

// byHand is what people wrote in place of a value; not ok where that can't stand there. An editor ends the last line,
// and a value may not.
func byHand(text string, like tables.Value) (v tables.Value, ok bool) {
	if like.Kind != tables.Int {
		if !strings.HasSuffix(like.String(), "\n") {
			text = strings.TrimSuffix(text, "\n")
		}
		return tables.Value{Kind: like.Kind, Bytes: []byte(text)}, like.Kind == tables.Text || like.Kind == tables.Blob
	}
	n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
	return like.WithInt(n), err == nil
}

// Conflicts gives the places of an item that both sides changed, so that they can be decided by hand. Where something
// of it is gone on one side, or is no text, only a whole side can stand.
func (s *Sides) Conflicts(ctx context.Context, name string) (out []Conflict, err error) {
	d, err := s.Drift(ctx)
	if err != nil {
		return nil, err
	}
	it := find(d.Items, name, Copy)
	switch {
	case it == nil:
		return nil, fmt.Errorf("%s does not differ, or not any more: alibi drift lists what does", name)
	case !it.Clashes() || it.Merges:
		return nil, fmt.Errorf("nothing of %s has to be decided: both sides did not change one place", name)
	}
	whole := fmt.Errorf("%s can't be decided by hand: something of it is gone, or is no text; say which side is to "+
		"stand: --take %s=copy or --take %s=live", name, name, name)
	if it.HalfGone() {
		return nil, whole
	}
	for _, f := range it.Files {
		if f.Live == drift.Same || f.Copy == drift.Same {
			continue
		}
		if _, merges := s.mergedFile(ctx, f, nil); merges {
			continue
		}
		c, ok := s.fileConflict(ctx, f)
		if !ok {
			return nil, whole
		}
		out = append(out, c)
	}
	for _, r := range it.Rows {
		if r.Passing || r.Live == drift.Same || r.Copy == drift.Same {
			continue
		}
		if r.Became == nil || r.CopyRow == nil || r.Paired != nil {
			return nil, whole
		}
		list, ok := s.conflictsOf(it, r)
		if !ok {
			return nil, whole
		}
		out = append(out, list...)
	}
	return out, nil
}

// conflictsOf gives those of a row; not ok where one is no text.
func (s *Sides) conflictsOf(it *drift.Item, r *drift.Row) (out []Conflict, ok bool) {
	for i, c := range r.Table.Columns {
		live, copied, was := r.Became.Values[i], r.CopyRow.Values[i], tables.Value{}
		if r.Was != nil {
			was = r.Was[i]
		}
		if live.Equal(copied) || r.Was != nil && (live.Equal(was) || copied.Equal(was)) ||
			s.Transform.Items().Cached(s.Transform.Change.Origin.Prefix, r.Table, c.Name) {
			continue
		}
		if _, whole := mergeValue(was, live, copied); whole && r.Was != nil {
			continue
		}
		for _, v := range []tables.Value{live, copied} {
			if v.Kind == tables.Null || packed(v) && v.Kind != tables.Int || !utf8.ValidString(v.String()) {
				return nil, false
			}
		}
		field := c.Name
		if r != it.Root {
			called, _ := s.Transform.About(r.Table, *r.CopyRow)
			if field, _, _ = strings.Cut(called, " of "); field == "" {
				field = c.Name
			}
		}
		out = append(out, Conflict{place(r, i), field, merge.Marked(was.String(), live.String(), copied.String(),
			s.versions())})
	}
	return out, true
}
