package carry

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"time"

	"alibi/internal/baseline"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/work"
)

// UndoPlan says what undoing a run will do: what it carried last is taken back first.
func UndoPlan(s *Sides, r plan.Run, title bool, at time.Time) (plan.Plan, error) {
	c, err := plan.DetailOf[Choices](r.Plan)
	if err != nil {
		return plan.Plan{}, err
	}
	p, back, err := undoPlan(s, r.ID, title, at)
	if err != nil || c.Then == nil {
		return p, err
	}
	first, choices, err := undoPlan(s, r.ID+thenName, title, at)
	if err != nil {
		return p, err
	}
	choices.Then = &back
	return joined(first, p, choices), nil
}

// undoPlan says what undoing what was carried one way will do.
func undoPlan(s *Sides, kept string, title bool, at time.Time) (p plan.Plan, c Choices, err error) {
	rec, err := Kept(s.env, kept)
	if err != nil {
		return p, c, err
	}
	p = s.toward(rec.To, at)
	seen := map[string]bool{}
	back := func(item string) {
		if !seen[item] {
			seen[item] = true
			p.Goes = append(p.Goes, plan.Part{What: item + " becomes what it was before run " + ofRun(kept)})
		}
	}
	for _, ch := range rec.Changes {
		if ch.Dropped == "" {
			back(ch.Item)
		}
	}
	files := turnedFiles(undropped(rec))
	for _, f := range files {
		back(f.Item)
	}
	add(&p, site.Note, "others", "an item that others changed since stays as it is, and is named", "")
	p.Rows, p.Tables, p.Words = int64(len(rec.Changes)), len(tablesOf(rec.Changes)), "what was before run "+ofRun(kept)
	p.Files = len(files)
	(&carrying{Sides: s}).close(&p, tablesOf(rec.Changes), files)
	c = Choices{To: rec.To, Title: title, Undo: kept, Copy: s.CopySite.ID, Filter: s.trees.LiveFilter,
		Beside: s.besides()}
	p.SetDetail(c)
	return p, c, nil
}

// undoing works out what undoing a run writes. An item of which others changed a file since stays.
func (x *runner) undoing(ctx context.Context, _ *work.Task, rec *Record) error {
	was, err := Kept(x.env, x.c.Undo)
	if err != nil {
		return err
	}
	s, err := x.open(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	schema := x.snapshot(s).Schema()
	rec.Changes, rec.Files = turned(was.Changes, schema), turnedFiles(undropped(was))
	others := map[string]bool{}
	for _, f := range rec.Files {
		same, err := isEntry(ctx, s.roots[x.c.To], f.Path, f.Before)
		if err != nil {
			return err
		}
		if !same && !others[f.Item] {
			others[f.Item] = true
			rec.Left = append(rec.Left, Left{f.Item, "others changed " + f.Path + " since"})
		}
	}
	rec.Changes = slices.DeleteFunc(rec.Changes, func(ch Change) bool { return others[ch.Item] })
	rec.Files = slices.DeleteFunc(rec.Files, func(f File) bool { return others[f.Item] })
	return x.transactional(ctx, schema, rec.Changes)
}

// unsettle notes what the sides had in common before a run that is undone.
func (s *Sides) unsettle(ctx context.Context, env *op.Env, c Choices, undone Record) error {
	was, err := undoneBy(env, c, undone)
	if err != nil {
		return err
	}
	return s.unnote(ctx, was)
}

// undoneBy is what a run wrote that another one undoes, as far as that one does.
func undoneBy(env *op.Env, c Choices, by Record) (Record, error) {
	was, err := Kept(env, c.Undo)
	if err != nil {
		return was, err
	}
	back := by.items()
	for i := range was.Changes {
		if !back[was.Changes[i].Item] {
			was.Changes[i].Dropped = "it is not undone"
		}
	}
	was.Files = slices.DeleteFunc(undropped(was), func(f File) bool { return !back[f.Item] })
	return was, nil
}

// unnote notes what the sides had in common before something was carried.
func (s *Sides) unnote(ctx context.Context, was Record) error {
	return errors.Join(s.unsettleFiles(ctx, undropped(was)),
		s.amend(ctx, was.Changes, func(ch Change) (p baseline.Pair, gone bool) { return ch.Base, !ch.Known }))
}

// undo takes back what was written, but for what others wrote since: all of it, until all is settled.
func (x *runner) undo(ctx context.Context) error {
	switch {
	case x.then != nil && x.then.mem.Settled, x.then == nil && x.mem.Settled:
		return nil
	case x.then != nil:
		if err := x.then.undo(ctx); err != nil {
			return err
		}
	}
	rec, err := Kept(x.env, x.kept)
	if errors.Is(err, fs.ErrNotExist) {
		return x.undraft(ctx) // nothing else was to be written yet
	}
	if err != nil {
		return err
	}
	if x.mem.Written && len(rec.Changes) > 0 {
		_, schema, err := x.targetSchema(ctx)
		if err != nil {
			return err
		}
		back := turned(rec.Changes, schema)
		dropped, err := x.write(ctx, back, nil, false)
		if err != nil {
			return err
		}
		for i, ch := range rec.Changes {
			if why := dropped[ch.Item]; ch.Dropped == "" && why != "" {
				rec.Changes[i].Dropped = why
			}
		}
	}
	if err := errors.Join(x.filesBack(ctx, rec), x.lift(ctx)); err != nil {
		return err
	}
	if err := x.undraft(ctx); err != nil || !x.mem.Settled {
		return err
	}
	return x.unsettled(ctx, rec)
}

// unsettled notes what the sides had in common before, of the way that was settled before the other one was taken back.
func (x *runner) unsettled(ctx context.Context, rec Record) error {
	s, err := x.open(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	if x.c.Undo == "" {
		return s.unnote(ctx, rec)
	}
	was, err := undoneBy(x.env, x.c, rec)
	if err != nil {
		return err
	}
	return errors.Join(s.settle(ctx, was.To, was.Changes), s.settleFiles(ctx, was.To, was.Files))
}
