package cli

import (
	"context"
	"fmt"
	"time"

	"alibi/internal/demo"
	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// headless does the whole way once: inspect, plan, copy, evidence, open,
// expire, and prints each stage with its figures.
func (a *app) headless(ctx context.Context, w *demo.World, d *desk.Desk, spoil string) error {
	stage := func(name string) { fmt.Fprintf(a.out, "\n== %s\n", name) }
	began := time.Now()
	if err := w.Settle(ctx, d); err != nil {
		return err
	}
	stage("inspect")
	origin, err := d.Fleet.Find(ctx, "skerryline.example")
	if err != nil {
		return err
	}
	if origin, err = d.Fleet.Inspect(ctx, origin.ID); err != nil {
		return err
	}
	printSite(a.out, origin)
	stage("plan")
	c, err := d.Copies.CopyDefaults(ctx, origin, "summer fares")
	if err != nil {
		return err
	}
	p, err := d.Copies.PlanCopy(ctx, origin.ID, c)
	if err != nil {
		return err
	}
	printPlan(a.out, p)
	return a.kept(ctx, d, func() error {
		stage("copy")
		r, err := d.Runs.StartTyped(ctx, p, p.Confirm)
		if err != nil {
			return err
		}
		if err := a.follow(ctx, d, r.ID); err != nil {
			return err
		}
		return a.headlessRest(ctx, w, d, r, spoil, stage, began)
	})
}

// headlessRest is the way from a finished copy to its end.
func (a *app) headlessRest(
	ctx context.Context,
	w *demo.World,
	d *desk.Desk,
	r plan.Run,
	spoil string,
	stage func(string),
	began time.Time,
) error {
	s, err := d.Fleet.Site(ctx, r.Plan.Target.ID)
	if err != nil {
		return err
	}
	if spoil != "" {
		stage("spoil: " + spoil)
		if err := w.Spoil(spoil, s); err != nil {
			return err
		}
		fmt.Fprintln(a.out, "the copy was damaged on purpose")
	}
	stage("evidence")
	rep, err := d.Copies.Prove(ctx, s.ID, true, nil)
	if err != nil {
		return err
	}
	if err := a.report(rep); err != nil {
		return err
	}
	stage("open")
	ans, err := d.Copies.Ask(ctx, s)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s/ answers %d with %d bytes: %q, and %s more\n", s.Address(), ans.Status, ans.Bytes, ans.Title,
		ans.Further())
	stage("expire")
	if s, err = d.Copies.Expire(ctx, s.ID, s.Name); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s: %s\n", s.Name, s.LeaseText(d.Now()))
	if ans, err = d.Copies.Ask(ctx, s); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s/ answers %d now\n", s.Address(), ans.Status)
	if p, err := d.Copies.PlanRemove(ctx, s.ID); err != nil {
		return err
	} else if r, err = d.Runs.StartTyped(ctx, p, p.Confirm); err != nil {
		return err
	}
	if err := a.follow(ctx, d, r.ID); err != nil {
		return err
	}
	left, err := d.Fleet.Leftovers(ctx)
	if err != nil {
		return err
	}
	if len(left) > 0 {
		return fmt.Errorf("%d things are left over: %s", len(left), left[0].Path)
	}
	fmt.Fprintf(a.out, "nothing is left over; the whole way took %s\n", site.Seconds(time.Since(began)))
	return nil
}
