package drift

import (
	"alibi/internal/baseline"
	"alibi/internal/tables"
)

// mostKept is how many changes of a table are kept for the next look.
const mostKept = 20_000

// kept gives what a change is to be known by at the next look.
func kept(r *Row, what State) (c baseline.Change, known bool) {
	c = baseline.Change{Found: r.Found, What: string(what)}
	for _, v := range r.Key {
		if v.Kind != tables.Int {
			return c, false
		}
		c.Key = append(c.Key, v.Int)
	}
	return c, true
}

// again tells of what was seen at an earlier look, but for rows of which there is nothing to be read on either side.
func again(changes []baseline.Change, part tables.Shard, both bool, tell func(by uint64, s State, key []tables.Value)) {
	for _, c := range changes {
		if !part.Has(c.Found) || both && c.Key == nil {
			continue
		}
		var key []tables.Value
		for _, n := range c.Key {
			key = append(key, tables.Value{Kind: tables.Int, Int: n})
		}
		tell(c.Found, State(c.What), key)
	}
}
