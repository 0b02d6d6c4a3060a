package drift

import (
	"context"

	"alibi/internal/baseline"
	"alibi/internal/diff"
	"alibi/internal/tables"
)

// known gives what the baseline knows of the rows of a table, part by part, by what these are found by. It knows the
// rows of some tables by numbers of the engine's own, under which each side may have another row by now: these are
// found by their digests, on the side on which they are what they were.
func (p Pair) known(ctx context.Context, t tables.Table) (func(tables.Shard) (map[uint64]baseline.Pair, error), error) {
	if _, _, hidden := tables.Raw(p.Copy, t.Name); !hidden {
		return func(s tables.Shard) (map[uint64]baseline.Pair, error) { return p.Base.Shard(ctx, t.Name, s) }, nil
	}
	all, err := p.Base.Table(ctx, t.Name)
	if err != nil {
		return nil, err
	}
	found := map[uint64]baseline.Pair{}
	for _, side := range p.sides(t, t) {
		by := make(map[uint64]baseline.Pair, len(all))
		for _, b := range all {
			by[side.was(b)] = b
		}
		delete(by, 0) // it was not there
		if err := diff.Stored(side.snap, t)(ctx, tables.Shard{}, func(r diff.Row) error {
			if b, is := by[r.Sum]; is {
				found[r.Key] = b
			}
			return nil
		}); err != nil {
			return nil, err
		}
	}
	return func(s tables.Shard) (map[uint64]baseline.Pair, error) {
		out := map[uint64]baseline.Pair{}
		for k, b := range found {
			if s.Has(k) {
				out[k] = b
			}
		}
		return out, nil
	}, nil
}
