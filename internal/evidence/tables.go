package evidence

import (
	"context"
	"fmt"
	"strings"

	"golang.org/x/sync/errgroup"

	"alibi/internal/baseline"
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
	changed   stack.Changed            // what the transform did to the origin's rows
	made      map[string]stack.Changed // what was done to the rows when the copy was made, by table
	left      places                   // addresses of the origin on the copy
	invalid   places                   // serialized values that were valid in the origin
	kept      int                      // values with an address that can't be changed, on the copy
	flaws     []stack.Kept             // of the part of the copy that is being compared
	originNow map[string]bool
	meta      baseline.Meta
	// changedTables are those in which rows are others on the copy than when they parted.
	changedTables map[string]bool
	tally         tables.Tally // of the origin
	// still are tables of the origin to which nobody has written since the baseline was made of them.
	still map[string]bool
	// looks are at the origin's tables and at the copy's, where changes are only counted.
	looks [2]*baseline.Look
}

func (w *tableWork) all(ctx context.Context) error {
	so, sc := w.origin.Schema(), w.copy.Schema()
	shape := newSchemaWork(w.meta.Definitions, so, sc)
	shape.compare(w.rep, w.in.Fresh)
	at := len(w.rep.Checks) - 1
	w.rep.found.Definitions = baseline.Definitions{Origin: shape.was.Origin, Copy: shape.copy}
	for _, t := range so.Tables {
		if ct, ok := sc.Table(t.Name); ok {
			if err := w.table(ctx, t, ct); err != nil {
				return fmt.Errorf("comparing table %s: %w", t.Name, err)
			}
		}
	}
	for _, t := range sc.Tables {
		if _, ok := so.Table(t.Name); !ok {
			if err := w.extra(ctx, t); err != nil {
				return fmt.Errorf("reading table %s: %w", t.Name, err)
			}
		}
	}
	shape.counters(&w.rep.Checks[at], w.in.Fresh, w.changedTables)
	w.definitions(shape)
	return w.reach(ctx)
}

// extra looks into a table that only the copy has for what must not be in it.
func (w *tableWork) extra(ctx context.Context, t tables.Table) error {
	return w.copy.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
		w.rep.Rows++
		left, kept := w.in.Transform.Left(t, r)
		for _, k := range left {
			w.left.add("%s", k)
		}
		w.kept += len(kept)
		return ctx.Err()
	})
}

func (w *tableWork) table(ctx context.Context, t, ct tables.Table) error {
	if w.unchanged(t, ct) {
		w.rep.Rows += ct.Rows
		return nil
	}
	parts, err := w.origin.Ranges(ctx, t.Name, rowsAtOnce)
	if err != nil {
		return err
	}
	d := difference{lived: w.in.Lived}
	w.took(t.Name)
	same, err := w.asNoted(ctx, t, ct, &d)
	if err != nil {
		return err
	}
	for _, shard := range site.Either(same, nil, w.shards(t, ct)) {
		var base map[uint64]baseline.Pair
		if w.in.Baseline != nil {
			if base, err = w.in.Baseline.Shard(ctx, t.Name, shard); err != nil {
				return err
			}
		}
		for _, part := range parts {
			if err := w.part(ctx, t, ct, part, shard, base, &d); err != nil {
				return err
			}
		}
		d.gone += len(base)
	}
	if err := w.name(ctx, t, ct, &d); err != nil {
		return err
	}
	if d.apart == 0 && len(d.changes)+d.more+d.byItself+d.gone == 0 {
		w.saw(t, ct)
	}
	if d.onCopy+d.byItself > 0 {
		w.changedTables[t.Name] = true
	}
	w.rep.Rows += ct.Rows
	w.rep.Apart.Origin += d.onOrigin
	w.rep.Apart.Copy += d.onCopy
	w.rep.Apart.Clashes += d.clashes
	rows := t.Rows
	if w.in.Transform.Chooses(t.Name) {
		rows = d.rows
	}
	w.rep.Checks = append(w.rep.Checks, d.check(t.Name, rows, ct.Rows, w.in.Fresh))
	return nil
}

// unchanged tells whether nothing of a table had changed on either side when it was looked at, and nobody has written
// to it since.
func (w *tableWork) unchanged(t, ct tables.Table) bool {
	if w.looks[0] == nil || w.in.Transform.Chooses(t.Name) {
		return false
	}
	origin, still := w.looks[0].Still(t)
	copied, quiet := w.looks[1].Still(ct)
	return still && quiet && len(origin)+len(copied) == 0
}

