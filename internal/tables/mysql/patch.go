package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/tables"
)

// The journal of a patch is kept in the database that is patched, so that it
// can't disagree with what is there: which tables were changed, and of each the
// rows as they were and the keys of those that were put.
const (
	journal  = "alibi_patch"
	wasTable = "alibi_was_"
	putTable = "alibi_put_"
)

// ours tells whether a table is one of the marks that Alibi leaves in a
// database that it works on.
func ours(table string) bool {
	for _, begun := range []string{wasTable, putTable, newTable, oldTable} {
		if strings.HasPrefix(table, begun) {
			return true
		}
	}
	return slices.Contains([]string{progressTable, journal, filling, exchanged}, table)
}

var counter = regexp.MustCompile(` AUTO_INCREMENT=\d+`)

// Patchable tells whether a database of one schema can be made equal to one of
// another by changing rows only, with nothing else set off by that.
func Patchable(from, to tables.Schema) bool {
	if from.Engine != "mysql" || to.Engine != "mysql" || len(from.Tables) != len(to.Tables) ||
		len(from.After) != len(to.After) {
		return false
	}
	for i, t := range from.Tables {
		if !PatchableTable(t, to.Tables[i]) {
			return false
		}
	}
	for _, o := range from.After {
		if o.Kind == "trigger" ||
			!slices.ContainsFunc(to.After, func(x tables.Object) bool {
				return x.Kind == o.Kind && x.Name == o.Name && x.SQL == o.SQL
			}) {
			return false
		}
	}
	return true
}

// Definition is what makes a table, without the number that its next row gets.
func Definition(t tables.Table) string { return counter.ReplaceAllString(t.Create, "") }

// PatchableTable tells whether two tables are the same but for their rows, and
// these can be changed in a transaction.
func PatchableTable(a, b tables.Table) bool {
	create := Definition(a)
	return a.Name == b.Name && create == Definition(b) && strings.Contains(create, "ENGINE=InnoDB") &&
		!strings.Contains(create, "WITH SYSTEM VERSIONING")
}

// patch is a change of rows in a database, all in one transaction.
type patch struct {
	ctx    context.Context
	tx     *sql.Tx
	packet int
	n      map[string]int
}

// Patch changes rows of the tables given. What it changed can be taken back
// until it is settled.
func (l Login) Patch(ctx context.Context, database string, list []tables.Table, change func(tables.Patch) error) error {
	return l.alone(ctx, "changing rows of", database, func(c *sql.Conn) error {
		p := &patch{ctx: ctx, n: map[string]int{}}
		if err := c.QueryRowContext(ctx, "SELECT @@max_allowed_packet").Scan(&p.packet); err != nil {
			return err
		}
		setup := []string{
			"CREATE TABLE " + journal + " (n INT PRIMARY KEY, whole INT NOT NULL, name VARCHAR(250) CHARACTER SET " +
				"utf8mb4 COLLATE utf8mb4_bin NOT NULL) ENGINE=InnoDB",
		}
		for i, t := range list {
			p.n[t.Name] = i
			setup = append(setup, "CREATE TABLE "+was(i)+" LIKE "+name(t.Name))
			if len(t.Key) > 0 {
				setup = append(setup, "CREATE TABLE "+put(i)+" ENGINE=InnoDB SELECT "+names(t.Key)+" FROM "+
					name(t.Name)+" LIMIT 0")
			}
		}
		if err := execAll(ctx, c, setup); err != nil {
			return err
		}
		tx, err := c.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelReadCommitted})
		if err != nil {
			return err
		}
		defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
		if _, err := tx.ExecContext(ctx, "SET @@check_constraint_checks = 0"); err != nil && number(err) != 1193 {
			return err
		}
		p.tx = tx
		if err := change(p); err != nil {
			return err
		}
		return tx.Commit()
	})
}

func was(n int) string { return wasTable + strconv.Itoa(n) }
func put(n int) string { return putTable + strconv.Itoa(n) }

// alone uses one connection to a database.
func (l Login) alone(ctx context.Context, what, database string, use func(*sql.Conn) error) error {
	pool, err := l.pool(database, 1, nil)
	if err != nil {
		return err
	}
	defer pool.Close()
	c, err := pool.Conn(ctx)
	if err == nil {
		defer c.Close()
		err = use(c)
	}
	if err != nil {
		return fmt.Errorf("%s the database %s: %w", what, database, explain(err))
	}
	return nil
}

// execer is a connection or a transaction.
type execer interface {
	ExecContext(ctx context.Context, q string, args ...any) (sql.Result, error)
}

