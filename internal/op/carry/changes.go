package carry

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"alibi/internal/baseline"
	"alibi/internal/drift"
	"alibi/internal/merge"
	"alibi/internal/phpval"
	"alibi/internal/scrub"
	"alibi/internal/site"
	"alibi/internal/tables"
)

// Side is one of a pair.
type Side string

// The sides.
const (
	Live Side = "live"
	Copy Side = "copy"
)

// other is the other one.
func (s Side) other() Side { return site.Either(s == Live, Copy, Live) }

// Change is one row on the side that is written to, as it was and as it is to be; nil: it is not there.
type Change struct {
	Item   string         `json:"item"`
	Table  string         `json:"table"`
	Key    []tables.Value `json:"key"`
	Found  uint64         `json:"found"` // what it is found by in the baseline
	Before []tables.Value `json:"before,omitempty"`
	After  []tables.Value `json:"after,omitempty"`
	// Other is the digest of the row on the other side; 0: it is not there.
	Other uint64 `json:"other,omitempty"`
	// Base is what the baseline knew of the row before, if it did.
	Base  baseline.Pair `json:"base,omitzero"`
	Known bool          `json:"known,omitempty"`
	// Merged says that it is of both sides' versions, which the other side does not have yet.
	Merged bool `json:"merged,omitempty"`
	// Dropped says why it was not made.
	Dropped string `json:"dropped,omitempty"`
}

// alike says that an item is left because both sides have the same.
const alike = "nothing of it differs any more"

// unchanged says why an item is left: nobody changed it on the side from which it would go.
func (s *Sides) unchanged(from Side) string { return "nothing of it changed on " + s.called(from) }

// Left is an item that is not carried.
type Left struct {
	Item string `json:"item"`
	Why  string `json:"why"`
}

// carrying works out what is to be written.
type carrying struct {
	*Sides
	to      Side
	take    map[string]Side              // of items that both sides changed: whose is to stand
	hand    map[string]map[string]string // what people wrote where both sides changed one place, by item and place
	secrets []string                     // that open the live site; nil: not asked for yet
	plan    bool                         // numbers that both sides gave away are not new ones yet
	strict  bool                         // nothing is carried where something of it is left
	both    bool                         // the same run carries the other way too
	drafts  []*drift.Item                // of which the copy's version is kept as a draft
}

// here and there are the state of a row on the side that is read, and on the one that is written to.
func (c *carrying) here(r *drift.Row) (drift.State, *tables.Row) {
	if c.to == Live {
		return r.Copy, r.CopyRow
	}
	return r.Live, r.LiveRow
}

func (c *carrying) there(r *drift.Row) (drift.State, *tables.Row) {
	if c.to == Live {
		return r.Live, r.LiveRow
	}
	return r.Copy, r.CopyRow
}

// keepsThere tells whether a row that both sides changed in one place stays on the side that is written to, whose
// version is to stand. What else the other side changed of the item is carried all the same.
func (c *carrying) keepsThere(it *drift.Item, r *drift.Row) bool {
	if c.take[it.Name] != c.to {
		return false
	}
	if r.Paired != nil {
		return c.plan && !r.PairedAlike()
	}
	_, merges := merged(r, nil)
	return !merges
}

// undecided says why an item is left that both sides changed.
const undecided = "both sides changed it: say which is to stand"

// undecided says so, or whose version stands if that is the one which is there already.
func (c *carrying) undecided(it *drift.Item) string {
	if side, said := c.take[it.Name]; said {
		return c.stands(side)
	}
	return undecided
}

