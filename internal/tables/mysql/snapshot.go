package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"sync"

	"alibi/internal/host/pace"
	"alibi/internal/tables"
)

// usualReaders is how many connections a snapshot uses where the server lets
// several see the same state: few enough not to be felt.
const usualReaders = 2

// snapshot is one state, seen through one connection or several.
type snapshot struct {
	*shape
	login    Login
	database string
	under    under
	since    string // what the server's clock said just before
	pool     *sql.DB
	guard    *guard
	conns    []conn
	free     chan conn

	mu     sync.Mutex
	shares map[share]float64 // of rows that a search finds
}

// Snapshot opens a read-only transaction that sees one state; no lock is taken
// and nobody waits. Several connections see the same state if no transaction
// was written between them, which the server's own count tells.
func (d *Database) Snapshot(ctx context.Context) (tables.Snapshot, error) {
	want := d.Readers
	if want == 0 {
		want = usualReaders
	}
	login := d.login
	var g *gentle
	if c := pace.CalmOf(ctx); c != nil {
		g = &gentle{calm: c}
		login.asked = &g.own
	}
	pool, err := login.pool(d.name, want, map[string]string{ownRetries: ""})
	if err != nil {
		return nil, err
	}
	s := &snapshot{
		login:    login,
		database: d.name,
		under:    d.under,
		pool:     pool,
		guard:    newGuard(login),
		shares:   map[share]float64{},
	}
	s.guard.gentle = g
	if err := s.begin(ctx, want); err != nil {
		s.Close()
		return nil, fmt.Errorf("reading the database %s as %s: %w", d.name, d.login, explain(err))
	}
	err = s.statement(ctx, s.conns[0], func() error {
		s.shape, err = readShape(ctx, s.conns[0], d.name, d.under)
		return err
	})
	if err == nil {
		err = s.count(ctx)
	}
	if err != nil {
		s.Close()
		return nil, fmt.Errorf("reading the database %s: %w", d.name, explain(err))
	}
	s.free = make(chan conn, len(s.conns))
	for _, c := range s.conns {
		s.free <- c
	}
	return s, nil
}

// begin opens as many connections as see one state, at most want.
func (s *snapshot) begin(ctx context.Context, want int) error {
	for len(s.conns) < want {
		c, err := s.pool.Conn(ctx)
		if err != nil && len(s.conns) == 0 {
			return err
		}
		if err != nil {
			break // fewer connections are allowed
		}
		id, err := connection(ctx, c)
		if err != nil {
			c.Close()
			return err
		}
		s.conns = append(s.conns, conn{c, id})
	}
	for range 5 {
		before := transactions(ctx, s.conns[0].Conn)
		now, err := clock(ctx, s.conns[0].Conn)
		if err != nil {
			return err
		}
		s.since = now
		for _, c := range s.conns {
			if err := start(ctx, c.Conn); err != nil {
				return err
			}
		}
		if len(s.conns) == 1 || before != "" && transactions(ctx, s.conns[0].Conn) == before {
			return nil
		}
	}
	for _, c := range s.conns[1:] {
		c.Close()
	}
	s.conns = s.conns[:1]
	return nil
}

