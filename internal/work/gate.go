package work

import (
	"context"
	"errors"
	"fmt"

	"alibi/internal/inventory"
	"alibi/internal/plan"
)

// gate is given by a step that can't go on yet.
type gate struct{ plan.Gate }

func (g *gate) Error() string { return g.String() }

// Gate ends a step that can't go on before a person says so, or before a time: the
// run is paused there, with all that it has claimed, for as long as that takes. The
// step is done again then, and nil is given where the gate is open. A person opens it
// by resuming the run; cancelling the run takes it back as ever.
func (t *Task) Gate(g plan.Gate) error {
	t.mu.Lock()
	s := t.run.Steps[t.step]
	t.mu.Unlock()
	if s.Passed || g.Ask == "" && !t.q.opt.Now().Before(g.From) {
		return nil
	}
	g.Step = s.Name
	return &gate{g}
}

// pause leaves the run at a gate. One that opens by itself has a job queued for then.
func (t *Task) pause(g plan.Gate) error {
	t.change(func(r *plan.Run) { r.State, r.Gate = plan.Paused, &g })
	return t.q.opt.Record.In(context.WithoutCancel(t.ctx), func(tx *inventory.Tx) error {
		if err := tx.PutRun(t.ctx, t.Run()); err != nil {
			return err
		}
		if g.Ask != "" {
			return nil
		}
		return t.q.insertIn(t.ctx, tx, t.run.ID, g.From)
	})
}

// atGate gives the gate at which a step stopped.
func atGate(err error) (plan.Gate, bool) {
	var g *gate
	if errors.As(err, &g) {
		return g.Gate, true
	}
	return plan.Gate{}, false
}

// pass opens the gate at which a run is paused.
func pass(r *plan.Run) error {
	if r.Gate == nil || r.Gate.Ask == "" {
		return fmt.Errorf("run %s goes on by itself: %s; to stop it: alibi runs cancel %s", r.ID, r.Gate, r.ID)
	}
	for i := range r.Steps {
		if s := &r.Steps[i]; s.Name == r.Gate.Step {
			s.Passed = true
		}
	}
	r.Gate = nil
	return nil
}
