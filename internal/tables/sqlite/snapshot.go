package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"runtime"
	"slices"
	"strings"

	_ "modernc.org/sqlite" // the driver, in Go

	"alibi/internal/tables"
)

// connect opens a file in a mode (ro, rw, rwc) with pragmas.
func connect(path, mode string, pragmas ...string) (*sql.DB, error) {
	q := url.Values{"mode": {mode}, "_pragma": pragmas}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+q.Encode())
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	return db, nil
}

// name quotes an identifier.
func name(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }

type snapshot struct {
	dir    string
	db     *sql.DB
	schema tables.Schema
}

func openImage(ctx context.Context, dir, image string) (*snapshot, error) {
	db, err := connect(image, "rw", "trusted_schema(0)", "cell_size_check(1)", "mmap_size(1073741824)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(max(2, runtime.NumCPU()))
	s := &snapshot{dir: dir, db: db}
	var check string
	if err := db.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&check); err != nil || check != "ok" {
		db.Close()
		if err == nil {
			err = fmt.Errorf("%s", check)
		}
		return nil, fmt.Errorf("%w: %w; a copy of it would be damaged too, so restore it first", tables.ErrDamaged, err)
	}
	if s.schema, err = readSchema(ctx, db); err != nil {
		db.Close()
		return nil, fmt.Errorf("reading the schema: %w", err)
	}
	return s, nil
}

func (s *snapshot) Schema() tables.Schema { return s.schema }
func (s *snapshot) Readers() int          { return max(2, runtime.NumCPU()) }

// Digest digests the row here.
func (s *snapshot) Digest(_ string, r tables.Row, buf []byte) (tables.Digest, []byte) {
	return r.Digest(buf)
}

func (s *snapshot) Close() error {
	err := s.db.Close()
	if rerr := os.RemoveAll(s.dir); err == nil {
		err = rerr
	}
	return err
}

// settings of the database as a whole that a copy keeps.
var settings = []string{"encoding", "page_size", "user_version", "application_id", "auto_vacuum"}

func readSchema(ctx context.Context, db *sql.DB) (tables.Schema, error) {
	sc := tables.Schema{Engine: "sqlite", Settings: map[string]string{}}
	for _, p := range settings {
		var v string
		if err := db.QueryRowContext(ctx, "PRAGMA "+p).Scan(&v); err != nil {
			return sc, err
		}
		sc.Settings[p] = v
	}
	rows, err := db.QueryContext(ctx, `SELECT type, name, tbl_name, coalesce(sql, '') FROM sqlite_master
		WHERE name NOT LIKE 'sqlite\_%' ESCAPE '\' OR name = 'sqlite_sequence' ORDER BY rowid`)
	if err != nil {
		return sc, err
	}
	defer rows.Close()
	for rows.Next() {
		var o tables.Object
		if err := rows.Scan(&o.Kind, &o.Name, &o.Table, &o.SQL); err != nil {
			return sc, err
		}
		switch {
		case o.Kind == "table" && isVirtual(o.SQL):
			o.Kind = "virtual"
			sc.After = append(sc.After, o)
		case o.Kind == "table":
			sc.Tables = append(sc.Tables, tables.Table{Name: o.Name, Create: o.SQL})
		case o.SQL != "": // automatic indexes have none
			sc.After = append(sc.After, o)
		}
	}
	if err := rows.Err(); err != nil {
		return sc, err
	}
	for i := range sc.Tables {
		if err := describe(ctx, db, &sc.Tables[i]); err != nil {
			return sc, fmt.Errorf("table %s: %w", sc.Tables[i].Name, err)
		}
	}
	return sc, counters(ctx, db, sc.Tables)
}

// counters notes the numbers that the tables' next rows get.
func counters(ctx context.Context, db *sql.DB, list []tables.Table) error {
	if !slices.ContainsFunc(list, func(t tables.Table) bool { return t.Counters }) {
		return nil
	}
	rows, err := db.QueryContext(ctx, "SELECT name, seq + 1 FROM sqlite_sequence")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var table, seq string
		if err := rows.Scan(&table, &seq); err != nil {
			return err
		}
		if i := slices.IndexFunc(list, func(t tables.Table) bool { return t.Name == table }); i >= 0 {
			list[i].Definition[tables.Next] = seq
		}
	}
	return rows.Err()
}