// item says what of an item is to be written; why it can't be.
func (c *carrying) item(it *drift.Item) (list []Change, why string) {
	if it.Marks {
		return nil, "it makes the copy the one that it is"
	}
	whole := c.whole(it)
	if (whole || it.HalfGone()) && it.Clashes() && c.take[it.Name] != c.from() {
		return nil, c.undecided(it) // a part of it is not carried to where it is gone
	}
	for _, r := range it.Rows {
		if r.Passing {
			continue
		}
		is, _ := c.here(r)
		was, _ := c.there(r)
		if is == drift.Same && !whole || is != drift.Same && was != drift.Same && c.keepsThere(it, r) {
			continue
		}
		ch, why := c.row(it, r)
		if why != "" {
			return nil, why
		}
		if ch.Before != nil || ch.After != nil {
			list = append(list, ch)
		}
	}
	if whole {
		list = append(list, c.owned(it)...)
	}
	return list, ""
}

// owned are the rows that go with an item which goes: of comments on it that the other side has.
func (c *carrying) owned(it *drift.Item) (list []Change) {
	for _, o := range it.Owns {
		for _, r := range o.Rows {
			if _, to := c.there(r); to != nil {
				list = append(list, Change{Item: it.Name, Table: r.Table.Name, Key: r.Key, Found: r.Found,
					Before: to.Values, Base: r.Base, Known: r.Known})
			}
		}
	}
	return list
}

// whole tells whether an item is carried with all that is left of it: it is gone on the side that is read, or on the
// other one, and what is read is to stand.
func (c *carrying) whole(it *drift.Item) bool {
	r := it.Root
	if r == nil {
		return false
	}
	is, _ := c.here(r)
	was, _ := c.there(r)
	return is == drift.Gone || was == drift.Gone && c.take[it.Name] == c.from()
}

// row says what is to be written for a row of an item.
func (c *carrying) row(it *drift.Item, r *drift.Row) (ch Change, why string) {
	of, prefix := c.Transform.Items(), c.Transform.Change.Origin.Prefix
	_, from := c.here(r)
	was, to := c.there(r)
	if r.Collides && !c.plan {
		return ch, "the other side has given its number away too"
	}
	if r.Collides && !of.Numbered(prefix, r.Table.Name) {
		return ch, "the other side has given its number in " + r.Table.Name + " away too, and nothing tells what " +
			"refers to it"
	}
	stands := c.take[it.Name] == c.from()
	if r.Paired != nil && c.plan && !stands {
		return ch, site.Either(r.PairedAlike(), "", c.undecided(it))
	}
	whole, both := []tables.Value(nil), false
	if is, _ := c.here(r); is != drift.Same && was != drift.Same && !stands {
		if whole, both = merged(r, c.hand[plainName(it.Name)]); !both {
			return ch, c.undecided(it)
		}
	}
	ch = Change{Item: it.Name, Table: r.Table.Name, Key: r.Key, Found: r.Found, Other: c.digest(r.Table.Name, from),
		Base: r.Base, Known: r.Known}
	if to != nil {
		ch.Before = to.Values
	}
	switch {
	case both:
		ch.Merged = true
	case from != nil && c.to == Copy:
		whole = r.Became.Values
	case from != nil:
		whole = from.Values
	}
	if whole != nil && c.to == Live {
		if c.people != nil && r.Known && to != nil && r.Was == nil {
			return ch, "what it was on the copy is not known, and the copy's people are made up"
		}
		ch.After, why = c.becomes(r, whole, to)
		return ch, why
	}
	ch.After = whole
	return ch, ""
}

// from is the side that is read.
func (c *carrying) from() Side { return c.to.other() }

// digest digests a row of the side that is read.
func (c *carrying) digest(table string, r *tables.Row) uint64 {
	if r == nil {
		return 0
	}
	snap := c.Copy
	if c.to == Copy {
		snap = c.Live
	}
	d, _ := snap.Digest(table, *r, nil)
	return d[0]
}

