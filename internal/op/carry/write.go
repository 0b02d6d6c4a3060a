package carry

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"alibi/internal/stack"
	"alibi/internal/tables"
)

// writer writes changes to one site. What the CMS works out from other rows is no part of them: it stays, and is worked
// out anew.
type writer struct {
	of      stack.Items
	prefix  string
	schema  tables.Schema
	recount bool
	whole   bool // nothing is written where something is dropped
}

// same tells whether a row is the same in two versions; nil: it is not there.
func (w writer) same(t tables.Table, a, b []tables.Value) bool {
	if (a == nil) != (b == nil) || len(a) != len(b) {
		return false
	}
	for i := range a {
		if !a[i].Equal(b[i]) && !w.of.Cached(w.prefix, t, t.Columns[i].Name) {
			return false
		}
	}
	return true
}

// kept is a row as it is to be, with what is worked out from others as it is now.
func (w writer) kept(t tables.Table, after, now []tables.Value) []tables.Value {
	out := slices.Clone(after)
	for i := range now {
		if w.of.Cached(w.prefix, t, t.Columns[i].Name) {
			out[i] = now[i]
		}
	}
	return out
}

// write makes changes in one transaction, each item whole or not at all: a row that is neither what it was nor what it
// is to be was changed by others meanwhile, and its item is dropped, with those that need it. What is so already stays,
// so that it can be called again. It gives the items that were dropped, and why.
func (w writer) write(ctx context.Context, edit tables.Transactor, list []Change, needs map[string][]string,
) (dropped map[string]string, err error) {
	err = edit.Transact(ctx, func(x tables.Transaction) error {
		now := map[string]map[string][]tables.Value{}
		for _, name := range tablesOf(list) {
			t, ok := w.schema.Table(name)
			if !ok {
				return fmt.Errorf("table %s is not there any more", name)
			}
			var keys [][]tables.Value
			for _, ch := range list {
				if ch.Table != name {
					continue
				}
				keys = append(keys, ch.Key)
				if to := keyOf(t, ch.After); to != nil && !sameKey(to, ch.Key) {
					keys = append(keys, to)
				}
			}
			now[name] = map[string][]tables.Value{}
			if err := x.Lock(t, keys, func(r tables.Row) error {
				now[name][tables.Row{Key: r.Key}.Address()] = tables.Keep(r.Values)
				return nil
			}); err != nil {
				return err
			}
		}
		dropped = w.drop(list, now, needs)
		if w.whole && len(dropped) > 0 {
			item := slices.Min(slices.Collect(maps.Keys(dropped)))
			return notWhole(Left{item, dropped[item]})
		}
		if err := w.put(x, list, now); err != nil {
			return err
		}
		if !w.recount {
			return nil
		}
		for _, statement := range w.of.Recount(w.prefix, w.schema, written(list, w.schema)) {
			if err := x.Exec(statement); err != nil {
				return fmt.Errorf("counting anew: %w", err)
			}
		}
		return nil
	})
	return dropped, err
}

// written are the rows that changes write or remove.
func written(list []Change, schema tables.Schema) (out []stack.Written) {
	for _, ch := range list {
		t, _ := schema.Table(ch.Table)
		for _, values := range [][]tables.Value{ch.Before, ch.After} {
			if values != nil && ch.Dropped == "" {
				out = append(out, stack.Written{Table: t, Row: tables.Row{Key: keyOf(t, values), Values: values}})
			}
		}
	}
	return out
}

func tablesOf(list []Change) (out []string) {
	for _, ch := range list {
		if !slices.Contains(out, ch.Table) {
			out = append(out, ch.Table)
		}
	}
	slices.Sort(out)
	return out
}

// sameKey tells whether two keys name one row, in whichever form they were read.
func sameKey(a, b []tables.Value) bool {
	return (a == nil) == (b == nil) && tables.Row{Key: a}.Address() == tables.Row{Key: b}.Address()
}

// keyOf is the key of a row by its values; nil of none.
func keyOf(t tables.Table, values []tables.Value) (out []tables.Value) {
	if values == nil {
		return nil
	}
	for _, k := range t.Key {
		out = append(out, values[t.Column(k)])
	}
	return out
}

