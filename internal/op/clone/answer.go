package clone

import (
	"context"
	"fmt"

	"alibi/internal/baseline"
	"alibi/internal/evidence"
	"alibi/internal/plan"
	"alibi/internal/work"
)

// ready finds out what has to be known of a new copy before it answers: that it is a site of its own, that its pages
// come, and that its rules hold. It is compared next, as it was before anybody visited it.
func (x *runner) ready(ctx context.Context, t *work.Task) error {
	if x.mem.Answers != nil {
		return nil
	}
	in, done, err := x.input(t)
	if err != nil {
		return err
	}
	defer done()
	rep := evidence.Begin(in)
	m, err := evidence.Hold(ctx, in, rep)
	if err != nil {
		return fmt.Errorf("looking at the copy before it answers: %w", err)
	}
	if x.mem.Visited { // by an earlier try: what it was before can't be seen any more
		m.Close()
	} else {
		x.moment = m
	}
	t.Memorize(func() { x.mem.Visited = true })
	if err := t.Remember(); err != nil {
		return err
	}
	if rep.Proof().Holds { // a copy that is no site of its own is not visited
		if err := evidence.Meet(ctx, in, rep); err != nil {
			return err
		}
	}
	if !rep.Harmless() {
		return x.judge(ctx, *rep)
	}
	t.Memorize(func() { x.mem.Answers = rep })
	return t.Remember()
}

// input is what is compared.
func (x *runner) input(t *work.Task) (in evidence.Input, done func(), err error) {
	tr, err := x.transform()
	if err != nil {
		return in, nil, err
	}
	b, err := baseline.Open(x.at("now", "baseline.db"))
	if err != nil {
		return in, nil, err
	}
	return evidence.Input{
		Env: x.env, Origin: x.p.Origin, Copy: x.p.Target, Transform: tr, Filter: Filter(tr.Stack, x.d.Filter),
		Baseline: b, Fresh: x.moment != nil || !x.mem.Visited, Lived: x.moment == nil && x.mem.Visited,
		Kept: x.p.Kind == plan.Refresh && !x.d.Choices.Fresh, Opened: x.moment, Before: x.mem.Stamp, Since: x.mem.Since,
		Tell: func(units, items int) { t.Add(int64(units), int64(items)) },
	}, func() { b.Close() }, nil
}
