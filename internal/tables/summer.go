package tables

import (
	"context"
	"slices"
	"strconv"
	"strings"
)

// Search finds rows by texts in any of their columns, or by the value of one.
type Search struct {
	Fold   []string            // texts of ASCII, in either case
	Exact  []string            // texts, to the byte
	All    bool                // every row
	Values map[string][]string // column: values
}

// Summer is a snapshot whose engine can digest rows where they are, so that
// those which are not wanted never leave it.
type Summer interface {
	Snapshot
	// Sums gives the key and the digest of each row of a range of a table with a
	// key, and whether the search may find it.
	Sums(ctx context.Context, table string, r Range, s Search, give func(key []Value, d Digest, found bool) error) error
	// Total counts the rows of a range and adds up the first halves of their
	// digests, modulo 2^64.
	Total(ctx context.Context, table string, r Range) (rows int64, sum uint64, err error)
	// Share tells of about how many of a table's rows the search may find: 0 to 1.
	Share(ctx context.Context, table string, s Search) (float64, error)
	// Pick streams the rows with the given keys, in any order.
	Pick(ctx context.Context, table string, keys [][]Value, give func(Row) error) error
}

// Grouper is a Summer whose engine adds rows up in groups of those whose keys follow one another.
type Grouper interface {
	Summer
	// Groups adds up each group of a table whose key is one number that is not below 0; false: its key is another one.
	Groups(ctx context.Context, table string, per int64, s Search, give func(Group) error) (bool, error)
}

// Group are the rows whose key, divided by how many keys a group has, is one number.
type Group struct {
	At    int64
	Sum   Sum
	Found int64 // how many of them the search finds
}

// Dated is a snapshot or a database whose engine knows when each table was
// written to last.
type Dated interface {
	// Quiet gives these times, of tables to which nobody wrote just before: as long
	// as a table's time and the number of its rows are the same, so are its rows.
	Quiet(ctx context.Context) (map[string]string, error)
}

// Still names the tables of a database to which nobody has written since a snapshot of it was taken, as far as its
// engine knows; since is the snapshot's Since.
func Still(ctx context.Context, db Database, since string) (map[string]bool, error) {
	d, knows := db.(interface {
		Still(ctx context.Context, since string) (map[string]bool, error)
	})
	if !knows || since == "" {
		return nil, nil
	}
	return d.Still(ctx, since)
}

// Since is the time of a snapshot by its server's clock; "" where there is none.
func Since(s Snapshot) string {
	if d, knows := s.(interface{ Since() string }); knows {
		return d.Since()
	}
	return ""
}

// Started stands, in a time of Dated, before that of a server's start in seconds since 1970, give or take two: nobody
// has written to the table since then. It is told from Settled seconds after the start on.
const (
	Started = " since "
	Settled = 5
)

// Same tells whether two times of Dated are the same.
func Same(a, b string) bool {
	table, was, then := strings.Cut(a, Started)
	of, is, now := strings.Cut(b, Started)
	if !then || !now {
		return a == b && a != ""
	}
	x, err := strconv.ParseInt(was, 10, 64)
	y, err2 := strconv.ParseInt(is, 10, 64)
	return err == nil && err2 == nil && table == of && max(x, y)-min(x, y) <= 2
}

// Quiet gives the times at which tables were written to last, nil where the
// engine does not know.
func Quiet(ctx context.Context, of any) (map[string]string, error) {
	if d, ok := of.(Dated); ok {
		return d.Quiet(ctx)
	}
	return nil, nil
}

// mostly is the share of rows from which on it is cheaper to read a table whole.
const mostly = 0.2

// Sparse tells whether a search finds few enough rows of a table for these to
// be picked out.
func Sparse(ctx context.Context, snap Snapshot, t Table, s Search) (Summer, bool, error) {
	sm, ok := snap.(Summer)
	if !ok || len(t.Key) == 0 {
		return nil, false, nil
	}
	share, err := sm.Share(ctx, t.Name, s)
	return sm, share < mostly && !s.All, err
}

// picked is how many keys are remembered before their rows are read.
const picked = 10_000

// Scan goes through a range: of rows that the search does not find, clean is
// given key and digest, where the engine can tell; of all others, row is given
// the whole row. What is given is valid during the call.
func Scan(
	ctx context.Context,
	snap Snapshot,
	t Table,
	r Range,
	s Search,
	clean func(key []Value, d Digest) error,
	row func(Row) error,
) error {
	sm, sparse, err := Sparse(ctx, snap, t, s)
	if err != nil {
		return err
	}
	if !sparse {
		return snap.Read(ctx, t.Name, r, row)
	}
	return Sift(ctx, sm, t, r, s, func(key []Value, d Digest, hit bool) (bool, error) {
		if hit {
			return false, nil
		}
		return true, clean(key, d)
	}, row)
}

// Sift goes through a range of a table with a key: row is given the rows that
// pass does not pass, whole, after all others.
func Sift(
	ctx context.Context,
	sm Summer,
	t Table,
	r Range,
	s Search,
	pass func(key []Value, d Digest, found bool) (bool, error),
	row func(Row) error,
) error {
	var held [][]Value
	err := sm.Sums(ctx, t.Name, r, s, func(key []Value, d Digest, found bool) error {
		passed, err := pass(key, d, found)
		if err == nil && !passed {
			held = append(held, Keep(key))
		}
		return err
	})
	if err != nil {
		return err
	}
	for chunk := range slices.Chunk(held, picked) {
		if err := sm.Pick(ctx, t.Name, chunk, row); err != nil {
			return err
		}
	}
	return nil
}

// Fetch gives the rows of a table with the given keys, in any order. Where the engine can't pick them,
// the whole table is read.
func Fetch(ctx context.Context, snap Snapshot, t Table, keys [][]Value, give func(Row) error) error {
	if sm, ok := snap.(Summer); ok {
		for chunk := range slices.Chunk(keys, picked) {
			if err := sm.Pick(ctx, t.Name, chunk, give); err != nil {
				return err
			}
		}
		return nil
	}
	wanted := make(map[string]bool, len(keys))
	for _, k := range keys {
		wanted[string(Row{Values: k}.append(nil))] = true
	}
	var buf []byte
	return snap.Read(ctx, t.Name, Range{}, func(r Row) error {
		if buf = (Row{Values: r.Key}).append(buf[:0]); !wanted[string(buf)] {
			return ctx.Err()
		}
		return give(r)
	})
}

// Keep copies values that are only valid during a call.
func Keep(vals []Value) []Value {
	out := make([]Value, len(vals))
	for i, v := range vals {
		v.Bytes = append([]byte(nil), v.Bytes...)
		out[i] = v
	}
	return out
}
