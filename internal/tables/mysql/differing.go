package mysql

import (
	"context"
	"maps"
	"slices"
	"strconv"

	"golang.org/x/sync/errgroup"

	"alibi/internal/diff"
	"alibi/internal/tables"
)

// differing is a table that is not as it is to be.
type differing struct {
	want    tables.WantedTable
	digest  func(table string, r tables.Row, buf []byte) (tables.Digest, []byte)
	sum     tables.Sum // of the rows as they are to be, where all were read
	same    bool
	whole   bool
	touched [][]tables.Value // keys of rows that are to go or to be others
	put     map[uint64]bool  // rows that are to come, by key
	keys    [][]tables.Value // of these, where they can be picked
}

// compare finds out what differs in a table.
func compare(ctx context.Context, now tables.Snapshot, w tables.Wanted, want tables.WantedTable) (*differing, error) {
	d := &differing{want: want, digest: w.Digest}
	is, has := now.Schema().Table(want.Name)
	sums, can := now.(tables.Summer)
	comparable := want.Table != nil && has && !want.Empty && can && len(is.Key) > 0 && d.digest != nil
	if !comparable || !PatchableTable(*want.Table, is) {
		d.whole = true
		return d, nil
	}
	if d.whole = (want.Least-is.Rows)*few > want.Least+is.Rows; d.whole { // so many are missing
		d.sum.Rows = want.Least
		return d, nil
	}
	ranges, err := d.groups(ctx, now, is)
	if err != nil {
		return nil, err
	}
	d.put = map[uint64]bool{}
	gone := map[uint64]bool{}
	err = diff.Tables(ctx, is.Rows, diff.StoredIn(now, is, ranges), d.wanted(now, is, ranges),
		func(k diff.Kind, r diff.Row) error {
			switch k {
			case diff.Removed:
				gone[r.Key] = true
			case diff.Changed:
				d.touched = append(d.touched, tables.Keep(r.Values))
				fallthrough
			case diff.Added:
				d.put[r.Key] = true
				if d.want.Pick != nil {
					d.keys = append(d.keys, tables.Keep(r.Values))
				}
			}
			if len(gone)+len(d.touched)+len(d.put) > mostPatched {
				d.whole = true
				return diff.ErrEnough
			}
			return nil
		})
	if err != nil {
		return nil, err
	}
	differ := int64(len(gone) + len(d.touched) + len(d.put))
	d.same = differ == 0
	if d.whole = d.whole || differ*few > is.Rows+d.sum.Rows; d.same || d.whole || len(gone) == 0 {
		return d, nil
	}
	keys := tables.Keys(now, is)
	touch := func(key []tables.Value, _ tables.Digest, _ bool) error {
		if gone[keys.OfKey(key)] {
			d.touched = append(d.touched, tables.Keep(key))
		}
		return ctx.Err()
	}
	for _, r := range ranges {
		if err := sums.Sums(ctx, want.Name, r, tables.Search{}, touch); err != nil {
			return nil, err
		}
	}
	return d, nil
}

// grouped is in about how many groups a table is added up, and into how many ranges at most what differs may fall.
const (
	grouped    = 4000
	mostRanges = 200
)

// groups adds the table up in groups on both sides, and gives the ranges in which they differ or which are not known;
// one of all where it can't.
func (d *differing) groups(ctx context.Context, now tables.Snapshot, is tables.Table) ([]tables.Range, error) {
	all := []tables.Range{{}}
	g, can := now.(tables.Grouper)
	if d.want.Groups == nil || !can {
		return all, nil
	}
	next, _ := strconv.ParseInt(is.Definition[tables.Next], 10, 64)
	per := max(1, max(is.Rows, next)/grouped)
	was := map[int64]tables.Sum{}
	var wanted []tables.Group
	var canWant bool
	both, bctx := errgroup.WithContext(ctx) // they are two servers, most often
	both.Go(func() (err error) {
		can, err = g.Groups(bctx, is.Name, per, tables.Search{}, func(g tables.Group) error {
			was[g.At] = g.Sum
			return nil
		})
		return err
	})
	both.Go(func() (err error) {
		canWant, err = d.want.Groups(bctx, per, func(g tables.Group) error {
			wanted = append(wanted, g)
			return nil
		})
		return err
	})
	if err := both.Wait(); err != nil || !can || !canWant {
		return all, err
	}
	var equal tables.Sum
	other := map[int64]bool{}
	for _, g := range wanted {
		if g.Found == 0 && was[g.At] == g.Sum {
			equal.Rows, equal.Sum = equal.Rows+g.Sum.Rows, equal.Sum+g.Sum.Sum
		} else {
			other[g.At] = true
		}
		delete(was, g.At)
	}
	for at := range was { // they are to go
		other[at] = true
	}
	ranges := together(slices.Sorted(maps.Keys(other)), per)
	if len(ranges) > mostRanges {
		return all, nil
	}
	d.sum = equal
	return ranges, nil
}

// together gives the ranges of keys of groups; those that follow one another are one.
func together(groups []int64, per int64) (out []tables.Range) {
	number := func(n int64) []tables.Value { return []tables.Value{{Kind: tables.Int, Int: n}} }
	for i, at := range groups {
		to := number((at+1)*per - 1)
		if i > 0 && groups[i-1] == at-1 {
			out[len(out)-1].To = to
			continue
		}
		out = append(out, tables.Range{After: number(at*per - 1), To: to})
	}
	return out
}

// wanted is the table as it is to be, in ranges.
func (d *differing) wanted(now tables.Snapshot, is tables.Table, ranges []tables.Range) diff.Side {
	return func(ctx context.Context, part tables.Shard, give func(diff.Row) error) error {
		keys := tables.Keys(now, is)
		each := func(key uint64, sum tables.Digest, values []tables.Value) error {
			if part.First() {
				d.sum.Rows++
			}
			if !part.Has(key) {
				return ctx.Err()
			}
			d.sum.Sum += sum[0]
			return give(diff.Row{Key: key, Sum: sum[0], Values: values})
		}
		if d.want.Sums != nil {
			for _, r := range ranges {
				err := d.want.Sums(ctx, r, func(key []tables.Value, sum tables.Digest) error {
					return each(keys.OfKey(key), sum, key)
				})
				if err != nil {
					return err
				}
			}
			return nil
		}
		var buf []byte
		var sum tables.Digest
		return d.want.Rows(ctx, func(r tables.Row) error {
			sum, buf = d.digest(is.Name, r, buf)
			return each(keys.Of(r), sum, r.Key)
		})
	}
}

// bring gives the rows that are to come.
func (d *differing) bring(ctx context.Context, now tables.Snapshot, put func(tables.Row) error) error {
	if d.want.Pick != nil {
		return d.want.Pick(ctx, d.keys, put)
	}
	keys := tables.Keys(now, *d.want.Table)
	return d.want.Rows(ctx, func(r tables.Row) error {
		if !d.put[keys.Of(r)] {
			return nil
		}
		return put(r)
	})
}
