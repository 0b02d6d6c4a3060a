package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"alibi/internal/diff"
	"alibi/internal/drift"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/work"
)

// Both is the decision that of an item which both sides changed the live site's version is to stand, and the copy's is
// kept beside it, as a draft.
const Both Side = "both"

// root is the row without which an item is not there, as the copy has it.
func (s *Sides) root(ctx context.Context, item string) (t tables.Table, r tables.Row, ok bool, err error) {
	table, n := s.Transform.Items().RootOf(s.Transform.Change.Origin.Prefix, plainName(item))
	if t, ok = s.Copy.Schema().Table(table); !ok {
		return t, r, false, nil
	}
	ok = false
	err = tables.Fetch(ctx, s.Copy, t, [][]tables.Value{{{Kind: tables.Int, Int: n}}}, func(is tables.Row) error {
		r, ok = tables.Row{Key: tables.Keep(is.Key), Values: tables.Keep(is.Values)}, true
		return nil
	})
	return t, r, ok, err
}

// keepsBoth tells whether the copy's version of an item can be kept as a draft.
func (s *Sides) keepsBoth(ctx context.Context, it *drift.Item) bool {
	d, can := s.Transform.Stack.(stack.Drafter)
	if !can || it.HalfGone() || len(it.Rows) == 0 {
		return false
	}
	prefix := s.Transform.Change.Origin.Prefix
	if r := it.Root; r != nil && r.CopyRow != nil {
		return d.Draft(prefix, r.Table, tables.Row{Key: r.Key, Values: tables.Keep(r.CopyRow.Values)}, "")
	}
	t, r, ok, err := s.root(ctx, it.Name)
	return err == nil && ok && d.Draft(prefix, t, r, "")
}

// draftOf is what writes an item of the copy there once more, as a draft, under numbers that neither side has.
func (s *Sides) draftOf(ctx context.Context, items []*drift.Item, item string) (list []Change, err error) {
	of, prefix := s.Transform.Items(), s.Transform.Change.Origin.Prefix
	d, can := s.Transform.Stack.(stack.Drafter)
	t, root, ok, err := s.root(ctx, item)
	switch {
	case err != nil:
		return nil, err
	case !ok || !can:
		return nil, fmt.Errorf("%s is not there any more: plan it again", item)
	}
	rows := []stack.Written{{Table: t, Row: root}}
	was, kind := plainName(item), item[:strings.Index(item, ":")+1]
	for _, t := range s.Copy.Schema().Tables {
		if t.Name == rows[0].Table.Name || !s.Owns(t.Name) || !s.has(ctx, t, kind) {
			continue
		}
		if err := s.Copy.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
			if _, passing := s.Transform.About(t, r); !passing && of.ItemOf(prefix, t, r) == was {
				rows = append(rows, stack.Written{Table: t,
					Row: tables.Row{Key: tables.Keep(r.Key), Values: tables.Keep(r.Values)}})
			}
			return ctx.Err()
		}); err != nil {
			return nil, err
		}
	}
	to, err := s.others(ctx, items, rows)
	if err != nil {
		return nil, err
	}
	around := stack.Around{Prefix: prefix, Hosts: s.hosts, Rows: slices.Clone(rows)}
	for i, w := range rows {
		of.References(around, w.Table, w.Row, func(table string, n int64) int64 {
			if next, ok := to[table][n]; ok {
				return next
			}
			return n
		})
		if next, ok := to[w.Table.Name][w.Row.Key[0].Int]; ok && len(w.Row.Key) == 1 {
			number := &w.Row.Values[w.Table.Column(w.Table.Key[0])]
			*number = number.WithInt(next)
		}
		if i == 0 {
			d.Draft(prefix, w.Table, w.Row, s.CopySite.Name)
			item = of.ItemOf(prefix, w.Table, w.Row)
		}
		key := keyOf(w.Table, w.Row.Values)
		list = append(list, Change{Item: item, Table: w.Table.Name, Key: key,
			Found: tables.Keys(s.Copy, w.Table).OfKey(key), After: w.Row.Values})
	}
	return list, nil
}

