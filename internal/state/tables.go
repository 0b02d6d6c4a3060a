package state

import (
	"context"
	"fmt"

	"alibi/internal/site"
	"alibi/internal/tables"
)

// Tables exchanges the tables that are not as they are to be. What an earlier try left is taken
// back first.
func (m *Maker) Tables(ctx context.Context, t Task) error {
	if err := m.tablesBack(ctx); err != nil {
		return err
	}
	e, err := m.Open(ctx)
	if err != nil {
		return err
	}
	defer func() { e.Close() }()
	now, err := e.Snapshot(ctx)
	if err != nil {
		return err
	}
	t.Memorize(func() { m.Memory.Hung, m.Memory.Looked = now.Schema().After, true })
	if err := t.Remember(); err != nil {
		return err
	}
	edit, err := m.Edit(ctx, m.dir())
	if err != nil {
		return err
	}
	defer edit.Close()
	drop, hang := e.Want.DB.Hanging(now.Schema(), true)
	if edit.Separate() { // what is dropped must not be in use, by ourselves either
		e.Close()
		if err := edit.Objects(ctx, drop, nil); err != nil {
			return err
		}
		again, err := m.Open(ctx)
		if err != nil {
			return err
		}
		e = again
		if now, err = e.Snapshot(ctx); err != nil {
			return err
		}
	}
	made, err := edit.Stage(ctx, now, e.Want.DB, t.Add)
	if err != nil {
		return err
	}
	t.Memorize(func() { m.Memory.Sums = made.Sums })
	if edit.Separate() {
		t.Note("%d rows exchanged in %d tables; %d tables exchanged whole", made.Rows, made.Patched, made.Whole)
	}
	e.Close()
	if err := edit.Exchange(ctx); err != nil {
		return err
	}
	return edit.Objects(ctx, nil, hang)
}

// tablesBack gives the site the tables back that it had before.
func (m *Maker) tablesBack(ctx context.Context) error {
	if !m.HasTables {
		return nil
	}
	edit, err := m.Edit(ctx, m.dir())
	if err != nil {
		return err
	}
	defer edit.Close()
	if !m.Memory.Looked || !edit.Separate() {
		return edit.Rollback(ctx)
	}
	schema, err := m.Schema(ctx)
	if err != nil {
		return err
	}
	drop, hang := tables.Wanted{After: m.Memory.Hung, Hangs: true}.Hanging(schema, true)
	if err := edit.Objects(ctx, drop, nil); err != nil { // the rows that come back set none off
		return err
	}
	if err := edit.Rollback(ctx); err != nil {
		return err
	}
	return edit.Objects(ctx, nil, hang)
}

// Commit makes what was exchanged final. From here on there is no way back.
func (m *Maker) Commit(ctx context.Context) error {
	if !m.HasTables {
		return nil
	}
	edit, err := m.Edit(ctx, m.dir())
	if err != nil {
		return err
	}
	defer edit.Close()
	return edit.Commit(ctx)
}

// compareTables adds up the rows on both sides. What those add up to that were brought is known of some tables.
func (e *Ends) compareTables(ctx context.Context, t Task, known map[string]tables.Sum) (rows int64, wrong []string,
	err error) {
	now, err := e.Snapshot(ctx)
	if err != nil {
		return 0, nil, err
	}
	for _, w := range e.Want.DB.Tables {
		is, has := now.Schema().Table(w.Name)
		if w.Table == nil || !has {
			if has != (w.Table != nil) {
				wrong = append(wrong, "table "+w.Name)
			}
			continue
		}
		want, brought := known[w.Name]
		if !brought {
			if want.Rows, want.Sum, err = add(ctx, e.Want.DB.Digest, w.Name, w.Rows); err != nil {
				return 0, nil, fmt.Errorf("table %s: %w", w.Name, err)
			}
		}
		n, sum, err := Total(ctx, now, is)
		if err != nil {
			return 0, nil, fmt.Errorf("table %s: %w", w.Name, err)
		}
		if (tables.Sum{Rows: n, Sum: sum}) != want {
			wrong = append(wrong, "table "+w.Name+HowMany(n, want.Rows))
		}
		rows += want.Rows
		t.Add(want.Rows, 1)
	}
	drop, hang := e.Want.DB.Hanging(now.Schema(), false)
	for _, o := range append(drop, hang...) {
		wrong = append(wrong, o.Kind+" "+o.Name)
	}
	return rows, wrong, nil
}

// add adds up the digests of rows.
func add(
	ctx context.Context,
	digest func(string, tables.Row, []byte) (tables.Digest, []byte),
	name string,
	rows func(context.Context, func(tables.Row) error) error,
) (n int64, sum uint64, err error) {
	var buf []byte
	var d tables.Digest
	err = rows(ctx, func(r tables.Row) error {
		d, buf = digest(name, r, buf)
		n, sum = n+1, sum+d[0]
		return ctx.Err()
	})
	return n, sum, err
}

// HowMany says how many rows a table has that is not as it should be.
func HowMany(is, should int64) string {
	if is == should {
		return " (other values in its " + site.Plural(is, "row", "rows") + ")"
	}
	return fmt.Sprintf(" (%d rows, and %d should be there)", is, should)
}

// Total counts the rows of a table of a site, and adds up their digests.
func Total(ctx context.Context, snap tables.Snapshot, t tables.Table) (int64, uint64, error) {
	if sm, ok := snap.(tables.Summer); ok {
		return sm.Total(ctx, t.Name, tables.Range{})
	}
	return add(ctx, snap.Digest, t.Name, Rows(snap, t.Name))
}

// Rows gives the rows of a table of a snapshot.
func Rows(s tables.Snapshot, name string) func(context.Context, func(tables.Row) error) error {
	return func(ctx context.Context, give func(tables.Row) error) error {
		return s.Read(ctx, name, tables.Range{}, func(r tables.Row) error {
			if err := ctx.Err(); err != nil {
				return err
			}
			return give(r)
		})
	}
}
