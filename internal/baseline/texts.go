package baseline

import (
	"context"
	"database/sql"
	"fmt"

	"alibi/internal/tree"
)

// textsTable has what was in files, by the digests that the files have in the baseline.
const textsTable = "CREATE TABLE IF NOT EXISTS texts (sum BLOB PRIMARY KEY, data BLOB NOT NULL) WITHOUT ROWID"

// PutTexts keeps what is in files that have these digests, and forgets all others. read is asked for those alone that
// are not there yet.
func (v *Values) PutTexts(ctx context.Context, want []tree.Hash,
	read func(missing map[tree.Hash]bool, give func(sum tree.Hash, text []byte) error) error) error {
	missing := make(map[tree.Hash]bool, len(want))
	for _, sum := range want {
		missing[sum] = true
	}
	tx, err := v.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("keeping files as they were: %w", err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	gone, err := v.known(ctx, tx, missing)
	if err != nil {
		return fmt.Errorf("keeping files as they were: %w", err)
	}
	for _, sum := range gone {
		if _, err := tx.ExecContext(ctx, "DELETE FROM texts WHERE sum = ?", sum[:]); err != nil {
			return fmt.Errorf("keeping files as they were: %w", err)
		}
	}
	if len(missing) > 0 {
		if err := read(missing, func(sum tree.Hash, text []byte) error { return v.text(ctx, tx, sum, text) }); err != nil {
			return fmt.Errorf("keeping files as they were: %w", err)
		}
	}
	return tx.Commit()
}

// known takes what is there out of what is missing, and gives what is there and was not.
func (v *Values) known(ctx context.Context, tx *sql.Tx, missing map[tree.Hash]bool) (gone []tree.Hash, err error) {
	rows, err := tx.QueryContext(ctx, "SELECT sum FROM texts")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var b []byte
		if err := rows.Scan(&b); err != nil {
			return nil, err
		}
		var sum tree.Hash
		copy(sum[:], b)
		if !missing[sum] {
			gone = append(gone, sum)
		}
		delete(missing, sum)
	}
	return gone, rows.Err()
}

func (v *Values) text(ctx context.Context, tx *sql.Tx, sum tree.Hash, text []byte) error {
	_, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO texts VALUES (?, ?)", sum[:], v.enc.EncodeAll(text, nil))
	return err
}

// AddText keeps what is in one more file.
func (v *Values) AddText(ctx context.Context, text []byte) error {
	tx, err := v.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("keeping a file as it was: %w", err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	if err := v.text(ctx, tx, tree.Sum(text), text); err != nil {
		return fmt.Errorf("keeping a file as it was: %w", err)
	}
	return tx.Commit()
}

// Text gives what was in a file with one of the digests, the first that is known; not ok where none is.
func (v *Values) Text(ctx context.Context, sums ...tree.Hash) (text []byte, ok bool) {
	for _, sum := range sums {
		var data []byte
		if err := v.db.QueryRowContext(ctx, "SELECT data FROM texts WHERE sum = ?", sum[:]).Scan(&data); err != nil {
			continue // it is not known, and neither is it where what was kept can't be read
		}
		if text, err := v.dec.DecodeAll(data, nil); err == nil && tree.Sum(text) == sum {
			return text, true
		}
	}
	return nil, false
}
