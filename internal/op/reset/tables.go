package reset

import (
	"context"
	"slices"

	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/work"
)

// tables exchanges the tables that are not as they are to be.
func (x *runner) tables(ctx context.Context, t *work.Task) error {
	s, err := x.now(ctx)
	if err != nil {
		return err
	}
	if err := x.tablesBack(ctx, s); err != nil { // of an earlier try
		return err
	}
	e, err := x.ends(ctx)
	if err != nil {
		return err
	}
	defer func() { e.close() }()
	now, err := e.snapshot(ctx)
	if err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Hung, x.mem.Looked = now.Schema().After, true })
	if err := t.Remember(); err != nil {
		return err
	}
	edit, err := x.edit(ctx, s)
	if err != nil {
		return err
	}
	defer edit.Close()
	drop, hang := e.want.db.Hanging(now.Schema(), true)
	if edit.Separate() { // what is dropped must not be in use, by ourselves either
		e.close()
		if err := edit.Objects(ctx, drop, nil); err != nil {
			return err
		}
		if e, err = x.ends(ctx); err != nil {
			return err
		}
		if now, err = e.snapshot(ctx); err != nil {
			return err
		}
	}
	made, err := edit.Stage(ctx, now, e.want.db, t.Add)
	if err != nil {
		return err
	}
	if edit.Separate() {
		t.Note("%d rows exchanged in %d tables; %d tables exchanged whole", made.Rows, made.Patched, made.Whole)
	}
	e.close()
	if err := edit.Exchange(ctx); err != nil {
		return err
	}
	return edit.Objects(ctx, nil, hang)
}

// edit opens the site's database to be changed.
func (x *runner) edit(ctx context.Context, s site.Site) (tables.Edit, error) {
	return x.env.Edit(ctx, x.run, s, x.dir())
}

// tablesBack gives the site the tables back that it had before.
func (x *runner) tablesBack(ctx context.Context, s site.Site) error {
	if !x.does("tables") {
		return nil
	}
	edit, err := x.edit(ctx, s)
	if err != nil {
		return err
	}
	defer edit.Close()
	if !x.mem.Looked || !edit.Separate() {
		return edit.Rollback(ctx)
	}
	place, err := x.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return err
	}
	e := &ends{s: s, place: place}
	defer func() { e.close() }()
	if e.st, err = x.env.Stack(s.Stack); err != nil {
		return err
	}
	now, err := e.snapshot(ctx)
	if err != nil {
		return err
	}
	drop, hang := tables.Wanted{After: x.mem.Hung, Hangs: true}.Hanging(now.Schema(), true)
	e.close()
	if err := edit.Objects(ctx, drop, nil); err != nil { // the rows that come back set none off
		return err
	}
	if err := edit.Rollback(ctx); err != nil {
		return err
	}
	return edit.Objects(ctx, nil, hang)
}

// settleTables makes what was exchanged final.
func (x *runner) settleTables(ctx context.Context, s site.Site) error {
	if !x.does("tables") {
		return nil
	}
	edit, err := x.edit(ctx, s)
	if err != nil {
		return err
	}
	defer edit.Close()
	return edit.Commit(ctx)
}

// does tells whether a step is one of the run's.
func (x *runner) does(step string) bool {
	return slices.ContainsFunc(x.p.Steps, func(st plan.Step) bool { return st.Name == step })
}
