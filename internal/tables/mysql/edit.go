package mysql

import (
	"context"
	"fmt"
	"slices"

	"alibi/internal/diff"
	"alibi/internal/tables"
)

// few is the share of a table's rows up to which they are exchanged one by one.
const few = 3 // one in three

// mostPatched is up to how many rows of a table are exchanged one by one: they are
// remembered meanwhile.
const mostPatched = 500_000

// edit changes the tables of one database: rows in a patch, tables by an exchange.
type edit struct {
	login    Login
	database string
}

// Edit changes a database. It is a tables.Patcher too.
func (l Login) Edit(database string) tables.Edit { return &edit{l, database} }

func (e *edit) Separate() bool { return true }
func (e *edit) Close() error   { return nil }

func (e *edit) Objects(ctx context.Context, drop, hang []tables.Object) error {
	return e.login.Hang(ctx, e.database, drop, hang)
}

func (e *edit) Exchange(ctx context.Context) error { return e.login.Exchange(ctx, e.database) }
func (e *edit) Rollback(ctx context.Context) error { return e.login.Rollback(ctx, e.database) }
func (e *edit) Commit(ctx context.Context) error   { return e.login.Commit(ctx, e.database) }

func (e *edit) Patchable(from, to tables.Schema) bool { return Patchable(from, to) }

func (e *edit) Patch(ctx context.Context, list []tables.Table, change func(tables.Patch) error) error {
	return e.login.Patch(ctx, e.database, list, change)
}

func (e *edit) SetNext(ctx context.Context, is, want tables.Schema, onlyRaise bool) error {
	return e.login.SetNext(ctx, e.database, is, want, onlyRaise)
}

// Stage changes rows where few differ, all in one transaction, and makes the other
// tables beside those in use.
func (e *edit) Stage(
	ctx context.Context,
	now tables.Snapshot,
	w tables.Wanted,
	tell func(rows, tables int64),
) (tables.Staged, error) {
	var out tables.Staged
	var patched []*differing
	var whole []Instead
	sums := adding{digest: w.Digest, of: map[string]tables.Sum{}}
	for _, want := range w.Tables {
		d, err := compare(ctx, now, w, want)
		if err != nil {
			return out, err
		}
		tell(d.sum.Rows, 1)
		switch {
		case d.same:
			sums.note(want, d.sum)
		case d.whole:
			whole = append(whole, instead(ctx, want.Name, want.Table, sums.rows(want)))
		default:
			sums.note(want, d.sum)
			patched = append(patched, d)
			out.Rows += max(len(d.touched), len(d.put))
		}
	}
	whole = tied(ctx, now, w, whole)
	out.Patched, out.Whole = len(patched), len(whole)
	if err := e.login.Fill(ctx, e.database, whole); err != nil {
		return out, err
	}
	out.Sums = sums.of
	if err := e.patch(ctx, now, patched); err != nil {
		return out, err
	}
	var staying tables.Schema
	for _, want := range w.Tables {
		if want.Table != nil && !within(whole, want.Name) {
			staying.Tables = append(staying.Tables, *want.Table)
		}
	}
	return out, e.SetNext(ctx, now.Schema(), staying, !w.Lower)
}

func instead(
	ctx context.Context,
	name string,
	t *tables.Table,
	rows func(context.Context, func(tables.Row) error) error,
) Instead {
	return Instead{Name: name, Table: t, Rows: func(put func(tables.Row) error) error { return rows(ctx, put) }}
}

// patch exchanges the rows that differ, all in one transaction.
func (e *edit) patch(ctx context.Context, now tables.Snapshot, list []*differing) error {
	if len(list) == 0 {
		return nil
	}
	defined := make([]tables.Table, len(list))
	for i, d := range list {
		defined[i] = *d.want.Table
	}
	return e.Patch(ctx, defined, func(p tables.Patch) error {
		for _, d := range list {
			bring := func(put func(tables.Row) error) error { return d.bring(ctx, now, put) }
			if err := p.Rows(*d.want.Table, d.touched, bring); err != nil {
				return fmt.Errorf("table %s: %w", d.want.Name, err)
			}
		}
		return nil
	})
}

