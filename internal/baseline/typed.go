package baseline

import (
	"context"
	"fmt"
)

const typedTable = "CREATE TABLE IF NOT EXISTS typed (tbl TEXT NOT NULL, row TEXT NOT NULL, PRIMARY KEY (tbl, row))"

// TypedRow is a row of a copy whose people are made up, of which people wrote on the copy itself what the live site got
// then: by its table, and its address as tables.Row has it.
type TypedRow struct{ Table, Address string }

// Typed gives those rows.
func (b *Baseline) Typed(ctx context.Context) (map[TypedRow]bool, error) {
	if _, err := b.db.ExecContext(ctx, typedTable); err != nil {
		return nil, fmt.Errorf("reading the baseline: %w", err)
	}
	rows, err := b.db.QueryContext(ctx, "SELECT tbl, row FROM typed")
	if err != nil {
		return nil, fmt.Errorf("reading the baseline: %w", err)
	}
	defer rows.Close()
	out := map[TypedRow]bool{}
	for rows.Next() {
		var r TypedRow
		if err := rows.Scan(&r.Table, &r.Address); err != nil {
			return nil, fmt.Errorf("reading the baseline: %w", err)
		}
		out[r] = true
	}
	return out, rows.Err()
}

// Type notes such rows.
func (b *Baseline) Type(ctx context.Context, list []TypedRow) error {
	if len(list) == 0 {
		return nil
	}
	if _, err := b.db.ExecContext(ctx, typedTable); err != nil {
		return fmt.Errorf("writing the baseline: %w", err)
	}
	for _, r := range list {
		if _, err := b.db.ExecContext(ctx, "REPLACE INTO typed VALUES (?, ?)", r.Table, r.Address); err != nil {
			return fmt.Errorf("writing the baseline: %w", err)
		}
	}
	return nil
}