func execAll(ctx context.Context, c execer, statements []string) error {
	for _, q := range statements {
		if _, err := c.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// Rows removes the rows with the keys in touched, as far as they are there, and
// puts others. Every row that is put has one of these keys, or one that no row
// has. The table has a key.
func (p *patch) Rows(t tables.Table, touched [][]tables.Value, next func(put func(tables.Row) error) error) error {
	n, cols, keys := p.n[t.Name], columnNames(t), keysOf(t)
	if _, err := p.tx.ExecContext(p.ctx, "INSERT INTO "+journal+" VALUES (?, 0, ?)", n, t.Name); err != nil {
		return err
	}
	for chunk := range slices.Chunk(touched, 500) {
		those := " FROM " + name(t.Name) + " WHERE " + oneOf(keys, chunk)
		if err := execAll(p.ctx, p.tx, []string{"INSERT INTO " + was(n) + " (" + cols + ") SELECT " + cols + those,
			"DELETE" + those}); err != nil {
			return err
		}
	}
	marks := tables.Table{Name: put(n)}
	for _, k := range keys {
		marks.Columns = append(marks.Columns, k.Column)
	}
	w, m := newWriter(p.ctx, p.tx, t, "INSERT", p.packet), newWriter(p.ctx, p.tx, marks, "INSERT", p.packet)
	err := next(func(r tables.Row) error {
		key := make([]tables.Value, len(t.Key))
		for i, k := range t.Key {
			key[i] = r.Values[t.Column(k)]
		}
		if err := m.put(tables.Row{Values: key}); err != nil {
			return err
		}
		return w.put(r)
	})
	return w.flush(m.flush(err))
}

// Whole puts other rows in place of all that a table has.
func (p *patch) Whole(t tables.Table, next func(put func(tables.Row) error) error) error {
	n, cols := p.n[t.Name], columnNames(t)
	if _, err := p.tx.ExecContext(p.ctx, "INSERT INTO "+journal+" VALUES (?, 1, ?)", n, t.Name); err != nil {
		return err
	}
	if err := execAll(p.ctx, p.tx, []string{"INSERT INTO " + was(n) + " (" + cols + ") SELECT " + cols + " FROM " +
		name(t.Name), "DELETE FROM " + name(t.Name)}); err != nil {
		return err
	}
	w := newWriter(p.ctx, p.tx, t, "INSERT", p.packet)
	return w.flush(next(w.put))
}

func columnNames(t tables.Table) string {
	list := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		list[i] = c.Name
	}
	return names(list)
}

func keysOf(t tables.Table) []column {
	keys := make([]column, len(t.Key))
	for i, k := range t.Key {
		keys[i] = newColumn(t.Columns[t.Column(k)])
	}
	return keys
}

// Rollback undoes an exchange and a patch that were not settled, if there are
// any, and removes their journals. It may be broken off and called again.
func (l Login) Rollback(ctx context.Context, database string) error {
	return l.alone(ctx, "taking back what was changed in", database, func(c *sql.Conn) error {
		if err := exchangeBack(ctx, c, database); err != nil {
			return err
		}
		list, err := records(ctx, c, "SELECT n, whole, name FROM "+journal)
		if number(err) == 1146 {
			return dropJournal(ctx, c, database) // no patch came so far as to change anything
		}
		if err != nil {
			return err
		}
		shape, err := readShape(ctx, c, database, under{})
		if err != nil {
			return err
		}
		tx, err := c.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
		for _, r := range list {
			t, known := shape.Table(r["NAME"])
			n, err := strconv.Atoi(r["N"])
			if err != nil || !known {
				return fmt.Errorf("its journal names the table %s, which is not there", r["NAME"])
			}
			undo := "DELETE FROM " + name(t.Name)
			if r["WHOLE"] == "0" {
				undo = "DELETE t FROM " + name(t.Name) + " AS t JOIN " + put(n) + " USING (" + names(t.Key) + ")"
			}
			cols := columnNames(t)
			if err := execAll(ctx, tx, []string{undo, "INSERT INTO " + name(t.Name) + " (" + cols + ") SELECT " + cols +
				" FROM " + was(n)}); err != nil {
				return fmt.Errorf("table %s: %w", t.Name, err)
			}
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM "+journal); err != nil {
			return err
		}
		if err := tx.Commit(); err != nil {
			return err
		}
		return dropJournal(ctx, c, database)
	})
}

// Commit makes a patch and an exchange final: it removes their journals and what
// was replaced. It may be broken off and called again.
func (l Login) Commit(ctx context.Context, database string) error {
	return l.alone(ctx, "clearing up in", database, func(c *sql.Conn) error {
		if err := settleExchange(ctx, c, database); err != nil {
			return err
		}
		return dropJournal(ctx, c, database)
	})
}

// dropJournal drops the list first: without it the rest means nothing.
func dropJournal(ctx context.Context, c *sql.Conn, database string) error {
	if _, err := c.ExecContext(ctx, "DROP TABLE IF EXISTS "+journal); err != nil {
		return err
	}
	list, err := records(ctx, c, "SELECT TABLE_NAME AS N FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?",
		database)
	if err != nil {
		return err
	}
	for _, r := range list {
		if strings.HasPrefix(r["N"], wasTable) || strings.HasPrefix(r["N"], putTable) {
			if _, err := c.ExecContext(ctx, "DROP TABLE IF EXISTS "+name(r["N"])); err != nil {
				return err
			}
		}
	}
	return nil
}