func isVirtual(sql string) bool {
	w := strings.Fields(strings.ToUpper(sql))
	return len(w) > 1 && w[0] == "CREATE" && w[1] == "VIRTUAL"
}

// describe fills in a table's columns, key and size.
func describe(ctx context.Context, db *sql.DB, t *tables.Table) error {
	rows, err := db.QueryContext(ctx, "SELECT name, type, pk, hidden, \"notnull\", coalesce(dflt_value, '') FROM "+
		"pragma_table_xinfo(?) ORDER BY cid", t.Name)
	if err != nil {
		return err
	}
	defer rows.Close()
	keys := map[int]string{}
	integerKey, whole := false, true
	t.Definition = tables.Definition{tables.Whole: strings.Join(strings.Fields(t.Create), " ")}
	for rows.Next() {
		var c tables.Column
		var pk, hidden, notNull int
		var def string
		if err := rows.Scan(&c.Name, &c.Type, &pk, &hidden, &notNull, &def); err != nil {
			return err
		}
		t.Definition["column "+c.Name] = columnText(c.Type, pk, notNull, def)
		if pk > 0 {
			keys[pk] = c.Name
			integerKey = strings.EqualFold(c.Type, "INTEGER")
			whole = whole && notNull != 0
		}
		if hidden == 0 {
			t.Columns = append(t.Columns, c)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if t.Name == "sqlite_sequence" { // SQLite's own counters: their order means nothing
		t.Key, t.Counters = []string{"name"}, true
	} else if withoutRowid(ctx, db, t.Name) || len(keys) == 1 && integerKey {
		t.Key = inOrder(keys)
	} else {
		alias := freeRowid(t.Columns)
		t.Key, t.Hidden = []string{alias}, true
		if whole { // SQLite lets parts of a key be NULL, any number of times
			t.Declared = inOrder(keys)
		}
	}
	return db.QueryRowContext(ctx, "SELECT count(*), coalesce((SELECT sum(pgsize) FROM dbstat WHERE name = "+
		"?), 0) FROM "+name(t.Name), t.Name).Scan(&t.Rows, &t.Bytes)
}

// inOrder lists the columns of a key, which are counted from 1.
func inOrder(keys map[int]string) (out []string) {
	for i := 1; i <= len(keys); i++ {
		out = append(out, keys[i])
	}
	return out
}

// columnText says what a column is.
func columnText(kind string, pk, notNull int, def string) string {
	s := strings.ToUpper(kind)
	if notNull != 0 {
		s += " NOT NULL"
	}
	if def != "" {
		s += " DEFAULT " + def
	}
	if pk > 0 {
		s += fmt.Sprintf(" PRIMARY KEY, part %d", pk)
	}
	return strings.TrimSpace(s)
}

func withoutRowid(ctx context.Context, db *sql.DB, table string) bool {
	var wr int
	err := db.QueryRowContext(ctx, "SELECT wr FROM pragma_table_list(?) WHERE schema = 'main'", table).Scan(&wr)
	return err == nil && wr == 1
}

// freeRowid is a name for the row number that no column has taken.
func freeRowid(cols []tables.Column) string {
	for _, n := range []string{"rowid", "_rowid_", "oid"} {
		taken := false
		for _, c := range cols {
			taken = taken || strings.EqualFold(c.Name, n)
		}
		if !taken {
			return n
		}
	}
	return "rowid"
}

// Ranges walks the key and takes every rows-th.
func (s *snapshot) Ranges(ctx context.Context, table string, rows int) ([]tables.Range, error) {
	t, ok := s.schema.Table(table)
	if !ok {
		return nil, fmt.Errorf("no table %s in the snapshot", table)
	}
	if t.Rows <= int64(rows) {
		return []tables.Range{{}}, nil
	}
	keys := exprs(t.Key)
	q := fmt.Sprintf("SELECT %s FROM (SELECT %s, row_number() OVER (ORDER BY %s) AS alibi_n FROM %s) WHERE "+
		"alibi_n %% %d = 0", strings.Join(aliases(len(t.Key)), ", "), aliased(keys), strings.Join(keys, ", "),
		name(t.Name), rows)
	var out []tables.Range
	var last []tables.Value
	err := s.query(ctx, q, nil, len(t.Key), func(vals []tables.Value) error {
		bound := tables.Keep(vals)
		out = append(out, tables.Range{After: last, To: bound})
		last = bound
		return nil
	})
	return append(out, tables.Range{After: last}), err
}

func exprs(cols []string) []string {
	out := make([]string, len(cols))
	for i, c := range cols {
		out[i] = "+" + name(c) // an expression has no declared type, so the driver interprets nothing
	}
	return out
}

func aliases(n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprintf("+alibi_%d", i)
	}
	return out
}

func aliased(keys []string) string {
	out := make([]string, len(keys))
	for i, k := range keys {
		out[i] = fmt.Sprintf("%s AS alibi_%d", k, i)
	}
	return strings.Join(out, ", ")
}

// Read streams a range.
func (s *snapshot) Read(ctx context.Context, table string, r tables.Range, give func(tables.Row) error) error {
	t, ok := s.schema.Table(table)
	if !ok {
		return fmt.Errorf("no table %s in the snapshot", table)
	}
	cols := append([]string(nil), t.Key...)
	for _, c := range t.Columns {
		cols = append(cols, c.Name)
	}
	tuple := "(" + quoted(t.Key) + ")"
	var where []string
	var args []any
	bound := func(op string, vals []tables.Value) {
		if vals == nil {
			return
		}
		where = append(where, tuple+op+"("+strings.TrimSuffix(strings.Repeat("?, ", len(vals)), ", ")+")")
		for _, v := range vals {
			args = append(args, arg(v))
		}
	}
	bound(" > ", r.After)
	bound(" <= ", r.To)
	q := "SELECT " + strings.Join(exprs(cols), ", ") + " FROM " + name(t.Name)
	if len(where) > 0 {
		q += " WHERE " + strings.Join(where, " AND ")
	}
	q += " ORDER BY " + quoted(t.Key)
	n := len(t.Key)
	return s.query(ctx, q, args, len(cols), func(v []tables.Value) error {
		return give(tables.Row{Key: v[:n], Values: v[n:]})
	})
}

func quoted(cols []string) string {
	out := make([]string, len(cols))
	for i, c := range cols {
		out[i] = name(c)
	}
	return strings.Join(out, ", ")
}

// query runs q and gives each row's n values; they are valid during the call.
func (s *snapshot) query(ctx context.Context, q string, args []any, n int, give func([]tables.Value) error) error {
	return rowsOf(ctx, s.db, q, args, n, give)
}

// asker is a database, or one connection to it.
type asker interface {
	QueryContext(ctx context.Context, q string, args ...any) (*sql.Rows, error)
}

func rowsOf(ctx context.Context, db asker, q string, args []any, n int, give func([]tables.Value) error) error {
	rows, err := db.QueryContext(ctx, q, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	cells := make([]any, n)
	dest := make([]any, n)
	for i := range dest {
		dest[i] = &cells[i]
	}
	vals := make([]tables.Value, n)
	for rows.Next() {
		if err := rows.Scan(dest...); err != nil {
			return err
		}
		for i, c := range cells {
			vals[i] = value(c)
		}
		if err := give(vals); err != nil {
			return err
		}
	}
	return rows.Err()
}

func value(c any) tables.Value {
	switch c := c.(type) {
	case int64:
		return tables.Value{Kind: tables.Int, Int: c}
	case float64:
		return tables.Value{Kind: tables.Float, Float: c}
	case string:
		return tables.Value{Kind: tables.Text, Bytes: []byte(c)}
	case []byte:
		return tables.Value{Kind: tables.Blob, Bytes: c}
	}
	return tables.Value{}
}

// arg is a value as the driver takes it.
func arg(v tables.Value) any {
	switch v.Kind {
	case tables.Int:
		return v.Int
	case tables.Float:
		return v.Float
	case tables.Text:
		return string(v.Bytes)
	case tables.Blob:
		if v.Bytes == nil {
			return []byte{}
		}
		return v.Bytes
	}
	return nil
}
