package evidence

import (
	"bytes"
	"context"
	"fmt"

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
	serial    int           // serialized values looked at
	originNow map[string]bool
}

// expected is a row as it should be on the copy.
type expected struct {
	digest uint64 // of the row after the transform
	origin uint64 // of the row on the origin
	row    string // its address, for people
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
	var buf []byte
	var one tables.Digest
	err := w.origin.Read(ctx, t.Name, part, func(r tables.Row) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		e := expected{row: r.Address()}
		one, buf = r.Digest(buf)
		e.origin = one[0]
		w.validity(t, r, nil)
		w.in.Transform.Row(t, r, &w.changed)
		one, buf = r.Digest(buf)
		e.digest = one[0]
		sumO.Add(one)
		want[baseline.Key(t, r)] = e
		w.in.tell(1)
		return nil
	})
	if err != nil {
		return err
	}
	err = w.copy.Read(ctx, ct.Name, part, func(r tables.Row) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		one, buf = r.Digest(buf)
		sumC.Add(one)
		w.leftovers(ct, r)
		w.validity(ct, r, &w.invalid)
		key := baseline.Key(ct, r)
		e, there := want[key]
		delete(want, key)
		b, known := base[key]
		delete(base, key)
		switch {
		case there && e.digest == one[0]:
		default:
			if d.judge(b, known, e.origin, there, one[0], true) && w.in.Fresh {
				d.spoiled.add("row %s is %s", r.Address(), map[bool]string{true: "different", false: "not on the origin"}[there])
			}
		}
		return nil
	})
	for key, e := range want {
		b, known := base[key]
		delete(base, key)
		if d.judge(b, known, e.origin, true, 0, false) && w.in.Fresh {
			d.spoiled.add("row %s is missing", e.row)
		}
	}
	return err
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

// validity checks serialized values: those of the origin are remembered if they
// are broken there, those of the copy must not be worse.
func (w *tableWork) validity(t tables.Table, r tables.Row, bad *places) {
	for i, v := range r.Values {
		if v.Kind != tables.Text && v.Kind != tables.Blob || !phpval.Looks(v.Bytes) {
			continue
		}
		w.serial++
		if phpval.Valid(bytes.TrimSpace(v.Bytes)) {
			continue
		}
		at := t.Name + "\x00" + r.Address() + "\x00" + t.Columns[i].Name
		if bad == nil {
			w.originNow[at] = true
		} else if !w.originNow[at] {
			bad.add("%s, row %s, %s", t.Name, r.Address(), t.Columns[i].Name)
		}
	}
}
