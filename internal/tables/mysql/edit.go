package mysql

import (
	"context"
	"fmt"
	"slices"

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