func within(list []Instead, name string) bool {
	return slices.ContainsFunc(list, func(x Instead) bool { return x.Name == name })
}

// tied adds the tables that refer to one that is exchanged: a server ties them to the
// old one.
func tied(ctx context.Context, now tables.Snapshot, w tables.Wanted, list []Instead) []Instead {
	has := func(name string) bool { return within(list, name) }
	for again := true; again; {
		again = false
		for _, tab := range now.Schema().Tables {
			if has(tab.Name) || !Tied(tab, has) {
				continue
			}
			again = true
			def, rows := tab, func(ctx context.Context, give func(tables.Row) error) error {
				return now.Read(ctx, tab.Name, tables.Range{}, give)
			}
			if want, ok := w.Table(tab.Name); ok && want.Table != nil {
				def, rows = *want.Table, want.Rows
			}
			list = append(list, instead(ctx, tab.Name, &def, rows))
		}
	}
	return list
}

// differing is a table that is not as it is to be.
type differing struct {
	want    tables.WantedTable
	digest  func(table string, r tables.Row, buf []byte) (tables.Digest, []byte)
	sum     tables.Sum // of the rows as they are to be, where all were read
	same    bool
	whole   bool
	touched [][]tables.Value // keys of rows that are to go or to be others
	put     map[uint64]bool  // rows that are to come, by key
}

// compare finds out what differs in a table.
func compare(ctx context.Context, now tables.Snapshot, w tables.Wanted, want tables.WantedTable) (*differing, error) {
	d := &differing{want: want, digest: w.Digest}
	is, has := now.Schema().Table(want.Name)
	sums, can := now.(tables.Summer)
	comparable := want.Table != nil && has && !want.Empty && can && len(is.Key) > 0 && d.digest != nil
	if !comparable || !PatchableTable(*want.Table, is) {
		d.whole = true
		return d, nil
	}
	if d.whole = (want.Least-is.Rows)*few > want.Least+is.Rows; d.whole { // so many are missing
		d.sum.Rows = want.Least
		return d, nil
	}
	d.put = map[uint64]bool{}
	gone := map[uint64]bool{}
	err := diff.Tables(ctx, is.Rows, diff.Stored(now, is), d.wanted(now, is), func(k diff.Kind, key uint64) error {
		switch k {
		case diff.Added:
			d.put[key] = true
		case diff.Removed:
			gone[key] = true
		case diff.Changed:
			d.put[key], gone[key] = true, true
		}
		if len(gone)+len(d.put) > mostPatched {
			d.whole = true
			return diff.ErrEnough
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	d.same = len(gone)+len(d.put) == 0
	d.whole = d.whole || int64(len(gone)+len(d.put))*few > is.Rows+d.sum.Rows
	if d.same || d.whole {
		return d, nil
	}
	keys := tables.Keys(now, is)
	touch := func(key []tables.Value, _ tables.Digest, _ bool) error {
		if gone[keys.OfKey(key)] {
			d.touched = append(d.touched, tables.Keep(key))
		}
		return ctx.Err()
	}
	return d, sums.Sums(ctx, want.Name, tables.Range{}, tables.Search{}, touch)
}

// wanted is the table as it is to be.
func (d *differing) wanted(now tables.Snapshot, is tables.Table) diff.Side {
	return func(ctx context.Context, part tables.Shard, give func(diff.Row) error) error {
		keys := tables.Keys(now, is)
		var buf []byte
		var sum tables.Digest
		return d.want.Rows(ctx, func(r tables.Row) error {
			if part.First() {
				d.sum.Rows++
			}
			k := keys.Of(r)
			if !part.Has(k) {
				return ctx.Err()
			}
			sum, buf = d.digest(is.Name, r, buf)
			d.sum.Sum += sum[0]
			return give(diff.Row{Key: k, Sum: sum[0]})
		})
	}
}

// bring gives the rows that are to come.
func (d *differing) bring(ctx context.Context, now tables.Snapshot, put func(tables.Row) error) error {
	keys := tables.Keys(now, *d.want.Table)
	return d.want.Rows(ctx, func(r tables.Row) error {
		if !d.put[keys.Of(r)] {
			return nil
		}
		return put(r)
	})
}
