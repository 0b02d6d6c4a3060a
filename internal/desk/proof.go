package desk

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"

	"alibi/internal/baseline"
	"alibi/internal/evidence"
	"alibi/internal/op"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// proveInput is what evidence about a copy is gathered from.
func (d *core) proveInput(ctx context.Context, id site.ID) (evidence.Input, func(), error) {
	in := evidence.Input{Env: d.env}
	none := func() {}
	var err error
	if in.Copy, err = d.record.Site(ctx, id); err != nil {
		return in, none, err
	}
	if in.Copy.Role != site.Copy {
		return in, none, fmt.Errorf("%s is a live site: a copy is compared with its origin, so name a copy", in.Copy.Name)
	}
	if in.Copy.State == site.Failed {
		return in, none, fmt.Errorf("%s is not finished: run %s failed, and alibi runs %s says why and what "+
			"can be done", in.Copy.Name, in.Copy.Run, in.Copy.Run)
	}
	if in.Copy.Unproven() {
		return in, none, fmt.Errorf("%s answers and is being compared with its origin: run %s gathers its evidence; "+
			"wait for it: alibi runs %[2]s", in.Copy.Name, in.Copy.Run)
	}
	if in.Copy.Run != "" || in.Copy.State == site.Making {
		return in, none, fmt.Errorf("%s is not whole now (run %s)", in.Copy.Name, in.Copy.Run)
	}
	if in.Copy.Origin == "" {
		return in, none, fmt.Errorf("%s was %w: there is nothing to compare with", in.Copy.Name, ErrNoOrigin)
	}
	if in.Origin, err = d.record.Site(ctx, in.Copy.Origin); err != nil {
		return in, none, err
	}
	if in.Origin.State == site.Gone {
		return in, none, fmt.Errorf("the origin of %s is gone: there is nothing to compare with", in.Copy.Name)
	}
	if in.Origin.Facts == nil {
		if in.Origin, err = d.fleet.Inspect(ctx, in.Origin.ID); err != nil {
			return in, none, err
		}
	}
	c, err := d.choices(ctx, in.Copy)
	if err != nil {
		return in, none, err
	}
	in.Filter = stack.DatabaseFilter(in.Origin.Root, in.Origin.Database)
	runs, err := d.record.RunsOf(ctx, id)
	if err != nil {
		return in, none, err
	}
	for _, r := range runs {
		if r.Plan.Target.ID == id && r.State == plan.Done {
			if f, _, err := clone.ChoicesOf(r.Plan); err == nil && r.Plan.Kind.Brings() {
				in.Filter = f
				break
			}
		}
	}
	if in.Transform, err = d.env.Transform(in.Origin, in.Copy, c.Title); err != nil {
		return in, none, err
	}
	in.Filter = clone.Filter(in.Transform.Stack, in.Filter)
	in.Baseline, err = baseline.Open(filepath.Join(d.env.CopyDir(in.Copy.Name), "now", "baseline.db"))
	if err != nil {
		return in, none, err
	}
	return in, func() { in.Baseline.Close() }, nil
}

// Prove gathers evidence about a copy now. strict takes every difference for
// damage, as after making it.
func (d *Copies) Prove(
	ctx context.Context,
	id site.ID,
	strict bool,
	tell func(units, items int),
) (*evidence.Report, error) {
	in, done, err := d.proveInput(ctx, id)
	if err != nil {
		return nil, err
	}
	defer done()
	in.Fresh, in.Lived, in.Tell = strict, true, tell
	rep, err := evidence.Prove(ctx, in)
	if err != nil {
		return nil, err
	}
	if err := d.record.PutEvidence(ctx, id, rep.At, rep); err != nil {
		return nil, err
	}
	_, err = d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		s.Proof, s.Apart = rep.Proof(), rep.Apart
		if s.Facts != nil && rep.PHP != "" {
			s.Facts.PHP, s.Facts.PHPAsked = rep.PHP, true
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return rep, d.log(ctx, id, "evidence", "%s", rep.Summary())
}

// Apart counts what changed on either side since a copy and its origin parted.
func (d *Copies) Apart(ctx context.Context, id site.ID) (site.Apart, error) {
	in, done, err := d.proveInput(ctx, id)
	if err != nil {
		return site.Apart{}, err
	}
	defer done()
	in.CountOnly, in.Lived = true, true
	rep, err := evidence.Prove(ctx, in)
	if err != nil {
		return site.Apart{}, err
	}
	_, err = d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		s.Apart = rep.Apart
		return nil
	})
	return rep.Apart, err
}

// Reports gives the latest evidence about a copy, newest first.
func (d *Copies) Reports(ctx context.Context, id site.ID, limit int) ([]evidence.Report, error) {
	raw, err := d.record.Evidence(ctx, id, limit)
	if err != nil {
		return nil, err
	}
	out := make([]evidence.Report, len(raw))
	for i, b := range raw {
		if err := json.Unmarshal(b, &out[i]); err != nil {
			return nil, fmt.Errorf("reading evidence: %w", err)
		}
	}
	return out, nil
}

// Ask asks a copy for its first page and the pages that it leads to, as a visitor does.
func (d *Copies) Ask(ctx context.Context, s site.Site) (op.Answer, error) { return d.env.Probe(ctx, s) }
