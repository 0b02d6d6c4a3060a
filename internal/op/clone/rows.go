package clone

import (
	"context"

	"alibi/internal/baseline"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
)

// noting writes the baseline of one table while its rows pass.
type noting struct {
	l       *loading
	tab     tables.Table
	w       *baseline.RowWriter
	keys    *baseline.Keyer
	buf     []byte
	changed stack.Changed
	tally   tables.Tally
	pending int64
}

func (l *loading) noting(ctx context.Context, tab tables.Table) (*noting, error) {
	w, err := l.b.Rows(ctx, tab.Name)
	return &noting{l: l, tab: tab, w: w, keys: baseline.Keys(l.snap, tab), tally: tables.Tally{}}, err
}

// row changes a row into the copy's and notes both.
func (n *noting) row(ctx context.Context, r tables.Row) error {
	var before, after tables.Digest
	before, n.buf = n.l.snap.Digest(n.tab.Name, r, n.buf)
	n.l.tr.Row(n.tab, r, &n.changed)
	after, n.buf = n.l.snap.Digest(n.tab.Name, r, n.buf)
	n.tally.Add(n.tab.Name, before)
	if err := n.w.Put(ctx, n.keys.Of(r), baseline.Pair{Origin: before[0], Copy: after[0]}); err != nil {
		return err
	}
	return n.tick(ctx)
}

// same notes a row that is the same on both sides.
func (n *noting) same(ctx context.Context, key []tables.Value, d tables.Digest) error {
	n.tally.Add(n.tab.Name, d)
	if err := n.w.Put(ctx, n.keys.OfKey(key), baseline.Pair{Origin: d[0], Copy: d[0]}); err != nil {
		return err
	}
	return n.tick(ctx)
}

func (n *noting) tick(ctx context.Context) error {
	if n.pending++; n.pending == 256 {
		n.l.t.Add(n.pending, 0)
		n.pending = 0
		return ctx.Err()
	}
	return nil
}

// close adds what was counted to the whole.
func (n *noting) close(ctx context.Context) error {
	n.l.t.Add(n.pending, 0)
	n.l.mu.Lock()
	defer n.l.mu.Unlock()
	n.l.changed.Addresses += n.changed.Addresses
	n.l.changed.Adjusted += n.changed.Adjusted
	for k, v := range n.tally {
		n.l.tally[k] = v
	}
	return n.w.Close(ctx)
}

// pour sends the rows of one table through the transform.
func (l *loading) pour(ctx context.Context, tab tables.Table, put func(tables.Row) error) error {
	n, err := l.noting(ctx, tab)
	if err != nil {
		return err
	}
	err = l.snap.Read(ctx, tab.Name, tables.Range{}, func(r tables.Row) error {
		if err := n.row(ctx, r); err != nil {
			return err
		}
		return put(r)
	})
	if err != nil {
		return err
	}
	return n.close(ctx)
}

// square sets a table right that was copied inside the server: rows that hold
// an address are changed, and if somebody wrote to the origin meanwhile, the
// table is filled again from the snapshot, so that all tables are of one state.
func (l *loading) square(ctx context.Context, sm tables.Summer, tab tables.Table, in *mysql.Inner) error {
	n, err := l.noting(ctx, tab)
	if err != nil {
		return err
	}
	rows, sum, err := in.Total(ctx)
	if err != nil {
		return err
	}
	if _, want, err := sm.Total(ctx, tab.Name, tables.Range{}); err != nil {
		return err
	} else if rows != tab.Rows || sum != want {
		return in.Refill(ctx, func(put func(tables.Row) error) error { return l.pour(ctx, tab, put) })
	}
	err = in.Replace(ctx, func(put func(tables.Row) error) error {
		return tables.Scan(ctx, sm, tab, tables.Range{}, l.tr.Search(tab), func(key []tables.Value, d tables.Digest) error {
			return n.same(ctx, key, d)
		}, func(r tables.Row) error {
			if err := n.row(ctx, r); err != nil {
				return err
			}
			return put(r)
		})
	})
	if err != nil {
		return err
	}
	return n.close(ctx)
}
