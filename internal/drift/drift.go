// Package drift tells what became of two sites since they parted: of each row that is not what it was, what happened
// to it on either side, and what both have now. Nothing has to be switched on for that: the baseline has a digest of
// each row as it was.
package drift

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"alibi/internal/baseline"
	"alibi/internal/diff"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// State is what became of something on one side.
type State string

// The states.
const (
	Same    State = ""
	Changed State = "changed"
	Made    State = "made"
	Gone    State = "gone"
)

// Row is a row that is not what it was when the sides parted, on one of them or both.
type Row struct {
	Table tables.Table
	Key   []tables.Value
	Found uint64 // what it is found by, in the baseline too

	Live, Copy State
	LiveRow    *tables.Row // as it is there; nil: it is not
	CopyRow    *tables.Row
	Became     *tables.Row // the live one, with the copy's addresses

	Was []tables.Value // as both had it, with the copy's addresses, where that is known

	Base  baseline.Pair // as the baseline knows it
	Known bool          // it does

	Collides bool // the other side made another row under the same number
	Paired   *Row // the row of the other side that is the same thing under another number
	Passing  bool // the site writes it by itself
}

// Uncovered is a table of which it can't be told what became of its rows, or a file of which it can't be told what is
// in it.
type Uncovered struct {
	Table string `json:"table,omitempty"`
	File  string `json:"file,omitempty"`
	Why   string `json:"why"`
}

// What names it.
func (u Uncovered) What() string {
	if u.Table != "" {
		return "table " + u.Table
	}
	return "the file " + u.File
}

// Pair is two sites that were one.
type Pair struct {
	Base       *baseline.Baseline
	Live, Copy tables.Snapshot
	Transform  *stack.Transform // of a live row to one of the copy
	Owns       func(table string) bool
	// Ready is called before rows of the live site are changed into ones of the copy; nil: the transform is ready.
	Ready func(ctx context.Context) error
}

