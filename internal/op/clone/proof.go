package clone

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"alibi/internal/evidence"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/work"
)

// proven gathers evidence. A new copy whose data hold and whose code does not run stands all the
// same, and says so: whatever could mend it works on it. So does any that a person lets stand.
func (x *runner) proven(ctx context.Context, t *work.Task) error {
	err := x.evidence(ctx, t)
	var not *NotProven
	if !errors.As(err, &not) {
		return err
	}
	if stands := not.Stands && x.p.Kind == plan.Copy || not.Harmless && x.accepted; !stands {
		return err
	}
	t.Result("the copy stands and can be worked on, and its evidence does not hold: %s", not.First)
	return nil
}

// evidence proves the copy; if it does not hold the run fails.
func (x *runner) evidence(ctx context.Context, t *work.Task) error {
	in, done, err := x.input(t)
	if err != nil {
		return err
	}
	defer done()
	// Once the site was visited it may have written to itself: what was compared
	// before that is not compared again.
	compared := x.mem.Compared
	if compared == nil {
		if compared, err = evidence.Compare(ctx, in); err != nil {
			return fmt.Errorf("gathering evidence: %w", err)
		}
		holds := compared.Proof().Holds
		if holds {
			if err := x.noteFound(ctx, in, compared.Found()); err != nil {
				return err
			}
		}
		if holds || x.moment != nil { // what it was at that moment can't be seen again
			t.Memorize(func() { x.mem.Compared = compared })
		}
		if err := t.Remember(); err != nil {
			return err
		}
	}
	rep := *compared
	rep.Checks = slices.Clone(rep.Checks)
	if x.mem.Answers != nil {
		rep.Add(*x.mem.Answers)
		err = evidence.Browse(ctx, in, &rep)
	} else {
		err = evidence.Visit(ctx, in, &rep)
	}
	if err != nil {
		return err
	}
	if err := x.judge(ctx, rep); err != nil {
		return err
	}
	t.Result("%s", rep.Summary()+site.Either(!rep.Fresh, "; the run was broken off after the copy had answered: what is "+
		"told as changed on it since can't be told from damage", ""))
	return nil
}

// judge keeps a report as the copy's evidence, and fails where it does not hold.
func (x *runner) judge(ctx context.Context, rep evidence.Report) error {
	if err := x.env.Record.PutEvidence(ctx, x.p.Target.ID, rep.At, rep); err != nil {
		return err
	}
	if err := x.noteProof(ctx, rep); err != nil {
		return err
	}
	for _, c := range rep.Checks {
		if c.Verdict == evidence.Broken {
			return &NotProven{
				Copy:     x.p.Target.Name,
				Summary:  rep.Summary(),
				First:    first(c),
				Stands:   rep.Stands(),
				Harmless: rep.Harmless(),
				Answered: x.mem.Answers != nil,
			}
		}
	}
	return nil
}

func (x *runner) noteProof(ctx context.Context, rep evidence.Report) error {
	_, err := x.env.Record.ChangeSite(ctx, x.p.Target.ID, func(s *site.Site) error {
		s.Proof, s.Apart = rep.Proof(), site.Apart{At: rep.At}
		return nil
	})
	return err
}

// first says what does not hold, with the first place.
func first(c evidence.Check) string {
	s := c.Title + ": " + c.Text
	if len(c.Where) > 0 {
		s += ", " + c.Where[0]
	}
	return s
}

// NotProven says that a copy is not what it should be.
type NotProven struct {
	Copy, Summary, First string
	Stands               bool // only its code does not run; see evidence.Report.Stands
	Harmless             bool // it can hurt nobody
	Answered             bool // people may have worked on it
}

// Acceptable tells whether a person may let the copy stand as it is.
func (e *NotProven) Acceptable() bool { return e.Harmless }

func (e *NotProven) Error() string {
	return fmt.Sprintf("the copy %s is not what it should be: %s (%s)", e.Copy, e.Summary, e.First) +
		site.Either(e.Answered, "; it does not answer any more, and what was done on it since it did is kept until the "+
			"run is cancelled", "")
}
