package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"

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
		return fmt.Errorf("%w: this one does not know what %q is; nothing was queued, plan it again", ErrOtherVersion,
			p.Kind)
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

// Alone does something short to a site at once that nobody else writes to then; runs that
// read it go on. What it does is no part of the site's content.
func (q *Queue) Alone(ctx context.Context, s site.Site, do func(claim string) error) (err error) {
	if q.client == nil {
		return inventory.ErrReadOnly
	}
	claim := fmt.Sprintf("%s%d-%s", plan.ByHand, os.Getpid(), newID())
	rec := q.opt.Record
	take := func(tx *inventory.Tx) error {
		return tx.Claim(ctx, claim, plan.Claim{Site: s.ID, Name: s.Name, Alone: true, Read: true}, "")
	}
	if err := rec.In(ctx, take); err != nil {
		return err
	}
	defer func() {
		ctx := context.WithoutCancel(ctx)
		release := func(tx *inventory.Tx) error { return tx.Release(ctx, claim) }
		err = errors.Join(err, rec.In(ctx, release))
	}()
	return do(claim)
}

// clear gives back what processes have claimed by hand that died meanwhile.
func (q *Queue) clear(ctx context.Context) error {
	return q.opt.Record.In(ctx, func(tx *inventory.Tx) error {
		claims, err := tx.Claimants(ctx, plan.ByHand)
		if err != nil {
			return err
		}
		for _, c := range claims {
			pid, _, _ := strings.Cut(strings.TrimPrefix(c, plan.ByHand), "-")
			if n, err := strconv.Atoi(pid); err == nil && !errors.Is(syscall.Kill(n, 0), syscall.ESRCH) {
				continue
			}
			if err := tx.Release(ctx, c); err != nil {
				return err
			}
		}
		return nil
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
