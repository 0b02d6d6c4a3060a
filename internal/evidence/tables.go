package evidence

import (
	"bytes"
	"context"
	"fmt"
	"strconv"

	"golang.org/x/sync/errgroup"

	"alibi/internal/baseline"
	"alibi/internal/phpval"
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// rowsAtOnce bounds the memory of a comparison.
const rowsAtOnce = 200_000

// tableWork compares the tables of one pair of snapshots.
type tableWork struct {
	in        *Input
	origin    tables.Snapshot
	copy      tables.Snapshot
	rep       *Report
	changed   stack.Changed // what the transform did to the origin's rows
	left      places        // addresses of the origin on the copy
	invalid   places        // serialized values that were valid in the origin
	broken    places        // serialized values that are broken in the origin too
	flaws     []flaw        // of the part of the copy that is being compared
	originNow map[string]bool
	tally     tables.Tally // of the origin
}

// expected is a row as it should be on the copy.
type expected struct {
	digest uint64        // of the row after the transform
	origin uint64        // of the row on the origin
	row    func() string // its address, for people
}

func (w *tableWork) all(ctx context.Context) error {
	so, sc := w.origin.Schema(), w.copy.Schema()
	missing := places{}
	for _, t := range so.Tables {
		if _, ok := sc.Table(t.Name); !ok {
			missing.add("table %s", t.Name)
		}
	}
	have := map[string]bool{}
	for _, o := range sc.After {
		have[o.Kind+o.Name+o.SQL] = true
	}
	for _, o := range so.After {
		if !have[o.Kind+o.Name+o.SQL] {
			missing.add("%s %s", o.Kind, o.Name)
		}
	}
	c := Check{Name: "schema", Group: "tables", Title: "tables, indexes, views and triggers", Verdict: Holds,
		Origin: fmt.Sprint(len(so.Tables) + len(so.After)), Copy: fmt.Sprint(len(so.Tables) + len(so.After) - missing.n)}
	if missing.n > 0 {
		c.Verdict, c.Text, c.Where, c.Number = Broken, "missing on the copy", missing.where, missing.n
	}
	w.rep.Checks = append(w.rep.Checks, c)
	for _, t := range so.Tables {
		if ct, ok := sc.Table(t.Name); ok {
			if err := w.table(ctx, t, ct); err != nil {
				return fmt.Errorf("comparing table %s: %w", t.Name, err)
			}
		}
	}
	return nil
}

// difference counts how the rows of a table differ, by side.
type difference struct {
	spoiled  places // not explained by any change since
	onOrigin int
	onCopy   int
	clashes  int
}

func (w *tableWork) table(ctx context.Context, t, ct tables.Table) error {
	var base map[uint64]baseline.Pair
	if w.in.Baseline != nil {
		var err error
		if base, err = w.in.Baseline.Table(ctx, t.Name); err != nil {
			return err
		}
	}
	parts, err := w.origin.Ranges(ctx, t.Name, rowsAtOnce)
	if err != nil {
		return err
	}
	var d difference
	var sumO, sumC tables.Digest
	for _, part := range parts {
		if err := w.part(ctx, t, ct, part, base, &d, &sumO, &sumC); err != nil {
			return err
		}
	}
	d.onOrigin += len(base) // rows that neither side has now
	d.onCopy += len(base)
	w.rep.Rows += ct.Rows
	w.rep.Apart.Origin += d.onOrigin
	w.rep.Apart.Copy += d.onCopy
	w.rep.Apart.Clashes += d.clashes
	c := Check{Name: "table " + t.Name, Group: "tables", Title: t.Name, Verdict: Holds,
		Origin: fmt.Sprintf("%s rows %.8s", site.Number(t.Rows), sumO), Copy: fmt.Sprintf("%s rows %.8s", site.Number(ct.Rows), sumC)}
	switch {
	case d.spoiled.n > 0:
		c.Verdict, c.Text, c.Where, c.Number = Broken, fmt.Sprintf("%d rows are not what they should be", d.spoiled.n), d.spoiled.where, d.spoiled.n
	case d.onOrigin+d.onCopy > 0:
		c.Verdict = Changed
		c.Text = fmt.Sprintf("since they parted %d rows changed on the origin, %d on the copy", d.onOrigin, d.onCopy)
	}
	w.rep.Checks = append(w.rep.Checks, c)
	return nil
}

// part compares the rows of one range. sumO is of the origin's rows as they
// should become, so that equal tables have equal sums.
func (w *tableWork) part(ctx context.Context, t, ct tables.Table, part tables.Range, base map[uint64]baseline.Pair, d *difference, sumO, sumC *tables.Digest) error {
	want := map[uint64]expected{}
	var found []seen
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		return w.originRows(gctx, t, part, func(key uint64, before, after tables.Digest, row func() string) {
			sumO.Add(after)
			w.tally.Add(t.Name, before)
			want[key] = expected{digest: after[0], origin: before[0], row: row}
		})
	})
	g.Go(func() error {
		return w.copyRows(gctx, ct, part, func(key uint64, sum tables.Digest, row func() string) {
			sumC.Add(sum)
			found = append(found, seen{key, sum[0], row})
		})
	})
	if err := g.Wait(); err != nil {
		return err
	}
	for _, f := range w.flaws {
		if !w.originNow[f.at] {
			w.invalid.add("%s", f.place)
		}
	}
	w.flaws = w.flaws[:0]
	for _, x := range found {
		e, there := want[x.key]
		delete(want, x.key)
		b, known := base[x.key]
		delete(base, x.key)
		if there && e.digest == x.digest {
			continue
		}
		if d.judge(b, known, e.origin, there, x.digest, true) && w.in.Fresh {
			d.spoiled.add("row %s is %s", x.row(), map[bool]string{true: "different", false: "not on the origin"}[there])
		}
	}
	for key, e := range want {
		b, known := base[key]
		delete(base, key)
		if d.judge(b, known, e.origin, true, 0, false) && w.in.Fresh {
			d.spoiled.add("row %s is missing", e.row())
		}
	}
	return nil
}