// has tells whether a table has rows of items of a kind, by its first row.
func (s *Sides) has(ctx context.Context, t tables.Table, kind string) (yes bool) {
	enough := errors.New("enough")
	err := s.Copy.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
		yes = strings.HasPrefix(s.Transform.Items().ItemOf(s.Transform.Change.Origin.Prefix, t, r), kind)
		return enough
	})
	return yes && errors.Is(err, enough)
}

// others are numbers that neither side has, for rows of the copy that are known by one, by table and number.
func (s *Sides) others(ctx context.Context, items []*drift.Item, rows []stack.Written) (numbers, error) {
	to := numbers{}
	for _, w := range rows {
		if len(w.Row.Key) != 1 || w.Row.Key[0].Kind != tables.Int {
			continue
		}
		if to[w.Table.Name] == nil {
			to[w.Table.Name] = map[int64]int64{}
		}
		to[w.Table.Name][w.Row.Key[0].Int] = 0
	}
	for table, list := range to {
		t, _ := s.Copy.Schema().Table(table)
		next := int64(0)
		if err := diff.Stored(s.Copy, t)(ctx, tables.Shard{}, func(r diff.Row) error {
			next = max(next, r.Values[0].Int)
			return nil
		}); err != nil {
			return nil, err
		}
		for _, it := range items {
			for _, r := range it.Rows {
				if r.Table.Name == table && len(r.Key) == 1 {
					next = max(next, r.Key[0].Int)
				}
			}
		}
		n, err := s.lastTaken(ctx, t, next+1, int64(len(list)))
		if err != nil {
			return nil, err
		}
		numberFrom(list, n)
	}
	return to, nil
}

// makeDrafts makes the drafts that were decided on, on the copy: from there they are carried like all else.
func (x *runner) makeDrafts(ctx context.Context, t *work.Task) error {
	if len(x.c.Drafts) == 0 {
		return nil
	}
	s, err := x.open(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	if x.mem.Drafts == nil {
		d, err := s.Drift(ctx)
		if err != nil {
			return err
		}
		list := []Change{}
		for _, item := range x.c.Drafts {
			if find(d.Items, item, Copy) == nil {
				continue // both sides have the same by now
			}
			more, err := s.draftOf(ctx, d.Items, item)
			if err != nil {
				return fmt.Errorf("keeping the copy's version of %s as a draft: %w", item, err)
			}
			list = append(list, more...)
		}
		t.Memorize(func() { x.mem.Drafts = list })
		if err := t.Remember(); err != nil {
			return err
		}
	}
	return x.writeOnCopy(ctx, s, x.mem.Drafts)
}

// writeOnCopy makes changes on the copy, before anything is carried.
func (x *runner) writeOnCopy(ctx context.Context, s *Sides, list []Change) error {
	if len(list) == 0 {
		return nil
	}
	edit, err := x.edit(ctx, s.CopySite)
	if err != nil {
		return err
	}
	defer edit.Close()
	w := writer{of: s.Transform.Items(), prefix: s.Transform.Change.Origin.Prefix, schema: s.Copy.Schema()}
	_, err = w.write(ctx, edit, list, nil)
	return err
}

// undraft takes drafts away that were made, unless somebody changed them since.
func (x *runner) undraft(ctx context.Context) error {
	if len(x.mem.Drafts) == 0 {
		return nil
	}
	s, err := x.open(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	return x.writeOnCopy(ctx, s, turned(x.mem.Drafts, s.Copy.Schema()))
}

// drafted are the names of the drafts that were made.
func (x *runner) drafted() (out []string) {
	for _, ch := range x.mem.Drafts {
		if !slices.Contains(out, ch.Item) {
			out = append(out, ch.Item)
		}
	}
	return out
}