// is gives a change's row as it is now: under the key that it has, or the one that it gets.
func (w writer) is(ch Change, t tables.Table, now map[string][]tables.Value) []tables.Value {
	if to := keyOf(t, ch.After); to != nil && !sameKey(to, ch.Key) {
		if row := now[tables.Row{Key: to}.Address()]; w.same(t, row, ch.After) {
			return row // it was made before
		}
	}
	return now[tables.Row{Key: ch.Key}.Address()]
}

// why items are dropped.
const (
	byOthers = "it was changed by others meanwhile"
	taken    = "its number was given away by others meanwhile"
)

// drop says of the changes whose rows others changed meanwhile, and of those of the same items and of items that need
// these, that they are dropped.
func (w writer) drop(list []Change, now map[string]map[string][]tables.Value, needs map[string][]string,
) (dropped map[string]string) {
	made := map[string]bool{}
	dropped = map[string]string{}
	for _, ch := range list {
		t, _ := w.schema.Table(ch.Table)
		switch is := w.is(ch, t, now[ch.Table]); {
		case w.same(t, is, ch.Before):
		case w.same(t, is, ch.After):
			made[ch.Item] = true // by this run: all of the item was
		case ch.Before == nil && dropped[ch.Item] == "":
			dropped[ch.Item] = taken
		default:
			dropped[ch.Item] = byOthers
		}
	}
	for item := range made {
		delete(dropped, item)
	}
	for n := -1; n != len(dropped); {
		n = len(dropped)
		for item, list := range needs {
			for _, need := range list {
				if dropped[need] != "" && dropped[item] == "" && !made[item] {
					dropped[item] = "it needs " + need + ": " + dropped[need]
				}
			}
		}
	}
	for i := range list {
		list[i].Dropped = dropped[list[i].Item]
	}
	return dropped
}

// put makes the changes that are not made yet: rows that get other keys, what comes, what changes,
// and what goes last.
func (w writer) put(x tables.Transaction, list []Change, now map[string]map[string][]tables.Value) error {
	for _, name := range tablesOf(list) {
		t, _ := w.schema.Table(name)
		var rows []tables.Row
		var sets, moves []Change
		for _, ch := range list {
			switch {
			case ch.Table != name || ch.Dropped != "" || ch.After == nil || !w.same(t, w.is(ch, t, now[name]), ch.Before):
			case ch.Before == nil:
				rows = append(rows, tables.Row{Key: keyOf(t, ch.After), Values: ch.After})
			case !sameKey(keyOf(t, ch.After), ch.Key):
				moves = append(moves, ch)
			default:
				sets = append(sets, ch)
			}
		}
		for _, ch := range append(moves, sets...) {
			after := w.kept(t, ch.After, w.is(ch, t, now[name]))
			if err := x.Set(t, ch.Key, tables.Row{Key: keyOf(t, after), Values: after}); err != nil {
				return err
			}
		}
		if len(rows) > 0 {
			if err := x.Put(t, rows); err != nil {
				return err
			}
		}
	}
	for _, name := range tablesOf(list) {
		t, _ := w.schema.Table(name)
		var keys [][]tables.Value
		for _, ch := range list {
			if ch.Table == name && ch.Dropped == "" && ch.After == nil && ch.Before != nil &&
				w.same(t, w.is(ch, t, now[name]), ch.Before) {
				keys = append(keys, ch.Key)
			}
		}
		if len(keys) > 0 {
			if err := x.Remove(t, keys); err != nil {
				return err
			}
		}
	}
	return nil
}

// turned gives changes that undo others.
func turned(list []Change, schema tables.Schema) (out []Change) {
	for _, ch := range list {
		if ch.Dropped != "" {
			continue
		}
		back := Change{Item: ch.Item, Table: ch.Table, Key: ch.Key, Found: ch.Found, Before: ch.After, After: ch.Before}
		if t, ok := schema.Table(ch.Table); ok && ch.After != nil {
			back.Key = keyOf(t, ch.After)
		}
		out = append(out, back)
	}
	return out
}
