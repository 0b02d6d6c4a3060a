package baseline

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"alibi/internal/tables"
)

// Mark is a table of one side as it was when it was looked at.
type Mark struct {
	Quiet   string // when it was written to last; see tables.Dated
	Rows    int64
	Changes []Change // of rows that were not as they were when the sides parted
}

// Change is what had become of a row.
type Change struct {
	Found uint64  `json:"f"`           // what it is found by
	What  string  `json:"w"`           // "changed", "made" or "gone"
	Key   []int64 `json:"k,omitempty"` // none: of one that neither side had any more
}

const lookedTable = "CREATE TABLE IF NOT EXISTS looked (side TEXT NOT NULL, tbl TEXT NOT NULL, quiet TEXT NOT NULL, " +
	"rows INTEGER NOT NULL, changes TEXT NOT NULL, PRIMARY KEY (side, tbl))"

// Seen gives the marks of a side by table.
func (b *Baseline) Seen(ctx context.Context, side string) (map[string]Mark, error) {
	if _, err := b.db.ExecContext(ctx, lookedTable); err != nil {
		return nil, fmt.Errorf("reading the baseline: %w", err)
	}
	rows, err := b.db.QueryContext(ctx, "SELECT tbl, quiet, rows, changes FROM looked WHERE side = ?", side)
	if err != nil {
		return nil, fmt.Errorf("reading the baseline: %w", err)
	}
	defer rows.Close()
	out := map[string]Mark{}
	for rows.Next() {
		var table, changes string
		var m Mark
		err := rows.Scan(&table, &m.Quiet, &m.Rows, &changes)
		if err == nil {
			err = json.Unmarshal([]byte(changes), &m.Changes)
		}
		if err != nil {
			return nil, fmt.Errorf("reading the baseline: %w", err)
		}
		out[table] = m
	}
	return out, rows.Err()
}

// See notes marks of a side. What is noted anew of a table's rows takes its marks away.
func (b *Baseline) See(ctx context.Context, side string, marks map[string]Mark) error {
	if _, err := b.db.ExecContext(ctx, lookedTable); err != nil {
		return fmt.Errorf("writing the baseline: %w", err)
	}
	for table, m := range marks {
		changes, err := json.Marshal(m.Changes)
		if err != nil {
			return err
		}
		if _, err := b.db.ExecContext(ctx, "REPLACE INTO looked VALUES (?, ?, ?, ?, ?)", side, table, m.Quiet, m.Rows,
			string(changes)); err != nil {
			return fmt.Errorf("writing the baseline: %w", err)
		}
	}
	return nil
}

// unsee takes the marks of a table away: nothing that was seen of it before holds any more.
func unsee(ctx context.Context, tx *sql.Tx, table string) error {
	if _, err := tx.ExecContext(ctx, lookedTable); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "REPLACE INTO looked VALUES ('live', ?1, '', 0, '[]'), ('copy', ?1, '', 0, '[]')", table)
	return err
}

// Parted gives a side's marks of when the sides parted, of tables that have those times now.
func (b *Baseline) Parted(ctx context.Context, side string, now map[string]string) (map[string]Mark, error) {
	meta, err := b.Meta(ctx)
	if err != nil {
		return nil, err
	}
	was := meta.Quiet.Origin
	if side == "copy" {
		was = meta.Quiet.Copy
	}
	out := map[string]Mark{}
	for table, at := range was {
		if !tables.Same(at, now[table]) {
			continue
		}
		rows, err := b.Count(ctx, table)
		if err != nil {
			return nil, err
		}
		out[table] = Mark{Quiet: at, Rows: rows}
	}
	return out, nil
}
