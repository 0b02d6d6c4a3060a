// Package baseline keeps the common state of a copy and its origin: for each
// row and file, a digest of either side as it was when they parted. What
// changed since, and on which side, can then be told at any time without having
// watched anything.
package baseline

import (
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver, in Go

	"alibi/internal/tables"
)

// Pair is the digests of one row on either side.
type Pair struct{ Origin, Copy uint64 }

// Meta is about the whole.
type Meta struct {
	At    time.Time `json:"at"`
	Stamp string    `json:"stamp"` // of the origin's database
	// Quiet is when each table was written to last on either side; see
	// tables.Dated.
	Quiet struct{ Origin, Copy map[string]string } `json:"quiet"`
	// Looked is when the origin's files were listed, before any was read.
	Looked time.Time `json:"looked,omitzero"`
	// Definitions is what the two databases defined when they parted.
	Definitions Definitions `json:"definitions"`
	// Notes are the bringer's own about each table.
	Notes map[string]json.RawMessage `json:"notes,omitempty"`
}

// Definitions are those of the objects of both databases, by kind and name; see
// tables.Schema.Definitions. A side that is nil was not noted.
type Definitions struct{ Origin, Copy map[string]tables.Definition }

// Baseline is an open one: an SQLite file.
type Baseline struct{ db *sql.DB }

// Create makes a new one at path, in place of what is there.
func Create(path string) (*Baseline, error) {
	for _, name := range []string{path + "-journal", path} { // a journal is of the one that goes
		if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, fmt.Errorf("making the baseline: %w", err)
	}
	f.Close()
	b, err := Open(path)
	if err != nil {
		return nil, err
	}
	_, err = b.db.Exec(`CREATE TABLE rows (tbl TEXT NOT NULL, data BLOB NOT NULL);
		` + filesTable + `;
		CREATE TABLE meta (doc TEXT NOT NULL)`)
	if err != nil {
		b.Close()
		return nil, fmt.Errorf("making the baseline: %w", err)
	}
	return b, nil
}

// Open opens the one at path.
func Open(path string) (*Baseline, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("opening the baseline: %w", err)
	}
	// Whoever dies meanwhile leaves a journal, from which the next one brings back what was there.
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=synchronous(OFF)&_pragma=journal_mode(DELETE)"+
		"&_pragma=busy_timeout(5000)&_txlock=immediate")
	if err != nil {
		return nil, fmt.Errorf("opening the baseline: %w", err)
	}
	db.SetMaxOpenConns(1)
	b := &Baseline{db}
	if err := b.convert(); err != nil {
		return nil, errors.Join(fmt.Errorf("opening the baseline: %w", err), b.Close())
	}
	return b, nil
}

// Close closes the file.
func (b *Baseline) Close() error { return b.db.Close() }

// RowWriter takes the rows of one table.
type RowWriter struct {
	b     *Baseline
	table string
	buf   []byte
}

// Rows begins a table, forgetting what was there of it.
func (b *Baseline) Rows(ctx context.Context, table string) (*RowWriter, error) {
	return b.rows(ctx, table, "DELETE FROM rows WHERE tbl = ?1 OR substr(tbl, 1, length(?1) + 1) = ?1 || char(10)")
}

// Part begins a part of a table, forgetting what was there of it.
func (b *Baseline) Part(ctx context.Context, table, part string) (*RowWriter, error) {
	return b.rows(ctx, table+"\n"+part, "DELETE FROM rows WHERE tbl = ?1")
}

func (b *Baseline) rows(ctx context.Context, name, forget string) (*RowWriter, error) {
	if _, err := b.db.ExecContext(ctx, forget, name); err != nil {
		return nil, fmt.Errorf("writing the baseline: %w", err)
	}
	return &RowWriter{b: b, table: name}, nil
}

// KeepParts forgets the parts of a table that are not in the list.
func (b *Baseline) KeepParts(ctx context.Context, table string, keep []string) error {
	have, err := b.parts(ctx, table)
	if err != nil {
		return err
	}
	for _, p := range have {
		if !slices.Contains(keep, p) {
			if _, err := b.rows(ctx, table+"\n"+p, "DELETE FROM rows WHERE tbl = ?1"); err != nil {
				return err
			}
		}
	}
	return nil
}

func (b *Baseline) parts(ctx context.Context, table string) (out []string, err error) {
	rows, err := b.db.QueryContext(ctx, "SELECT DISTINCT tbl FROM rows WHERE substr(tbl, 1, length(?1) + 1) = ?1 "+
		"|| char(10)", table)
	if err != nil {
		return nil, fmt.Errorf("reading the baseline: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, fmt.Errorf("reading the baseline: %w", err)
		}
		out = append(out, strings.TrimPrefix(name, table+"\n"))
	}
	return out, rows.Err()
}

// Put notes a row.
func (w *RowWriter) Put(ctx context.Context, key uint64, p Pair) error {
	w.buf = binary.LittleEndian.AppendUint64(w.buf, key)
	w.buf = binary.LittleEndian.AppendUint64(w.buf, p.Origin)
	w.buf = binary.LittleEndian.AppendUint64(w.buf, p.Copy)
	if len(w.buf) >= 24*8192 {
		return w.Close(ctx)
	}
	return nil
}

// Close writes what is left.
func (w *RowWriter) Close(ctx context.Context) error {
	if len(w.buf) == 0 {
		return nil
	}
	_, err := w.b.db.ExecContext(ctx, "INSERT INTO rows VALUES (?, ?)", w.table, w.buf)
	w.buf = w.buf[:0]
	if err != nil {
		return fmt.Errorf("writing the baseline: %w", err)
	}
	return nil
}

