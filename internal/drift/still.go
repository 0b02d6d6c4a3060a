package drift

import (
	"context"
	"maps"
	"sync"

	"alibi/internal/baseline"
	"alibi/internal/tables"
)

// look is one side's tables as they are seen now, with the marks of earlier looks: a table to which nobody wrote
// since then is not read again.
type look struct {
	base  *baseline.Baseline
	side  string
	quiet map[string]string // when each was written to last; none where the engine does not know
	marks map[string]baseline.Mark
	mu    sync.Mutex
	found map[string]baseline.Mark // marks that hold now
}

// looks begins a look at a side. What it can't learn is read.
func (p Pair) looks(ctx context.Context, side string, snap tables.Snapshot) *look {
	l := &look{base: p.Base, side: side, found: map[string]baseline.Mark{}}
	var err error
	if l.quiet, err = tables.Quiet(ctx, snap); err != nil || len(l.quiet) == 0 {
		return l
	}
	seen, err := p.Base.Seen(ctx, side)
	if err != nil {
		return l
	}
	if l.marks, err = p.Base.Parted(ctx, side, l.quiet); err != nil {
		l.marks = map[string]baseline.Mark{}
	}
	maps.Copy(l.marks, seen)
	return l
}

func (l *look) still(t tables.Table) bool {
	m, marked := l.marks[t.Name]
	return marked && m.Quiet != "" && m.Quiet == l.quiet[t.Name] && m.Rows == t.Rows
}

// mostKept is how many changes of a table are kept for the next look.
const mostKept = 20_000

// saw notes what had changed in a table that was read; whole says that it is all.
func (l *look) saw(t tables.Table, changes []baseline.Change, whole bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if at := l.quiet[t.Name]; at != "" && whole {
		l.found[t.Name] = baseline.Mark{Quiet: at, Rows: t.Rows, Changes: changes}
	} else if _, marked := l.marks[t.Name]; marked { // the mark does not hold any more, whatever was written where
		l.found[t.Name] = baseline.Mark{}
	}
}

// kept gives what a change is to be known by at the next look.
func kept(r *Row, what State) (c baseline.Change, known bool) {
	c = baseline.Change{Found: r.Found, What: string(what)}
	for _, v := range r.Key {
		if v.Kind != tables.Int {
			return c, false
		}
		c.Key = append(c.Key, v.Int)
	}
	return c, true
}

// again tells of what was seen at an earlier look, but for rows of which there is nothing to be read on either side.
func again(changes []baseline.Change, part tables.Shard, both bool, tell func(by uint64, s State, key []tables.Value)) {
	for _, c := range changes {
		if !part.Has(c.Found) || both && c.Key == nil {
			continue
		}
		var key []tables.Value
		for _, n := range c.Key {
			key = append(key, tables.Value{Kind: tables.Int, Int: n})
		}
		tell(c.Found, State(c.What), key)
	}
}

// note keeps the marks; without them tables are read again.
func (l *look) note(ctx context.Context) { _ = l.base.See(ctx, l.side, l.found) }
