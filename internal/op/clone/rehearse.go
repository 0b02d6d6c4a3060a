package clone

import (
	"context"
	"errors"
	"fmt"

	"alibi/internal/depot"
	"alibi/internal/depot/kept"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/work"
)

// Rehearse makes of the plan of a copy of a restore point that of a rehearsal:
// the copy is compared with the point and removed again.
func Rehearse(p plan.Plan) plan.Plan {
	p.Kind = plan.Rehearse
	steps := p.Steps[:0:0]
	for _, s := range p.Steps {
		if s.Name != "open" { // nobody is to visit it
			steps = append(steps, s)
		}
	}
	p.Steps = append(steps, plan.Step{Name: "clear", Title: "remove it again"})
	return p
}

// NewRehearsal makes the operation of a rehearsal's run.
func NewRehearsal(env *op.Env, r plan.Run) (*work.Operation, error) {
	id, ok := kept.IsHost(r.Plan.Origin.Host)
	if !ok {
		return nil, fmt.Errorf("run %s rehearses no restore point", r.ID)
	}
	r.Plan.Kind = plan.Copy
	made, err := newRunner(env, r)
	if err != nil {
		return nil, err
	}
	o := made.operation()
	x := &rehearsal{env: env, p: r.Plan, point: id}
	var steps []work.Step
	for _, s := range o.Steps {
		switch s.Name {
		case "open":
			continue
		case "evidence":
			s.Do = x.judge(made.settled(made.evidence))
		}
		steps = append(steps, s)
	}
	o.Steps = append(steps, work.Step{Name: "clear", Do: x.clear})
	return o, nil
}

type rehearsal struct {
	env   *op.Env
	p     plan.Plan
	point string
}

// judge records what the evidence says. That it does not hold is what came out,
// not a failure of the run.
func (x *rehearsal) judge(gather func(context.Context, *work.Task) error) func(context.Context, *work.Task) error {
	return func(ctx context.Context, t *work.Task) error {
		err := gather(ctx, t)
		var not *NotProven
		if err != nil && !errors.As(err, &not) {
			return err
		}
		p := depot.Proof{At: x.env.Now(), Holds: err == nil, Text: t.Run().Result}
		if err != nil {
			p.Text = not.Summary + " (" + not.First + ")"
			t.Result("%s", p.Text)
		}
		d, err := x.env.Depot(ctx)
		if err != nil {
			return err
		}
		return d.PutProof(ctx, x.point, p)
	}
}

// clear removes the copy.
func (x *rehearsal) clear(ctx context.Context, _ *work.Task) error {
	if err := x.env.Erase(ctx, x.p.Target.ID, x.p.Target.Name); err != nil {
		return err
	}
	d, err := x.env.Depot(ctx)
	if err != nil {
		return err
	}
	p, err := d.Proof(ctx, x.point)
	if err != nil {
		return err
	}
	verdict := "it restores"
	if !p.Holds {
		verdict = "it does not restore"
	}
	return x.env.Record.Log(
		ctx,
		inventory.Event{
			At:   x.env.Now(),
			Who:  x.p.Target.Owner,
			Site: x.p.Origin.ID,
			Kind: string(plan.Rehearse),
			Text: fmt.Sprintf("restore point %s rehearsed: %s; %s", x.point, verdict, p.Text),
		},
	)
}