func start(ctx context.Context, c *sql.Conn) error {
	for _, q := range []string{"ROLLBACK", "SET TRANSACTION ISOLATION LEVEL REPEATABLE READ",
		"START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY", "SAVEPOINT " + savepoint} {
		if _, err := c.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// transactions is the server's count of writing transactions, "" where it
// keeps it to itself.
func transactions(ctx context.Context, c *sql.Conn) string {
	var n, v string
	if err := c.QueryRowContext(ctx, "SHOW GLOBAL STATUS LIKE 'Innodb_max_trx_id'").Scan(&n, &v); err != nil {
		return ""
	}
	return v
}

// count counts the rows of every table.
func (s *snapshot) count(ctx context.Context) error {
	for i := range s.Tables {
		t := &s.Tables[i]
		err := s.statement(ctx, s.conns[0], func() error {
			return s.conns[0].QueryRowContext(ctx, "SELECT COUNT(*) FROM "+at(*t)).Scan(&t.Rows)
		})
		if err != nil {
			return fmt.Errorf("counting %s: %w", t.Name, err)
		}
	}
	return nil
}

// Loose tells that its connections hold no transaction.
func (s *snapshot) Loose() bool { return s.login.Through != nil }

// Identity tells which server the snapshot is on, as Login's does.
func (s *snapshot) Identity(ctx context.Context) (string, error) { return s.login.Identity(ctx) }

func (s *snapshot) Schema() tables.Schema { return s.shape.Schema }
func (s *snapshot) Readers() int          { return len(s.conns) }

func (s *snapshot) Close() error {
	s.guard.close()
	for _, c := range s.conns {
		_, _ = c.ExecContext(context.Background(), "ROLLBACK") // a broken connection has ended by itself
		c.Close()
	}
	return s.pool.Close()
}

// lend gives a connection for the time of use.
func (s *snapshot) lend(ctx context.Context, use func(conn) error) error {
	select {
	case c := <-s.free:
		defer func() { s.free <- c }()
		return explainReading(use(c))
	case <-ctx.Done():
		return ctx.Err()
	}
}

// short does something short on a connection, and gives its locks back.
func (s *snapshot) short(ctx context.Context, do func(conn) error) error {
	return s.lend(ctx, func(c conn) error {
		return s.statement(ctx, c, func() error { return do(c) })
	})
}

func (s *snapshot) table(n string) (tables.Table, []column, error) {
	t, ok := s.Table(n)
	if !ok {
		return t, nil, fmt.Errorf("no table %s in the snapshot", n)
	}
	return t, s.columns[n], nil
}

// keyColumns are the columns of a table's key, nil if ranges can't be cut by it.
func keyColumns(t tables.Table, cols []column) []column {
	var out []column
	for _, k := range t.Key {
		i := t.Column(k)
		if !cols[i].ordered() {
			return nil
		}
		out = append(out, cols[i])
	}
	return out
}

// Ranges walks the key in steps of rows.
func (s *snapshot) Ranges(ctx context.Context, table string, rows int) ([]tables.Range, error) {
	t, cols, err := s.table(table)
	if err != nil {
		return nil, err
	}
	keys := keyColumns(t, cols)
	if len(keys) == 0 || t.Rows <= int64(rows) {
		return []tables.Range{{}}, nil
	}
	var out []tables.Range
	var last []tables.Value
	err = s.lend(ctx, func(c conn) error {
		for {
			bound, err := s.bound(ctx, c, t, keys, tables.Range{After: last}, rows)
			if err != nil || bound == nil {
				return err
			}
			out = append(out, tables.Range{After: last, To: bound})
			last = bound
		}
	})
	return append(out, tables.Range{After: last}), err
}

// bound is the key of the n-th row of a range; nil if there are fewer.
func (s *snapshot) bound(
	ctx context.Context,
	c conn,
	t tables.Table,
	keys []column,
	r tables.Range,
	n int,
) (out []tables.Value, err error) {
	q := "SELECT " + exprs(keys) + " FROM " + at(t) + where(keys, r) + " ORDER BY " + names(t.Key) +
		fmt.Sprintf(" LIMIT 1 OFFSET %d", n-1)
	err = s.statement(ctx, c, func() error {
		out = nil
		return each(ctx, c, q, keys, func(v []tables.Value) error {
			out = tables.Keep(v)
			return nil
		})
	})
	return out, err
}

func exprs(cols []column) string {
	out := make([]string, len(cols))
	for i, c := range cols {
		out[i] = c.expr()
	}
	return strings.Join(out, ", ")
}

// where is the condition of a range, written so that an index serves it.
func where(keys []column, r tables.Range) string {
	var all []string
	if r.After != nil {
		all = append(all, beyond(keys, r.After, " > "))
	}
	if r.To != nil {
		all = append(all, "NOT "+beyond(keys, r.To, " > "))
		all = append(all, name(keys[0].Name)+" <= "+keys[0].bound(r.To[0])) // for the index
	}
	if len(all) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(all, " AND ")
}

// beyond compares a key of several columns: (a > x OR a = x AND (b > y)).
func beyond(keys []column, v []tables.Value, op string) string {
	k, x := name(keys[0].Name), keys[0].bound(v[0])
	if len(keys) == 1 {
		return "(" + k + op + x + ")"
	}
	return "(" + k + " >= " + x + " AND (" + k + op + x + " OR " + k + " = " + x + " AND " +
		beyond(keys[1:], v[1:], op) + "))"
}

// each runs a query whose columns are cols and gives each row's values; they
// are valid during the call.
func each(ctx context.Context, c queryer, q string, cols []column, give func([]tables.Value) error) error {
	rows, err := c.QueryContext(ctx, q)
	if err != nil {
		return err
	}
	defer rows.Close()
	cells := make([]sql.RawBytes, len(cols))
	dest := make([]any, len(cols))
	for i := range dest {
		dest[i] = &cells[i]
	}
	vals := make([]tables.Value, len(cols))
	for rows.Next() {
		if err := rows.Scan(dest...); err != nil {
			return err
		}
		for i, cell := range cells {
			vals[i] = cols[i].value(cell)
		}
		if err := give(vals); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Read streams a range in the order of the key, or a table without one as the
// server gives it.
func (s *snapshot) Read(ctx context.Context, table string, r tables.Range, give func(tables.Row) error) error {
	t, cols, err := s.table(table)
	if err != nil {
		return err
	}
	keyAt, row := keyed(t)
	p := paged{t: t, cols: cols, keyAt: keyAt, head: "SELECT " + exprs(cols) + " FROM " + at(t)}
	return s.pages(ctx, p, r, func(v []tables.Value) error { return give(row(v)) })
}

// keyed tells where a table's columns have its key, and gives the function that
// makes a row of their values.
func keyed(t tables.Table) (keyAt []int, row func([]tables.Value) tables.Row) {
	keyAt = make([]int, len(t.Key))
	for i, k := range t.Key {
		keyAt[i] = t.Column(k)
	}
	key := make([]tables.Value, len(keyAt))
	return keyAt, func(v []tables.Value) tables.Row {
		for i, k := range keyAt {
			key[i] = v[k]
		}
		return tables.Row{Key: key, Values: v}
	}
}

// Digest is the digest that the server computes too.
func (s *snapshot) Digest(table string, r tables.Row, buf []byte) (tables.Digest, []byte) {
	return digest(s.columns[table], r, buf)
}

// Digester gives the function that digests rows of a schema that was read
// earlier, as a snapshot of it would.
func Digester(s tables.Schema) func(table string, r tables.Row, buf []byte) (tables.Digest, []byte) {
	cols := make(map[string][]column, len(s.Tables))
	for _, t := range s.Tables {
		for _, c := range t.Columns {
			cols[t.Name] = append(cols[t.Name], newColumn(c))
		}
	}
	return func(table string, r tables.Row, buf []byte) (tables.Digest, []byte) {
		return digest(cols[table], r, buf)
	}
}
