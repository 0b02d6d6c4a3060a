package clone

import (
	"context"
	"fmt"
	"reflect"
	"slices"

	"alibi/internal/baseline"
	"alibi/internal/evidence"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/work"
)

// unchanged tells whether a refresh has nothing to bring: nothing has changed on either side since the copy was
// compared, what was found then holds, and the copy is to be made as it was.
func unchanged(in Input, to site.Site) bool {
	if in.Over == nil || in.Lost == nil || in.Made == nil || in.Choices.Fresh {
		return false
	}
	return in.Lost.Copy == 0 && in.Lost.Origin == 0 && in.Over.Proof.Holds && alike(*in.Over, to) &&
		reflect.DeepEqual(in.Choices, *in.Made)
}

// alike tells whether a refresh makes the same rows of the same rows as when the copy was made.
func alike(now, to site.Site) bool {
	return now.Origin == to.Origin && now.Title == to.Title && now.Address() == to.Address() && now.Root == to.Root &&
		slices.Equal(now.Quiet, to.Quiet) && slices.Equal(now.Only, to.Only) && slices.Equal(now.Empty, to.Empty) &&
		now.Scrubbed == to.Scrubbed
}

// look looks once more whether nothing has changed, where the plan says so. The run is at its end then.
func (x *runner) look(ctx context.Context, t *work.Task) error {
	if !x.d.Same || x.mem.Reserved {
		return nil
	}
	s, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	tr, err := x.env.Transform(x.p.Origin, s, x.d.Choices.Title)
	if err != nil {
		return err
	}
	b, err := baseline.Open(x.at("now", "baseline.db"))
	if err != nil {
		return nil // it is brought
	}
	defer b.Close()
	rep, err := evidence.Compare(ctx, evidence.Input{Env: x.env, Origin: x.p.Origin, Copy: s, Transform: tr,
		Filter: Filter(tr.Stack, x.d.Filter), Baseline: b, Lived: true, CountOnly: true})
	if err != nil {
		return fmt.Errorf("looking whether anything has changed: %w", err)
	}
	if !s.Proof.Holds || rep.Apart.Copy+rep.Apart.Origin > 0 {
		return nil
	}
	t.Memorize(func() { x.mem.Same = true })
	t.Result("nothing had changed on either side: the copy is what it was, and its evidence holds (%d checks)",
		s.Proof.Checks)
	_, err = x.env.Record.ChangeSite(ctx, s.ID, func(s *site.Site) error {
		s.CheckedAt, s.Apart = x.env.Now(), site.Apart{At: rep.At}
		return nil
	})
	return err
}

// needed has the steps of a refresh do nothing where nothing has changed.
func (x *runner) needed(steps work.Steps) work.Steps {
	if x.p.Kind != plan.Refresh {
		return steps
	}
	for name, s := range steps {
		if name == "reserve" {
			continue
		}
		steps[name] = work.Step{Beside: s.Beside, Do: func(ctx context.Context, t *work.Task) error {
			if x.mem.Same {
				return nil
			}
			return s.Do(ctx, t)
		}}
	}
	return steps
}