// seen is a row of the copy.
type seen struct {
	key, digest uint64
	row         func() string
}

// originRows gives what each row of a range of the origin is found by, its
// digest, and the digest that it should have on the copy.
func (w *tableWork) originRows(ctx context.Context, t tables.Table, part tables.Range, give func(key uint64, before, after tables.Digest, row func() string)) error {
	keys := baseline.Keys(w.origin, t)
	var buf []byte
	var before, after tables.Digest
	tick, done := w.ticker(ctx)
	defer done()
	return tables.Scan(ctx, w.origin, t, part, w.in.Transform.Search(t), func(key []tables.Value, d tables.Digest) error {
		give(keys.OfKey(key), d, d, addressOf(key))
		return tick()
	}, func(r tables.Row) error {
		before, buf = w.origin.Digest(t.Name, r, buf)
		for _, f := range validity(t, r) {
			w.originNow[f.at] = true
		}
		row := addressOf(r.Key)
		w.in.Transform.Row(t, r, &w.changed)
		after, buf = w.origin.Digest(t.Name, r, buf)
		give(keys.Of(r), before, after, row)
		return tick()
	})
}

// copyRows gives what each row of a range of the copy is found by, and its
// digest, after looking for what must not be in it.
func (w *tableWork) copyRows(ctx context.Context, t tables.Table, part tables.Range, give func(key uint64, sum tables.Digest, row func() string)) error {
	keys := baseline.Keys(w.copy, t)
	var buf []byte
	var sum tables.Digest
	return tables.Scan(ctx, w.copy, t, part, w.in.Transform.Search(t), func(key []tables.Value, d tables.Digest) error {
		give(keys.OfKey(key), d, addressOf(key))
		return ctx.Err()
	}, func(r tables.Row) error {
		sum, buf = w.copy.Digest(t.Name, r, buf)
		w.leftovers(t, r)
		w.flaws = append(w.flaws, validity(t, r)...)
		give(keys.Of(r), sum, addressOf(r.Key))
		return ctx.Err()
	})
}

// ticker tells of every row, in batches; done tells of the rest.
func (w *tableWork) ticker(ctx context.Context) (tick func() error, done func()) {
	n := 0
	return func() error {
		if n++; n == 64 {
			w.in.tell(n)
			n = 0
		}
		return ctx.Err()
	}, func() { w.in.tell(n) }
}

// addressOf names a row by its key when it is asked to.
func addressOf(key []tables.Value) func() string {
	if len(key) == 1 && key[0].Kind == tables.Int {
		n := key[0].Int
		return func() string { return strconv.FormatInt(n, 10) }
	}
	text := tables.Row{Key: key}.Address()
	return func() string { return text }
}

// judge tells from the baseline which side changed a row that differs, and
// whether the copy did.
func (d *difference) judge(b baseline.Pair, known bool, origin uint64, onOrigin bool, copied uint64, onCopy bool) bool {
	o := onOrigin != known || onOrigin && b.Origin != origin
	c := onCopy != known || onCopy && b.Copy != copied
	if o {
		d.onOrigin++
	}
	if c {
		d.onCopy++
	}
	if o && c {
		d.clashes++
	}
	return c || !o
}

// leftovers looks for addresses of the origin on the copy.
func (w *tableWork) leftovers(t tables.Table, r tables.Row) {
	for i, v := range r.Values {
		if v.Kind != tables.Text && v.Kind != tables.Blob {
			continue
		}
		_, n, issue := w.in.Transform.Change.Rewriter.Value(v.Bytes, rewrite.Prose)
		if n > 0 {
			w.left.add("%s, row %s, %s", t.Name, r.Address(), t.Columns[i].Name)
		}
		if issue != rewrite.Clean {
			w.broken.add("%s, row %s, %s: %s", t.Name, r.Address(), t.Columns[i].Name, issue)
		}
	}
}

// flaw is a serialized value of the copy that is not well formed.
type flaw struct{ at, place string }

// validity gives the serialized values of a row that are not well formed.
func validity(t tables.Table, r tables.Row) (out []flaw) {
	for i, v := range r.Values {
		if v.Kind != tables.Text && v.Kind != tables.Blob || !phpval.Looks(v.Bytes) || phpval.Valid(bytes.TrimSpace(v.Bytes)) {
			continue
		}
		out = append(out, flaw{t.Name + "\x00" + r.Address() + "\x00" + t.Columns[i].Name, fmt.Sprintf("%s, row %s, %s", t.Name, r.Address(), t.Columns[i].Name)})
	}
	return out
}