// Rows compares the two sides with what they were, table by table.
func (p Pair) Rows(ctx context.Context) (out []*Row, not []Uncovered, err error) {
	live, copied := p.Base.Look(ctx, "live", p.Live), p.Base.Look(ctx, "copy", p.Copy)
	defer func() {
		if err == nil {
			live.Note(context.WithoutCancel(ctx))
			copied.Note(context.WithoutCancel(ctx))
		}
	}()
	// a row of one table may have the copy have one of another
	chosenStill := !slices.ContainsFunc(p.Live.Schema().Tables, func(t tables.Table) bool {
		_, still := live.Still(t)
		return p.Transform.Chooses(t.Name) && p.uncovered(t) == "" && !still
	})
	var mu sync.Mutex
	untold := func(table, why string) {
		mu.Lock()
		defer mu.Unlock()
		not = append(not, Uncovered{Table: table, Why: why})
	}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(max(1, min(p.Live.Readers(), p.Copy.Readers())))
	for _, t := range p.Live.Schema().Tables {
		if !p.Owns(t.Name) || t.Counters {
			continue
		}
		if why := p.uncovered(t); why != "" {
			untold(t.Name, why)
			continue
		}
		g.Go(func() error {
			ct, _ := p.Copy.Schema().Table(t.Name)
			sides := p.sides(t, ct)
			if chosenStill || !p.Transform.Chooses(t.Name) {
				sides[0].recall(live)
			}
			sides[1].recall(copied)
			if sides[0].same() && sides[1].same() {
				return nil
			}
			rows, err := p.table(ctx, t, sides)
			if errors.Is(err, errOwnKeys) {
				untold(t.Name, err.Error())
				return nil
			}
			mu.Lock()
			defer mu.Unlock()
			if out = append(out, rows...); err == nil {
				for i, l := range [2]*baseline.Look{live, copied} {
					if s := sides[i]; !s.still {
						l.Saw(s.table, s.seen, s.whole)
					}
				}
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, nil, err
	}
	for _, t := range p.Copy.Schema().Tables {
		if _, both := p.Live.Schema().Table(t.Name); !both && p.Owns(t.Name) && !t.Counters {
			not = append(not, Uncovered{Table: t.Name, Why: OnCopyAlone})
		}
	}
	return out, not, nil
}

// OnCopyAlone says why nothing of a table is carried that came on the copy, such as one of a plugin that was
// switched on there.
const OnCopyAlone = "the live site does not have it"

// uncovered says why nothing can be told of the rows of a table.
func (p Pair) uncovered(t tables.Table) string {
	ct, both := p.Copy.Schema().Table(t.Name)
	if !both {
		return "the copy does not have it"
	}
	if len(t.Key) == 0 {
		return "its rows have no key"
	}
	if !exactKeys(t) {
		return "its rows have no key that can be compared exactly"
	}
	if !slices.EqualFunc(t.Columns, ct.Columns, func(a, b tables.Column) bool { return a.Name == b.Name }) {
		return "it has other columns on the copy"
	}
	if p.Transform.Empties(t.Name) {
		return "the copy has it without rows"
	}
	return ""
}

// exact are parts of the names of types of which equal values are written alike.
var exact = []string{"int", "char", "binary", "date", "time", "enum", "uuid"}

// exactKeys tells whether the rows of a table have keys that can be compared exactly, and are found by them.
func exactKeys(t tables.Table) bool {
	return len(t.Key) > 0 && !slices.ContainsFunc(t.Key, func(k string) bool {
		i := t.Column(k)
		return i < 0 || !slices.ContainsFunc(exact, func(word string) bool {
			return strings.Contains(strings.ToLower(t.Columns[i].Type), word)
		})
	})
}

// errOwnKeys is given for a table of which the rows are known by what is another value on a copy, such as an address.
var errOwnKeys = errors.New("its rows are known by addresses or paths, which are others on the copy")

// side is what is read of one side of a table.
type side struct {
	snap  tables.Snapshot
	table tables.Table
	was   func(baseline.Pair) uint64
	keeps func(tables.Table, tables.Row) bool // what the copy would have of it; nil: all
	of    func(*Row) *State                   // what became of a row there
	still bool                                // nobody wrote to it since it was looked at
	seen  []baseline.Change                   // what had changed then, or has now
	whole bool                                // that is all
}

func (p Pair) sides(t, ct tables.Table) [2]*side {
	live := &side{snap: p.Live, table: t, was: func(b baseline.Pair) uint64 { return b.Origin },
		of: func(r *Row) *State { return &r.Live }, whole: true}
	if p.Transform.Chooses(t.Name) {
		live.keeps = p.Transform.Keeps
	}
	return [2]*side{live, {snap: p.Copy, table: ct, was: func(b baseline.Pair) uint64 { return b.Copy },
		of: func(r *Row) *State { return &r.Copy }, whole: true}}
}

// recall takes what an earlier look found, if nobody wrote to the table since.
func (s *side) recall(l *baseline.Look) {
	var seen []baseline.Change
	if seen, s.still = l.Still(s.table); s.still {
		s.seen = seen
	}
}

// same tells whether nothing of the side has changed, without it being read.
func (s *side) same() bool { return s.still && len(s.seen) == 0 }

// note keeps what became of a row for the next look.
func (s *side) note(r *Row) {
	what := *s.of(r)
	if s.still || what == Same {
		return
	}
	c, known := kept(r, what)
	if s.whole = s.whole && known && len(s.seen) < mostKept; s.whole {
		s.seen = append(s.seen, c)
	}
}

// table finds the rows of a table that are not what they were. A side that is still is not read for that.
func (p Pair) table(ctx context.Context, t tables.Table, sides [2]*side) (out []*Row, err error) {
	known, err := p.known(ctx, t)
	if err != nil {
		return nil, err
	}
	ct, both := sides[1].table, sides[0].still && sides[1].still
	for _, shard := range tables.Shards(max(t.Rows, ct.Rows)) {
		base, err := known(shard)
		if err != nil {
			return nil, err
		}
		found := map[uint64]*Row{}
		hit := func(by uint64, key []tables.Value) *Row {
			r := found[by]
			if r == nil {
				b, known := base[by]
				r = &Row{Table: t, Found: by, Base: b, Known: known}
				found[by] = r
			}
			if r.Key == nil && key != nil {
				r.Key = tables.Keep(key)
			}
			return r
		}
		for _, s := range sides {
			tell := func(k uint64, is State, key []tables.Value) { *s.of(hit(k, key)) = is }
			if s.still {
				again(s.seen, shard, both, tell)
			} else if err := s.changes(ctx, s.table, shard, base, tell); err != nil {
				return nil, err
			}
		}
		if err := p.fetch(ctx, t, ct, shard, found); err != nil {
			return nil, err
		}
		for _, r := range found {
			for _, s := range sides {
				s.note(r)
			}
			if p.apart(r); r.differs(p.told(t)) {
				out = append(out, r)
			}
		}
	}
	return out, nil
}

// apart parts a row that the copy made from one of the live site's under the same number that was left there.
func (p Pair) apart(r *Row) {
	if r.Copy == Made && r.Live == Same && !r.Known && r.LiveRow != nil {
		r.LiveRow, r.Became, r.Collides = nil, nil, r.numbered()
	}
}

// told tells of each column of a table whether a difference in it is one: what the CMS works out from other rows is
// none.
func (p Pair) told(t tables.Table) []bool {
	of := p.Transform.Items()
	out := make([]bool, len(t.Columns))
	for i, c := range t.Columns {
		out[i] = !of.Cached(p.Transform.Change.Origin.Prefix, t, c.Name)
	}
	return out
}

// differs tells whether the sides have a row in different ways. Of one that both made it is not known yet whether it
// is one thing.
func (r *Row) differs(told []bool) bool {
	if r.LiveRow == nil && r.CopyRow == nil {
		return false
	}
	return r.bothMade() || r.LiveRow == nil || r.CopyRow == nil || unlike(r.Became.Values, r.CopyRow.Values, told)
}

func unlike(a, b []tables.Value, told []bool) bool {
	for i := range told {
		if told[i] && !a[i].Equal(b[i]) {
			return true
		}
	}
	return false
}

// Knows takes what a row was when the sides parted: a side on which nothing of it changed but what the CMS works out
// from other rows has not changed it.
func (p Pair) Knows(r *Row, was []tables.Value) {
	r.Was = was
	told := p.told(r.Table)
	if r.Became != nil && r.Live == Same && p.Transform.Scrub != nil { // more people may be known today
		r.Became.Values = was
	}
	if r.Became != nil && !unlike(r.Became.Values, was, told) {
		r.Live = Same
	}
	if r.CopyRow != nil && !unlike(r.CopyRow.Values, was, told) {
		r.Copy = Same
	}
}

// bothMade tells whether both sides have a row that neither had.
func (r *Row) bothMade() bool {
	return r.Live == Made && r.Copy == Made && r.LiveRow != nil && r.CopyRow != nil
}

// unlike tells whether the sides have the row in different ways.
func (r *Row) unlike() bool {
	return r.LiveRow == nil || r.CopyRow == nil || !equal(r.Became.Values, r.CopyRow.Values)
}

func equal(a, b []tables.Value) bool { return slices.EqualFunc(a, b, tables.Value.Equal) }

// changes tells of each row of a side that is not what it was.
func (s *side) changes(ctx context.Context, t tables.Table, part tables.Shard, base map[uint64]baseline.Pair,
	tell func(by uint64, s State, key []tables.Value)) error {
	seen := make(map[uint64]bool, len(base))
	read := diff.Stored(s.snap, t)
	if s.keeps != nil { // those that both had, and those that the copy would have if it was made now
		read = diff.Chosen(s.snap, t, func(key uint64, r tables.Row) bool {
			_, known := base[key]
			return known || s.keeps(t, r)
		})
	}
	if err := read(ctx, part, func(r diff.Row) error {
		b, known := base[r.Key]
		switch {
		case !known:
			tell(r.Key, Made, r.Values)
		case s.was(b) != r.Sum:
			tell(r.Key, Changed, r.Values)
		}
		seen[r.Key] = true
		return nil
	}); err != nil {
		return err
	}
	for key := range base {
		if !seen[key] {
			tell(key, Gone, nil)
		}
	}
	return nil
}

// fetch reads the rows that were found, on both sides.
func (p Pair) fetch(ctx context.Context, t, ct tables.Table, part tables.Shard, found map[uint64]*Row) error {
	if len(found) == 0 {
		return nil
	}
	if p.Ready != nil {
		if err := p.Ready(ctx); err != nil {
			return err
		}
	}
	var known [][]tables.Value // the keys, unless one is known by its digest only
	for _, r := range found {
		if r.Key == nil {
			known = nil
			break
		}
		known = append(known, r.Key)
	}
	read := func(snap tables.Snapshot, t tables.Table, give func(r *Row, is tables.Row)) error {
		keys := slices.Clone(known)
		if keys == nil {
			if err := diff.Stored(snap, t)(ctx, part, func(r diff.Row) error {
				if x := found[r.Key]; x != nil {
					x.Key = tables.Keep(r.Values)
					keys = append(keys, x.Key)
				}
				return nil
			}); err != nil || len(keys) == 0 {
				return err
			}
		}
		by := tables.Keys(snap, t)
		return tables.Fetch(ctx, snap, t, keys, func(r tables.Row) error {
			x := found[by.OfKey(r.Key)]
			is := tables.Row{Key: tables.Keep(r.Key), Values: tables.Keep(r.Values)}
			x.Key = is.Key // as it is stored, which an earlier look did not keep
			give(x, is)
			return nil
		})
	}
	own := false
	if err := read(p.Live, t, func(r *Row, is tables.Row) {
		became := tables.Row{Key: is.Key, Values: tables.Keep(is.Values)}
		var c stack.Changed
		p.Transform.Row(t, became, &c)
		r.LiveRow, r.Became = &is, &became
		for i, k := range t.Key {
			own = own || !became.Values[t.Column(k)].Equal(is.Key[i])
		}
	}); err != nil {
		return err
	}
	if own {
		return errOwnKeys
	}
	return read(p.Copy, ct, func(r *Row, is tables.Row) { r.CopyRow = &is })
}
