package reset

import (
	"context"
	"errors"
	"fmt"
	"time"

	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
)

// Weight is what a part of a site takes that can be done without.
type Weight struct {
	stack.TrimPart
	Rows  int64         `json:"rows"`
	Bytes int64         `json:"bytes"`           // of their values
	Saves time.Duration `json:"saves,omitempty"` // of a first pass of its move, nanoseconds; 0: not known
}

// ErrNoTrims is given for a kind of site of which nothing tells what can be done without.
var ErrNoTrims = errors.New("of this kind of site nothing tells what can be done without")

// Weighed weighs the parts of a site that can be done without, in one reading of its tables.
func Weighed(ctx context.Context, st stack.Stack, snap tables.Snapshot, s site.Site, at time.Time) ([]Weight, error) {
	t, can := st.(stack.Trimming)
	if !can {
		return nil, fmt.Errorf("%s: %w", s.Name, ErrNoTrims)
	}
	of, err := t.Trim(ctx, snap, s.Database.Prefix, at)
	if err != nil {
		return nil, err
	}
	parts := t.Trims()
	out := make([]Weight, len(parts))
	place := map[string]*Weight{}
	for i, p := range parts {
		out[i].TrimPart = p
		place[p.Name] = &out[i]
	}
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
