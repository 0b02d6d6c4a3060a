package desk

import (
	"context"

	"alibi/internal/op/carry"
	"alibi/internal/site"
)

// sides opens a copy and its origin to be compared with what they were.
func (d *core) sides(ctx context.Context, id site.ID) (*carry.Sides, error) {
	in, done, err := d.proveInput(ctx, id)
	if err != nil {
		return nil, err
	}
	done()
	c, err := d.choices(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	return carry.Open(ctx, d.env, in.Origin, in.Copy, c.Title)
}

// Drift tells what became of a copy and its origin since they parted, item by item.
func (d *Copies) Drift(ctx context.Context, id site.ID) (carry.Drifted, error) {
	s, err := d.sides(ctx, id)
	if err != nil {
		return carry.Drifted{}, err
	}
	defer s.Close()
	return s.Drift(ctx)
}
