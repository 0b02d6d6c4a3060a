package work

import (
	"context"
	"errors"
	"fmt"

	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// ErrNoConsent is given where a plan may only be carried out once a name was typed.
var ErrNoConsent = errors.New("nothing was done")

// ErrNameTaken is given where a site is to be made under a name that another has.
var ErrNameTaken = errors.New("the name is in use")

// ErrSuperseded is given for a run that can't go on, since another one has been
// at work on its site.
var ErrSuperseded = errors.New("it can't go on")

// enter takes all that a run needs, in the transaction that queues it: what has
// to be typed is there, the name of what it makes is nobody else's, and the sites
// that it needs are free.
func (q *Queue) enter(ctx context.Context, tx *inventory.Tx, r plan.Run, typed string) error {
	p := r.Plan
	target := p.Target
	known := true
	if !p.Makes() && target.ID != "" {
		now, err := tx.Site(ctx, target.ID)
		if known = !errors.Is(err, inventory.ErrUnknown); known && err != nil {
			return err
		}
		if known {
			target = now
		}
	}
	if must := p.Consent(target); must != "" && typed != must {
		return fmt.Errorf("%w: %s is written over by this, and its name must be typed: %s", ErrNoConsent, must, must)
	}
	if p.Makes() {
		taken, err := tx.Named(ctx, p.Target.Name, p.Target.ID)
		if err != nil {
			return err
		}
		if taken {
			return fmt.Errorf("%w: another site is called %s", ErrNameTaken, p.Target.Name)
		}
	}
	return q.take(ctx, tx, r, known)
}

// take claims the sites that a run needs, and notes with each that it has for
// itself which run that is.
func (q *Queue) take(ctx context.Context, tx *inventory.Tx, r plan.Run, known bool) error {
	for _, c := range r.Plan.Claims() {
		if err := tx.Claim(ctx, r.ID, c, r.Plan.After); err != nil {
			return err
		}
		if !c.Alone || !known {
			continue
		}
		s, err := tx.Site(ctx, c.Site)
		if errors.Is(err, inventory.ErrUnknown) && r.Plan.Makes() {
			s, err = r.Plan.Target, nil
			s.State = site.Making
		}
		if errors.Is(err, inventory.ErrUnknown) {
			continue // it is made by the run, and nobody is shown it
		}
		if err != nil {
			return err
		}
		s.Run, s.Worked = r.ID, r.ID
		if err := tx.PutSite(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// leave gives back what a run had. One that failed half-way keeps its site if
// only it can bring that in order.
func (q *Queue) leave(ctx context.Context, r plan.Run, keeps bool) error {
	return q.opt.Record.In(ctx, func(tx *inventory.Tx) error {
		if r.State == plan.Stopped && keeps {
			return tx.PutRun(ctx, r)
		}
		for _, c := range r.Plan.Claims() {
			if !c.Alone {
				continue
			}
			s, err := tx.Site(ctx, c.Site)
			if errors.Is(err, inventory.ErrUnknown) {
				continue
			}
			if err != nil {
				return err
			}
			// A copy that was not finished names the run that can finish it.
			if s.Run == r.ID && s.State != site.Failed {
				s.Run = ""
				if err := tx.PutSite(ctx, s); err != nil {
					return err
				}
			}
		}
		if err := tx.Release(ctx, r.ID); err != nil {
			return err
		}
		return tx.PutRun(ctx, r)
	})
}

// superseded tells whether another run has had a run's site for itself since.
func superseded(ctx context.Context, tx *inventory.Tx, r plan.Run) (bool, error) {
	for _, c := range r.Plan.Claims() {
		if !c.Alone {
			continue
		}
		s, err := tx.Site(ctx, c.Site)
		if errors.Is(err, inventory.ErrUnknown) {
			continue
		}
		if err != nil || s.Worked != "" && s.Worked != r.ID {
			return err == nil, err
		}
	}
	return false, nil
}
