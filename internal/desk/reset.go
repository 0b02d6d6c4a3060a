package desk

import (
	"context"
	"fmt"
	"slices"

	"alibi/internal/op/keep"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// RestoreInput gathers what a plan of bringing a site back to one of its restore
// points is made of; it compares the two.
func (d *Desk) RestoreInput(ctx context.Context, p Point, c reset.Choices) (reset.Input, error) {
	s, err := d.Record.Site(ctx, p.Site.ID)
	if err != nil {
		return reset.Input{}, fmt.Errorf("the site of restore point %s: %w; make a copy of the point instead: alibi points copy %s", p.ID, err, p.ID)
	}
	if s.State == site.Gone {
		return reset.Input{}, fmt.Errorf("%s is gone; make a copy of the point instead: alibi points copy %s", s.Name, p.ID)
	}
	in := reset.Input{Site: s, Point: &p.Point, Choices: c, Depot: d.DepotPath(), Now: d.Now(), By: d.Who}
	in.Choices.Point = p.ID
	if in.Choices.Paths, err = reset.Paths(c.Paths); err != nil {
		return in, err
	}
	if s.Role == site.Copy {
		in.Unique = s.Apart.Copy
	}
	changes, err := d.Since(ctx, p)
	if err != nil {
		return in, err
	}
	in.Goes, in.Stays = d.restored(s, changes, in.Choices)
	return in, nil
}

// restored says what goes and what stays when what became of a site since a
// restore point is taken back.
func (d *Desk) restored(s site.Site, ch *keep.Changes, c reset.Choices) (goes, stays []plan.Part) {
	if c.Files {
		n := map[string]int64{}
		for _, f := range ch.Files {
			if len(c.Paths) == 0 || slices.ContainsFunc(c.Paths, func(p string) bool { return f.Path == p || len(f.Path) > len(p) && f.Path[:len(p)+1] == p+"/" }) {
				n[f.What]++
			}
		}
		for _, w := range []struct{ what, text, note string }{{keep.Added, "files added since", "they go"}, {keep.Changed, "files changed since", "they become what they were"}, {keep.Removed, "files removed since", "they come back"}} {
			if n[w.what] > 0 {
				goes = append(goes, plan.Part{What: w.text, Files: n[w.what], Note: w.note})
			}
		}
		stays = append(stays, plan.Part{What: "files that did not change", Files: ch.Same.Files})
	} else {
		stays = append(stays, plan.Part{What: "all files"})
	}
	if c.Database {
		for _, t := range ch.Tables {
			if len(c.Tables) == 0 || slices.Contains(c.Tables, t.Name) {
				goes = append(goes, plan.Part{What: "table " + t.Name, Rows: t.Added + t.Changed + t.Removed, Note: fmt.Sprintf("%d rows added, %d changed, %d removed since", t.Added, t.Changed, t.Removed)})
			}
		}
		stays = append(stays, plan.Part{What: "rows that did not change", Rows: ch.Same.Rows})
	} else if s.Database.Engine != "" {
		stays = append(stays, plan.Part{What: "the whole database"})
	}
	return goes, stays
}

// PlanRestore says what bringing a site back to one of its restore points, or a
// part of it, will do.
func (d *Desk) PlanRestore(ctx context.Context, p Point, c reset.Choices) (plan.Plan, error) {
	in, err := d.RestoreInput(ctx, p, c)
	if err != nil {
		return plan.Plan{}, err
	}
	return reset.Plan(in), nil
}
