package baseline

import (
	"context"
	"maps"
	"sync"

	"alibi/internal/tables"
)

// Look is one side's tables as they are seen now, with the marks of earlier looks: a table to which nobody wrote
// since then need not be read again. It is safe for concurrent use.
type Look struct {
	base  *Baseline
	side  string
	quiet map[string]string // when each was written to last; none where the engine does not know
	marks map[string]Mark
	mu    sync.Mutex
	found map[string]Mark // marks that hold now
}

// Look begins a look at a side, "live" or "copy". What it can't learn is read.
func (b *Baseline) Look(ctx context.Context, side string, snap tables.Snapshot) *Look {
	l := &Look{base: b, side: side, found: map[string]Mark{}}
	var err error
	if l.quiet, err = tables.Quiet(ctx, snap); err != nil || len(l.quiet) == 0 {
		return l
	}
	seen, err := b.Seen(ctx, side)
	if err != nil {
		return l
	}
	if l.marks, err = b.Parted(ctx, side, l.quiet); err != nil {
		l.marks = map[string]Mark{}
	}
	maps.Copy(l.marks, seen)
	return l
}

// Still tells whether nobody has written to a table since it was looked at, and what had changed in it then.
func (l *Look) Still(t tables.Table) ([]Change, bool) {
	m, marked := l.marks[t.Name]
	return m.Changes, marked && tables.Same(m.Quiet, l.quiet[t.Name]) && m.Rows == t.Rows
}

// Saw notes what had changed in a table that was read; whole says that it is all.
func (l *Look) Saw(t tables.Table, changes []Change, whole bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if at := l.quiet[t.Name]; at != "" && whole {
		l.found[t.Name] = Mark{Quiet: at, Rows: t.Rows, Changes: changes}
	} else if _, marked := l.marks[t.Name]; marked { // the mark does not hold any more, whatever was written where
		l.found[t.Name] = Mark{}
	}
}

// Note keeps the marks; without them tables are read again.
func (l *Look) Note(ctx context.Context) { _ = l.base.See(ctx, l.side, l.found) }
