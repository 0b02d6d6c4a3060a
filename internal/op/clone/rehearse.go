package clone

import (
	"context"
	"errors"
	"fmt"

	"alibi/internal/depot"
	"alibi/internal/depot/pointhost"
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
		if s.Name != "open" && s.Name != "settle" { // nobody is to visit it
			steps = append(steps, s)
		}
	}
	p.Steps = append(steps, plan.Step{Name: "clear", Title: "remove it again"})
	return p
}

// rehearse is the copy's operation with other ends.
func rehearse(env *op.Env, r plan.Run) (*work.Operation, error) {
	point, ok := pointhost.IsHost(r.Plan.Origin.Host)
	if !ok {
		return nil, fmt.Errorf("run %s rehearses no restore point; cancel it, and plan it again", r.ID)
	}
	d, err := plan.DetailOf[detail](r.Plan)
	if err != nil {
		return nil, err
	}
	r.Plan.Kind = plan.Copy
	made := newRunner(env, r, d)
	o := made.operation()
	x := &rehearsal{env: env, p: r.Plan, point: point}
	o.Steps["evidence"] = work.Step{Do: x.judge(made.settled(made.evidence))}
	o.Steps["clear"] = work.Step{Do: x.clear}
	return o, nil
}

type rehearsal struct {
	env   *op.Env
	p     plan.Plan
	point string
}

// judge records what the evidence says. That it does not hold is what came out,
// not a failure of the run.
func (x *rehearsal) judge(gather work.Do) work.Do {
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
func (x *rehearsal) clear(ctx context.Context, t *work.Task) error {
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
	t.Entry("restore point %s rehearsed: %s; %s", x.point, verdict, p.Text)
	return nil
}