// becomes is what a row that is as in from, with the copy's addresses, is to be on the live site. What nobody changed
// stays there as it is. why says what of it can't be there.
func (c *carrying) becomes(r *drift.Row, from []tables.Value, to *tables.Row) (out []tables.Value, why string) {
	of := c.Transform.Items()
	out = tables.Keep(from)
	own := c.own(r, from, to)
	for i, col := range r.Table.Columns {
		if to != nil && (r.Became.Values[i].Equal(from[i]) ||
			of.Cached(c.Transform.Change.Origin.Prefix, r.Table, col.Name)) {
			out[i] = to.Values[i]
			continue
		}
		v := &out[i]
		if v.Kind != tables.Text && v.Kind != tables.Blob {
			continue
		}
		text := func(s string) string {
			b, err := own(i, []byte(s))
			if err != nil && why == "" {
				why = fmt.Sprintf("%s: %s", col.Name, err)
			}
			return string(b)
		}
		if to == nil || packed(*v) || to.Values[i].Kind != v.Kind {
			v.Bytes = []byte(text(v.String()))
			continue
		}
		v.Bytes = []byte(merge.Carry(to.Values[i].String(), r.Became.Values[i].String(), v.String(), text))
	}
	return out, why
}

// errPerson is given for what the copy changed of somebody who is made up there.
var errPerson = errors.New("it is of somebody who is made up on the copy: change it on the live site")

// own gives what makes a text of a row, in a column, one of the live site: with its addresses, and with its people
// where those of the copy are made up.
func (c *carrying) own(r *drift.Row, row []tables.Value, to *tables.Row) func(column int, text []byte) ([]byte, error) {
	var kinds []scrub.Kind
	var near []tables.Value
	if c.people != nil {
		kinds = slices.Clone(c.people.Kinds(r.Table, tables.Row{Key: r.Key, Values: row}))
		if to != nil {
			near = to.Values
		}
	}
	return func(i int, text []byte) ([]byte, error) {
		out, _, _ := c.home.Value(text, c.Transform.Stack.Scope(r.Table.Name, r.Table.Columns[i].Name))
		switch {
		case c.people == nil:
			return out, nil
		case kinds == nil || kinds[i] == "":
			return c.people.HomeText(out, near)
		case to != nil:
			return nil, errPerson
		}
		return c.people.HomeValue(kinds[i], out)
	}
}

// wanted is what is to be written.
type wanted struct {
	items   []*drift.Item
	changes []Change
	files   []File
	left    []Left
	needs   map[string][]string // items by those that need them
}

func (w *wanted) leaves(name string) bool {
	return slices.ContainsFunc(w.left, func(l Left) bool { return l.Item == name })
}

// packed tells whether a value is one of PHP's or of JSON, whose parts are not lines.
func packed(v tables.Value) bool { return phpval.Looks(v.Bytes) || json.Valid(v.Bytes) }

// want works out what is to be written for items, and for those that they need. Items of which not all can be are left,
// and so are those that need them.
func (c *carrying) want(ctx context.Context, all []*drift.Item, names []string) (*wanted, error) {
	needed, byName := map[string][]string{}, map[string]*drift.Item{}
	w := &wanted{needs: needed}
	for _, it := range all {
		byName[it.Name] = it
	}
	missing := c.missing(all)
	for todo := slices.Clone(names); len(todo) > 0; todo = todo[1:] {
		it := cmp.Or(byName[todo[0]], byName[drift.TwinOf(todo[0], string(c.from()))])
		if it == nil {
			w.left = append(w.left, Left{todo[0], alike})
			continue
		}
		if _, done := needed[it.Name]; done {
			continue
		}
		needed[it.Name] = append(c.needs(missing, it), c.runs(all, byName, it)...)
		todo = append(todo, needed[it.Name]...)
		if err := c.add(ctx, w, it); err != nil {
			return nil, err
		}
	}
	for n := -1; n != len(w.left); {
		n = len(w.left)
		for _, it := range w.items {
			for _, need := range needed[it.Name] {
				if w.leaves(need) && !w.leaves(it.Name) {
					w.left = append(w.left, Left{it.Name, "it needs " + need + ", which is not carried"})
				}
			}
		}
	}
	seen := map[string]bool{} // what goes with an item may have been chosen itself
	w.changes = slices.DeleteFunc(w.changes, func(ch Change) bool {
		row := ch.Table + " " + tables.Row{Key: ch.Key}.Address()
		again := seen[row]
		seen[row] = again || !w.leaves(ch.Item)
		return w.leaves(ch.Item) || again
	})
	w.files = slices.DeleteFunc(w.files, func(f File) bool { return w.leaves(f.Item) })
	w.items = slices.DeleteFunc(w.items, func(it *drift.Item) bool { return w.leaves(it.Name) })
	return w, nil
}

