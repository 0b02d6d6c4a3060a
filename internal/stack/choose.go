package stack

import (
	"context"
	"slices"

	"alibi/internal/tables"
)

// Keeper says which rows of an origin are brought, where not all are.
type Keeper interface {
	// Chooses tells whether some rows of the table may stay behind.
	Chooses(table string) bool
	// Keeps tells whether a row is brought.
	Keeps(t tables.Table, r tables.Row) bool
}

// Choose works out from a state of the origin what is brought to the copy, and what is personal, if that is to be made
// up.
func (x *Transform) Choose(ctx context.Context, snap tables.Snapshot) error {
	if err := x.Learn(ctx, snap); err != nil {
		return err
	}
	return x.Select(ctx, snap)
}

// Learn reads what is personal, if that is to be made up: no row is changed before.
func (x *Transform) Learn(ctx context.Context, snap tables.Snapshot) error {
	if x.Scrub == nil {
		return nil
	}
	return x.Scrub.From(ctx, snap)
}

// Select works out what belongs to the kinds that the copy is to have, and what these refer to.
func (x *Transform) Select(ctx context.Context, snap tables.Snapshot) error {
	x.keeper = nil
	if x.Change.Copy.Only == nil {
		return nil
	}
	var err error
	x.keeper, err = ContentsOf(x.Stack).Choose(ctx, snap, x.Change.Origin, x.Change.Copy.Only)
	return err
}

// Chooses tells whether some rows of the table may stay behind.
func (x *Transform) Chooses(table string) bool {
	return x.Empties(table) || x.keeper != nil && x.keeper.Chooses(table)
}

// Empties tells whether a table comes without its rows.
func (x *Transform) Empties(table string) bool { return slices.Contains(x.Change.Copy.Empty, table) }

// Keeps tells whether a row of the origin is brought to the copy.
func (x *Transform) Keeps(t tables.Table, r tables.Row) bool {
	if x.Empties(t.Name) {
		return false
	}
	return x.keeper == nil || !x.keeper.Chooses(t.Name) || x.keeper.Keeps(t, r)
}
