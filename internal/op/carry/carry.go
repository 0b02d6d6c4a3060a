package carry

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"alibi/internal/drift"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// Choices say what is carried, and to which side.
type Choices struct {
	To    Side                         `json:"to"`
	Items []Chosen                     `json:"items,omitempty"`
	Take  map[string]Side              `json:"take,omitempty"` // of items that both sides changed: whose is to stand
	Hand  map[string]map[string]string `json:"hand,omitempty"` // what people wrote there, by item and place
	Note  string                       `json:"note,omitempty"`
	// Decided are decisions of people that are kept, for both sides may have the same things again.
	Decided map[string]Decision `json:"decided,omitempty"`
	Title   bool                `json:"title"` // the copy's title says that it is one
	// Filter is of the live site's files: what was not copied.
	Filter tree.Filter `json:"filter,omitzero"`
	Undo   string      `json:"undo,omitempty"` // what a run wrote that is undone, in place of items
	Copy   site.ID     `json:"copy"`
	Whole  bool        `json:"whole,omitempty"` // all of it is carried, or nothing
	// Drafts are the items of which the copy's version is kept as a draft.
	Drafts []string `json:"drafts,omitempty"`
	// Beside is the first of two copies of one origin that are a pair; "": the pair is a copy and its origin.
	Beside site.ID `json:"beside,omitempty"`
	// Then is what the same run carries the other way afterwards.
	Then *Choices `json:"then,omitempty"`
}

// Chosen is an item as the plan saw it.
type Chosen struct {
	Name string `json:"name"`
	Saw  string `json:"saw"` // a digest of what both sides had
}