// Table gives the rows of a table by key.
func (b *Baseline) Table(ctx context.Context, table string) (map[uint64]Pair, error) {
	return b.Shard(ctx, table, tables.Shard{})
}

// Shard gives those of a part of a table's rows.
func (b *Baseline) Shard(ctx context.Context, table string, s tables.Shard) (map[uint64]Pair, error) {
	return b.read(ctx, ofTable, table, s)
}

// ofTable finds the rows of a table, whole or in parts.
const ofTable = "SELECT data FROM rows WHERE tbl = ?1 OR substr(tbl, 1, length(?1) + 1) = ?1 || char(10)"

// Pairs gives the rows of a part of a table by key.
func (b *Baseline) Pairs(ctx context.Context, table, part string) (map[uint64]Pair, error) {
	return b.read(ctx, "SELECT data FROM rows WHERE tbl = ?1", table+"\n"+part, tables.Shard{})
}

func (b *Baseline) read(ctx context.Context, query, name string, s tables.Shard) (map[uint64]Pair, error) {
	out := map[uint64]Pair{}
	return out, b.each(ctx, query, name, func(key uint64, p Pair) {
		if s.Has(key) {
			out[key] = p
		}
	})
}

func (b *Baseline) each(ctx context.Context, query, name string, give func(key uint64, p Pair)) error {
	rows, err := b.db.QueryContext(ctx, query, name)
	if err != nil {
		return fmt.Errorf("reading the baseline: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var d []byte
		if err := rows.Scan(&d); err != nil {
			return fmt.Errorf("reading the baseline: %w", err)
		}
		for ; len(d) >= 24; d = d[24:] {
			give(binary.LittleEndian.Uint64(d),
				Pair{binary.LittleEndian.Uint64(d[8:]), binary.LittleEndian.Uint64(d[16:])})
		}
	}
	return rows.Err()
}

// Total counts the rows of a table and adds up their digests on either side, modulo 2^64, as tables.Summer does.
func (b *Baseline) Total(ctx context.Context, table string) (rows int64, sum Pair, err error) {
	err = b.each(ctx, ofTable, table, func(_ uint64, p Pair) {
		rows, sum.Origin, sum.Copy = rows+1, sum.Origin+p.Origin, sum.Copy+p.Copy
	})
	return rows, sum, err
}

// Amend notes some rows of a table anew, and forgets those of gone, all at one moment.
func (b *Baseline) Amend(ctx context.Context, table string, rows map[uint64]Pair, gone []uint64) error {
	tx, err := b.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("writing the baseline: %w", err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	if err := errors.Join(amend(ctx, tx, table, rows, gone), unsee(ctx, tx, table)); err != nil {
		return fmt.Errorf("writing the baseline: %w", err)
	}
	return tx.Commit()
}

func amend(ctx context.Context, tx *sql.Tx, table string, rows map[uint64]Pair, gone []uint64) error {
	found, err := tx.QueryContext(ctx, "SELECT rowid, data FROM rows WHERE tbl = ?1 OR "+
		"substr(tbl, 1, length(?1) + 1) = ?1 || char(10)", table)
	if err != nil {
		return err
	}
	defer found.Close()
	changed := map[int64][]byte{}
	for found.Next() {
		var id int64
		var data, left []byte
		if err := found.Scan(&id, &data); err != nil {
			return err
		}
		for d := data; len(d) >= 24; d = d[24:] {
			key := binary.LittleEndian.Uint64(d)
			if _, anew := rows[key]; !anew && !slices.Contains(gone, key) {
				left = append(left, d[:24]...)
			}
		}
		if len(left) < len(data) {
			changed[id] = left
		}
	}
	if err := found.Err(); err != nil {
		return err
	}
	for id, left := range changed {
		q, args := "UPDATE rows SET data = ? WHERE rowid = ?", []any{left, id}
		if len(left) == 0 {
			q, args = "DELETE FROM rows WHERE rowid = ?", []any{id}
		}
		if _, err := tx.ExecContext(ctx, q, args...); err != nil {
			return err
		}
	}
	var add []byte
	for key, p := range rows {
		add = binary.LittleEndian.AppendUint64(add, key)
		add = binary.LittleEndian.AppendUint64(add, p.Origin)
		add = binary.LittleEndian.AppendUint64(add, p.Copy)
	}
	if len(add) > 0 {
		_, err = tx.ExecContext(ctx, "INSERT INTO rows VALUES (?, ?)", table, add)
	}
	return err
}

// PutMeta notes what is about the whole.
func (b *Baseline) PutMeta(ctx context.Context, m Meta) error {
	doc, err := json.Marshal(m)
	if err != nil {
		return err
	}
	_, err = b.db.ExecContext(ctx, "DELETE FROM meta; INSERT INTO meta VALUES (?)", string(doc))
	return err
}

// Meta reads what is about the whole.
func (b *Baseline) Meta(ctx context.Context) (Meta, error) {
	var m Meta
	var doc []byte
	if err := b.db.QueryRowContext(ctx, "SELECT doc FROM meta").Scan(&doc); err != nil {
		return m, fmt.Errorf("reading the baseline: %w", err)
	}
	return m, json.Unmarshal(doc, &m)
}

// Count is how many rows of a table are noted.
func (b *Baseline) Count(ctx context.Context, table string) (n int64, err error) {
	err = b.db.QueryRowContext(
		ctx,
		"SELECT COALESCE(SUM(length(data) / 24), 0) FROM rows WHERE tbl = ?1 OR substr(tbl, 1, length(?1) + 1) = ?1 "+
			"|| char(10)",
		table,
	).
		Scan(&n)
	if err != nil {
		return 0, fmt.Errorf("reading the baseline: %w", err)
	}
	return n, nil
}