// saw notes that nothing of a table has changed on either side.
func (w *tableWork) saw(t, ct tables.Table) {
	if w.looks[0] != nil && !w.in.Transform.Chooses(t.Name) {
		w.looks[0].Saw(t, nil, true)
		w.looks[1].Saw(ct, nil, true)
	}
}

// asNoted tells whether a table of the copy is as the baseline has it, of one that nobody has written to on the origin
// since: each is read once then, the origin's when it was brought and the copy's now. Otherwise nothing is said.
func (w *tableWork) asNoted(ctx context.Context, t, ct tables.Table, d *difference) (bool, error) {
	sm, sums := w.copy.(tables.Summer)
	if _, made := w.made[t.Name]; !made || !sums || !w.still[t.Name] || w.in.Baseline == nil {
		return false, nil
	}
	noted, sum, err := w.in.Baseline.Total(ctx, t.Name)
	if err != nil || noted != ct.Rows {
		return false, err
	}
	rows, is, err := sm.Total(ctx, ct.Name, tables.Range{})
	if err != nil || rows != noted || is != sum.Copy {
		return false, err
	}
	w.in.tell(int(rows))
	w.tally[t.Name] = [2]uint64{uint64(rows), sum.Origin}
	d.sumOrigin, d.sumCopy, d.rows = sum.Copy, is, rows
	return true, nil
}

// shards are the parts of a table's rows that are compared one after the other. A
// row whose key holds text may have another key on the copy, and so belong to
// another part there: such tables are compared at once.
func (w *tableWork) shards(t, ct tables.Table) []tables.Shard {
	for _, k := range t.Key {
		if i := t.Column(k); i < 0 || t.Columns[i].Charset != "" ||
			strings.Contains(strings.ToLower(t.Columns[i].Type), "binary") {
			return tables.Shards(0)
		}
	}
	return tables.Shards(max(t.Rows, ct.Rows))
}

// took adds what was found in a table's rows when they were brought.
func (w *tableWork) took(table string) {
	made := w.made[table]
	w.changed.Add(made)
	w.kept += len(made.Kept)
	for _, k := range made.Left {
		w.left.add("%s", k)
	}
	for _, k := range made.Invalid {
		w.invalid.add("%s", k)
	}
}

// part compares the rows of one range. sumO is of the origin's rows as they
// should become, so that equal tables have equal sums.
func (w *tableWork) part(
	ctx context.Context,
	t, ct tables.Table,
	part tables.Range,
	shard tables.Shard,
	base map[uint64]baseline.Pair,
	d *difference,
) error {
	want := map[uint64]expected{}
	var found []seen
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		return w.originRows(gctx, t, part, shard, base, func(key uint64, before tables.Digest, e expected) {
			d.sumOrigin += e.digest
			d.rows++
			w.tally.Add(t.Name, before)
			e.origin = before[0]
			want[key] = e
		})
	})
	g.Go(func() error {
		return w.copyRows(gctx, ct, part, shard, base, func(x seen) {
			d.sumCopy += x.digest
			found = append(found, x)
		})
	})
	if err := g.Wait(); err != nil {
		return err
	}
	for _, f := range w.flaws {
		if !w.originNow[f.String()] {
			w.invalid.add("%s", f)
		}
	}
	w.flaws = w.flaws[:0]
	for _, x := range found {
		e, there := want[x.id]
		delete(want, x.id)
		b, known := base[x.id]
		delete(base, x.id)
		if there && e.digest == x.digest {
			if !known || b.Origin != e.origin || b.Copy != x.digest {
				d.apart++
			}
			continue
		}
		c := rowChange{copyKey: x.key, called: x.called, passing: x.passing}
		if there {
			c.originKey = e.key
			c.passing = c.passing || e.passing
		}
		c.onOrigin, c.onCopy = sides(b, known, e.origin, there, x.digest, true)
		d.add(c)
	}
	for id, e := range want {
		b, known := base[id]
		delete(base, id)
		c := rowChange{originKey: e.key, called: e.called, passing: e.passing}
		c.onOrigin, c.onCopy = sides(b, known, e.origin, true, 0, false)
		d.add(c)
	}
	return nil
}

// seen is a row of the copy.
type seen struct {
	id, digest uint64
	key        func() []tables.Value
	called     string // by people, where the row was read
	passing    bool   // the site writes it to itself when it is visited
}

// expected is a row as it should be on the copy.
type expected struct {
	digest  uint64 // of the row after the transform
	origin  uint64 // of the row on the origin
	key     func() []tables.Value
	called  string
	passing bool
}

