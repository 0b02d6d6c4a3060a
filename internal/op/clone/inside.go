package clone

import (
	"context"
	"slices"

	"golang.org/x/sync/errgroup"

	"alibi/internal/stack"
	"alibi/internal/tables"
)

// insideRows is how many rows of a table the server copies by one statement: few
// enough for a fraction of a second.
func insideRows(tab tables.Table) int {
	const rows, bytes = 20_000, 16 << 20
	if each := tab.Bytes / max(1, tab.Rows); each > 0 {
		return int(max(50, min(rows, bytes/each)))
	}
	return rows
}

// squared is how many rows are set right at once; it bounds what is remembered
// of them.
const squared = 50_000

// inside has the server copy a table, and works out from the snapshot meanwhile what each row should be. Rows that are
// anything else, for an address in them or because somebody wrote to the origin meanwhile, are put in anew.
func (l *loading) inside(ctx context.Context, tab tables.Table, to tables.InsideLoader) error {
	_, sparse, err := tables.Sparse(ctx, l.snap, tab, l.tr.Search(tab))
	if err != nil {
		return err
	}
	var exchange [][2]string
	if !sparse { // most rows hold an address: the server exchanges the plain ones
		exchange = l.tr.Change.Rewriter.Plain()
	}
	parts, err := l.snap.Ranges(ctx, tab.Name, insideRows(tab))
	if err != nil {
		return err
	}
	s := &squaring{loading: l, tab: tab, copied: to.Exchanged(tab.Name, exchange), wrong: make(chan tables.Row)}
	if s.n, err = l.noting(ctx, tab); err != nil {
		return err
	}
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() error { return s.read(gctx) })
	g.Go(func() error {
		return to.Inside(gctx, tab.Name, l.from, parts, exchange,
			func(in tables.Inner) error { return s.square(gctx, in) })
	})
	return g.Wait()
}

// squaring sets a table right that is copied inside the server.
type squaring struct {
	*loading
	tab    tables.Table
	n      *noting
	copied func(tables.Row) tables.Row // what the server makes of a row
	parts  []square
	wrong  chan tables.Row // rows that the server does not copy as they should be
	err    error           // of the reading; known once that channel is closed
}

// square is a part of a table, and what it adds up to where nobody writes to the origin between the snapshot and the
// copying.
type square struct {
	part tables.Range
	rows int64
	sum  uint64
}

// read notes the table's rows.
func (s *squaring) read(ctx context.Context) error {
	defer close(s.wrong)
	s.err = s.readParts(ctx)
	return s.err
}

func (s *squaring) readParts(ctx context.Context) error {
	parts, err := s.snap.Ranges(ctx, s.tab.Name, squared)
	if err != nil {
		return err
	}
	held := spool{out: s.wrong}
	for _, part := range parts {
		q := square{part: part}
		clean := func(key []tables.Value, d tables.Digest) error {
			q.rows, q.sum = q.rows+1, q.sum+d[0]
			return s.n.same(ctx, key, d)
		}
		err := tables.Scan(ctx, s.snap, s.tab, part, s.tr.Search(s.tab), clean, func(r tables.Row) error {
			copied := s.copied(r)
			_, after, err := s.n.row(ctx, r)
			q.rows, q.sum = q.rows+1, q.sum+after[0]
			if err != nil || slices.EqualFunc(r.Values, copied.Values, tables.Value.Equal) {
				return err
			}
			return held.put(ctx, r)
		})
		if err != nil {
			return err
		}
		s.parts = append(s.parts, q)
	}
	return held.flush(ctx)
}

// spool holds rows until somebody takes them, up to a size.
type spool struct {
	rows  []tables.Row
	bytes int
	out   chan<- tables.Row
}

const spooled = 16 << 20 // bytes

func (p *spool) put(ctx context.Context, r tables.Row) error {
	p.rows = append(p.rows, tables.Row{Key: tables.Keep(r.Key), Values: tables.Keep(r.Values)})
	for _, v := range r.Values {
		p.bytes += len(v.Bytes) + 64
	}
	if p.bytes < spooled {
		return nil
	}
	return p.flush(ctx)
}

func (p *spool) flush(ctx context.Context) error {
	for _, r := range p.rows {
		select {
		case p.out <- r:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	p.rows, p.bytes = nil, 0
	return nil
}

// square puts in anew what is not as it should be, now that the server has copied all. Each part is added up, unless
// it is known that nobody has written to the origin meanwhile.
func (s *squaring) square(ctx context.Context, in tables.Inner) error {
	err := in.Replace(ctx, func(put func(tables.Row) error) error {
		for r := range s.wrong {
			if err := put(r); err != nil {
				return err
			}
		}
		return s.err
	})
	if err != nil {
		return err
	}
	still, err := tables.Still(ctx, s.db, tables.Since(s.snap))
	if err != nil {
		return err
	}
	if still[s.tab.Name] { // what the server copied is what the snapshot has; the evidence compares it all the same
		return s.n.close(ctx)
	}
	for _, q := range s.parts {
		rows, sum, err := in.Total(ctx, q.part)
		if err != nil {
			return err
		}
		if rows != q.rows || sum != q.sum {
			if err := s.mend(ctx, s.tab, q.part, in, s.n.moved); err != nil {
				return err
			}
		}
	}
	return s.n.close(ctx)
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
