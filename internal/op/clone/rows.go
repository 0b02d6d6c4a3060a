package clone

import (
	"context"
	"strings"

	"alibi/internal/baseline"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// noting writes the baseline of one table while its rows pass.
type noting struct {
	l       *loading
	tab     tables.Table
	w       *baseline.RowWriter
	keys    *tables.Keyer
	buf     []byte
	changed stack.Changed
	tally   tables.Tally
	pending int64
	textKey bool            // addresses may stand in the key
	moved   map[uint64]bool // keys that are others on the copy
}

func (l *loading) noting(ctx context.Context, tab tables.Table) (*noting, error) {
	w, err := l.b.Rows(ctx, tab.Name)
	return l.notingTo(tab, w), err
}

func (l *loading) notingTo(tab tables.Table, w *baseline.RowWriter) *noting {
	n := &noting{l: l, tab: tab, w: w, keys: tables.Keys(l.snap, tab), tally: tables.Tally{}, moved: map[uint64]bool{}}
	for _, k := range tab.Key {
		if c := tab.Column(k); c >= 0 {
			n.textKey = n.textKey || tab.Columns[c].Charset != "" ||
				strings.Contains(strings.ToLower(tab.Columns[c].Type), "binary")
		}
	}
	return n
}

// row changes a row into the copy's and notes both; it gives what the row is
// found by on the copy, and its digest there.
func (n *noting) row(ctx context.Context, r tables.Row) (key uint64, after tables.Digest, err error) {
	var before tables.Digest
	was := uint64(0)
	if n.textKey {
		was = n.keys.OfKey(r.Key)
	}
	before, n.buf = n.l.snap.Digest(n.tab.Name, r, n.buf)
	n.l.tr.Watched(n.tab, r, &n.changed)
	after, n.buf = n.l.snap.Digest(n.tab.Name, r, n.buf)
	n.tally.Add(n.tab.Name, before)
	key = n.keys.Of(r)
	if n.textKey && key != was {
		n.moved[key] = true
	}
	if err := n.w.Put(ctx, key, baseline.Pair{Origin: before[0], Copy: after[0]}); err != nil {
		return 0, after, err
	}
	return key, after, n.tick(ctx)
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
	sum := n.l.changed[n.tab.Name]
	sum.Add(n.changed)
	n.l.changed[n.tab.Name] = sum
	n.l.tally.Join(n.tally)
	return n.w.Close(ctx)
}

// pour sends the rows of a range of a table through the transform.
func (l *loading) pour(
	ctx context.Context,
	tab tables.Table,
	part tables.Range,
	w *baseline.RowWriter,
	put func(tables.Row) error,
) error {
	n := l.notingTo(tab, w)
	err := l.snap.Read(ctx, tab.Name, part, func(r tables.Row) error {
		if !l.tr.Keeps(tab, r) {
			return n.tick(ctx)
		}
		if _, _, err := n.row(ctx, r); err != nil {
			return err
		}
		return put(r)
	})
	if err != nil {
		return err
	}
	return n.close(ctx)
}
