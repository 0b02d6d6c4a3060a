package carry

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"alibi/internal/baseline"
	"alibi/internal/op"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/work"
)

// apply writes the rows, all at one moment.
func (x *runner) apply(ctx context.Context, t *work.Task) error {
	rec, err := Kept(x.env, x.kept)
	if err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Written = true })
	if err := t.Remember(); err != nil {
		return err
	}
	for try := 0; ; try++ {
		dropped, err := x.write(ctx, rec.Changes, rec.Needs, x.c.Whole)
		if err != nil && !(errors.Is(err, ErrWhole) && try < triesForNumbers && allTaken(dropped)) {
			return err
		}
		for i := range rec.Files {
			rec.Files[i].Dropped = dropped[rec.Files[i].Item]
		}
		if x.c.Undo != "" || try == triesForNumbers || !slices.ContainsFunc(slices.Collect(maps.Values(dropped)), isTaken) {
			break
		}
		if err := x.again(ctx, t, &rec, dropped); err != nil {
			return err
		}
	}
	stay := undropped(rec)
	if err := x.dropFiles(ctx, rec.Files, stay); err != nil {
		return err
	}
	if err := x.lift(ctx); err != nil {
		return err
	}
	rows, items := 0, rec.items()
	for _, f := range rec.Files {
		if f.Dropped != "" {
			rec.Left = append(rec.Left, Left{f.Item, f.Dropped})
		}
	}
	for _, ch := range rec.Changes {
		if ch.Dropped != "" {
			rec.Left = append(rec.Left, Left{ch.Item, ch.Dropped})
			continue
		}
		rows++
	}
	rec.Left = unique(rec.Left)
	t.Add(int64(rows), int64(len(items)))
	if err := x.keepRecord(rec); err != nil {
		return err
	}
	if len(items) == 0 {
		return x.nothing(rec.Left)
	}
	return nil
}

// triesForNumbers is how often things get other numbers because theirs were given away at the last moment.
const triesForNumbers = 3

func isTaken(why string) bool { return strings.HasSuffix(why, taken) }

func allTaken(dropped map[string]string) bool {
	for _, why := range dropped {
		if !isTaken(why) {
			return false
		}
	}
	return len(dropped) > 0
}

// again gives other numbers to the things whose numbers were given away after they were looked at, and adds them to
// the record anew.
func (x *runner) again(ctx context.Context, t *work.Task, rec *Record, dropped map[string]string) error {
	var names []string
	for _, item := range slices.Sorted(maps.Keys(dropped)) {
		if isTaken(dropped[item]) {
			names = append(names, item)
		}
	}
	t.Memorize(func() { x.mem.Names, x.mem.Missed = names, x.mem.Missed+1 })
	var anew Record
	if err := x.changes(ctx, t, &anew); err != nil {
		return err
	}
	is := func(item string) bool { return slices.Contains(names, item) }
	rec.Changes = append(slices.DeleteFunc(rec.Changes, func(ch Change) bool { return is(ch.Item) }), anew.Changes...)
	for i, f := range rec.Files { // they are there
		if is(f.Item) {
			rec.Files[i].Dropped = ""
		}
	}
	if rec.Needs == nil { // a run of an earlier version noted none
		rec.Needs = map[string][]string{}
	}
	maps.Copy(rec.Needs, anew.Needs)
	rec.Left = unique(append(rec.Left, anew.Left...))
	t.Note("%s got other numbers: others gave theirs away meanwhile", site.Plural(len(names), "item", "items"))
	return x.keepRecord(*rec)
}

// undropped are the files of items that were not dropped.
func undropped(rec Record) []File {
	return slices.DeleteFunc(slices.Clone(rec.Files), func(f File) bool { return f.Dropped != "" })
}

// unique leaves each item once.
func unique(list []Left) (out []Left) {
	seen := map[Left]bool{}
	for _, l := range list {
		if !seen[l] {
			seen[l] = true
			out = append(out, l)
		}
	}
	return out
}

// write makes changes on the site that is written to, and gives the items that were dropped; where whole says so
// nothing is written if there are any.
func (x *runner) write(ctx context.Context, list []Change, needs map[string][]string, whole bool) (map[string]string,
	error) {
	if len(list) == 0 {
		return nil, nil
	}
	target, schema, err := x.targetSchema(ctx)
	if err != nil {
		return nil, err
	}
	edit, err := x.edit(ctx, target)
	if err != nil {
		return nil, err
	}
	defer edit.Close()
	w, err := x.writer(target, schema)
	if err != nil {
		return nil, err
	}
	w.whole = whole
	dropped, err := w.write(ctx, edit, list, needs)
	if errors.Is(err, tables.ErrTaken) {
		return nil, fmt.Errorf("%s has a row already where one was to come: it gave the number away a moment ago, or has "+
			"the name in other letters; nothing was changed, start it again, or leave that out: %w", target.Name, err)
	}
	return dropped, err
}

