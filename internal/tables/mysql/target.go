package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"alibi/internal/tables"
)

// progressTable keeps which tables are loaded, in the target itself, so that
// it can't disagree with what is there. Finish removes it.
const progressTable = "alibi_loaded"

// Target is a database that is being filled. The database must be there; its
// account may do in it what it likes.
type Target struct {
	login  Login
	owner  Login
	name   string
	pool   *sql.DB
	under  under
	schema tables.Schema
	packet int
}

// progress is the table of what is loaded.
func (t *Target) progress() string { return name(t.under.stored + progressTable) }

// NewTarget fills a database as one account, and makes views, triggers,
// routines and events as another, which becomes their definer.
func NewTarget(l, owner Login, database string) *Target {
	return &Target{login: l, owner: owner, name: database}
}

// Begin makes the tables, or goes on with those of the same schema that an
// earlier try left.
func (t *Target) Begin(ctx context.Context, s tables.Schema) (loaded []string, err error) {
	t.schema = s
	t.schema.Tables = nil
	for _, tab := range s.Tables {
		t.schema.Tables = append(t.schema.Tables, t.under.in(tab))
	}
	if t.pool, err = t.login.pool(t.name, 8, nil); err != nil {
		return nil, err
	}
	var packet int
	if err := t.pool.QueryRowContext(ctx, "SELECT @@max_allowed_packet").Scan(&packet); err != nil {
		return nil, fmt.Errorf("opening the database %s as %s: %w", t.name, t.login, explain(err))
	}
	t.packet = packet
	mark := ""
	for _, tab := range s.Tables {
		mark += tab.Create + "\n"
	}
	mark = digestText(mark)
	list, err := records(ctx, t.pool, "SELECT name FROM "+t.progress())
	if err == nil && len(list) > 0 {
		same := false
		for _, r := range list {
			if n := r["NAME"]; n == " "+mark {
				same = true
			} else {
				loaded = append(loaded, n)
			}
		}
		if same {
			return loaded, nil
		}
	}
	if err := t.clear(ctx); err != nil {
		return nil, fmt.Errorf("emptying the database %s: %w", t.name, explain(err))
	}
	if err := t.create(ctx, mark); err != nil {
		return nil, explain(err)
	}
	return nil, nil
}

// clear makes room for the tables.
func (t *Target) clear(ctx context.Context) error {
	if t.under.active() {
		return t.login.DropUnder(ctx, t.name, t.under.stored)
	}
	return t.empty(ctx)
}

// empty drops everything that is in the database.
func (t *Target) empty(ctx context.Context) error {
	c, err := t.pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	lists := []struct{ kind, q string }{
		{"VIEW", "SELECT TABLE_NAME AS N FROM information_schema.VIEWS WHERE TABLE_SCHEMA = ?"},
		{
			"TABLE",
			"SELECT TABLE_NAME AS N FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_TYPE <> 'VIEW'",
		},
		{
			"PROCEDURE",
			"SELECT ROUTINE_NAME AS N FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ? AND ROUTINE_TYPE = " +
				"'PROCEDURE'",
		},
		{
			"FUNCTION",
			"SELECT ROUTINE_NAME AS N FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ? AND ROUTINE_TYPE " +
				"= 'FUNCTION'",
		},
		{"EVENT", "SELECT EVENT_NAME AS N FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ?"},
	}
	for _, l := range lists {
		list, err := records(ctx, c, l.q, t.name)
		if err != nil {
			return err
		}
		for _, r := range list {
			if _, err := c.ExecContext(ctx, "DROP "+l.kind+" IF EXISTS "+name(r["N"])); err != nil {
				return err
			}
		}
	}
	return nil
}

func (t *Target) create(ctx context.Context, mark string) error {
	c, err := t.pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	for _, tab := range t.schema.Tables {
		if _, err := c.ExecContext(ctx, explicit(tab)); err != nil {
			return fmt.Errorf("making table %s: %w", tab.Name, err)
		}
	}
	if _, err := c.ExecContext(ctx, "CREATE TABLE "+t.progress()+
		" (name VARCHAR(250) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin PRIMARY KEY) ENGINE=InnoDB"); err != nil {
		return err
	}
	_, err = c.ExecContext(ctx, "INSERT INTO "+t.progress()+" VALUES (?)", " "+mark)
	return err
}

// statement is about how long a statement gets before it is sent, in bytes.
const statement = 1 << 20

