package inventory

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"alibi/internal/plan"
	"alibi/internal/site"
)

// Tx is a change of several things in the record that happens as one, or not.
type Tx struct{ tx *sql.Tx }

// In does something in one transaction; an error from do leaves all as it was.
func (in *Inventory) In(ctx context.Context, do func(*Tx) error) error {
	return in.write(ctx, func() error { return in.in(ctx, do) })
}

func (in *Inventory) in(ctx context.Context, do func(*Tx) error) error {
	tx, err := in.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("writing to the record: %w", err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	if err := do(&Tx{tx}); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("writing to the record: %w", err)
	}
	return nil
}

// SQL is the transaction itself, for the job queue that lives in the record.
func (t *Tx) SQL() *sql.Tx { return t.tx }

// Run finds a run by its ID.
func (t *Tx) Run(ctx context.Context, id string) (r plan.Run, err error) {
	return r, t.get(ctx, &r, "run", id, "SELECT doc FROM runs WHERE id = ?", id)
}

// PutRun adds or changes a run.
func (t *Tx) PutRun(ctx context.Context, r plan.Run) error { return putRun(ctx, t.tx, r) }

// Withdraw takes the wish back that a run be cancelled.
func (t *Tx) Withdraw(ctx context.Context, id string) error {
	return t.exec(ctx, "UPDATE runs SET cancel = 0 WHERE id = ?", id)
}

// Site finds a site by its ID.
func (t *Tx) Site(ctx context.Context, id site.ID) (s site.Site, err error) {
	return s, t.get(ctx, &s, "site", string(id), "SELECT doc FROM sites WHERE id = ?", string(id))
}

// PutSite adds or changes a site.
func (t *Tx) PutSite(ctx context.Context, s site.Site) error { return put(ctx, t.tx, s) }

// Named tells whether another site than id has a name and is not gone.
func (t *Tx) Named(ctx context.Context, name string, id site.ID) (bool, error) {
	var n int
	err := t.tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM sites WHERE name = ? AND id <> ? AND state <> 'gone'", name,
		string(id)).
		Scan(&n)
	return n > 0, err
}

func (t *Tx) get(ctx context.Context, into any, what, name, q string, args ...any) error {
	var b []byte
	err := t.tx.QueryRowContext(ctx, q, args...).Scan(&b)
	if errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("%s %q: %w", what, name, ErrUnknown)
	}
	if err == nil {
		err = json.Unmarshal(b, into)
	}
	if err != nil {
		return fmt.Errorf("reading the record: %w", err)
	}
	return nil
}

func (t *Tx) exec(ctx context.Context, q string, args ...any) error {
	if _, err := t.tx.ExecContext(ctx, q, args...); err != nil {
		return fmt.Errorf("writing to the record: %w", err)
	}
	return nil
}

// ErrClaimed is given where another run needs a site.
var ErrClaimed = errors.New("another run is at work")

// Claim takes a site for a run. ErrClaimed if another one, beside those in
// except, has it alone, or has it at all and it is to be had alone.
func (t *Tx) Claim(ctx context.Context, run string, c plan.Claim, except string) error {
	var other, kind string
	err := t.tx.QueryRowContext(
		ctx,
		`SELECT claims.run, coalesce(json_extract(runs.doc, '$.plan.kind'), '') FROM claims
			LEFT JOIN runs ON runs.id = claims.run
		WHERE claims.site = ? AND claims.run NOT IN (?, ?) AND (alone OR ?) LIMIT 1`,
		string(c.Site),
		run,
		except,
		c.Alone && !c.Read,
	).Scan(&other, &kind)
	switch {
	case err == nil && strings.HasPrefix(other, plan.ByHand):
		return fmt.Errorf("%w on %s, for a moment; try it again", ErrClaimed, c.Name)
	case err == nil:
		return fmt.Errorf("%w (%s, %s) on %s; wait for it, or cancel it: alibi runs cancel %s", ErrClaimed, other,
			plan.Kind(kind).Title(), c.Name, other)
	case !errors.Is(err, sql.ErrNoRows):
		return fmt.Errorf("reading the record: %w", err)
	}
	return t.exec(
		ctx,
		"INSERT INTO claims (site, run, alone) VALUES (?, ?, ?) ON CONFLICT (site, run) DO UPDATE SET alone = "+
			"max(alone, excluded.alone)",
		string(c.Site),
		run,
		c.Alone,
	)
}

// Release gives back what a run had.
func (t *Tx) Release(ctx context.Context, run string) error {
	return t.exec(ctx, "DELETE FROM claims WHERE run = ?", run)
}

// ClaimedAlone tells whether a run has a site for itself now.
func (in *Inventory) ClaimedAlone(ctx context.Context, run string, id site.ID) (has bool, err error) {
	const q = "SELECT count(*) FROM claims WHERE run = ? AND site = ? AND alone"
	if err = in.db.QueryRowContext(ctx, q, run, string(id)).Scan(&has); err != nil {
		return false, fmt.Errorf("reading the record: %w", err)
	}
	return has, nil
}

// Claimants gives those who have claimed something, of those whose names begin with prefix.
func (t *Tx) Claimants(ctx context.Context, prefix string) (out []string, err error) {
	const q = "SELECT DISTINCT run FROM claims WHERE substr(run, 1, length(?)) = ?"
	rows, err := t.tx.QueryContext(ctx, q, prefix, prefix)
	if err != nil {
		return nil, fmt.Errorf("reading the record: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var run string
		if err := rows.Scan(&run); err != nil {
			return nil, fmt.Errorf("reading the record: %w", err)
		}
		out = append(out, run)
	}
	return out, rows.Err()
}

// Claimed tells which runs have a site now.
func (in *Inventory) Claimed(ctx context.Context, id site.ID) (runs []string, err error) {
	rows, err := in.db.QueryContext(ctx, "SELECT run FROM claims WHERE site = ? ORDER BY run", string(id))
	if err != nil {
		return nil, fmt.Errorf("reading the record: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var r string
		if err := rows.Scan(&r); err != nil {
			return nil, err
		}
		runs = append(runs, r)
	}
	return runs, rows.Err()
}
