package work

import (
	"context"

	"alibi/internal/plan"
	"alibi/internal/site"
)

// Definition says what an operation is, as data. It is all that the queue knows of
// one: which sites a run needs, what a person has to agree to, what a failure leaves.
type Definition struct {
	Kind plan.Kind
	// Version is that of the operation's steps and of its plan's detail. A run that was
	// planned by another version is not carried out.
	Version int
	// Claims names the sites that a run needs while it is carried out; nil: none.
	Claims func(plan.Plan) []plan.Claim
	// Consent is the name that a person has to type before the plan may be carried out,
	// "" if none; target is the site that is written to, as the record has it now. nil:
	// nothing has to be typed.
	Consent func(p plan.Plan, target site.Site) string
	// Makes says that the operation makes its target, which gets its place in the record
	// when the run is queued, and is failed while the run is.
	Makes bool
	// TakesBack has a failure undone at once: then there is nothing to resume.
	TakesBack bool
	// Forward has the operation go on to its end once a step has begun, whatever is
	// asked: what is half done can't be taken back.
	Forward bool
	// About is the site in whose history the run stands; nil: the target.
	About func(plan.Plan) site.ID
	// Begin gives what carries out a run.
	Begin func(ctx context.Context, r plan.Run) (*Operation, error)
}

// Operation carries out one run.
type Operation struct {
	// Steps are what the steps of the plan do, by their names.
	Steps Steps
	// Undo brings back the state before the run, from wherever it stands; nil: nothing
	// is to be brought back.
	Undo func(ctx context.Context) error
	// Memory is what the steps remember between tries; it is kept as JSON.
	Memory any
	// Close lets go of what steps hold for later ones, whenever work on the run ends; nil: nothing is held.
	Close func()
}

// Steps are what the steps of a plan do, by their names.
type Steps map[string]Step

// Step is one step of an operation. Do can be called again after it was broken
// off anywhere, and then ends in the same state.
type Step struct {
	Do     Do
	Beside bool // may run beside the step before it
}

// Do does one step.
type Do func(ctx context.Context, t *Task) error

// Each makes steps of which each waits for the one before it.
func Each(do map[string]Do) Steps {
	out := Steps{}
	for name, d := range do {
		out[name] = Step{Do: d}
	}
	return out
}

// Begin makes of a function that takes a run's choices, as the operation has them
// written in its plans, one that begins any run.
func Begin[D any](begin func(r plan.Run, choices D) *Operation) func(context.Context, plan.Run) (*Operation, error) {
	return func(_ context.Context, r plan.Run) (*Operation, error) {
		choices, err := plan.DetailOf[D](r.Plan)
		if err != nil {
			return nil, err
		}
		return begin(r, choices), nil
	}
}

func (d *Definition) claims(p plan.Plan) []plan.Claim {
	if d == nil || d.Claims == nil {
		return nil
	}
	return d.Claims(p)
}

func (d *Definition) consent(p plan.Plan, target site.Site) string {
	if d.Consent == nil {
		return ""
	}
	return d.Consent(p, target)
}

func (d *Definition) about(p plan.Plan) site.ID {
	if d == nil || d.About == nil {
		return p.Target.ID
	}
	return d.About(p)
}