// scan goes through a range. Rows that are as the baseline has them were looked
// at when the copy was made, by the digest that they still have: clean is given
// those that same says this of, where the engine can tell; row is given all
// others. Without such a baseline, row is given those that may hold an address.
func (w *tableWork) scan(
	ctx context.Context,
	snap tables.Snapshot,
	t tables.Table,
	part tables.Range,
	same func(key []tables.Value, d tables.Digest) bool,
	clean func(key []tables.Value, d tables.Digest) error,
	row func(tables.Row) error,
) error {
	sm, sums := snap.(tables.Summer)
	_, made := w.made[t.Name]
	if !made && w.in.Transform.Chooses(t.Name) {
		return snap.Read(ctx, t.Name, part, row)
	}
	if !made || !sums || len(t.Key) == 0 {
		return tables.Scan(ctx, snap, t, part, w.in.Transform.Search(t), clean, row)
	}
	return tables.Sift(
		ctx,
		sm,
		t,
		part,
		tables.Search{},
		func(key []tables.Value, d tables.Digest, _ bool) (bool, error) {
			if !same(key, d) {
				return false, nil
			}
			return true, clean(key, d)
		},
		row,
	)
}

// originRows gives what each row of a range of the origin is found by, its
// digest, and the digest that it should have on the copy.
func (w *tableWork) originRows(
	ctx context.Context,
	t tables.Table,
	part tables.Range,
	shard tables.Shard,
	base map[uint64]baseline.Pair,
	give func(id uint64, before tables.Digest, e expected),
) error {
	keys := tables.Keys(w.origin, t)
	var buf []byte
	var before, after tables.Digest
	_, made := w.made[t.Name]
	tick, done := w.ticker(ctx)
	defer done()
	return w.scan(ctx, w.origin, t, part, func(key []tables.Value, d tables.Digest) bool {
		k := keys.OfKey(key)
		b, known := base[k]
		return !shard.Has(k) || known && b.Origin == d[0]
	}, func(key []tables.Value, d tables.Digest) error {
		k, is := keys.OfKey(key), d[0]
		if !shard.Has(k) {
			return ctx.Err()
		}
		if made {
			is = base[k].Copy
		}
		give(k, d, expected{digest: is, key: keyOf(key)})
		return tick()
	}, func(r tables.Row) error {
		if !w.in.Transform.Keeps(t, r) {
			return tick()
		}
		before, buf = w.origin.Digest(t.Name, r, buf)
		for _, f := range stack.Invalid(t, r) {
			w.originNow[f.String()] = true
		}
		e := expected{key: keyOf(r.Key)}
		e.called, e.passing = w.in.Transform.About(t, r)
		var changed stack.Changed
		w.in.Transform.Row(t, r, &changed)
		after, buf = w.origin.Digest(t.Name, r, buf)
		k := keys.Of(r)
		if !shard.Has(k) {
			return ctx.Err()
		}
		w.changed.Add(changed)
		e.digest = after[0]
		give(k, before, e)
		return tick()
	})
}

// copyRows gives what each row of a range of the copy is found by, and its
// digest, after looking for what must not be in it.
func (w *tableWork) copyRows(
	ctx context.Context,
	t tables.Table,
	part tables.Range,
	shard tables.Shard,
	base map[uint64]baseline.Pair,
	give func(seen),
) error {
	keys := tables.Keys(w.copy, t)
	var buf []byte
	var sum tables.Digest
	return w.scan(ctx, w.copy, t, part, func(key []tables.Value, d tables.Digest) bool {
		k := keys.OfKey(key)
		b, known := base[k]
		return !shard.Has(k) || known && b.Copy == d[0]
	}, func(key []tables.Value, d tables.Digest) error {
		if k := keys.OfKey(key); shard.Has(k) {
			give(seen{id: k, digest: d[0], key: keyOf(key)})
		}
		return ctx.Err()
	}, func(r tables.Row) error {
		k := keys.Of(r)
		if !shard.Has(k) {
			return ctx.Err()
		}
		sum, buf = w.copy.Digest(t.Name, r, buf)
		left, kept := w.in.Transform.Left(t, r)
		for _, k := range left {
			w.left.add("%s", k)
		}
		w.kept += len(kept)
		w.flaws = append(w.flaws, stack.Invalid(t, r)...)
		x := seen{id: k, digest: sum[0], key: keyOf(r.Key)}
		x.called, x.passing = w.in.Transform.About(t, r)
		give(x)
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
