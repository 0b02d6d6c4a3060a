package evidence

import (
	"context"
	"errors"
	"fmt"

	"golang.org/x/sync/errgroup"

	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// Moment is a copy as it was when it began to answer. It is compared as it was then, so that what people and its own
// code do from then on is told apart from damage.
type Moment struct {
	// Quiet are the times at which its tables had been written to last.
	Quiet map[string]string

	tables tables.Snapshot // nil: it has none
	files  *tree.Listing
}

// Close lets go of it.
func (m *Moment) Close() error {
	if m == nil || m.tables == nil {
		return nil
	}
	return m.tables.Close()
}

// Add adds files that came to the copy later, as they were then.
func (m *Moment) Add(later []tree.Entry) {
	if m != nil {
		m.files.Entries = append(m.files.Entries, later...)
	}
}

// Hold keeps hold of a copy as it is now, before anybody visits it, and adds to the report whether it is a site of its
// own.
func Hold(ctx context.Context, in Input, rep *Report) (_ *Moment, err error) {
	origin, copied, done, err := in.places(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	m := &Moment{}
	defer func() {
		if err != nil {
			err = errors.Join(err, m.Close())
		}
	}()
	g, gctx := errgroup.WithContext(ctx)
	if in.Copy.Database.Engine != "" {
		g.Go(func() error { return m.holdTables(gctx, &in, rep, origin, copied) })
	}
	g.Go(func() (err error) {
		m.files, err = tree.Scan(gctx, copied.Root, stack.DatabaseFilter(in.Copy.Root, in.Copy.Database))
		return err
	})
	return m, g.Wait()
}

func (m *Moment) holdTables(ctx context.Context, in *Input, rep *Report, origin, copied stack.Place) error {
	odb, cdb, err := in.databases(ctx, origin, copied)
	if err != nil {
		return err
	}
	if err := isolation(ctx, in, rep, odb, cdb); err != nil {
		return err
	}
	if m.tables, err = cdb.Snapshot(ctx); err != nil {
		return fmt.Errorf("reading the copy's database: %w", err)
	}
	m.Quiet, err = tables.Quiet(ctx, cdb)
	return err
}

// Begin gives an empty report.
func Begin(in Input) *Report {
	return &Report{Site: in.Copy.ID, Name: in.Copy.Name, Origin: in.Origin.Name, At: in.Env.Now(), Fresh: in.Fresh}
}

// Add takes the checks of another report on the same copy that this one does not have.
func (r *Report) Add(o Report) {
	has := map[string]bool{}
	for _, c := range r.Checks {
		has[c.Name] = true
	}
	for _, c := range o.Checks {
		if !has[c.Name] {
			r.Checks = append(r.Checks, c)
		}
	}
	r.PHP, r.Held, r.Wall = o.PHP, o.Held, o.Wall
	r.Took += o.Took
}
