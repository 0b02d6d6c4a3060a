package work

import (
	"cmp"
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
	p, d := r.Plan, q.kinds[r.Plan.Kind]
	if d == nil {
		return fmt.Errorf("%w: this one does not know what %q is", ErrOtherVersion, p.Kind)
	}
	target := p.Target
	known := true
	if !d.Makes && target.ID != "" {
		now, err := tx.Site(ctx, target.ID)
		if known = !errors.Is(err, inventory.ErrUnknown); known && err != nil {
			return err
		}
		if known {
			target = now
		}
	}
	if must := d.consent(p, target); must != "" && typed != must {
		return fmt.Errorf("%w: %s is written over by this, and its name must be typed: %s", ErrNoConsent, must, must)
	}
	if d.Makes {
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
	d := q.kinds[r.Plan.Kind]
	for _, c := range d.claims(r.Plan) {
		if err := tx.Claim(ctx, r.ID, c, r.Plan.After); err != nil {
			return err
		}
		if !c.Alone || !known {
			continue
		}
		s, err := tx.Site(ctx, c.Site)
		if errors.Is(err, inventory.ErrUnknown) && d != nil && d.Makes {
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

// leave ends a run: what it had is given back, and its site's history says what became
// of it. keeps has one that failed half-way keep its site: only it can bring that in order.
func (q *Queue) leave(ctx context.Context, r plan.Run, keeps bool) error {
	d := q.kinds[r.Plan.Kind]
	return q.opt.Record.In(ctx, func(tx *inventory.Tx) error {
		if err := q.tell(ctx, tx, r, d); err != nil {
			return err
		}
		if r.State == plan.Stopped && keeps {
			return tx.PutRun(ctx, r)
		}
		for _, c := range d.claims(r.Plan) {
			if !c.Alone {
				continue
			}
			if err := free(ctx, tx, c.Site, r, d != nil && d.Makes); err != nil {
				return err
			}
		}
		if err := tx.Release(ctx, r.ID); err != nil {
			return err
		}
		return tx.PutRun(ctx, r)
	})
}

// free lets go of a site that a run had for itself. One that was not finished is
// failed, and names the run that can finish it.
func free(ctx context.Context, tx *inventory.Tx, id site.ID, r plan.Run, makes bool) error {
	s, err := tx.Site(ctx, id)
	switch {
	case errors.Is(err, inventory.ErrUnknown):
		return nil
	case err != nil:
		return err
	case s.Run != r.ID, s.State == site.Failed:
		return nil
	case r.State == plan.Stopped && makes:
		s.State = site.Failed
	default:
		s.Run = ""
	}
	return tx.PutSite(ctx, s)
}

// tell writes into the history of a run's site what became of the run.
func (q *Queue) tell(ctx context.Context, tx *inventory.Tx, r plan.Run, d *Definition) error {
	text := cmp.Or(r.Entry, r.Result)
	switch {
	case r.Error != "":
		text = "failed: " + r.Error
	case r.State == plan.Cancelled:
		text = "cancelled, and taken back"
	}
	if text == "" {
		return nil
	}
	return tx.Log(ctx, inventory.Event{
		At: q.opt.Now(), Who: r.By, Site: d.about(r.Plan), Kind: string(r.Plan.Kind), Text: text,
	})
}

// superseded tells whether another run has had a run's site for itself since.
func (q *Queue) superseded(ctx context.Context, tx *inventory.Tx, r plan.Run) (bool, error) {
	for _, c := range q.kinds[r.Plan.Kind].claims(r.Plan) {
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
