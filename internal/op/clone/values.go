package clone

import (
	"context"
	"errors"

	"alibi/internal/baseline"
	"alibi/internal/drift"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/work"
)

// values keeps the copy's rows, and the texts in its files, as they were when it parted from its origin. The copy
// answers already: what was changed since is told from the rest by its digests. Without them a copy is a copy still.
func (x *runner) values(ctx context.Context, t *work.Task) error {
	err := x.keepValues(ctx, t)
	if err != nil && ctx.Err() == nil {
		t.Note("rows as they were could not be kept, so that what both sides change can't be merged: %s", err)
		return nil
	}
	return err
}

func (x *runner) keepValues(ctx context.Context, t *work.Task) error {
	s, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	tr, err := x.transform()
	if err != nil {
		return err
	}
	return x.env.Tables(ctx, s, func(_ stack.Stack, snap tables.Snapshot) (err error) {
		if err := tr.Choose(ctx, snap); err != nil {
			return err
		}
		v, err := baseline.OpenValues(x.env.ValuesOf(s.Name), true)
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, v.Close()) }()
		left := int64(0)
		for _, step := range x.p.Steps {
			if step.Name == "values" {
				left = step.Work
			}
		}
		if err := drift.Keep(ctx, v, snap, tr, func(rows int64) { left -= rows; t.Add(rows, 0) }); err != nil {
			return err
		}
		if err := x.keepFiles(ctx, v, s, tr.Items()); err != nil {
			return err
		}
		t.Add(max(left, 0), 0) // rows of which nothing is to be kept
		return nil
	})
}

// keepFiles keeps what is in the copy's texts.
func (x *runner) keepFiles(ctx context.Context, v *baseline.Values, s site.Site, of stack.Items) error {
	base, err := baseline.Open(x.at("now", "baseline.db"))
	if err != nil {
		return err
	}
	defer base.Close()
	place, err := x.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return err
	}
	defer place.Root.Close()
	return drift.KeepFiles(ctx, v, base, place.Root, of)
}
