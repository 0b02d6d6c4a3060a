package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"alibi/internal/tables"
)

// The journal of an exchange has one name while its tables are being filled and
// another one once they have their places: the statement that gives them these
// renames it too.
const (
	filling   = "alibi_exchange"
	exchanged = "alibi_exchanged"
	newTable  = "alibi_new_"
	oldTable  = "alibi_old_"
)

// Instead is what is to stand in the place of a table.
type Instead struct {
	Name  string
	Table *tables.Table // nil: the one that is there goes
	Rows  func(put func(tables.Row) error) error
}

// ties are the foreign keys of a table's definition, one each.
var ties = regexp.MustCompile(`\n\s*(CONSTRAINT (` + "`[^`]+`" + `) FOREIGN KEY [^\n]*[^\n,])`)

// Tied tells whether a table refers to one of others by a foreign key.
func Tied(t tables.Table, to func(string) bool) bool {
	for _, m := range regexp.MustCompile("REFERENCES `([^`]+)`").FindAllStringSubmatch(t.Create, -1) {
		if m[1] != t.Name && to(m[1]) {
			return true
		}
	}
	return false
}

// Fill makes tables beside those of a database and fills them, to be given their
// places by Exchange.
func (l Login) Fill(ctx context.Context, database string, list []Instead) error {
	if len(list) == 0 {
		return nil
	}
	return l.alone(ctx, "making tables in", database, func(c *sql.Conn) error {
		there, err := tablesOf(ctx, c, database)
		if err != nil {
			return err
		}
		var packet int
		if err := c.QueryRowContext(ctx, "SELECT @@max_allowed_packet").Scan(&packet); err != nil {
			return err
		}
		if err := execAll(ctx, c, []string{
			"CREATE TABLE " + filling + " (n INT PRIMARY KEY, had INT NOT NULL, has INT NOT NULL, name VARCHAR(250) " +
				"CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL, ties TEXT CHARACTER SET utf8mb4 NOT NULL) " +
				"ENGINE=InnoDB",
		}); err != nil {
			return err
		}
		left, err := l.fillAll(ctx, database, list, packet)
		if err != nil {
			return err
		}
		for i, x := range list {
			if _, err := c.ExecContext(ctx, "INSERT INTO "+filling+" VALUES (?, ?, ?, ?, ?)", i, there[x.Name],
				x.Table != nil, x.Name, left[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// filled is how many tables are filled at once.
const filled = 2

// fillAll makes the tables, some at once, and gives of each the foreign keys that it is still without.
func (l Login) fillAll(ctx context.Context, database string, list []Instead, packet int) ([]string, error) {
	pool, err := l.pool(database, filled, nil)
	if err != nil {
		return nil, err
	}
	defer pool.Close()
	left := make([]string, len(list))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(filled)
	for i, x := range list {
		if x.Table == nil {
			continue
		}
		g.Go(func() error {
			c, err := pool.Conn(ctx)
			if err == nil {
				defer c.Close()
				left[i], err = fill(ctx, c, i, x, packet)
			}
			if err != nil {
				return fmt.Errorf("table %s: %w", x.Name, err)
			}
			return nil
		})
	}
	return left, g.Wait()
}

// Exchange gives the tables that were filled their places, all at one moment. It
// can be taken back until it is settled; foreign keys are made then. Triggers
// must be dropped before, see Hang, and nobody may be reading the tables.
func (l Login) Exchange(ctx context.Context, database string) error {
	return l.alone(ctx, "exchanging tables of", database, func(c *sql.Conn) error {
		there, err := tablesOf(ctx, c, database)
		if err != nil || !there[filling] {
			return err
		}
		return rename(ctx, c, filling, exchanged, func(n, name string, had, has bool) (out []string) {
			if had {
				out = append(out, name+" TO "+oldTable+n)
			}
			if has {
				out = append(out, newTable+n+" TO "+name)
			}
			return out
		})
	})
}

// rename has all tables of a journal change places in one statement, in which the
// journal gets its other name.
func rename(
	ctx context.Context,
	c *sql.Conn,
	journal, then string,
	places func(n, name string, had, has bool) []string,
) error {
	list, err := records(ctx, c, "SELECT n, had, has, name FROM "+journal+" ORDER BY n")
	if err != nil {
		return err
	}
	var all []string
	for _, r := range list {
		all = append(all, places(r["N"], name(r["NAME"]), r["HAD"] == "1", r["HAS"] == "1")...)
	}
	_, err = c.ExecContext(ctx, "RENAME TABLE "+strings.Join(append(all, journal+" TO "+then), ", "))
	return err
}

// fill makes the table with a number and puts its rows, and gives the foreign
// keys that it is still without.
func fill(ctx context.Context, c *sql.Conn, n int, x Instead, packet int) (left string, err error) {
	t := *x.Table
	t.Stored = newTable + strconv.Itoa(n)
	for _, m := range ties.FindAllStringSubmatch(t.Create, -1) {
		left += m[1] + "\n"
	}
	create := strings.Replace(foreign.ReplaceAllString(explicit(t), ""), name(t.Name), name(t.Stored), 1)
	for _, q := range []string{"SET @@foreign_key_checks = 0", create} {
		if _, err := c.ExecContext(ctx, q); err != nil {
			return "", err
		}
	}
	tx, err := c.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelReadCommitted})
	if err != nil {
		return "", err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	if _, err := tx.ExecContext(ctx, "SET @@check_constraint_checks = 0"); err != nil && number(err) != 1193 {
		return "", err
	}
	w := newWriter(ctx, tx, t, "INSERT", packet)
	if err := w.flush(x.Rows(w.put)); err != nil {
		return "", err
	}
	return left, tx.Commit()
}

// tablesOf gives the names of a database's tables, Alibi's own too.
func tablesOf(ctx context.Context, c *sql.Conn, database string) (map[string]bool, error) {
	list, err := records(ctx, c, "SELECT TABLE_NAME AS N FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND "+
		"TABLE_TYPE <> 'VIEW'", database)
	out := make(map[string]bool, len(list))
	for _, r := range list {
		out[r["N"]] = true
	}
	return out, err
}

// exchangeBack gives the tables their places back that they had before an
// exchange, if there was one, and removes what it made.
func exchangeBack(ctx context.Context, c *sql.Conn, database string) error {
	there, err := tablesOf(ctx, c, database)
	if err != nil {
		return err
	}
	if there[exchanged] {
		err := rename(ctx, c, exchanged, filling, func(n, name string, had, has bool) (out []string) {
			if has {
				out = append(out, name+" TO "+newTable+n)
			}
			if had {
				out = append(out, oldTable+n+" TO "+name)
			}
			return out
		})
		if err != nil {
			return err
		}
	}
	return dropBegun(ctx, c, there, newTable, filling)
}

// dropBegun drops the tables whose names begin with a word, and then a journal.
func dropBegun(ctx context.Context, c *sql.Conn, there map[string]bool, begun, journal string) error {
	if _, err := c.ExecContext(ctx, "SET @@foreign_key_checks = 0"); err != nil {
		return err
	}
	for n := range 1 + len(there) {
		if _, err := c.ExecContext(ctx, "DROP TABLE IF EXISTS "+begun+strconv.Itoa(n)); err != nil {
			return err
		}
	}
	_, err := c.ExecContext(ctx, "DROP TABLE IF EXISTS "+journal)
	return err
}

// settleExchange drops the tables that were replaced, and makes the foreign keys
// of those that replaced them. It may be broken off and called again.
func settleExchange(ctx context.Context, c *sql.Conn, database string) error {
	there, err := tablesOf(ctx, c, database)
	if err != nil || !there[exchanged] {
		return err
	}
	list, err := records(ctx, c, "SELECT n, name, ties FROM "+exchanged)
	if err != nil {
		return err
	}
	if err := dropBegun(ctx, c, there, oldTable, "alibi_no_journal"); err != nil {
		return err
	}
	have, err := records(
		ctx,
		c,
		"SELECT CONCAT(TABLE_NAME, ' ', CONSTRAINT_NAME) AS N FROM information_schema.TABLE_CONSTRAINTS WHERE "+
			"TABLE_SCHEMA = ?",
		database,
	)
	if err != nil {
		return err
	}
	made := map[string]bool{}
	for _, r := range have {
		made[r["N"]] = true
	}
	for _, r := range list {
		for _, m := range ties.FindAllStringSubmatch("\n"+r["TIES"], -1) {
			if made[r["NAME"]+" "+strings.Trim(m[2], "`")] {
				continue
			}
			if _, err := c.ExecContext(ctx, "ALTER TABLE "+name(r["NAME"])+" ADD "+m[1]); err != nil {
				return fmt.Errorf("the foreign keys of %s: %w", r["NAME"], err)
			}
		}
	}
	_, err = c.ExecContext(ctx, "DROP TABLE "+exchanged)
	return err
}

// Hang drops some of what hangs on a database's tables, views, triggers and the
// like, and makes others.
func (l Login) Hang(ctx context.Context, database string, drop, make []tables.Object) error {
	if len(drop)+len(make) == 0 {
		return nil
	}
	return l.alone(ctx, "making what hangs on the tables of", database, func(c *sql.Conn) error {
		for _, o := range drop {
			if _, err := c.ExecContext(ctx, "DROP "+strings.ToUpper(o.Kind)+" IF EXISTS "+name(o.Name)); err != nil {
				return err
			}
		}
		return makeAll(ctx, c, make)
	})
}
