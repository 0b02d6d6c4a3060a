package reset

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// Weight is what a part of a site takes that can be done without.
type Weight struct {
	stack.TrimPart
	Rows  int64         `json:"rows"`
	Count int64         `json:"count,omitempty"` // of files
	Bytes int64         `json:"bytes"`           // of their values, or of the files
	Saves time.Duration `json:"saves,omitempty"` // of a first pass of its move, nanoseconds; 0: not known
}

// ErrNoTrims is given for a kind of site of which nothing tells what can be done without.
var ErrNoTrims = errors.New("of this kind of site nothing tells what can be done without")

// Weighed weighs the parts of a site that are rows and can be done without, in one reading of its tables.
func Weighed(ctx context.Context, st stack.Stack, snap tables.Snapshot, s site.Site, at time.Time) ([]Weight, error) {
	t, can := st.(stack.Trimming)
	if !can {
		return nil, fmt.Errorf("%s: %w", s.Name, ErrNoTrims)
	}
	of, err := t.Trim(ctx, snap, s.Database.Prefix, at)
	if err != nil {
		return nil, err
	}
	out, place := weights(t, false)
	for _, tab := range snap.Schema().Tables {
		part := of(tab)
		if part == nil {
			continue
		}
		err := state.Rows(snap, tab.Name)(ctx, func(r tables.Row) error {
			if w := place[part(r)]; w != nil {
				w.Rows++
				for _, v := range r.Values {
					w.Bytes += int64(max(len(v.Bytes), 4))
				}
			}
			return nil
		})
		if err != nil {
			return nil, fmt.Errorf("table %s: %w", tab.Name, err)
		}
	}
	return out, nil
}

// weights are those of the parts that are files, or of those that are rows, in order and by name.
func weights(t stack.Trimming, files bool) (out []Weight, place map[string]*Weight) {
	for _, p := range t.Trims() {
		if p.Files == files {
			out = append(out, Weight{TrimPart: p})
		}
	}
	place = map[string]*Weight{}
	for i := range out {
		place[out[i].Name] = &out[i]
	}
	return out, place
}

// WeighedFiles weighs the parts that are files, in one reading of its tables.
func WeighedFiles(ctx context.Context, st stack.Stack, snap tables.Snapshot, files *tree.Listing) ([]Weight, error) {
	t, can := st.(stack.Trimming)
	if !can {
		return nil, ErrNoTrims
	}
	out, place := weights(t, true)
	gone, err := t.TrimFiles(ctx, snap, files.Entries)
	if err != nil {
		return nil, err
	}
	for _, f := range files.Entries {
		if w := place[gone[f.Path]]; w != nil {
			w.Count++
			w.Bytes += f.Size
		}
	}
	return out, nil
}

// trimmed are the paths of the files that go with the parts that are done without.
func (x *runner) trimmed(ctx context.Context, e *ends) (out []string, err error) {
	parts := x.c.Clean.Wish.Trim
	if !stack.TrimsFiles(e.st, parts) {
		return nil, nil
	}
	list, err := tree.Scan(ctx, e.place.Root, stack.DatabaseFilter(e.s.Root, e.s.Database))
	if err != nil {
		return nil, err
	}
	now, err := e.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	of, err := e.st.(stack.Trimming).TrimFiles(ctx, now, list.Entries)
	for p, part := range of {
		if slices.Contains(parts, part) {
			out = append(out, p)
		}
	}
	return out, err
}
