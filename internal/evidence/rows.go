package evidence

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"alibi/internal/baseline"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// namedRows is how many differing rows of a table are named; all are counted.
const namedRows = 50

// RowChange names a row that is not what it was when copy and origin parted.
type RowChange struct {
	Table   string   `json:"table"`
	Key     string   `json:"key"`              // its key, or its values where it has none
	Called  string   `json:"called,omitempty"` // by people: a post's title, a setting's name
	How     string   `json:"how"`              // "changed", "new" or "gone"
	Side    string   `json:"side"`             // "copy", "origin" or "both"
	Columns []string `json:"columns,omitempty"`
}

// String says it in a sentence.
func (c RowChange) String() string {
	s := "row " + c.Key
	if c.Called != "" && c.Called != c.Key {
		s += " (" + c.Called + ")"
	}
	switch c.How {
	case "changed":
		s += " is different"
	default:
		s += " is " + c.How
	}
	s += map[string]string{"copy": " on the copy", "origin": " on the origin", "both": " on both sides"}[c.Side]
	if len(c.Columns) > 0 {
		s += ": " + strings.Join(c.Columns, ", ")
	}
	return s
}

// rowChange is a row that differs between the sides, as it was found.
type rowChange struct {
	originKey, copyKey func() []tables.Value // nil: it is not there
	called             string
	passing            bool
	onOrigin, onCopy   bool // where it changed since they parted
}

// difference counts how the rows of a table differ, by side.
type difference struct {
	lived                      bool // what the site writes to itself is passed by
	changes                    []rowChange
	deferred                   []rowChange // it is not known yet whether the site took them away by itself
	more                       int         // changes that are not named
	gone                       int         // rows that neither side has now
	apart                      int         // rows that changed on both sides to the same
	onOrigin, onCopy, byItself int
	clashes                    int
	spoiled                    int   // rows that no change of the origin's explains
	rows                       int64 // of the origin that belong on the copy
	sumOrigin, sumCopy         uint64
	named                      []RowChange
}

// sides tells from the baseline which side changed a row that differs.
func sides(b baseline.Pair, known bool, origin uint64, onOrigin bool, copied uint64, onCopy bool) (o, c bool) {
	return onOrigin != known || onOrigin && b.Origin != origin, onCopy != known || onCopy && b.Copy != copied
}

// add takes a row that differs. Of one that only the origin has, and that was not read, it is not
// known what it is: it is looked at later.
func (d *difference) add(c rowChange) {
	switch {
	case d.lived && c.copyKey == nil && c.called == "" && len(d.deferred) < rowsAtOnce:
		d.deferred = append(d.deferred, c)
	default:
		d.count(c)
	}
}

func (d *difference) count(c rowChange) {
	if d.lived && c.passing {
		d.byItself++
		return
	}
	if c.onOrigin {
		d.onOrigin++
	}
	if c.onCopy {
		d.onCopy++
	}
	if c.onOrigin && c.onCopy {
		d.clashes++
	}
	if c.onCopy || !c.onOrigin {
		d.spoiled++
	}
	if len(d.changes) < namedRows {
		d.changes = append(d.changes, c)
	} else {
		d.more++
	}
}

// check says what became of a table.
func (d *difference) check(name string, rows, copied int64, fresh bool) Check {
	c := Check{
		Name: "table " + name, Group: "tables", Title: name, Verdict: Holds, Rows: d.named,
		Origin: fmt.Sprintf("%s rows %.8s", site.Number(rows), fmt.Sprintf("%016x", d.sumOrigin)),
		Copy:   fmt.Sprintf("%s rows %.8s", site.Number(copied), fmt.Sprintf("%016x", d.sumCopy)),
	}
	for _, r := range d.named {
		c.Where = append(c.Where, r.String())
	}
	c.Number = len(d.named) + d.more
	switch {
	case d.spoiled > 0 && fresh:
		c.Verdict, c.Text = Broken, fmt.Sprintf("%d rows are not what they should be", d.spoiled)
	case d.onOrigin+d.onCopy > 0:
		c.Verdict = Changed
		c.Text = fmt.Sprintf("since they parted %d rows changed on the origin, %d on the copy", d.onOrigin, d.onCopy)
	case d.byItself > 0:
		c.Text = site.Plural(d.byItself, "row differs", "rows differ") +
			" that the site writes by itself when it is visited"
	}
	return c
}