// saw digests what both sides have of an item, but for what the CMS works out from other rows: a comment on a page is
// no change of the page.
func (s *Sides) saw(it *drift.Item) string {
	of, prefix := s.Transform.Items(), s.Transform.Change.Origin.Prefix
	var all []string
	for _, r := range it.Rows {
		for _, row := range []*tables.Row{r.LiveRow, r.CopyRow} {
			if r.Passing || row == nil {
				continue
			}
			values := slices.Clone(row.Values)
			for i, c := range r.Table.Columns {
				if of.Cached(prefix, r.Table, c.Name) {
					values[i] = tables.Value{}
				}
			}
			if text, err := json.Marshal(values); err == nil {
				all = append(all, r.Table.Name+string(text))
			}
		}
	}
	for _, f := range it.Files {
		for _, e := range []tree.Entry{f.LiveIs, f.CopyIs} {
			all = append(all, fmt.Sprintf("%s %s %x %s", f.Path, e.Path, e.Hash, e.Link))
		}
	}
	slices.Sort(all)
	h := sha256.New()
	for _, s := range all {
		fmt.Fprintf(h, "%d %s", len(s), s)
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}

// Operation is carrying changes from one side of a pair to the other, and undoing that.
func Operation(env *op.Env) work.Definition {
	return work.Definition{
		Kind:      plan.Sync,
		Claims:    plan.Plan.BothAlone,
		Consent:   plan.Plan.LiveConsent,
		TakesBack: true,
		Begin: work.Begin(func(r plan.Run, c Choices) *work.Operation {
			x := newRunner(env, r, c)
			return &work.Operation{Steps: work.Each(x.steps()), Undo: x.undo, Memory: x.mem}
		}),
	}
}

// runner carries one way; what the same run carries the other way has a runner of its own.
type runner struct {
	env         *op.Env
	p           plan.Plan // from the site that is read to the one that is written to
	c           Choices
	run, kept   string // what its record is kept as
	mem         *memory
	first, then *runner // of the other way; nil: none
}

// memory is what the steps remember between tries.
type memory struct {
	Names   []string  `json:"names,omitempty"`  // of the items, as they are called once they have numbers of their own
	Missed  int       `json:"missed,omitempty"` // how often numbers were given away that were free a moment before
	Left    []Left    `json:"left,omitempty"`
	Doubts  []string  `json:"doubts,omitempty"`
	Pages   []op.Page `json:"pages,omitempty"`
	Written bool      `json:"written,omitempty"` // rows may have been changed
	Settled bool      `json:"settled,omitempty"`
	Shut    bool      `json:"shut,omitempty"`   // visitors may see a notice
	Said    string    `json:"said,omitempty"`   // what came of it, where the other way follows
	Drafts  []Change  `json:"drafts,omitempty"` // that were made on the copy
	Then    *memory   `json:"then,omitempty"`
	state.Memory
}

// live and copied are the two sites, as the record has them now.
func (x *runner) sites(ctx context.Context) (live, copied site.Site, err error) {
	a, err := x.env.Record.Site(ctx, x.p.Origin.ID)
	if err != nil {
		return live, copied, err
	}
	b, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if a.ID == x.c.Copy {
		a, b = b, a
	}
	return a, b, err
}

// open opens both sides as they are now.
func (x *runner) open(ctx context.Context) (*Sides, error) {
	live, copied, err := x.sites(ctx)
	if err != nil {
		return nil, err
	}
	if x.c.Beside != "" {
		return OpenBeside(ctx, x.env, live, copied, x.c.Filter)
	}
	return Open(ctx, x.env, live, copied, x.c.Title, x.c.Filter)
}

// edit opens the database of one of the sites to be written to.
func (x *runner) edit(ctx context.Context, s site.Site) (tables.Transactor, error) {
	e, err := x.env.Edit(ctx, x.run, s, "")
	if err != nil {
		return nil, err
	}
	t, can := e.(tables.Transactor)
	if !can {
		e.Close()
		return nil, fmt.Errorf("single rows of the database of %s can't be changed: repeat the changes by hand", s.Name)
	}
	return t, nil
}

// settleNumbers gives things of the copy other numbers where the live site has given theirs away too, or has them under
// others, and gives both sides as they are then, with their drift. What is to get a number that another one has still,
// or is known by one that changes, gets it in the next pass.
func (x *runner) settleNumbers(ctx context.Context, t *work.Task) (s *Sides, d Drifted, err error) {
	for pass, missed := 0, x.mem.Missed; ; pass++ {
		if s, err = x.open(ctx); err != nil {
			return nil, d, err
		}
		if d, err = s.Drift(ctx); err != nil {
			return s, d, err
		}
		changed := 0
		if pass < mostPasses {
			changed, err = x.renumber(ctx, t, s, d, pass, missed+pass)
		}
		if err != nil || changed == 0 {
			return s, d, errors.Join(err, t.Remember())
		}
		t.Note("%s of the copy changed for new numbers", site.Plural(changed, "row", "rows"))
		s.Close()
	}
}

// mostPasses is how often things get other numbers at most.
const mostPasses = 6

// renumber is one pass; missed is how often numbers that were chosen before turned out not to be free.
func (x *runner) renumber(ctx context.Context, t *work.Task, s *Sides, d Drifted, pass, missed int) (changed int,
	err error) {
	var rooms map[string]room
	if x.c.To == Live {
		if rooms, err = s.rooms(ctx, d.Items, x.env.Now(), pass == 0, missed); err != nil {
			return 0, err
		}
	}
	list, renamed, doubts, err := s.renumber(ctx, d.Items, rooms)
	if err != nil {
		return 0, err
	}
	names, left := x.mem.Names, x.mem.Left
	if names == nil {
		names, left = x.chosen(s, d.Items, renamed)
		x.chooseThen(t, s, d.Items, renamed)
	} else {
		names = slices.Clone(names)
		for i, name := range names {
			names[i] = cmp.Or(renamed[name], renamed[drift.TwinOf(name, string(Copy))], name)
		}
	}
	if len(list) > 0 {
		if err := x.writeOnCopy(ctx, s, list); err != nil {
			return 0, fmt.Errorf("giving things on the copy other numbers: %w", err)
		}
		if err := s.pair(ctx, d.Items, list); err != nil {
			return 0, err
		}
	}
	t.Memorize(func() { x.mem.Names, x.mem.Left, x.mem.Doubts = names, left, append(x.mem.Doubts, doubts...) })
	return len(list), nil
}

// chosen are the items that are as the plan saw them, by the names that they get.
func (x *runner) chosen(s *Sides, all []*drift.Item, renamed map[string]string) (names []string, left []Left) {
	names = []string{}
	for _, c := range x.c.Items {
		it := find(all, c.Name, x.from())
		switch {
		case it == nil:
			left = append(left, Left{c.Name, alike})
		case s.saw(it) != c.Saw:
			left = append(left, Left{c.Name, "it was changed since the plan was made"})
		case renamed[it.Name] != "":
			names = append(names, renamed[it.Name])
		default:
			names = append(names, plainName(it.Name))
		}
	}
	if x.c.To == Live {
		for _, name := range x.drafted() {
			if it := find(all, name, Copy); it != nil {
				names = append(names, cmp.Or(renamed[it.Name], plainName(it.Name)))
			}
		}
	}
	return names, left
}

// find finds an item by the name that it had when it was chosen. Meanwhile the other side may have given its number
// away, or taken what had that away, so that it is called with its side or without.
func find(all []*drift.Item, name string, from Side) *drift.Item {
	for _, called := range []string{name, drift.TwinOf(name, string(from)), plainName(name)} {
		if i := slices.IndexFunc(all, func(it *drift.Item) bool { return it.Name == called }); i >= 0 {
			return all[i]
		}
	}
	return nil
}

// from is the side that is read.
func (x *runner) from() Side { return x.c.To.other() }

// look gives each thing a number of its own, works out what is to be written, and keeps that.
func (x *runner) look(ctx context.Context, t *work.Task) error {
	live, copied, err := x.sites(ctx)
	if err != nil {
		return err
	}
	if err := keepDecisions(x.env, copied, x.c.Decided); err != nil {
		return err
	}
	if x.c.To == Live && x.env.Web != nil && x.mem.Pages == nil {
		word, _ := x.env.Pass(live.ID)
		if pages, err := x.env.Pages(ctx, live, word, nil); err == nil {
			t.Memorize(func() { x.mem.Pages = pages })
		} else {
			t.Note("%s", err)
		}
	}
	if x.mem.Written {
		return nil // an earlier try has
	}
	if err := x.makeDrafts(ctx, t); err != nil {
		return err
	}
	rec := Record{To: x.c.To}
	find := x.changes
	if x.c.Undo != "" {
		find = x.undoing
	}
	if err := find(ctx, t, &rec); err != nil {
		return err
	}
	if x.c.Whole && len(rec.Left) > 0 {
		return notWhole(rec.Left[0])
	}
	if len(rec.Changes)+len(rec.Files) == 0 {
		if err := x.nothing(rec.Left); err != nil {
			return err
		}
	}
	note := site.Plural(len(rec.Changes), "row", "rows") + " to write"
	if n := len(rec.Files); n > 0 {
		note += ", " + site.Plural(n, "file", "files") + " to exchange"
	}
	t.Note("%s", note)
	return x.keepRecord(rec)
}

// changes works out what carrying items writes.
func (x *runner) changes(ctx context.Context, t *work.Task, rec *Record) error {
	s, d, err := x.settleNumbers(ctx, t)
	if s != nil {
		defer s.Close()
	}
	if err != nil {
		return err
	}
	c := &carrying{Sides: s, to: x.c.To, take: x.take(), hand: x.c.Hand}
	got, err := c.want(ctx, d.Items, x.mem.Names)
	if err != nil {
		return err
	}
	rec.Changes, rec.Files, rec.Folders = got.changes, got.files, absent(s.roots[x.c.To], got.files)
	rec.Left, rec.Doubts, rec.Needs = append(x.mem.Left, got.left...), x.mem.Doubts, got.needs
	if err := x.equalled(s, rec); err != nil {
		return err
	}
	return x.transactional(ctx, x.snapshot(s).Schema(), rec.Changes)
}

// take gives whose is to stand of items that both sides changed, by the names that these have now.
func (x *runner) take() map[string]Side {
	out := map[string]Side{}
	for name, side := range x.c.Take {
		out[plainName(name)] = side
	}
	return out
}

// ErrNothing is given where none of the items can be carried.
var ErrNothing = errors.New("there is nothing to carry")

// ErrWhole is given where all was to be carried or nothing, and something can't be.
var ErrWhole = errors.New("something can't be carried, so nothing was")

// notWhole is that error, with what can't be.
func notWhole(l Left) error {
	return fmt.Errorf("%w: %s: %s; plan it again, or without --whole", ErrWhole, l.Item, l.Why)
}

// noneOf is that error, with why the first of them is left.
func noneOf(left []Left) error {
	if len(left) == 0 {
		return fmt.Errorf("%w: no item differs", ErrNothing)
	}
	return fmt.Errorf("%w: %s: %s", ErrNothing, left[0].Item, left[0].Why)
}

// snapshot is the side that is written to.
func (x *runner) snapshot(s *Sides) tables.Snapshot {
	if x.c.To == Live {
		return s.Live
	}
	return s.Copy
}

// transactional says of a table whose rows can't be changed at one moment.
func (x *runner) transactional(ctx context.Context, schema tables.Schema, list []Change) error {
	if len(list) == 0 {
		return nil
	}
	target, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	edit, err := x.edit(ctx, target)
	if err != nil {
		return err
	}
	defer edit.Close()
	for _, name := range tablesOf(list) {
		t, ok := schema.Table(name)
		if !ok {
			return fmt.Errorf("%s has no table %s: leave its items out", target.Name, name)
		}
		if !edit.Transactional(t) {
			return fmt.Errorf("table %s of %s is kept by an engine without transactions: leave its items out", name,
				target.Name)
		}
	}
	return nil
}

// keep takes a restore point of the site that is written to.
func (x *runner) keep(ctx context.Context, t *work.Task) error {
	s, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil || s.Role != site.Live {
		return err
	}
	return x.env.Keep(ctx, t, s, "before changes were carried to it")
}

// target opens the tables of the site that is written to, to be read.
func (x *runner) target(ctx context.Context, use func(s site.Site, snap tables.Snapshot) error) error {
	s, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	return x.env.Tables(ctx, s, func(_ stack.Stack, snap tables.Snapshot) error {
		return use(s, tables.ByDeclaredKey(snap))
	})
}

// targetSchema gives the site that is written to, and what its tables are; nothing of it is held afterwards.
func (x *runner) targetSchema(ctx context.Context) (target site.Site, schema tables.Schema, err error) {
	err = x.target(ctx, func(s site.Site, snap tables.Snapshot) error {
		target, schema = s, snap.Schema()
		return nil
	})
	return target, schema, err
}
