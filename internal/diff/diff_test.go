package diff

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/tables"
)

// side is a table as a map of digests, by what its rows are found by.
func side(rows map[uint64]uint64) Side {
	return func(_ context.Context, part tables.Shard, give func(Row) error) error {
		for k, sum := range rows {
			if part.Has(k) {
				if err := give(Row{Key: k, Sum: sum}); err != nil {
					return err
				}
			}
		}
		return nil
	}
}

// Whatever the two sides are, and however many parts they are compared in, each row is told of
// once, and as what it is.
func TestEachRowIsToldOfOnce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		defer tables.InShardsOf(rapid.Int64Range(1, 9).Draw(rt, "rows of a part"))()
		rows := rapid.MapOf(rapid.Uint64Range(0, 40), rapid.Uint64Range(0, 3))
		was, is := rows.Draw(rt, "was"), rows.Draw(rt, "is")
		want := map[uint64]Kind{}
		for k, sum := range was {
			now, there := is[k]
			switch {
			case !there:
				want[k] = Removed
			case now != sum:
				want[k] = Changed
			default:
				want[k] = Same
			}
		}
		for k := range is {
			if _, known := was[k]; !known {
				want[k] = Added
			}
		}
		got := map[uint64]Kind{}
		n := 0
		largest := int64(max(len(was), len(is)))
		err := Tables(context.Background(), largest, side(was), side(is), func(k Kind, r Row) error {
			got[r.Key] = k
			n++
			return nil
		})
		require.NoError(rt, err)
		require.Equal(rt, want, got)
		require.Equal(rt, len(want), n)
	})
}

func TestAComparisonEndsWhenEnoughIsKnownOrASideBreaks(t *testing.T) {
	ctx := context.Background()
	rows := map[uint64]uint64{1: 1, 2: 2, 3: 3}
	told := 0
	require.NoError(t, Tables(ctx, 3, side(nil), side(rows), func(Kind, Row) error {
		told++
		return ErrEnough
	}))
	assert.Equal(t, 1, told)
	broken := errors.New("the line broke")
	breaks := func(context.Context, tables.Shard, func(Row) error) error { return broken }
	none := func(Kind, Row) error { return nil }
	assert.ErrorIs(t, Tables(ctx, 3, breaks, side(rows), none), broken)
	assert.ErrorIs(t, Tables(ctx, 3, side(rows), breaks, none), broken)
	ended, cancel := context.WithCancel(ctx)
	cancel()
	assert.ErrorIs(t, Tables(ended, 3, side(rows), side(rows), none), context.Canceled)
}
