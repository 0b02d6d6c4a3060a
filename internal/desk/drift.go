package desk

import (
	"context"
	"fmt"
	"slices"

	"alibi/internal/drift"
	"alibi/internal/op/carry"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// sides opens a copy and its origin, or another copy of that, to be compared with what they were; title says that the
// copy's says that it is one.
func (d *core) sides(ctx context.Context, id, with site.ID) (s *carry.Sides, title bool, err error) {
	if with != "" {
		s, err = d.siblings(ctx, id, with)
		return s, true, err
	}
	in, done, err := d.proveInput(ctx, id)
	if err != nil {
		return nil, false, err
	}
	done()
	c, err := d.choices(ctx, in.Copy)
	if err != nil {
		return nil, false, err
	}
	s, err = carry.Open(ctx, d.env, in.Origin, in.Copy, c.Title, in.Filter)
	return s, c.Title, err
}

// siblings opens two copies of one origin.
func (d *core) siblings(ctx context.Context, id, with site.ID) (*carry.Sides, error) {
	var both [2]site.Site
	var choices [2]clone.Choices
	for i, id := range []site.ID{id, with} {
		in, done, err := d.proveInput(ctx, id)
		if err != nil {
			return nil, err
		}
		done()
		if choices[i], err = d.choices(ctx, in.Copy); err != nil {
			return nil, err
		}
		if both[i] = in.Copy; in.Copy.Facts == nil {
			if both[i], err = d.fleet.Inspect(ctx, id); err != nil {
				return nil, err
			}
		}
		if c := choices[i]; len(c.Only)+len(c.Empty) > 0 {
			return nil, fmt.Errorf("%w: %s has some content of its origin only; compare it with that: "+
				"alibi drift %[2]s", carry.ErrNoDrift, in.Copy.Name)
		}
	}
	if a, b := choices[0], choices[1]; !slices.Equal(a.Skip, b.Skip) || a.Larger != b.Larger || a.Spare != b.Spare {
		return nil, fmt.Errorf("%w: %s and %s have other files of their origin; compare each with that: alibi drift %[2]s",
			carry.ErrNoDrift, both[0].Name, both[1].Name)
	}
	first, second := carry.InOrder(both[0], both[1])
	st, err := d.env.Stack(first.Stack)
	if err != nil {
		return nil, err
	}
	return carry.OpenBeside(ctx, d.env, first, second, clone.Filter(st, stack.DatabaseFilter(first.Root, first.Database)))
}

// Drift tells what became of a copy and its origin since they parted, item by item.
func (d *Copies) Drift(ctx context.Context, id site.ID) (carry.Drifted, error) {
	return d.DriftWith(ctx, id, "")
}

// DriftWith tells that of a copy and another one of the same origin; "": its origin.
func (d *Copies) DriftWith(ctx context.Context, id, with site.ID) (carry.Drifted, error) {
	s, _, err := d.sides(ctx, id, with)
	if err != nil {
		return carry.Drifted{}, err
	}
	defer s.Close()
	got, err := s.Drift(ctx)
	if err != nil {
		return got, err
	}
	if err := s.Note(ctx, got); err != nil {
		d.logger.Warn("what was found is not kept", "copy", id, "err", err)
	}
	return got, nil
}

// Looks gives how much was found to differ of a copy and its origin, whenever somebody looked.
func (d *Copies) Looks(s site.Site) ([]carry.Look, error) { return carry.Looks(d.env, s.Name) }

// Conflicts gives the places of an item that both sides changed, so that people can write what is to stand. with is
// another copy of the same origin; "": the origin.
func (d *Copies) Conflicts(ctx context.Context, id, with site.ID, item string) ([]carry.Conflict, error) {
	s, _, err := d.sides(ctx, id, with)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return s.Conflicts(ctx, item)
}

// Profile gives what is carried by what was stored under a name.
func (d *Copies) Profile(name string) (carry.Profile, error) {
	return carry.ReadProfile(d.home(), name)
}

// StoreProfile stores what is carried under a name.
func (d *Copies) StoreProfile(name string, p carry.Profile) error {
	return carry.WriteProfile(d.home(), name, p)
}

// PlanSync says what carrying changes from one side of a copy and its origin to the other will do. With a second wish
// one run carries home what the first one says, and then to the copy what the second one does.
func (d *Copies) PlanSync(ctx context.Context, id site.ID, w carry.Wish, then ...carry.Wish) (plan.Plan, error) {
	s, title, err := d.sides(ctx, id, w.With)
	if err != nil {
		return plan.Plan{}, err
	}
	defer s.Close()
	got, err := s.Drift(ctx)
	if err != nil {
		return plan.Plan{}, err
	}
	if len(then) > 0 {
		return carry.PlanBoth(ctx, s, got, w, then[0], title, d.now())
	}
	return carry.Plan(ctx, s, got, w, title, d.now())
}

// PlanUnsync says what undoing a run that carried changes will do.
func (d *Copies) PlanUnsync(ctx context.Context, run string) (plan.Plan, error) {
	r, err := d.record.Run(ctx, run)
	if err != nil {
		return plan.Plan{}, err
	}
	c, err := plan.DetailOf[carry.Choices](r.Plan)
	if err != nil || r.Plan.Kind != plan.Sync || r.State != plan.Done {
		return plan.Plan{}, fmt.Errorf("run %s carried no changes: alibi runs lists those that did", run)
	}
	s, title, err := d.sides(ctx, c.Copy, c.Beside)
	if err != nil {
		return plan.Plan{}, err
	}
	defer s.Close()
	return carry.UndoPlan(s, r, title, d.now())
}

// Carried gives what a run carried, and what it left.
func (d *Copies) Carried(run string) (carry.Record, error) { return carry.Kept(d.env, run) }

// Propose writes a declaration of the tables and fields of a site of which nothing is known; "": there are none.
func (d *Copies) Propose(ctx context.Context, s site.Site) (text string, err error) {
	err = d.database(ctx, s, func(st stack.Stack, snap tables.Snapshot) error {
		tr := &stack.Transform{Stack: st, Change: stack.Change{Origin: *s.Facts}}
		if tr.Declared, err = d.env.Declarations(); err != nil {
			return err
		}
		text, err = drift.Propose(ctx, snap, tr)
		return err
	})
	return text, err
}