// Load fills a table in one transaction. Several tables may be loaded at once.
func (t *Target) Load(ctx context.Context, table string, next func(put func(tables.Row) error) error) error {
	tab, ok := t.schema.Table(table)
	if !ok {
		return fmt.Errorf("no table %s to load", table)
	}
	return t.within(ctx, tab, nil, func(tx *sql.Tx) error {
		w := newWriter(ctx, tx, tab, "INSERT", t.packet)
		return w.flush(next(w.put))
	})
}

// LoadPart fills a range of a table in one transaction, in place of what is
// there of it, with a mark that it is; Begin names the marks of earlier tries.
// Several parts may be loaded at once.
func (t *Target) LoadPart(
	ctx context.Context,
	table, mark string,
	r tables.Range,
	next func(put func(tables.Row) error) error,
) error {
	tab, ok := t.schema.Table(table)
	if !ok {
		return fmt.Errorf("no table %s to load", table)
	}
	cols := make([]column, len(tab.Columns))
	for i, c := range tab.Columns {
		cols[i] = newColumn(c)
	}
	c, err := t.pool.Conn(ctx)
	if err != nil {
		return fmt.Errorf("loading table %s: %w", table, explain(err))
	}
	defer c.Close()
	return t.transaction(ctx, c, tab, mark, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM "+at(tab)+where(keyColumns(tab, cols), r)); err != nil {
			return err
		}
		w := newWriter(ctx, tx, tab, "INSERT", t.packet)
		return w.flush(next(w.put))
	})
}

// Loaded marks a table as loaded whole.
func (t *Target) Loaded(ctx context.Context, table string) error {
	_, err := t.pool.ExecContext(ctx, "REPLACE INTO "+t.progress()+" VALUES (?)", table)
	return explain(err)
}

// within empties a table, has first put something in by statements of their own,
// and has it filled in one transaction, with the mark that it is.
func (t *Target) within(
	ctx context.Context,
	tab tables.Table,
	first func(*sql.Conn) error,
	fill func(*sql.Tx) error,
) error {
	c, err := t.pool.Conn(ctx)
	if err != nil {
		return fmt.Errorf("loading table %s: %w", tab.Name, explain(err))
	}
	defer c.Close()
	if _, err := c.ExecContext(ctx, "TRUNCATE TABLE "+at(tab)); err != nil {
		return fmt.Errorf("emptying %s: %w", tab.Name, explain(err))
	}
	if q := setNext(tab); q != "" { // emptying it began to count anew
		if _, err := c.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("setting the next number of %s: %w", tab.Name, explain(err))
		}
	}
	if first != nil {
		if err := first(c); err != nil {
			return fmt.Errorf("loading table %s: %w", tab.Name, explain(err))
		}
	}
	return t.transaction(ctx, c, tab, tab.Name, fill)
}

// setNext is the statement by which a table gives the number that it is to give to its next row; "" if
// it gives none.
func setNext(t tables.Table) string {
	n, err := strconv.ParseUint(t.Definition[tables.Next], 10, 64)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("ALTER TABLE %s AUTO_INCREMENT = %d", at(t), n)
}

// SetNext has tables of a database give the numbers to their next rows that the same tables of another
// one give; with only raise, no lower ones than now.
func (l Login) SetNext(ctx context.Context, database string, is, want tables.Schema, onlyRaise bool) error {
	var list []string
	for _, t := range want.Tables {
		to, err := strconv.ParseUint(t.Definition[tables.Next], 10, 64)
		has, there := is.Table(t.Name)
		if err != nil || !there {
			continue
		}
		now, _ := strconv.ParseUint(has.Definition[tables.Next], 10, 64)
		if now < to || now > to && !onlyRaise {
			list = append(list, fmt.Sprintf("ALTER TABLE %s.%s AUTO_INCREMENT = %d", name(database), at(has), to))
		}
	}
	return l.do(ctx, "setting the next numbers of tables in "+database, list)
}