// writer writes to a site of which the schema was read.
func (x *runner) writer(s site.Site, schema tables.Schema) (writer, error) {
	st, err := x.env.Stack(s.Stack)
	if err != nil {
		return writer{}, err
	}
	tr := stack.Transform{Stack: st}
	if tr.Declared, err = x.env.Declarations(); err != nil {
		return writer{}, err
	}
	return writer{of: tr.Items(), prefix: s.Facts.Prefix, schema: schema, recount: true}, nil
}

// prove looks at what was written, and at the pages of a live site.
func (x *runner) prove(ctx context.Context, t *work.Task) error {
	rec, err := Kept(x.env, x.kept)
	if err != nil {
		return err
	}
	var target site.Site
	var right, others int
	if err := x.target(ctx, func(s site.Site, snap tables.Snapshot) error {
		target = s
		w, err := x.writer(s, snap.Schema())
		if err != nil {
			return err
		}
		right, others, err = w.compare(ctx, snap, rec.Changes)
		return err
	}); err != nil {
		return err
	}
	files, err := x.proveFiles(ctx, target, undropped(rec))
	if err != nil {
		return err
	}
	text := site.Plural(right, "row is as it", "rows are as they") + " should be"
	switch {
	case files > 0 && right == 0:
		text = site.Plural(files, "file is as it", "files are as they") + " should be"
	case files > 0:
		text = site.Plural(files, "file", "files") + " and " + text
	}
	if others > 0 {
		text += fmt.Sprintf("; %d were changed by others since", others)
	}
	if x.c.To == Live && len(x.mem.Pages) > 0 {
		word, _ := x.env.Pass(target.ID)
		now, err := x.env.Pages(ctx, target, word, x.mem.Pages)
		if err != nil {
			return fmt.Errorf("asking the live site for its pages: %w", err)
		}
		if err := op.Worse(x.mem.Pages, now); err != nil {
			return fmt.Errorf("the live site's pages are worse than before: %w", err)
		}
		text += "; " + site.Plural(len(now), "page", "pages") + " of it asked for: none is worse than before"
	}
	t.Result("%s", text)
	return nil
}

// compare counts the rows that are as they were written, and those that are another way since.
func (w writer) compare(ctx context.Context, snap tables.Snapshot, list []Change) (right, others int, err error) {
	for _, name := range tablesOf(list) {
		t, ok := snap.Schema().Table(name)
		if !ok {
			return 0, 0, fmt.Errorf("table %s is not there any more", name)
		}
		var keys [][]tables.Value
		for _, ch := range list {
			if ch.Table == name && ch.Dropped == "" {
				keys = append(keys, ch.key(t))
			}
		}
		now := map[string][]tables.Value{}
		if err := tables.Fetch(ctx, snap, t, keys, func(r tables.Row) error {
			now[tables.Row{Key: r.Key}.Address()] = tables.Keep(r.Values)
			return nil
		}); err != nil {
			return 0, 0, err
		}
		for _, ch := range list {
			if ch.Table != name || ch.Dropped != "" {
				continue
			}
			switch is := now[tables.Row{Key: ch.key(t)}.Address()]; {
			case w.same(t, is, ch.After):
				right++
			case w.same(t, is, ch.Before):
				return 0, 0, fmt.Errorf("a row of %s (%s) is not what it should be", ch.Item, name)
			default:
				others++
			}
		}
	}
	return right, others, nil
}

// key is the one that the row has afterwards.
func (ch Change) key(t tables.Table) []tables.Value {
	if to := keyOf(t, ch.After); to != nil {
		return to
	}
	return ch.Key
}

// settle makes what was carried the common state of both sides.
func (x *runner) settle(ctx context.Context, t *work.Task) error {
	rec, err := Kept(x.env, x.kept)
	if err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Settled = true })
	if err := t.Remember(); err != nil {
		return err
	}
	s, err := x.open(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	if x.c.Undo == "" {
		if err := errors.Join(s.settle(ctx, x.c.To, rec.Changes), s.settleFiles(ctx, x.c.To, undropped(rec)),
			s.keepValues(ctx, rec.Changes), s.keepTexts(ctx, rec), s.noteTyped(ctx, x.c.To, rec.Changes)); err != nil {
			return err
		}
	} else if err := s.unsettle(ctx, x.env, x.c, rec); err != nil {
		return err
	}
	if err := x.clear(ctx, rec.Files); err != nil {
		return err
	}
	items := rec.items()
	text := site.Plural(len(items), "item", "items") + " carried from " + x.p.Origin.Name
	if x.c.Undo != "" {
		text = "what run " + ofRun(x.c.Undo) + " carried is undone on " + x.p.Target.Name
	}
	if x.c.Note != "" {
		text += ": " + x.c.Note
	}
	if len(rec.Left) > 0 {
		text += "; " + site.Plural(len(rec.Left), "was", "were") + " left"
	}
	if n := len(rec.Doubts); n > 0 {
		text += fmt.Sprintf("; %s on the copy may mean a number that changed, look there: %s",
			site.Plural(n, "place", "places"), rec.Doubts[0])
	}
	x.forgetOld()
	proven := t.Run().Result
	switch {
	case x.then != nil:
		t.Memorize(func() { x.mem.Said = text + "; " + proven })
	case x.first != nil:
		t.Entry("%s; %s", x.first.mem.Said, text)
		t.Result("%s; %s; %s", x.first.mem.Said, text, proven)
	default:
		t.Entry("%s", text)
		t.Result("%s; %s", text, proven)
	}
	return nil
}

