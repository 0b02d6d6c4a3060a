package clone

import (
	"context"
	"slices"
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

// squared is how many rows are set right at once; it bounds what is remembered
// of them.
const squared = 50_000

// square sets a table right that was copied inside the server: what each row
// should be is worked out from the snapshot, and rows that are anything else,
// for an address in them or because somebody wrote to the origin meanwhile, are
// put in anew.
func (l *loading) square(ctx context.Context, tab tables.Table, in tables.Inner) error {
	n, err := l.noting(ctx, tab)
	if err != nil {
		return err
	}
	still, err := l.still(ctx, tab)
	if err != nil {
		return err
	}
	parts, err := l.snap.Ranges(ctx, tab.Name, squared)
	if err != nil {
		return err
	}
	for _, part := range parts {
		rows, sum, err := l.adjust(ctx, tab, part, in, n)
		if err != nil {
			return err
		}
		if still {
			continue
		}
		isRows, isSum, err := in.Total(ctx, part)
		if err != nil {
			return err
		}
		if rows != isRows || sum != isSum {
			if err := l.mend(ctx, tab, part, in, n.moved); err != nil {
				return err
			}
		}
	}
	return n.close(ctx)
}

// still tells whether nobody has written to a table of the origin since the snapshot: then what the server copied is
// what the snapshot has. The evidence compares it all the same.
func (l *loading) still(ctx context.Context, tab tables.Table) (bool, error) {
	still, err := tables.Still(ctx, l.db, tables.Since(l.snap))
	return still[tab.Name], err
}

// adjust notes a part of the table, and puts in anew the rows that the server
// did not copy as they should be. It gives what the part then adds up to, if
// nobody wrote to the origin between the snapshot and the copying.
func (l *loading) adjust(
	ctx context.Context,
	tab tables.Table,
	part tables.Range,
	in tables.Inner,
	n *noting,
) (rows int64, sum uint64, err error) {
	err = in.Replace(ctx, func(put func(tables.Row) error) error {
		return tables.Scan(ctx, l.snap, tab, part, l.tr.Search(tab), func(key []tables.Value, d tables.Digest) error {
			rows, sum = rows+1, sum+d[0]
			return n.same(ctx, key, d)
		}, func(r tables.Row) error {
			copied := in.Exchange(r)
			_, after, err := n.row(ctx, r)
			rows, sum = rows+1, sum+after[0]
			if err != nil || slices.EqualFunc(r.Values, copied.Values, tables.Value.Equal) {
				return err
			}
			return put(r)
		})
	})
	return rows, sum, err
}

// is is a row of the copy before it is set right.
type is struct {
	d   tables.Digest
	key []tables.Value
}

// mend compares a part row by row and sets right what is not as it should be.
// Rows that came here from other parts, with another key, stay.
func (l *loading) mend(
	ctx context.Context,
	tab tables.Table,
	part tables.Range,
	in tables.Inner,
	moved map[uint64]bool,
) error {
	keys := tables.Keys(l.snap, tab)
	have := make(map[uint64]is, squared)
	err := in.Sums(ctx, part, func(key []tables.Value, d tables.Digest) error {
		have[keys.OfKey(key)] = is{d, tables.Keep(key)}
		return nil
	})
	if err != nil {
		return err
	}
	right := func(key uint64, d tables.Digest) bool {
		x, there := have[key]
		delete(have, key)
		return there && x.d == d
	}
	var wrong [][]tables.Value // rows without an address that are not what they should be
	var changed stack.Changed
	var buf []byte
	var after tables.Digest
	err = in.Replace(ctx, func(put func(tables.Row) error) error {
		err := tables.Scan(ctx, l.snap, tab, part, l.tr.Search(tab), func(key []tables.Value, d tables.Digest) error {
			if !right(keys.OfKey(key), d) {
				wrong = append(wrong, tables.Keep(key))
			}
			return ctx.Err()
		}, func(r tables.Row) error {
			l.tr.Row(tab, r, &changed)
			after, buf = l.snap.Digest(tab.Name, r, buf)
			if right(keys.Of(r), after) {
				return ctx.Err()
			}
			return put(r)
		})
		if err != nil || len(wrong) == 0 {
			return err
		}
		return l.snap.(tables.Summer).Pick(ctx, tab.Name, wrong, put)
	})
	if err != nil || len(have) == 0 {
		return err
	}
	var gone [][]tables.Value
	for k, x := range have {
		if !moved[k] {
			gone = append(gone, x.key)
		}
	}
	return in.Remove(ctx, gone)
}
