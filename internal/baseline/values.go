package baseline

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"

	"github.com/klauspost/compress/zstd"

	"alibi/internal/tables"
)

// Values are rows, and texts in files, as they were when a copy and its origin parted, rows with the copy's addresses.
// They are kept beside the digests, which say of each that is found here whether it is the one: what is here may be
// older, or newer.
type Values struct {
	db  *sql.DB
	enc *zstd.Encoder
	dec *zstd.Decoder
}

// pieceSize is how many bytes of rows are compressed together.
const pieceSize = 1 << 20

// OpenValues opens those at path, which are made if there are none and make says so.
func OpenValues(path string, make bool) (*Values, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) && make {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return nil, fmt.Errorf("keeping rows as they were: %w", err)
		}
		f.Close()
	} else if err != nil {
		return nil, fmt.Errorf("rows as they were: %w", err)
	}
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=synchronous(OFF)&_pragma=busy_timeout(5000)")
	if err != nil {
		return nil, fmt.Errorf("rows as they were: %w", err)
	}
	db.SetMaxOpenConns(1)
	v := &Values{db: db}
	if make {
		_, err = db.Exec("CREATE TABLE IF NOT EXISTS pieces (tbl TEXT NOT NULL, shape TEXT NOT NULL, " +
			"first INTEGER NOT NULL, last INTEGER NOT NULL, data BLOB NOT NULL); " +
			"CREATE INDEX IF NOT EXISTS pieces_of ON pieces (tbl, last); " + textsTable)
	}
	if err == nil {
		v.enc, err = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	}
	if err == nil {
		v.dec, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1))
	}
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("rows as they were: %w", err)
	}
	return v, nil
}

// Close closes the file.
func (v *Values) Close() error {
	v.dec.Close()
	return errors.Join(v.enc.Close(), v.db.Close())
}

// shape is what rows of a table must have for being read again.
func shape(t tables.Table) string {
	var names []string
	for _, c := range t.Columns {
		names = append(names, c.Name)
	}
	text, _ := json.Marshal([][]string{t.Key, names}) // lists of texts always can be
	return string(text)
}

// Replace puts the rows that read gives in place of those that are there of a table. They are found fast in one that is
// known by numbers.
func (v *Values) Replace(ctx context.Context, t tables.Table, read func(give func(tables.Row) error) error) error {
	return v.put(ctx, t, true, read)
}

// Add adds rows to those of a table.
func (v *Values) Add(ctx context.Context, t tables.Table, rows []tables.Row) error {
	return v.put(ctx, t, false, func(give func(tables.Row) error) error {
		for _, r := range rows {
			if err := give(r); err != nil {
				return err
			}
		}
		return nil
	})
}

// piece is some rows on their way into the file.
type piece struct {
	first, last int64
	lines       []byte
}

func (v *Values) put(ctx context.Context, t tables.Table, anew bool, read func(func(tables.Row) error) error) error {
	tx, err := v.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("keeping rows as they were: %w", err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	if anew {
		if _, err := tx.ExecContext(ctx, "DELETE FROM pieces WHERE tbl = ?", t.Name); err != nil {
			return fmt.Errorf("keeping rows as they were: %w", err)
		}
	}
	of, p := shape(t), piece{}
	flush := func() error {
		if len(p.lines) == 0 {
			return nil
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO pieces VALUES (?, ?, ?, ?, ?)", t.Name, of, p.first, p.last,
			v.enc.EncodeAll(p.lines, nil))
		p.lines = p.lines[:0]
		return err
	}
	err = read(func(r tables.Row) error {
		n := r.Key[0].Int
		if len(p.lines) == 0 {
			p.first, p.last = n, n
		}
		p.first, p.last = min(p.first, n), max(p.last, n)
		if p.lines = tables.AppendRow(p.lines, t, r); len(p.lines) < pieceSize {
			return nil
		}
		return flush()
	})
	if err == nil {
		err = flush()
	}
	if err == nil {
		err = tx.Commit()
	}
	if err != nil {
		return fmt.Errorf("keeping rows of %s as they were: %w", t.Name, err)
	}
	return nil
}

// Find gives each row that is kept of a table under one of the keys, the same one several times if it was kept so.
// What can't be read has nothing to give.
func (v *Values) Find(ctx context.Context, t tables.Table, keys [][]tables.Value, give func(tables.Row) error) error {
	if len(keys) == 0 {
		return nil
	}
	want, numbers := map[string]bool{}, []int64(nil)
	for _, k := range keys {
		want[tables.Row{Key: k}.Address()] = true
		numbers = append(numbers, k[0].Int)
	}
	slices.Sort(numbers)
	rows, err := v.db.QueryContext(ctx, "SELECT first, last, data FROM pieces WHERE tbl = ? AND shape = ? AND last >= ? "+
		"AND first <= ?", t.Name, shape(t), numbers[0], numbers[len(numbers)-1])
	if err != nil {
		return fmt.Errorf("rows as they were: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var first, last int64
		var data []byte
		if err := rows.Scan(&first, &last, &data); err != nil {
			return fmt.Errorf("rows as they were: %w", err)
		}
		if at, _ := slices.BinarySearch(numbers, first); at == len(numbers) || numbers[at] > last {
			continue
		}
		lines, err := v.dec.DecodeAll(data, nil)
		if err != nil {
			continue
		}
		if err := tables.ReadRows(lines, t, func(r tables.Row) error {
			if want[r.Address()] {
				return give(r)
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return rows.Err()
}
