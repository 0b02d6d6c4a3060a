package desk

import (
	"context"
	"time"

	"alibi/internal/plan"
)

// Start puts a plan to work for which nothing has to be typed.
func (d *Runs) Start(ctx context.Context, p plan.Plan) (plan.Run, error) {
	return d.StartTyped(ctx, p, "")
}

// StartTyped puts a plan to work; typed is the name that a person typed for it.
// Whether one must be typed is decided where the plan is queued.
func (d *Runs) StartTyped(ctx context.Context, p plan.Plan, typed string) (plan.Run, error) {
	if p.Blocked() {
		return plan.Run{}, Obstacle(p)
	}
	return d.queue.Add(ctx, p, d.who, typed)
}

// Run finds a run by its ID or the beginning of it.
func (d *Runs) Run(ctx context.Context, id string) (plan.Run, error) { return d.record.Run(ctx, id) }

// Latest lists the latest runs, newest first; all of them if limit is 0.
func (d *Runs) Latest(ctx context.Context, limit int) ([]plan.Run, error) {
	return d.record.Runs(ctx, limit)
}

// Resume takes up a run that failed, or opens the gate at which it is paused.
func (d *Runs) Resume(ctx context.Context, id string) (plan.Run, error) {
	return d.queue.Resume(ctx, id)
}

// Accept takes up a run that only its proof stopped, and lets what it made stand as it is.
func (d *Runs) Accept(ctx context.Context, id string) (plan.Run, error) {
	return d.queue.Accept(ctx, id)
}

// Cancel asks that a run stop and be undone, whichever process works on it. A run that failed is
// undone by the same.
func (d *Runs) Cancel(ctx context.Context, id string) error { return d.queue.Cancel(ctx, id) }

// Await waits until a run is over, or waits for a person itself, telling of each look at it.
func (d *Runs) Await(ctx context.Context, id string, look func(plan.Run)) (plan.Run, error) {
	for {
		r, err := d.record.Run(ctx, id)
		if err != nil {
			return r, err
		}
		if look != nil {
			look(r)
		}
		if r.State.Over() || r.State == plan.Paused && r.Gate.Ask != "" {
			return r, nil
		}
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
