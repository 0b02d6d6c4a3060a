package carry

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"alibi/internal/baseline"
	"alibi/internal/drift"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// Where both sides gave one number to two things, the copy's gets another one, on the copy itself, and all that refers
// to it there follows. Where they gave two numbers to one thing, such as a setting or a group of one name, the copy's
// gets the live site's. A live site's numbers never change, and afterwards both sides have one number for one thing.

// numbers are new ones by table and old one.
type numbers map[string]map[int64]int64

// renumber works out which rows of the copy are to change for that, and the items that get another name by it. doubts
// are places that hold such a number and of which it is not known whether they mean it.
func (s *Sides) renumber(ctx context.Context, items []*drift.Item, rooms map[string]room) (list []Change,
	renamed map[string]string, doubts []string, err error) {
	to, err := s.free(ctx, items, rooms)
	if err != nil {
		return nil, nil, nil, err
	}
	names, err := s.shortNames(ctx, items)
	if err != nil || len(to)+len(names) == 0 {
		return nil, nil, nil, err
	}
	of, prefix := s.Transform.Items(), s.Transform.Change.Origin.Prefix
	renamed = map[string]string{}
	for _, it := range items {
		around := s.around(it, Copy)
		for _, r := range it.Rows {
			if r.CopyRow == nil || r.Copy == drift.Same && r.Paired == nil {
				continue
			}
			row := tables.Row{Key: r.CopyRow.Key, Values: tables.Keep(r.CopyRow.Values)}
			of.References(around, r.Table, row, func(table string, n int64) int64 {
				if next, ok := to[table][n]; ok {
					return next
				}
				return n
			})
			if next, ok := to[r.Table.Name][r.Key[0].Int]; ok && len(r.Key) == 1 &&
				(r.Collides || r.Paired != nil || rooms[r.Table.Name].left(r)) {
				number := &row.Values[r.Table.Column(r.Table.Key[0])]
				*number = number.WithInt(next)
			}
			if name, ok := names[r]; ok {
				row.Values[r.Table.Column(name.Column)].Bytes = []byte(name.Name)
			}
			doubts = append(doubts, leads(it, r, names, of, prefix)...)
			for _, n := range of.Looks(around, r.Table, *r.CopyRow) {
				for table := range to {
					if to[table][n] != 0 {
						doubts = append(doubts, fmt.Sprintf("%s holds %d, which is %d in %s now", it.Name, n, to[table][n], table))
					}
				}
			}
			if slices.EqualFunc(row.Values, r.CopyRow.Values, tables.Value.Equal) {
				continue
			}
			list = append(list, Change{Item: it.Name, Table: r.Table.Name, Key: r.Key, Found: r.Found,
				Before: r.CopyRow.Values, After: row.Values})
			row.Key = keyOf(r.Table, row.Values)
			if name := of.ItemOf(prefix, r.Table, row); name != it.Name {
				renamed[it.Name] = name
			}
		}
	}
	slices.Sort(doubts)
	return list, renamed, slices.Compact(doubts), nil
}

// around is what is known around the rows of an item on one side.
func (s *Sides) around(it *drift.Item, side Side) stack.Around {
	out := stack.Around{Prefix: s.Transform.Change.Origin.Prefix, Hosts: s.hosts}
	for _, r := range it.Rows {
		is := r.CopyRow
		if side == Live {
			is = r.LiveRow
		}
		if is != nil {
			out.Rows = append(out.Rows, stack.Written{Table: r.Table, Row: *is})
		}
	}
	return out
}

// room is where the live site will give numbers away while a run is under way, in one table.
type room struct {
	from, n int64
	clear   bool // what the copy has there gets other numbers, before the live site gives them away
}

// meanwhile is for how long numbers are left to a live site: more than a run takes.
const meanwhile = 3 * time.Minute

// leastWatched is how long a live site is taken to have gone on at least: a few things of one minute are no habit.
const leastWatched = 10 * time.Minute

// mostRoom is how many numbers of a table are left at most.
const mostRoom = 10_000

// leastRoom is how many numbers of a table are left at least once one was given away after it had been chosen, and
// eight times as many each further time.
const leastRoom = 64

