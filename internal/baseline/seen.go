package baseline

import (
	"context"
	"database/sql"
	"fmt"
)

// Mark is a table of one side at a time when all of its rows were as they were when the sides parted.
type Mark struct {
	Quiet string // when it was written to last; see tables.Dated
	Rows  int64
}

const seenTable = "CREATE TABLE IF NOT EXISTS seen (side TEXT NOT NULL, tbl TEXT NOT NULL, quiet TEXT NOT NULL, " +
	"rows INTEGER NOT NULL, PRIMARY KEY (side, tbl))"

// Seen gives the marks of a side by table.
func (b *Baseline) Seen(ctx context.Context, side string) (map[string]Mark, error) {
	if _, err := b.db.ExecContext(ctx, seenTable); err != nil {
		return nil, fmt.Errorf("reading the baseline: %w", err)
	}
	rows, err := b.db.QueryContext(ctx, "SELECT tbl, quiet, rows FROM seen WHERE side = ?", side)
	if err != nil {
		return nil, fmt.Errorf("reading the baseline: %w", err)
	}
	defer rows.Close()
	out := map[string]Mark{}
	for rows.Next() {
		var table string
		var m Mark
		if err := rows.Scan(&table, &m.Quiet, &m.Rows); err != nil {
			return nil, fmt.Errorf("reading the baseline: %w", err)
		}
		out[table] = m
	}
	return out, rows.Err()
}

// See notes marks of a side. What is noted anew of a table's rows takes its marks away.
func (b *Baseline) See(ctx context.Context, side string, marks map[string]Mark) error {
	for table, m := range marks {
		if _, err := b.db.ExecContext(ctx, "REPLACE INTO seen VALUES (?, ?, ?, ?)", side, table, m.Quiet,
			m.Rows); err != nil {
			return fmt.Errorf("writing the baseline: %w", err)
		}
	}
	return nil
}

// unsee takes the marks of a table away.
func unsee(ctx context.Context, tx *sql.Tx, table string) error {
	if _, err := tx.ExecContext(ctx, seenTable); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "DELETE FROM seen WHERE tbl = ?", table)
	return err
}
