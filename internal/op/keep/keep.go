// Package keep takes restore points of sites. A site is only read; everything
// that is equal to what an earlier point holds is taken over from there.
package keep

import (
	"context"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"alibi/internal/depot"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/work"
)

// Choices of a restore point.
type Choices struct {
	Kind depot.Kind `json:"kind"`
	Name string     `json:"name,omitempty"`
	Why  string     `json:"why,omitempty"`
	// Fresh has every file read, also those whose size and time are what they were at the last point.
	Fresh bool `json:"fresh,omitempty"`
}

// Input is what a plan is made of.
type Input struct {
	Site    site.Site // with its facts
	Choices Choices
	Depot   string // where it is, for people
	Last    *depot.Point
	Free    int64 // on the depot's disk; 0: unknown
	Quota   site.Quota
	Use     site.DepotUse
	Now     time.Time
}

// Plan says what taking a restore point will do.
func Plan(in Input) plan.Plan {
	f := in.Site.Facts
	p := plan.Plan{
		Kind:   plan.Keep,
		At:     in.Now,
		Origin: in.Site,
		Files:  f.Files,
		Bytes:  f.Bytes,
		Rows:   f.Rows,
		Tables: len(f.Tables),
		Data:   f.TableBytes,
	}
	p.SetDetail(in.Choices)
	p.Steps = []plan.Step{
		{Name: "keep", Title: "keep files and tables", Work: f.Bytes + f.TableBytes, Unit: plan.Bytes},
	}
	p.Writes = []string{"nothing on the site", "the depot, " + in.Depot}
	switch {
	case in.Site.Run != "":
		p.Findings = append(
			p.Findings,
			site.Finding{
				Severity: site.Block,
				Code:     "busy",
				Text:     "a run (" + in.Site.Run + ") is at work on " + in.Site.Name,
				Remedy:   "wait for it or cancel it",
			},
		)
	case in.Site.State != site.Ready && in.Site.State != site.Parked && in.Site.State != site.Expired:
		why, first := in.Site.Unready()
		p.Findings = append(p.Findings, site.Finding{Severity: site.Block, Code: "state", Text: why, Remedy: first})
	}
	if in.Site.Relay != "" {
		p.Findings = append(p.Findings, site.Finding{Severity: site.Note, Code: "moments",
			Text:   "its tables are read through a relay, no two of them at one moment",
			Remedy: "take it when nobody writes to them"})
	}
	if f := in.Quota.CheckPoint(in.Use); f != nil {
		p.Findings = append(p.Findings, *f)
	}
	if in.Last != nil {
		p.Findings = append(
			p.Findings,
			site.Finding{
				Severity: site.Note,
				Code:     "shared",
				Text: "what did not change since the restore point of " + in.Last.Taken.Format("2 Jan 15:04") +
					" is not kept twice",
			},
		)
	}
	if in.Free > 0 {
		p.FreeThen = in.Free - p.Bytes - p.Data
		if in.Last == nil && p.FreeThen < 0 {
			p.Findings = append(
				p.Findings,
				site.Finding{
					Severity: site.Warn,
					Code:     "disk",
					Text: fmt.Sprintf("the site has %s, and the depot's disk has %s", site.Size(p.Bytes+p.Data),
						site.Size(in.Free)),
					Remedy: "compressed it may fit; else make room, or name another folder for the depot",
				},
			)
		}
	}
	p.Origin.Facts = nil
	p.Target = p.Origin
	p.Sort()
	return p
}

type runner struct {
	env *op.Env
	p   plan.Plan
	c   Choices
}

// Operation is that of taking a restore point.
func Operation(env *op.Env) work.Definition {
	return work.Definition{
		Kind:   plan.Keep,
		Claims: plan.Plan.FromOrigin,
		Begin: work.Begin(func(r plan.Run, c Choices) *work.Operation {
			x := &runner{env: env, p: r.Plan, c: c}
			return &work.Operation{Steps: work.Each(map[string]work.Do{"keep": x.keep})}
		}),
	}
}

// Before takes a restore point of a site as a step of a run that will write over
// it.
func Before(env *op.Env) func(ctx context.Context, t *work.Task, s site.Site, why string) error {
	return func(ctx context.Context, t *work.Task, s site.Site, why string) error {
		x := &runner{env: env, p: plan.Plan{Origin: s}, c: Choices{Kind: depot.BeforeOp, Why: why}}
		p, err := x.point(ctx, t)
		if err != nil {
			return fmt.Errorf("taking a restore point first: %w", err)
		}
		t.Note("restore point %s; the depot grew by %s", p.ID, site.Size(p.Added))
		return env.Log(ctx, p.By, s.ID, plan.Keep, "restore point %s taken, %s", p.ID, why)
	}
}

// keep takes the point. What a broken-off try stored is found again.
func (x *runner) keep(ctx context.Context, t *work.Task) error {
	p, err := x.point(ctx, t)
	if err != nil {
		return err
	}
	t.Entry("restore point %s taken", p.ID)
	t.Result("restore point %s: %s files, %s rows, %s; the depot grew by %s", p.ID, site.Number(p.Files),
		site.Number(p.Rows), site.Size(p.Bytes), site.Size(p.Added))
	return nil
}

// point gives the run's restore point, and takes it if it has none.
func (x *runner) point(ctx context.Context, t *work.Task) (depot.Point, error) {
	d, err := x.env.Depot(ctx)
	if err != nil {
		return depot.Point{}, err
	}
	list, _, err := d.Points(ctx)
	if err != nil {
		return depot.Point{}, err
	}
	if i := slices.IndexFunc(list, func(p depot.Point) bool { return p.Run == t.Run().ID }); i >= 0 {
		return list[i], nil // it was sealed, and then the process died
	}
	k := &keeping{runner: x, t: t, d: d}
	if i := slices.IndexFunc(list, func(p depot.Point) bool { return p.Site.ID == x.p.Origin.ID }); i >= 0 {
		k.last = &list[i]
	}
	return k.take(ctx)
}

// keeping is a point that is being taken.
type keeping struct {
	*runner
	t    *work.Task
	d    *depot.Depot
	to   *depot.Taking
	last *depot.Point // the site's newest; nil: none
}

func (k *keeping) take(ctx context.Context) (depot.Point, error) {
	s, err := k.env.Record.Site(ctx, k.p.Origin.ID)
	if err != nil {
		return depot.Point{}, err
	}
	place, err := k.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return depot.Point{}, err
	}
	defer place.Root.Close()
	if k.to, err = k.d.Take(ctx); err != nil {
		return depot.Point{}, err
	}
	defer k.to.Close()
	p := depot.Point{
		Site:  s,
		Run:   k.t.Run().ID,
		Taken: k.env.Now(),
		By:    k.t.Run().By,
		Kind:  k.c.Kind,
		Name:  k.c.Name,
		Why:   k.c.Why,
	}
	var rows, bytes int64
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() error { return k.files(gctx, place, s, &p) })
	g.Go(func() error { return k.tables(gctx, place, s, &p) })
	if err := g.Wait(); err != nil {
		return p, err
	}
	for _, t := range p.Tables {
		rows, bytes = rows+t.Rows, bytes+t.Bytes
	}
	p.Rows, p.Bytes = rows, p.Bytes+bytes
	return k.to.Seal(p)
}
