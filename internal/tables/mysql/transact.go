package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"alibi/internal/tables"
)

var _ tables.Transactor = (*edit)(nil)

// patience is for how long a row is waited for that others hold, in seconds: visitors wait as long for what we hold.
const patience = 5

func (e *edit) Transactional(t tables.Table) bool { return len(t.Key) > 0 && PatchableTable(t, t) }

// Transact changes rows in one transaction that holds what it looks at and nothing beside.
func (e *edit) Transact(ctx context.Context, change func(tables.Transaction) error) error {
	return e.login.alone(ctx, "changing rows of", e.database, func(c *sql.Conn) error {
		x := &transaction{ctx: ctx}
		if err := c.QueryRowContext(ctx, "SELECT @@max_allowed_packet").Scan(&x.packet); err != nil {
			return err
		}
		if err := execAll(ctx, c, []string{fmt.Sprint("SET innodb_lock_wait_timeout = ", patience)}); err != nil {
			return err
		}
		tx, err := c.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelReadCommitted})
		if err != nil {
			return err
		}
		defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
		x.tx = tx
		if err := change(x); err != nil {
			return err
		}
		return taken("a table", tx.Commit()) // through a relay all is written now
	})
}

// taken gives an error its kind that says that another row has a key (ER_DUP_ENTRY).
func taken(table string, err error) error {
	if number(err) == 1062 {
		return fmt.Errorf("%s: %w: %w", table, tables.ErrTaken, err)
	}
	return err
}

type transaction struct {
	ctx    context.Context
	tx     *sql.Tx
	packet int
}

func columnsOf(t tables.Table) []column {
	cols := make([]column, len(t.Columns))
	for i, c := range t.Columns {
		cols[i] = newColumn(c)
	}
	return cols
}

func (x *transaction) Lock(t tables.Table, keys [][]tables.Value, give func(tables.Row) error) error {
	cols := columnsOf(t)
	_, row := keyed(t)
	for chunk := range slices.Chunk(keys, 100) {
		q := "SELECT " + exprs(cols) + " FROM " + at(t) + " WHERE " + oneOf(keysOf(t), chunk) + " FOR UPDATE"
		err := each(x.ctx, x.tx, q, cols, func(v []tables.Value) error { return give(row(v)) })
		if err != nil {
			return err
		}
	}
	return nil
}

func (x *transaction) Put(t tables.Table, rows []tables.Row) error {
	w := newWriter(x.ctx, x.tx, t, "INSERT", x.packet)
	var err error
	for _, r := range rows {
		if err = w.put(r); err != nil {
			break
		}
	}
	return taken("table "+t.Name, w.flush(err))
}

func (x *transaction) Set(t tables.Table, key []tables.Value, row tables.Row) error {
	var sets []string
	for i, c := range columnsOf(t) {
		sets = append(sets, name(c.Name)+" = "+string(c.literal(nil, row.Values[i])))
	}
	q := "UPDATE " + at(t) + " SET " + strings.Join(sets, ", ") + " WHERE " + oneOf(keysOf(t), [][]tables.Value{key})
	if len(q) >= x.packet {
		return fmt.Errorf("a row of %s needs a statement of %d bytes, and the server takes %d: raise its "+
			"max_allowed_packet", t.Name, len(q), x.packet)
	}
	_, err := x.tx.ExecContext(x.ctx, q)
	return taken("table "+t.Name, err)
}

func (x *transaction) Remove(t tables.Table, keys [][]tables.Value) error {
	for chunk := range slices.Chunk(keys, 500) {
		_, err := x.tx.ExecContext(x.ctx, "DELETE FROM "+at(t)+" WHERE "+oneOf(keysOf(t), chunk))
		if err != nil {
			return err
		}
	}
	return nil
}

func (x *transaction) Exec(statement string) error {
	_, err := x.tx.ExecContext(x.ctx, statement)
	return err
}
