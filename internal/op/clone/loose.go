package clone

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

// settling is how often tables are looked at again that were read at moments of their own.
const settling = 4

// has tells whether a table or a part of one was loaded.
func (l *loading) has(mark string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Contains(l.loaded, mark)
}

// note notes that a table or a part of one was loaded.
func (l *loading) note(mark string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !slices.Contains(l.loaded, mark) {
		l.loaded = append(l.loaded, mark)
	}
}

// settle looks again at tables of which no two readings saw one state, by the digests of all their rows, and brings
// those anew that somebody wrote to meanwhile, until none is left: then all of them are as they were at the moment
// between the last two looks. Tables to which somebody writes all the time are named. Of tables of which only some
// rows are brought it is not known.
func (l *loading) settle(ctx context.Context) error {
	first := l.snap
	defer func() { l.snap = first }()
	var moved, all []string
	defer func() { l.moved = all }()
	rows := int64(0)
	for _, t := range first.Schema().Tables {
		rows += t.Rows
	}
	for n := range settling {
		l.t.Expect(rows * int64(n+2))
		snap, err := l.db.Snapshot(ctx)
		if err != nil {
			return fmt.Errorf("looking at the origin's tables again: %w", err)
		}
		l.snap = snap
		if !slices.EqualFunc(first.Schema().Tables, snap.Schema().Tables, engines.SameShape) {
			err = tables.ErrShape
		} else {
			moved, err = l.pass(ctx, func(tab string) bool { return !l.tr.Chooses(tab) })
		}
		if err = errors.Join(err, snap.Close()); err != nil || len(moved) == 0 {
			return err
		}
		all = slices.Compact(slices.Sorted(slices.Values(append(all, moved...))))
	}
	slices.Sort(moved)
	return l.x.leftOut(ctx, "somebody writes to these tables of the origin all the time, so that they are of different "+
		"moments: %s", strings.Join(moved, ", "))
}
