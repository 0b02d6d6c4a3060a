package reset

import (
	"context"
	"path"
	"slices"

	"alibi/internal/host"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/work"
)

// maker brings the site to the wanted state.
func (x *runner) maker(s site.Site) *state.Maker {
	return &state.Maker{
		ID:        x.id,
		HasTables: x.does("tables"),
		Memory:    &x.mem.Memory,
		Open: func(ctx context.Context) (*state.Ends, error) {
			e, err := x.ends(ctx)
			if err != nil {
				return nil, err
			}
			return e.sides(), nil
		},
		Write: func(ctx context.Context, dir string) (host.Root, error) {
			return x.env.Write(ctx, x.run, s, path.Join(s.Root, dir))
		},
		Look: func(ctx context.Context, dir string) (host.Tree, error) {
			h, err := x.env.Host(ctx, s.Host)
			if err != nil {
				return nil, err
			}
			return h.Open(ctx, path.Join(s.Root, dir))
		},
		Edit: func(ctx context.Context, aside string) (tables.Edit, error) {
			return x.env.Edit(ctx, x.run, s, aside)
		},
		Schema: func(ctx context.Context) (tables.Schema, error) { return x.schema(ctx, s) },
	}
}

// sides are the ends as what makes the state sees them.
func (e *ends) sides() *state.Ends {
	return &state.Ends{
		Root:     e.place.Root,
		Filter:   filter(e.s),
		Want:     e.want,
		Snapshot: e.snapshot,
		Close:    e.close,
	}
}

// schema is that of the site's tables as they are now.
func (x *runner) schema(ctx context.Context, s site.Site) (tables.Schema, error) {
	place, err := x.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return tables.Schema{}, err
	}
	e := &ends{s: s, place: place}
	defer e.close()
	if e.st, err = x.env.Stack(s.Stack); err != nil {
		return tables.Schema{}, err
	}
	now, err := e.snapshot(ctx)
	if err != nil {
		return tables.Schema{}, err
	}
	return now.Schema(), nil
}

// making does a part of bringing the site to its state as a step of the run.
func (x *runner) making(part func(*state.Maker, context.Context, state.Task) error) work.Do {
	return func(ctx context.Context, t *work.Task) error {
		s, err := x.now(ctx)
		if err != nil {
			return err
		}
		return part(x.maker(s), ctx, t)
	}
}

// does tells whether a step is one of the run's.
func (x *runner) does(step string) bool {
	return slices.ContainsFunc(x.p.Steps, func(st plan.Step) bool { return st.Name == step })
}

// stepsOf are the steps for what a plan changes.
func stepsOf(files, database bool, bytes, rows int64) []plan.Step {
	out := []plan.Step{{Name: "reserve", Title: "take the site"}}
	if files {
		out = append(out, plan.Step{Name: "stage", Title: "bring the files", Work: bytes, Unit: plan.Bytes})
	}
	out = append(out, plan.Step{Name: "close", Title: "show a notice"},
		plan.Step{Name: "keep", Title: "take a restore point", Work: bytes, Unit: plan.Bytes})
	if database {
		out = append(out, plan.Step{Name: "tables", Title: "exchange the tables", Work: rows, Unit: plan.Rows})
	}
	if files {
		out = append(out, plan.Step{Name: "files", Title: "exchange the files"})
	}
	return append(out, plan.Step{Name: "prove", Title: "compare all of it", Work: rows, Unit: plan.Rows},
		plan.Step{Name: "open", Title: "show it again"})
}
