package carry

import (
	"context"
	"fmt"

	"alibi/internal/baseline"
	"alibi/internal/tables"
)

// placesOf gives where in the baseline a row of a table that is changed is, and where it is to be. Rows that the engine
// knows by numbers of its own stand there by those of the copy, as evidence and refreshes look for them.
func (s *Sides) placesOf(ctx context.Context, table string) (func(Change) (was, is uint64), error) {
	raw, t, hidden := tables.Raw(s.Copy, table)
	if !hidden {
		return func(ch Change) (was, is uint64) { return ch.Found, ch.Found }, nil
	}
	view, _ := s.Copy.Schema().Table(table)
	now := map[string]uint64{}
	keys := tables.Keys(raw, t)
	if err := raw.Read(ctx, table, tables.Range{}, func(r tables.Row) error {
		now[tables.Row{Key: keyOf(view, r.Values)}.Address()] = keys.Of(r)
		return ctx.Err()
	}); err != nil {
		return nil, fmt.Errorf("where the rows of %s are: %w", table, err)
	}
	base, err := s.Base.Table(ctx, table)
	if err != nil {
		return nil, err
	}
	by := map[baseline.Pair]uint64{}
	for at, p := range base {
		by[p] = at
	}
	return func(ch Change) (was, is uint64) {
		was = ch.Found
		known := []baseline.Pair{ch.Base}
		if ch.After != nil { // as it was noted, whichever side it was written on
			sum, _ := raw.Digest(table, tables.Row{Values: ch.After}, nil)
			known = append(known, baseline.Pair{Origin: sum[0], Copy: ch.Other},
				baseline.Pair{Origin: ch.Other, Copy: sum[0]})
		}
		for _, p := range known {
			if at, there := by[p]; there {
				was = at
			}
		}
		if is = was; now[tables.Row{Key: ch.key(view)}.Address()] != 0 {
			is = now[tables.Row{Key: ch.key(view)}.Address()]
		}
		return was, is
	}, nil
}
