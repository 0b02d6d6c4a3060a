package carry

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"alibi/internal/baseline"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/tree"
)

// InOrder puts two copies of one origin in the order in which they are a pair: the first one stands for the live site.
func InOrder(a, b site.Site) (first, second site.Site) {
	if b.ID < a.ID {
		return b, a
	}
	return a, b
}

// OpenBeside opens two copies of one origin, in order. What they have in common is worked out from what each had in
// common with that when it was made, and kept. filter is what of the first one's files is no content.
func OpenBeside(ctx context.Context, env *op.Env, first, second site.Site, filter tree.Filter) (*Sides, error) {
	for _, s := range []site.Site{first, second} {
		if s.Database.Beside() {
			return nil, fmt.Errorf("%w: the tables of %s stand in its origin's own database", ErrNoDrift, s.Name)
		}
	}
	switch {
	case first.Origin != second.Origin || first.Origin == "":
		return nil, fmt.Errorf("%w: %s and %s are no copies of one site", ErrNoDrift, first.Name, second.Name)
	case first.Scrubbed != second.Scrubbed:
		return nil, fmt.Errorf("%w: the people of one of %s and %s are made up, and those of the other are not", ErrNoDrift,
			first.Name, second.Name)
	}
	path := filepath.Join(env.CopyDir(second.Name), "with-"+string(first.ID)+".db")
	if err := join(ctx, env, path, first, second); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoDrift, err)
	}
	s := &Sides{env: env, LiveSite: first, CopySite: second, base: path, beside: true}
	if err := s.open(ctx, true, filter); err != nil {
		return nil, err
	}
	return s, nil
}

// join makes the common state of two copies, unless it is there, of the states that these have now.
func join(ctx context.Context, env *op.Env, path string, first, second site.Site) error {
	var bases [2]*baseline.Baseline
	var taken [2]time.Time
	for i, s := range []site.Site{first, second} {
		b, err := baseline.Open(filepath.Join(env.CopyDir(s.Name), "now", "baseline.db"))
		if err != nil {
			return err
		}
		defer b.Close()
		m, err := b.Meta(ctx)
		if err != nil {
			return err
		}
		bases[i], taken[i] = b, m.At
	}
	want, err := baseline.JoinedOf(ctx, bases[0], bases[1])
	if err != nil {
		return err
	}
	if b, err := baseline.Open(path); err == nil {
		is, err := b.Meta(ctx)
		if err := errors.Join(err, b.Close()); err == nil && is.Stamp == want.Stamp {
			return nil
		}
	}
	older := baseline.FirstOlder
	earlier, later := first, taken[1]
	if taken[1].Before(taken[0]) {
		older, earlier, later = baseline.SecondOlder, second, taken[0]
	}
	runs, err := env.Record.RunsOf(ctx, earlier.ID)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(runs, func(r plan.Run) bool { return r.Plan.Kind == plan.Sync && r.Began.After(later) }) {
		older = baseline.NotKnown // it may have got later versions of something
	}
	return baseline.Join(ctx, path, bases[0], bases[1], older)
}

// called is what a side is called.
func (s *Sides) called(side Side) string {
	switch {
	case s.beside && side == Live:
		return s.LiveSite.Name
	case s.beside:
		return s.CopySite.Name
	}
	return site.Either(side == Live, "the live site", "the copy")
}

// word is how commands name a side.
func (s *Sides) word(side Side) string { return site.Either(s.beside, s.called(side), string(side)) }

// named is how commands name both.
func (s *Sides) named() string {
	return s.CopySite.Name + site.Either(s.beside, " --with "+s.LiveSite.Name, "")
}

// versions are what people read beside the three versions of a place.
func (s *Sides) versions() [3]string {
	return [3]string{"on " + s.called(Live), "as both had it", "on " + s.called(Copy)}
}

// stands says whose version of an item stands.
func (s *Sides) stands(side Side) string { return s.called(side) + "'s is to stand" }

// besides is the first of two copies of one origin; "": they are a copy and its origin.
func (s *Sides) besides() site.ID { return site.Either(s.beside, s.LiveSite.ID, "") }
