package carry

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"alibi/internal/drift"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/work"
)

// thenName is added to the name of a run's record for that of what it carries the other way afterwards, and to the
// names of the steps that do it.
const thenName = ".then"

// ofRun is the run whose record has a name.
func ofRun(kept string) string { return strings.TrimSuffix(kept, thenName) }

// newRunner makes what does the steps of a run.
func newRunner(env *op.Env, r plan.Run, c Choices) *runner {
	x := &runner{env: env, p: toward(r.Plan, c), c: c, run: r.ID, kept: r.ID, mem: &memory{}}
	if c.Then != nil {
		x.mem.Then = &memory{}
		x.then = &runner{env: env, p: toward(r.Plan, *c.Then), c: *c.Then, run: r.ID, kept: r.ID + thenName,
			mem: x.mem.Then, first: x}
	}
	return x
}

// toward is a plan with its sites turned the way that is carried.
func toward(p plan.Plan, c Choices) plan.Plan {
	if (p.Target.ID == c.Copy) != (c.To == Copy) {
		p.Origin, p.Target = p.Target, p.Origin
	}
	return p
}

// steps are what the steps of plans do.
func (x *runner) steps() map[string]work.Do {
	out := map[string]work.Do{"number": x.look, "look": x.look, "keep": x.keep, "stage": x.stage, "files": x.exchange,
		"apply": x.apply, "prove": x.prove, "settle": x.settle}
	if x.then != nil {
		for name, do := range x.then.steps() {
			out[name+thenName] = do
		}
	}
	return out
}

// chooseThen notes the items that go the other way afterwards: those that are as the plan saw them.
func (x *runner) chooseThen(t *work.Task, s *Sides, all []*drift.Item, renamed map[string]string) {
	if x.then == nil {
		return
	}
	names, left := x.then.chosen(s, all, renamed)
	t.Memorize(func() { x.then.mem.Names, x.then.mem.Left = names, left })
}

// equalled takes out of what is left the items that are the same on both sides because the run carried them before.
func (x *runner) equalled(s *Sides, rec *Record) error {
	if x.first == nil {
		return nil
	}
	before, err := Kept(x.env, x.first.kept)
	if err != nil {
		return err
	}
	went := before.items()
	rec.Left = slices.DeleteFunc(rec.Left, func(l Left) bool {
		return went[l.Item] && (l.Why == alike || l.Why == s.unchanged(x.from()))
	})
	return nil
}

// items are those of which something was written.
func (r Record) items() map[string]bool {
	out := map[string]bool{}
	for _, ch := range r.Changes {
		if ch.Dropped == "" {
			out[ch.Item] = true
		}
	}
	for _, f := range undropped(r) {
		out[f.Item] = true
	}
	return out
}

// nothing is the error of a run that carries nothing either way.
func (x *runner) nothing(left []Left) error {
	if x.then != nil {
		return nil // the other way may have something
	}
	if x.first != nil {
		before, err := Kept(x.env, x.first.kept)
		if err != nil || len(before.items()) > 0 {
			return err
		}
		left = append(before.Left, left...)
	}
	return noneOf(left)
}

// PlanBoth says what carrying both ways in one run will do: home first, and then to the copy what it has not. Of items
// that are wished for by name each goes the way, or the ways, from where it was changed.
func PlanBoth(ctx context.Context, s *Sides, d Drifted, home, then Wish, title bool, at time.Time) (plan.Plan, error) {
	home.To, then.To = Live, Copy
	home.Items, then.Items = changedOn(d.Items, home.Items, Copy), changedOn(d.Items, then.Items, Live)
	then.Take = maps.Clone(then.Take)
	for item, side := range then.Take {
		if side == Both { // the draft is made by then
			then.Take[item] = Live
		}
	}
	there, err := draw(ctx, s, d, home, title, at)
	if err != nil {
		return plan.Plan{}, err
	}
	back, err := draw(ctx, s, d, then, title, at)
	if err != nil {
		return plan.Plan{}, err
	}
	switch {
	case there.empty() && !back.empty():
		return back.plan(ctx, d)
	case back.empty():
		return there.plan(ctx, d)
	}
	there.both, back.both = true, true
	there.got.left, back.got.left = unnamed(there.got.left, back.got.items), unnamed(back.got.left, there.got.items)
	p, err := there.plan(ctx, d)
	if err != nil {
		return p, err
	}
	q, err := back.plan(ctx, d)
	if err != nil {
		return p, err
	}
	there.choices.Then = &back.choices
	return joined(p, q, there.choices), nil
}

// unnamed are the items that are left which are not among others.
func unnamed(left []Left, others []*drift.Item) []Left {
	return slices.DeleteFunc(left, func(l Left) bool {
		return slices.ContainsFunc(others, func(it *drift.Item) bool { return it.Name == l.Item })
	})
}

// changedOn are the items of those that are named which were changed on a side, and those that are not known.
func changedOn(all []*drift.Item, names []string, side Side) (out []string) {
	for _, name := range names {
		it := find(all, name, side)
		if it == nil || site.Either(side == Copy, it.Copy, it.Live) != drift.Same {
			out = append(out, name)
		}
	}
	return out
}

// thenTitles are what steps of the other way are called.
var thenTitles = map[string]string{"look": "look once more", "stage": "bring the others", "files": "exchange these",
	"apply": "write the other rows", "prove": "compare these", "settle": "note these"}

// joined is the plan of a run that does what two plans say, one after the other.
func joined(p, then plan.Plan, c Choices) plan.Plan {
	var goes []plan.Part
	for _, of := range []plan.Plan{p, then} {
		goes = append(goes, plan.Part{What: "to " + of.Target.Name + ":"})
		for _, part := range of.Goes {
			part.What = "  " + part.What
			goes = append(goes, part)
		}
	}
	out := p
	if c.To == Copy { // what is undone goes the other way round
		out.Origin, out.Target = p.Target, p.Origin
	}
	out.Goes, out.Writes = goes, append(slices.Clone(p.Writes), then.Writes...)
	for _, f := range then.Findings {
		if !slices.Contains(out.Findings, f) {
			out.Findings = append(out.Findings, f)
		}
	}
	for _, step := range then.Steps {
		if step.Name != "keep" || then.Target.Role == site.Live { // nothing is taken of a copy
			step.Title = cmp.Or(thenTitles[step.Name], step.Title)
			step.Name += thenName
			out.Steps = append(out.Steps, step)
		}
	}
	out.Rows, out.Tables, out.Files = p.Rows+then.Rows, max(p.Tables, then.Tables), p.Files+then.Files
	out.Estimate.Low, out.Estimate.High = p.Estimate.Low+then.Estimate.Low, p.Estimate.High+then.Estimate.High
	out.Words = p.Words + ", " + then.Words
	out.Stays = []plan.Part{{What: "everything else of " + p.Target.Name + " and of " + then.Target.Name}}
	out.Confirm = out.LiveConsent(out.Target)
	out.SetDetail(c)
	out.Sort()
	return out
}
