package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"alibi/internal/tables"
)

// progressTable keeps which tables are loaded, in the target itself, so that
// it can't disagree with what is there. Finish removes it.
const progressTable = "alibi_loaded"

// Target is a database file on this machine that is being filled.
type Target struct {
	path   string
	db     *sql.DB
	schema tables.Schema
}

// NewTarget fills the file at path, which appears when Begin is called.
func NewTarget(path string) *Target { return &Target{path: path} }

// Begin opens the file or, if what is there can't be gone on with, begins it anew.
func (t *Target) Begin(ctx context.Context, s tables.Schema) ([]string, error) {
	t.schema = s
	loaded, err := t.goOn(ctx)
	if err == nil {
		return loaded, nil
	}
	if err := t.Close(); err != nil {
		return nil, err
	}
	for _, suffix := range []string{"", "-wal", "-shm", "-journal"} {
		if err := os.Remove(t.path + suffix); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("clearing %s: %w", t.path, err)
		}
	}
	if err := t.open(ctx, "rwc"); err != nil {
		return nil, err
	}
	for _, p := range settings {
		if v := s.Settings[p]; v != "" {
			if _, err := t.db.ExecContext(ctx, fmt.Sprintf("PRAGMA %s = %s", p, pragmaValue(v))); err != nil {
				return nil, fmt.Errorf("setting %s: %w", p, err)
			}
		}
	}
	if _, err := t.db.ExecContext(ctx, "PRAGMA journal_mode = WAL"); err != nil {
		return nil, fmt.Errorf("making %s: %w", t.path, err)
	}
	for _, tab := range s.Tables {
		if tab.Name == "sqlite_sequence" {
			continue // made by SQLite with the first table that counts
		}
		if _, err := t.db.ExecContext(ctx, tab.Create); err != nil {
			return nil, fmt.Errorf("making table %s: %w", tab.Name, err)
		}
	}
	_, err = t.db.ExecContext(ctx, "CREATE TABLE "+progressTable+" (name TEXT PRIMARY KEY)")
	return nil, err
}

func pragmaValue(v string) string {
	for _, c := range v {
		if c < '0' || c > '9' {
			return "'" + strings.ReplaceAll(v, "'", "''") + "'"
		}
	}
	return v
}

func (t *Target) open(ctx context.Context, mode string) error {
	if f, err := os.OpenFile(t.path, os.O_CREATE, 0o600); err != nil && mode == "rwc" {
		return fmt.Errorf("making %s: %w", t.path, err)
	} else if err == nil {
		f.Close()
	}
	db, err := connect(t.path, mode, "synchronous(OFF)", "foreign_keys(0)", "recursive_triggers(0)",
		"cache_size(-65536)", "busy_timeout(2000)")
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	t.db = db
	return db.PingContext(ctx)
}

// goOn opens what an earlier try left and says which tables it had loaded.
func (t *Target) goOn(ctx context.Context) ([]string, error) {
	if _, err := os.Stat(t.path); err != nil {
		return nil, err
	}
	if err := t.open(ctx, "rw"); err != nil {
		return nil, err
	}
	var check string
	if err := t.db.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&check); err != nil || check != "ok" {
		return nil, errors.Join(tables.ErrDamaged, err)
	}
	rows, err := t.db.QueryContext(ctx, "SELECT name FROM "+progressTable)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var loaded []string
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			return nil, err
		}
		loaded = append(loaded, n)
	}
	return loaded, rows.Err()
}

// batch is how many rows one transaction holds.
const batch = 5000

// Load fills a table.
func (t *Target) Load(ctx context.Context, table string, next func(put func(tables.Row) error) error) error {
	tab, ok := t.schema.Table(table)
	if !ok {
		return fmt.Errorf("no table %s to load", table)
	}
	if _, err := t.db.ExecContext(ctx, "DELETE FROM "+name(table)); err != nil {
		return fmt.Errorf("emptying %s: %w", table, err)
	}
	l := loader{ctx: ctx, db: t.db, insert: insertFor(tab), hidden: tab.Hidden}
	err := next(l.put)
	if err == nil {
		err = l.exec("INSERT INTO "+progressTable+" VALUES (?)", table)
	}
	if err == nil {
		err = l.commit()
	}
	if err != nil {
		l.rollback()
		return fmt.Errorf("loading table %s: %w", table, err)
	}
	return nil
}

