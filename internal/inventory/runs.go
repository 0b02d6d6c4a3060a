package inventory

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"alibi/internal/plan"
	"alibi/internal/site"
)

// PutRun adds or changes a run, such as how far it is. Its wish to be cancelled is not
// part of that. On a full disk the room that was set aside is left for the run's end.
func (in *Inventory) PutRun(ctx context.Context, r plan.Run) error {
	return named(putRun(ctx, in.db, r))
}

func putRun(ctx context.Context, db execer, r plan.Run) error {
	_, err := db.ExecContext(ctx, `INSERT INTO runs (id, site, state, made, doc) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET state = excluded.state, doc = excluded.doc`, r.ID, string(r.Plan.Target.ID),
		string(r.State), r.Made.UnixNano(), doc(r))
	if err != nil {
		return fmt.Errorf("writing run %s to the record: %w", r.ID, err)
	}
	return nil
}

// Run finds a run by its ID or the beginning of it.
func (in *Inventory) Run(ctx context.Context, id string) (plan.Run, error) {
	l, err := collect[plan.Run](
		ctx,
		in.db,
		"SELECT doc FROM runs WHERE id = ? OR (length(?) >= 4 AND substr(id, 1, length(?)) = ?) ORDER BY made "+
			"DESC LIMIT 1",
		id,
		id,
		id,
		id,
	)
	return one(l, err, "run", id)
}

// Runs lists the latest runs, newest first.
func (in *Inventory) Runs(ctx context.Context, limit int) ([]plan.Run, error) {
	if limit <= 0 {
		limit = -1
	}
	return collect[plan.Run](ctx, in.db, "SELECT doc FROM runs ORDER BY made DESC LIMIT ?", limit)
}

// RunsOf lists all runs that were about a site, newest first.
func (in *Inventory) RunsOf(ctx context.Context, id site.ID) ([]plan.Run, error) {
	return collect[plan.Run](ctx, in.db, "SELECT doc FROM runs WHERE site = ? ORDER BY made DESC", string(id))
}

// Unfinished lists the runs that wait, are under way or are paused, oldest first.
func (in *Inventory) Unfinished(ctx context.Context) ([]plan.Run, error) {
	return collect[plan.Run](ctx, in.db, "SELECT doc FROM runs WHERE state IN ('waiting', 'running', 'paused') "+
		"ORDER BY made")
}

// AskCancel notes the wish that a run stop; whoever carries it out looks for it.
func (in *Inventory) AskCancel(ctx context.Context, id string, at time.Time) error {
	return in.exec(ctx, "UPDATE runs SET cancel = ? WHERE id = ?", at.UnixNano(), id)
}

// Withdraw takes the wish back, when a run is taken up again.
func (in *Inventory) Withdraw(ctx context.Context, id string) error {
	return in.exec(ctx, "UPDATE runs SET cancel = 0 WHERE id = ?", id)
}

// CancelAsked tells whether a run is wished to stop.
func (in *Inventory) CancelAsked(ctx context.Context, id string) (bool, error) {
	var at int64
	err := in.db.QueryRowContext(ctx, "SELECT cancel FROM runs WHERE id = ?", id).Scan(&at)
	return at > 0, err
}

// Checkpoint reads what a run's steps remember between tries.
func (in *Inventory) Checkpoint(ctx context.Context, id string, into any) error {
	var b []byte
	if err := in.db.QueryRowContext(ctx, "SELECT checkpoint FROM runs WHERE id = ?", id).Scan(&b); err != nil {
		return fmt.Errorf("reading run %s: %w", id, err)
	}
	return json.Unmarshal(b, into)
}

// SetCheckpoint keeps what a run's steps remember. On a full disk the room that was set
// aside is left for the run's end.
func (in *Inventory) SetCheckpoint(ctx context.Context, id string, v any) error {
	_, err := in.db.ExecContext(ctx, "UPDATE runs SET checkpoint = ? WHERE id = ?", doc(v), id)
	if err = named(err); err != nil {
		return fmt.Errorf("writing to the record: %w", err)
	}
	return nil
}