// clear clears away what was beside the files that were exchanged: of both ways at once, for as long as one of them may
// be taken back so may the other.
func (x *runner) clear(ctx context.Context, files []File) error {
	if x.then != nil {
		return nil
	}
	if x.first != nil {
		rec, err := Kept(x.env, x.first.kept)
		if err != nil {
			return err
		}
		if err := x.first.clearAway(ctx, rec.Files); err != nil {
			return err
		}
	}
	return x.clearAway(ctx, files)
}

func (x *runner) clearAway(ctx context.Context, files []File) error {
	if len(files) == 0 {
		return nil
	}
	target, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	return x.maker(target, files).Clear(ctx)
}

// settle notes the rows that were carried in the baseline.
func (s *Sides) settle(ctx context.Context, to Side, list []Change) error {
	snap := s.Live
	if to == Copy {
		snap = s.Copy
	}
	return s.amend(ctx, list, func(ch Change) (p baseline.Pair, gone bool) {
		if ch.After == nil {
			return p, true
		}
		switch {
		case ch.Merged && to == Live: // the copy has not got it yet: it is a change of the live site's now
			return baseline.Pair{Origin: ch.Base.Origin, Copy: ch.Other}, false
		case ch.Merged:
			return baseline.Pair{Origin: ch.Other, Copy: ch.Base.Copy}, false
		}
		written, _ := snap.Digest(ch.Table, tables.Row{Values: ch.After}, nil)
		if to == Live {
			return baseline.Pair{Origin: written[0], Copy: ch.Other}, false
		}
		return baseline.Pair{Origin: ch.Other, Copy: written[0]}, false
	})
}

// keepValues keeps the rows that both sides have in common now, as the copy has them.
func (s *Sides) keepValues(ctx context.Context, list []Change) error {
	if s.values == nil {
		return nil
	}
	for _, name := range tablesOf(list) {
		t, ok := s.Copy.Schema().Table(name)
		if !ok {
			continue
		}
		var keys [][]tables.Value
		for _, ch := range list {
			if ch.Table == name && ch.Dropped == "" {
				keys = append(keys, ch.key(t))
			}
		}
		var rows []tables.Row
		if err := tables.Fetch(ctx, s.Copy, t, keys, func(r tables.Row) error {
			rows = append(rows, tables.Row{Key: tables.Keep(r.Key), Values: tables.Keep(r.Values)})
			return nil
		}); err != nil {
			return err
		}
		if err := s.values.Add(ctx, t, rows); err != nil {
			return err
		}
	}
	return nil
}

// noteTyped notes rows of a copy whose people are made up that have people who were typed there: the live site has them
// now, and would make others of them.
func (s *Sides) noteTyped(ctx context.Context, to Side, list []Change) error {
	if s.people == nil || to != Live {
		return nil
	}
	if err := s.Ready(ctx); err != nil {
		return err
	}
	var typed []baseline.TypedRow
	for _, ch := range list {
		t, ok := s.Copy.Schema().Table(ch.Table)
		if !ok || ch.After == nil || ch.Dropped != "" || ch.Merged {
			continue
		}
		key := ch.key(t)
		would, _ := s.Copy.Digest(t.Name, tables.Row{Key: key, Values: s.inCopy(t, tables.Row{Key: key, Values: ch.After},
			true)}, nil)
		if would[0] != ch.Other {
			typed = append(typed, baseline.TypedRow{Table: t.Name, Address: tables.Row{Key: key}.Address()})
		}
	}
	return s.Base.Type(ctx, typed)
}

// amend notes rows in the baseline anew, by what is to be noted of each.
func (s *Sides) amend(ctx context.Context, list []Change, of func(Change) (baseline.Pair, bool)) error {
	for _, name := range tablesOf(list) {
		at, err := s.placesOf(ctx, name)
		if err != nil {
			return err
		}
		rows, gone := map[uint64]baseline.Pair{}, []uint64(nil)
		for _, ch := range list {
			if ch.Table != name || ch.Dropped != "" {
				continue
			}
			was, is := at(ch)
			p, not := of(ch)
			if not || was != is {
				gone = append(gone, was)
			}
			if !not {
				rows[is] = p
			}
		}
		if err := s.Base.Amend(ctx, name, rows, gone); err != nil {
			return err
		}
	}
	return nil
}
