package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"alibi/internal/catalogue"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// TrialWish is what a person wants to be tried.
type TrialWish struct {
	Cores    []string // versions; "own" is the copy's
	Runtimes []string // series of PHP; "all" is every one that there is
	Sets     []SetWish
	Check    trial.Check
	Cause    bool // search for what makes the check fail, rather than try a grid
	AtOnce   int  // 0: as the configuration says
}

// SetWish is a set of components.
type SetWish struct {
	Name string
	Put  []site.Source // activated, where they are plugins
	On   []string      // plugins, by slug
	Off  []string
}

// series lists the PHP that this machine has.
func (d *core) series() (out []string) {
	for _, p := range d.php() {
		out = append(out, p.Series())
	}
	return out
}

// PlanTrial says what trying a copy under several versions will do. What is to
// be tried is fetched for it.
func (d *Components) PlanTrial(ctx context.Context, id site.ID, w TrialWish) (plan.Plan, error) {
	s, err := d.fleet.Inspect(ctx, id)
	if err != nil {
		return plan.Plan{}, err
	}
	c := trial.Choices{Check: w.Check, AtOnce: max(1, cmp.Or(w.AtOnce, d.config.Runtime.AtOnce, 2))}
	for _, r := range w.Runtimes {
		if r == "all" {
			c.Runtimes = append(c.Runtimes, d.series()...)
		} else {
			c.Runtimes = append(c.Runtimes, r)
		}
	}
	for _, v := range w.Cores {
		if v == "own" || v == s.Facts.Core {
			c.Cores = append(c.Cores, catalogue.Package{Source: site.Source{Kind: site.Core, Version: s.Facts.Core}})
			continue
		}
		if v, err = d.namedCore(ctx, v); err != nil {
			return plan.Plan{}, err
		}
		p, err := d.fetch(ctx, site.Source{Kind: site.Core, Version: v}, nil)
		if err != nil {
			return plan.Plan{}, err
		}
		c.Cores = append(c.Cores, p)
	}
	for _, set := range w.Sets {
		x, err := d.set(ctx, s, set)
		if err != nil {
			return plan.Plan{}, err
		}
		c.Sets = append(c.Sets, x)
	}
	if w.Cause {
		if c.Search, err = d.searchFor(ctx, s); err != nil {
			return plan.Plan{}, err
		}
	}
	in := trial.Input{Site: s, Local: d.config.Machine, Choices: c, PHP: d.series(), Now: d.now(), By: d.who}
	if h, err := d.host(ctx, d.config.Machine); err == nil {
		in.Free, _ = h.Free(ctx, d.home()) // where it can't be known, nothing is said of it
	}
	return trial.Plan(in), nil
}

// set fetches the components of a set.
func (d *core) set(ctx context.Context, s site.Site, w SetWish) (trial.Set, error) {
	out := trial.Set{Name: w.Name, Switch: stack.Switches{Off: w.Off}}
	var err error
	if out.Put, err = d.fetchAll(ctx, w.Put, nil); err != nil {
		return out, err
	}
	for _, p := range out.Put {
		switch p.Source.Kind {
		case site.Plugin:
			out.Switch.On = append(out.Switch.On, p.Component.File)
		case site.Theme:
			out.Switch.Theme, out.Switch.Parent = p.Source.Slug, p.Component.Parent
		case site.Core:
			return out, errors.New("a core is no part of a set: name it with --core")
		}
	}
	for _, slug := range w.On {
		p := find(s.Facts.Plugins, slug)
		if p == nil || p.File == "" {
			return out, fmt.Errorf("%s has no plugin called %q", s.Name, slug)
		}
		out.Switch.On = append(out.Switch.On, p.File)
	}
	return out, nil
}

// searchFor gathers among what the cause of a failing check may be: other
// versions of plugins as far as the catalogue has them.
func (d *core) searchFor(ctx context.Context, s site.Site) (*trial.Search, error) {
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return nil, err
	}
	out := &trial.Search{Bare: stack.ContentsOf(st).BareTheme(*s.Facts), Runtimes: d.series(),
		Versions: map[string][]catalogue.Package{}}
	for _, p := range s.Facts.Plugins {
		if !on(p) || p.State == "must-use" {
			continue
		}
		info, err := d.catalogue().Info(ctx, site.Plugin, p.Slug)
		if err != nil {
			continue // nothing is known of its versions
		}
		list := slices.DeleteFunc(info.List(), func(v string) bool { return v == p.Version })
		for _, v := range list[:min(3, len(list))] {
			if x, err := d.fetch(ctx, site.Source{Kind: site.Plugin, Slug: p.Slug, Version: v}, nil); err == nil {
				out.Versions[p.Slug] = append(out.Versions[p.Slug], x)
			}
		}
	}
	return out, nil
}

// Trial gives what a trial knows so far, of the run with this ID.
func (d *Components) Trial(ctx context.Context, run string) (plan.Run, trial.Memory, error) {
	var m trial.Memory
	r, err := d.record.Run(ctx, run)
	if err != nil {
		return r, m, err
	}
	if r.Plan.Kind != plan.Trial {
		return r, m, fmt.Errorf("run %s is no trial", r.ID)
	}
	return r, m, d.record.Checkpoint(ctx, r.ID, &m)
}

// Trials lists the trials of a copy, or of all, newest first.
func (d *Components) Trials(ctx context.Context, of site.ID) ([]plan.Run, error) {
	list := func() ([]plan.Run, error) { return d.record.Runs(ctx, 1000) }
	if of != "" {
		list = func() ([]plan.Run, error) { return d.record.RunsOf(ctx, of) }
	}
	all, err := list()
	return slices.DeleteFunc(all, func(r plan.Run) bool {
		return r.Plan.Kind != plan.Trial || of != "" && r.Plan.Target.ID != of
	}), err
}