func insertFor(t tables.Table) string {
	var cols []string
	if t.Hidden {
		cols = append(cols, t.Key...)
	}
	for _, c := range t.Columns {
		cols = append(cols, c.Name)
	}
	return "INSERT INTO " + name(t.Name) + " (" + quoted(cols) + ") VALUES (" +
		strings.TrimSuffix(strings.Repeat("?, ", len(cols)), ", ") + ")"
}

// loader puts rows in transactions of batch rows.
type loader struct {
	ctx    context.Context
	db     *sql.DB
	insert string
	hidden bool
	tx     *sql.Tx
	stmt   *sql.Stmt
	n      int
	args   []any
}

func (l *loader) begin() (err error) {
	if l.tx != nil {
		return nil
	}
	if l.tx, err = l.db.BeginTx(l.ctx, nil); err != nil {
		return err
	}
	l.stmt, err = l.tx.PrepareContext(l.ctx, l.insert)
	return err
}

func (l *loader) put(r tables.Row) error {
	if err := l.begin(); err != nil {
		return err
	}
	l.args = l.args[:0]
	if l.hidden {
		for _, k := range r.Key {
			l.args = append(l.args, arg(k))
		}
	}
	for _, v := range r.Values {
		l.args = append(l.args, arg(v))
	}
	if _, err := l.stmt.ExecContext(l.ctx, l.args...); err != nil {
		return fmt.Errorf("row %s: %w", r.Address(), err)
	}
	if l.n++; l.n%batch == 0 {
		return l.commit()
	}
	return nil
}

func (l *loader) exec(sql string, args ...any) error {
	if err := l.begin(); err != nil {
		return err
	}
	_, err := l.tx.ExecContext(l.ctx, sql, args...)
	return err
}

func (l *loader) commit() error {
	if l.tx == nil {
		return nil
	}
	err := l.tx.Commit()
	l.tx = nil
	return err
}

func (l *loader) rollback() {
	if l.tx != nil {
		_ = l.tx.Rollback()
		l.tx = nil
	}
}

// Finish makes what comes after the rows. Making something twice does no harm,
// so a finish that was broken off can be called again.
func (t *Target) Finish(ctx context.Context) error {
	have := map[string]bool{}
	rows, err := t.db.QueryContext(ctx, "SELECT type || ' ' || name FROM sqlite_master")
	if err != nil {
		return err
	}
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			rows.Close()
			return err
		}
		have[n] = true
	}
	rows.Close()
	for _, o := range t.schema.After {
		switch {
		case o.Kind == "virtual" && !have["table "+o.Name]:
			err = t.virtual(ctx, o)
		case o.Kind != "virtual" && !have[o.Kind+" "+o.Name]:
			_, err = t.db.ExecContext(ctx, o.SQL)
		}
		if err != nil {
			return fmt.Errorf("making %s %s: %w", o.Kind, o.Name, err)
		}
	}
	for _, q := range []string{"DROP TABLE IF EXISTS " + progressTable, "PRAGMA journal_mode = DELETE"} {
		if _, err := t.db.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("finishing: %w", err)
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	f, err := os.OpenFile(t.path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// virtual enters a virtual table over the shadow tables that were copied row
// by row: CREATE would make empty ones.
func (t *Target) virtual(ctx context.Context, o tables.Object) error {
	for _, q := range []string{"PRAGMA writable_schema = ON", "", "PRAGMA writable_schema = RESET"} {
		var err error
		if q == "" {
			_, err = t.db.ExecContext(ctx, "INSERT INTO sqlite_master (type, name, tbl_name, rootpage, sql) VALUES "+
				"('table', ?, ?, 0, ?)", o.Name, o.Name, o.SQL)
		} else {
			_, err = t.db.ExecContext(ctx, q)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Close closes the file.
func (t *Target) Close() error {
	if t.db == nil {
		return nil
	}
	err := t.db.Close()
	t.db = nil
	return err
}