// add adds what is to be written for one item.
func (c *carrying) add(ctx context.Context, w *wanted, it *drift.Item) error {
	got, why := c.item(it)
	var files []File
	if why == "" {
		var err error
		if files, why, err = c.filesOf(ctx, it); err != nil {
			return err
		}
	}
	switch {
	case why != "" || len(got)+len(files) > 0:
	case it.Clashes() && c.take[it.Name] == c.to:
		why = c.stands(c.to)
	default:
		why = c.unchanged(c.from())
	}
	if why != "" {
		w.left = append(w.left, Left{it.Name, why})
		return nil
	}
	w.items, w.changes, w.files = append(w.items, it), append(w.changes, got...), append(w.files, files...)
	return nil
}

// number is that of a row in a table.
type number struct {
	table string
	n     int64
}

// missing are the rows that are not there on the side that is written to, with the items that they are of.
func (c *carrying) missing(all []*drift.Item) map[number]string {
	out := map[number]string{}
	for _, it := range all {
		for _, r := range it.Rows {
			_, from := c.here(r)
			_, to := c.there(r)
			if from != nil && to == nil && len(r.Key) == 1 && r.Key[0].Kind == tables.Int {
				out[number{r.Table.Name, r.Key[0].Int}] = it.Name
			}
		}
	}
	return out
}

// needs names the items that the rows of one refer to and that the side which is written to does not have.
func (c *carrying) needs(missing map[number]string, it *drift.Item) (out []string) {
	of, around := c.Transform.Items(), c.around(it, c.from())
	for _, r := range it.Rows {
		_, from := c.here(r)
		if from == nil {
			continue
		}
		row := tables.Row{Key: from.Key, Values: tables.Keep(from.Values)}
		of.References(around, r.Table, row, func(table string, n int64) int64 {
			if other := missing[number{table, n}]; other != "" && other != it.Name && !slices.Contains(out, other) {
				out = append(out, other)
			}
			return n
		})
	}
	return out
}

// runs names the items without which what one says does not work: files of plugins that it switches on, and settings
// that have one switched on of which the files go.
func (c *carrying) runs(all []*drift.Item, byName map[string]*drift.Item, it *drift.Item) (out []string) {
	if len(it.Rows) > 0 {
		for _, name := range c.running(it, c.here) {
			if other := byName[name]; other != nil && c.state(other) == drift.Made {
				out = append(out, name)
			}
		}
		return out
	}
	if c.state(it) != drift.Gone {
		return nil
	}
	for _, other := range all {
		if slices.Contains(c.running(other, c.there), it.Name) && !slices.Contains(c.running(other, c.here), it.Name) {
			out = append(out, other.Name)
		}
	}
	return out
}

// state is what became of an item on the side that is read.
func (c *carrying) state(it *drift.Item) drift.State {
	if c.to == Live {
		return it.Copy
	}
	return it.Live
}

// running names the items of files that run by what rows of an item say on a side.
func (c *carrying) running(it *drift.Item, side func(*drift.Row) (drift.State, *tables.Row)) (out []string) {
	for _, r := range it.Rows {
		if _, row := side(r); row != nil {
			out = append(out, c.Transform.Items().Runs(c.Transform.Change.Origin.Prefix, r.Table, *row)...)
		}
	}
	return out
}