// transaction has a table filled, or a part of it, with a mark that it is.
func (t *Target) transaction(
	ctx context.Context,
	c *sql.Conn,
	tab tables.Table,
	mark string,
	fill func(*sql.Tx) error,
) error {
	tx, err := c.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelReadCommitted})
	if err != nil {
		return explain(err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	if _, err := tx.ExecContext(ctx, "SET @@check_constraint_checks = 0"); err != nil && number(err) != 1193 {
		return err
	}
	if err = fill(tx); err == nil {
		_, err = tx.ExecContext(ctx, "REPLACE INTO "+t.progress()+" VALUES (?)", mark)
	}
	if err == nil {
		err = tx.Commit()
	}
	if err != nil {
		return fmt.Errorf("loading table %s: %w", tab.Name, explain(err))
	}
	return nil
}

// writer gathers rows into statements. While the server works on one, the next
// is gathered.
type writer struct {
	exec   func(q string) error
	head   string
	cols   []column
	buf    []byte
	packet int
	sent   chan error // of the statement that is under way, if there is one
}

func newWriter(ctx context.Context, tx *sql.Tx, t tables.Table, verb string, packet int) *writer {
	return writerTo(t, verb, packet, func(q string) error {
		_, err := tx.ExecContext(ctx, q)
		return err
	})
}

// writerTo gathers rows into statements for exec.
func writerTo(t tables.Table, verb string, packet int, exec func(string) error) *writer {
	w := &writer{exec: exec, packet: packet}
	list := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		w.cols = append(w.cols, newColumn(c))
		list[i] = c.Name
	}
	w.head = verb + " INTO " + at(t) + " (" + names(list) + ") VALUES "
	return w
}

func (w *writer) put(r tables.Row) error {
	if len(w.buf) == 0 {
		w.buf = append(w.buf, w.head...)
	} else {
		w.buf = append(w.buf, ',')
	}
	w.buf = append(w.buf, '(')
	for i, v := range r.Values {
		if i > 0 {
			w.buf = append(w.buf, ',')
		}
		w.buf = w.cols[i].literal(w.buf, v)
	}
	w.buf = append(w.buf, ')')
	if len(w.buf) >= min(statement, w.packet/2) {
		return w.send()
	}
	return nil
}

func (w *writer) send() error {
	if len(w.buf) >= w.packet {
		return fmt.Errorf("a row needs a statement of %d bytes, and the server takes %d: raise its max_allowed_packet",
			len(w.buf), w.packet)
	}
	if err := w.wait(); err != nil {
		return err
	}
	q := string(w.buf)
	w.buf = w.buf[:0]
	w.sent = make(chan error, 1)
	go func() { w.sent <- w.exec(q) }()
	return nil
}

// wait waits for the statement that is under way.
func (w *writer) wait() error {
	if w.sent == nil {
		return nil
	}
	err := <-w.sent
	w.sent = nil
	return err
}

// flush ends the writing: next says what became of giving it its rows.
func (w *writer) flush(next error) error {
	if next == nil && len(w.buf) > 0 {
		next = w.send()
	}
	return errors.Join(next, w.wait())
}

// Finish makes what comes after the rows. Events are made so that they don't run.
func (t *Target) Finish(ctx context.Context) error {
	pool, err := t.owner.pool(t.name, 1, nil)
	if err != nil {
		return err
	}
	defer pool.Close()
	c, err := pool.Conn(ctx)
	if err != nil {
		return explain(err)
	}
	defer c.Close()
	if err := makeAll(ctx, c, t.schema.After); err != nil {
		return err
	}
	if _, err := c.ExecContext(ctx, "DROP TABLE IF EXISTS "+t.progress()); err != nil {
		return fmt.Errorf("finishing: %w", explain(err))
	}
	return nil
}

// makeAll makes what hangs on tables, whatever of it needs what.
func makeAll(ctx context.Context, c *sql.Conn, left []tables.Object) error {
	for len(left) > 0 {
		var again []tables.Object
		var first error
		for _, o := range left {
			if err := makeOne(ctx, c, o); err != nil {
				again = append(again, o) // it may need one that comes later
				first = errors.Join(first, fmt.Errorf("making %s %s: %w", o.Kind, o.Name, explain(err)))
			}
		}
		if len(again) == len(left) {
			return first
		}
		left = again
	}
	return nil
}

// makeOne makes an object in place of one that is there.
func makeOne(ctx context.Context, c *sql.Conn, o tables.Object) error {
	mode := strings.ReplaceAll(o.Mode, "'", "")
	if o.Kind == "view" {
		mode = "NO_ENGINE_SUBSTITUTION"
	}
	for _, q := range []string{"SET @alibi_mode = @@sql_mode", "SET sql_mode = '" + mode + "'",
		"DROP " + strings.ToUpper(o.Kind) + " IF EXISTS " + name(o.Name), o.SQL} {
		if _, err := c.ExecContext(ctx, q); err != nil {
			_, _ = c.ExecContext(ctx, "SET sql_mode = @alibi_mode")
			return err
		}
	}
	_, err := c.ExecContext(ctx, "SET sql_mode = @alibi_mode")
	return err
}

// Close gives up what was not finished; it stays for the next try.
func (t *Target) Close() error {
	if t.pool == nil {
		return nil
	}
	err := t.pool.Close()
	t.pool = nil
	return err
}
