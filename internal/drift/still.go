package drift

import (
	"context"
	"sync"

	"alibi/internal/baseline"
	"alibi/internal/tables"
)

// look is one side's tables as they are seen now, with the marks of those in which nothing had changed. A table to
// which nobody wrote since is still as it was.
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
	if l.marks, err = p.Base.Seen(ctx, side); err != nil {
		l.marks = nil
	}
	return l
}

func (l *look) still(t tables.Table) bool {
	m, marked := l.marks[t.Name]
	return marked && m.Quiet != "" && m.Quiet == l.quiet[t.Name] && m.Rows == t.Rows
}

// saw notes whether something in a table had changed.
func (l *look) saw(t tables.Table, changed bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if at := l.quiet[t.Name]; at != "" && !changed {
		l.found[t.Name] = baseline.Mark{Quiet: at, Rows: t.Rows}
	} else if _, marked := l.marks[t.Name]; marked { // the mark does not hold any more, whatever was written where
		l.found[t.Name] = baseline.Mark{}
	}
}

// note keeps the marks; without them tables are read again.
func (l *look) note(ctx context.Context) { _ = l.base.See(ctx, l.side, l.found) }
