package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"alibi/internal/tables"
)

// write makes changes in one transaction, each item whole or not at all: a row that is neither what it was nor what it
// is to be was changed by others meanwhile, and its item is dropped. What is so already stays, so that it can be
// called again.
func write(ctx context.Context, edit tables.Transactor, schema tables.Schema, list []Change) error {
	return edit.Transact(ctx, func(x tables.Transaction) error {
		now := map[string]map[string][]tables.Value{}
		for _, name := range tablesOf(list) {
			t, ok := schema.Table(name)
			if !ok {
				return fmt.Errorf("table %s is not there any more", name)
			}
			var keys [][]tables.Value
			for _, ch := range list {
				if ch.Table != name {
					continue
				}
				keys = append(keys, ch.Key)
				if to := keyOf(t, ch.After); to != nil && !same(to, ch.Key) {
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
		drop(list, schema, now)
		return put(x, schema, list, now)
	})
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

func same(a, b []tables.Value) bool {
	return (a == nil) == (b == nil) && slices.EqualFunc(a, b, tables.Value.Equal)
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
func (ch Change) is(t tables.Table, now map[string][]tables.Value) []tables.Value {
	if to := keyOf(t, ch.After); to != nil && !same(to, ch.Key) {
		if row := now[tables.Row{Key: to}.Address()]; same(row, ch.After) {
			return row // it was made before
		}
	}
	return now[tables.Row{Key: ch.Key}.Address()]
}

// drop says of the changes whose rows others changed meanwhile, and of those of the same items, that they are dropped.
func drop(list []Change, schema tables.Schema, now map[string]map[string][]tables.Value) {
	dropped, made := map[string]bool{}, map[string]bool{}
	for _, ch := range list {
		t, _ := schema.Table(ch.Table)
		switch is := ch.is(t, now[ch.Table]); {
		case same(is, ch.Before):
		case same(is, ch.After):
			made[ch.Item] = true // by this run: all of the item was
		default:
			dropped[ch.Item] = true
		}
	}
	for i := range list {
		list[i].Dropped = ""
		if dropped[list[i].Item] && !made[list[i].Item] {
			list[i].Dropped = "it was changed by others meanwhile"
		}
	}
}

// put makes the changes that are not made yet: what comes first, then what changes, and what goes last.
func put(x tables.Transaction, schema tables.Schema, list []Change, now map[string]map[string][]tables.Value) error {
	var errs error
	for _, name := range tablesOf(list) {
		t, _ := schema.Table(name)
		var rows []tables.Row
		for _, ch := range list {
			if ch.Table != name || ch.Dropped != "" || ch.After == nil || !same(ch.is(t, now[name]), ch.Before) {
				continue
			}
			key := keyOf(t, ch.After)
			switch {
			case ch.Before == nil, !same(key, ch.Key):
				rows = append(rows, tables.Row{Key: key, Values: ch.After})
			default:
				errs = errors.Join(errs, x.Set(t, ch.Key, tables.Row{Key: key, Values: ch.After}))
			}
		}
		if len(rows) > 0 {
			errs = errors.Join(errs, x.Put(t, rows))
		}
	}
	for _, name := range tablesOf(list) {
		t, _ := schema.Table(name)
		var keys [][]tables.Value
		for _, ch := range list {
			moved := ch.After != nil && ch.Before != nil && !same(keyOf(t, ch.After), ch.Key)
			if ch.Table == name && ch.Dropped == "" && (ch.After == nil || moved) &&
				ch.Before != nil && same(ch.is(t, now[name]), ch.Before) {
				keys = append(keys, ch.Key)
			}
		}
		if len(keys) > 0 {
			errs = errors.Join(errs, x.Remove(t, keys))
		}
	}
	return errs
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