// name finds out what the rows are that differ: what people call them, and in which columns they do.
func (w *tableWork) name(ctx context.Context, t, ct tables.Table, d *difference) error {
	d.onOrigin += d.gone
	d.onCopy += d.gone
	if len(d.deferred) > 0 {
		rows, err := fetch(ctx, w.origin, t, d.deferred, func(c rowChange) func() []tables.Value { return c.originKey })
		if err != nil {
			return err
		}
		for _, c := range d.deferred {
			if r, ok := rows[textOf(c.originKey())]; ok {
				c.called, c.passing = w.in.Transform.About(t, r)
			}
			d.count(c)
		}
		d.deferred = nil
	}
	if len(d.changes) == 0 {
		return nil
	}
	from, err := fetch(ctx, w.origin, t, d.changes, func(c rowChange) func() []tables.Value { return c.originKey })
	if err != nil {
		return err
	}
	to, err := fetch(ctx, w.copy, ct, d.changes, func(c rowChange) func() []tables.Value { return c.copyKey })
	if err != nil {
		return err
	}
	for _, c := range d.changes {
		d.named = append(d.named, w.say(t, ct, c, from, to))
	}
	slices.SortStableFunc(d.named, func(a, b RowChange) int { return strings.Compare(a.Side, b.Side) })
	return nil
}

// say names a row, with the columns in which the sides differ.
func (w *tableWork) say(t, ct tables.Table, c rowChange, from, to map[string]tables.Row) RowChange {
	out := RowChange{Table: t.Name, How: "changed", Called: c.called, Side: "copy"}
	switch {
	case c.onOrigin && c.onCopy:
		out.Side = "both"
	case c.onOrigin:
		out.Side = "origin"
	}
	var o, is tables.Row
	var has, onCopy bool
	if c.originKey != nil {
		out.Key = textOf(c.originKey())
		o, has = from[out.Key]
	}
	if c.copyKey != nil {
		out.Key = textOf(c.copyKey())
		is, onCopy = to[out.Key]
	}
	switch {
	case c.copyKey == nil && c.onOrigin && !c.onCopy, c.originKey == nil && c.onCopy && !c.onOrigin:
		out.How = "new"
	case c.copyKey == nil, c.originKey == nil:
		out.How = "gone"
	}
	if has && out.Called == "" {
		out.Called, _ = w.in.Transform.About(t, o)
	}
	if has && onCopy && len(t.Columns) == len(ct.Columns) {
		var changed stack.Changed
		w.in.Transform.Row(t, o, &changed)
		for i, col := range t.Columns {
			if !o.Values[i].Equal(is.Values[i]) {
				out.Columns = append(out.Columns, col.Name)
			}
		}
	}
	return out
}

// fetch reads the rows of one side that changes are about, by the text of their keys. Tables without a
// key have their rows named by their values, and nothing is read.
func fetch(
	ctx context.Context,
	snap tables.Snapshot,
	t tables.Table,
	of []rowChange,
	key func(rowChange) func() []tables.Value,
) (map[string]tables.Row, error) {
	var keys [][]tables.Value
	out := map[string]tables.Row{}
	for _, c := range of {
		if k := key(c); k != nil {
			keys = append(keys, k())
		}
	}
	if len(t.Key) == 0 || len(keys) == 0 {
		return out, nil
	}
	err := tables.Fetch(ctx, snap, t, keys, func(r tables.Row) error {
		out[textOf(r.Key)] = tables.Row{Key: tables.Keep(r.Key), Values: tables.Keep(r.Values)}
		return nil
	})
	return out, err
}

// keyOf gives a row's key when it is asked for.
func keyOf(key []tables.Value) func() []tables.Value {
	if len(key) == 1 && key[0].Kind == tables.Int {
		n := key[0].Int
		return func() []tables.Value { return []tables.Value{{Kind: tables.Int, Int: n}} }
	}
	kept := tables.Keep(key)
	return func() []tables.Value { return kept }
}

// textOf writes a key for people.
func textOf(key []tables.Value) string { return tables.Row{Key: key}.Address() }