// rooms tells where the live site will give numbers away, by how many it gave since the sides parted, and how often
// numbers that were chosen turned out not to be free. clear is as of room.
func (s *Sides) rooms(ctx context.Context, items []*drift.Item, now time.Time, clear bool, missed int,
) (map[string]room, error) {
	out := map[string]room{}
	for _, it := range items {
		for _, r := range it.Rows {
			if r.Live == drift.Made && !r.Passing && len(r.Key) == 1 && r.Key[0].Kind == tables.Int {
				is := out[r.Table.Name]
				out[r.Table.Name] = room{max(is.from, r.Key[0].Int+1), is.n + 1, clear}
			}
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	meta, err := s.Base.Meta(ctx)
	if err != nil {
		return nil, err
	}
	for table, is := range out {
		rate := float64(is.n) / max(leastWatched, now.Sub(meta.At)).Seconds()
		least := int64(0)
		if missed > 0 {
			least = leastRoom << min(3*(missed-1), 16)
		}
		is.n = min(mostRoom, max(int64(rate*meanwhile.Seconds()), least))
		out[table] = is
	}
	return out, nil
}

// left tells whether a row that the copy made has a number that is to be left to the live site.
func (r room) left(row *drift.Row) bool {
	return r.clear && row.Copy == drift.Made && row.LiveRow == nil && !row.Passing && row.Key[0].Int >= r.from &&
		row.Key[0].Int < r.from+r.n
}

// free finds numbers that neither side has, and that are not left to the live site.
func (s *Sides) free(ctx context.Context, items []*drift.Item, rooms map[string]room) (numbers, error) {
	known, prefix := s.Transform.Items(), s.Transform.Change.Origin.Prefix
	to, next, of := numbers{}, map[string]int64{}, map[string]tables.Table{}
	taken := map[number]bool{} // on the copy
	var pairs []*drift.Row
	for _, it := range items {
		for _, r := range it.Rows {
			if len(r.Key) != 1 || r.Key[0].Kind != tables.Int {
				continue
			}
			next[r.Table.Name] = max(next[r.Table.Name], r.Key[0].Int+1)
			if r.CopyRow != nil {
				taken[number{r.Table.Name, r.Key[0].Int}] = true
			}
			if r.CopyRow == nil || !known.Numbered(prefix, r.Table.Name) ||
				!r.Collides && r.Paired == nil && !rooms[r.Table.Name].left(r) {
				continue
			}
			of[r.Table.Name] = r.Table
			if to[r.Table.Name] == nil {
				to[r.Table.Name] = map[int64]int64{}
			}
			to[r.Table.Name][r.Key[0].Int] = 0
			if r.Paired != nil {
				pairs = append(pairs, r)
			}
		}
	}
	for _, r := range pairs {
		if n := r.Paired.Key[0].Int; !taken[number{r.Table.Name, n}] {
			to[r.Table.Name][r.Key[0].Int] = n
		}
	}
	for table, list := range to {
		n, err := s.lastTaken(ctx, of[table], max(next[table], rooms[table].from+rooms[table].n), int64(len(list)))
		if err != nil {
			return nil, err
		}
		numberFrom(list, n)
	}
	return to, nil
}

// pair notes what both sides had in common of things that were one under two numbers, under the number that they have
// now.
func (s *Sides) pair(ctx context.Context, items []*drift.Item, list []Change) error {
	rows, gone := map[string]map[uint64]baseline.Pair{}, map[string][]uint64{}
	for _, it := range items {
		for _, r := range it.Rows {
			if r.CopyRow == nil || r.Paired == nil {
				continue
			}
			i := slices.IndexFunc(list, func(ch Change) bool { return ch.Table == r.Table.Name && ch.Found == r.Found })
			if i < 0 || !r.Known && !r.Paired.Known {
				continue
			}
			key := keyOf(r.Table, list[i].After)
			found, p := r.Paired.Found, r.Paired.Base
			switch {
			case !sameKey(key, r.Paired.Key) && !r.Known: // its number is not free yet
				continue
			case !sameKey(key, r.Paired.Key):
				found = tables.Keys(s.Copy, r.Table).OfKey(key)
				fallthrough
			case !r.Paired.Known:
				p = baseline.Pair{Origin: r.Base.Origin}
			}
			if r.Known && r.Copy == drift.Same {
				is, _ := s.Copy.Digest(r.Table.Name, tables.Row{Key: key, Values: list[i].After}, nil)
				p.Copy = is[0]
			}
			if rows[r.Table.Name] == nil {
				rows[r.Table.Name] = map[uint64]baseline.Pair{}
			}
			rows[r.Table.Name][found] = p
			gone[r.Table.Name] = append(gone[r.Table.Name], r.Found)
		}
	}
	for name := range rows {
		if err := s.Base.Amend(ctx, name, rows[name], gone[name]); err != nil {
			return err
		}
	}
	return nil
}

// numberFrom gives those that have no other number yet the ones behind the last that is taken, in order.
func numberFrom(list map[int64]int64, last int64) {
	for _, old := range sorted(list) {
		if list[old] == 0 {
			last++
			list[old] = last
		}
	}
}

func sorted(list map[int64]int64) (out []int64) {
	for n := range list {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

// lastTaken gives a number behind which as many are free on both sides as are wanted.
func (s *Sides) lastTaken(ctx context.Context, t tables.Table, from, wanted int64) (int64, error) {
	for {
		var keys [][]tables.Value
		for n := range wanted {
			keys = append(keys, []tables.Value{{Kind: tables.Int, Int: from + n}})
		}
		last := int64(0)
		for _, snap := range []tables.Snapshot{s.Live, s.Copy} {
			if err := tables.Fetch(ctx, snap, t, keys, func(r tables.Row) error {
				last = max(last, r.Key[0].Int)
				return nil
			}); err != nil {
				return 0, err
			}
		}
		if last == 0 {
			return from - 1, nil
		}
		from = last + 1
	}
}

// plainName is an item's name without the side that tells it from its twin.
func plainName(name string) string {
	plain, _, _ := strings.Cut(name, "@")
	return plain
}
