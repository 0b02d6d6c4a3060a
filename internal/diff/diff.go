// Package diff compares tables row by row, by what their rows are found by and by digests.
//
// What is held in memory does not grow with a table: tables are compared part by part
// (tables.Shard), and of the rows of a part a key and half a digest are held, 16 bytes each.
// Each part costs one more reading of both sides.
package diff

import (
	"context"
	"errors"

	"alibi/internal/tables"
)

// Row is a row of one side.
type Row struct {
	Key uint64 // what it is found by, of tables.Keyer
	Sum uint64 // the first half of its digest
	// Values are those of its key, nil where the table has none. They are valid during a call.
	Values []tables.Value
}

// Side gives the rows of a part of a table, in any order, each once.
type Side func(ctx context.Context, part tables.Shard, give func(Row) error) error

// Stored is a table as a snapshot has it. Its rows are summed up where they are, if the engine
// can do that.
func Stored(snap tables.Snapshot, t tables.Table) Side { return StoredIn(snap, t, []tables.Range{{}}) }

// StoredIn is what a table has in ranges of its key. One that is read whole has only one, of all.
func StoredIn(snap tables.Snapshot, t tables.Table, ranges []tables.Range) Side {
	sums, can := snap.(tables.Summer)
	if !can || len(t.Key) == 0 {
		return Chosen(snap, t, nil)
	}
	return func(ctx context.Context, part tables.Shard, give func(Row) error) error {
		keys := tables.Keys(snap, t)
		each := func(key []tables.Value, d tables.Digest, _ bool) error {
			if k := keys.OfKey(key); part.Has(k) {
				return errors.Join(give(Row{Key: k, Sum: d[0], Values: key}), ctx.Err())
			}
			return ctx.Err()
		}
		for _, r := range ranges {
			if err := sums.Sums(ctx, t.Name, r, tables.Search{}, each); err != nil {
				return err
			}
		}
		return nil
	}
}

// Chosen is a table whose rows are read whole, and of which those are given that are wanted, by what they are found by;
// nil: all.
func Chosen(snap tables.Snapshot, t tables.Table, want func(key uint64, r tables.Row) bool) Side {
	return func(ctx context.Context, part tables.Shard, give func(Row) error) error {
		keys := tables.Keys(snap, t)
		var buf []byte
		var d tables.Digest
		return snap.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
			k := keys.Of(r)
			if !part.Has(k) || want != nil && !want(k, r) {
				return ctx.Err()
			}
			d, buf = snap.Digest(t.Name, r, buf)
			return errors.Join(give(Row{Key: k, Sum: d[0], Values: r.Key}), ctx.Err())
		})
	}
}

// Kind is what became of a row.
type Kind uint8

// The kinds.
const (
	Same    Kind = iota
	Changed      // it has other values
	Added        // it was not there
	Removed      // it is not there any more
)

// ErrEnough, given by who is told, ends a comparison: what is known is enough.
var ErrEnough = errors.New("what is known of the difference is enough")

// Tables compares a table as it was with what it is, and tells of each row of either by what it
// is found by. rows is how many the larger has, about.
// A row that went has no values.
func Tables(ctx context.Context, rows int64, was, is Side, tell func(k Kind, r Row) error) error {
	for _, part := range tables.Shards(rows) {
		switch err := compare(ctx, part, was, is, tell); {
		case errors.Is(err, ErrEnough):
			return nil
		case err != nil:
			return err
		}
	}
	return nil
}

func compare(ctx context.Context, part tables.Shard, was, is Side, tell func(k Kind, r Row) error) error {
	before := map[uint64]uint64{}
	if err := was(ctx, part, func(r Row) error { before[r.Key] = r.Sum; return nil }); err != nil {
		return err
	}
	err := is(ctx, part, func(r Row) error {
		sum, known := before[r.Key]
		delete(before, r.Key)
		switch {
		case !known:
			return tell(Added, r)
		case sum != r.Sum:
			return tell(Changed, r)
		}
		return tell(Same, r)
	})
	if err != nil {
		return err
	}
	for key := range before {
		if err := tell(Removed, Row{Key: key}); err != nil {
			return err
		}
	}
	return ctx.Err()
}
