package relay

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"time"

	"github.com/go-sql-driver/mysql"
)

// transaction gathers what is to be one transaction: its end has all of it run by one connection, or nothing. What is
// read in between is read by a connection that runs what was gathered so far and rolls it back; at the end the rows
// must be the same ones, else all of it fails as if another transaction had been in its way (ER_LOCK_DEADLOCK).
//
// An error of a statement comes at the end.
type transaction struct {
	conn *conn
	ctx  context.Context
	list []string
}

// isolated is how a transaction of ours is kept from others.
const isolated = "SET TRANSACTION ISOLATION LEVEL READ COMMITTED"

func (c *conn) BeginTx(ctx context.Context, o driver.TxOptions) (driver.Tx, error) {
	if !c.relay.writes || o.ReadOnly {
		return nil, readOnly()
	}
	c.tx = &transaction{conn: c, ctx: ctx}
	switch sql.IsolationLevel(o.Isolation) {
	case sql.LevelDefault:
	case sql.LevelReadCommitted:
		c.tx.list = append(c.tx.list, isolated)
	default:
		return nil, fmt.Errorf("through a relay no transaction is %s", sql.IsolationLevel(o.Isolation))
	}
	c.tx.list = append(c.tx.list, "START TRANSACTION")
	return c.tx, nil
}

// patience is for how long a transaction is tried again that could not have a table, or its turn.
const patience = 2 * time.Minute

func (t *transaction) Commit() error {
	t.conn.tx = nil
	all := append(append(slices.Clone(t.conn.session), t.list...), "COMMIT")
	for until := time.Now().Add(patience); ; {
		a, err := t.conn.write(t.ctx, all)
		if err == nil {
			return a.body.Close()
		}
		var said *mysql.MySQLError
		if !errors.As(err, &said) || said.Number != 1205 || time.Now().After(until) { // ER_LOCK_WAIT_TIMEOUT
			return err
		}
		select {
		case <-t.ctx.Done():
			return t.ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

func (t *transaction) Rollback() error {
	t.conn.tx = nil
	return nil
}

func (t *transaction) query(ctx context.Context, q string) (driver.Rows, error) {
	a, err := t.conn.write(ctx, append(append(slices.Clone(t.conn.session), t.list...), q))
	if err != nil {
		return nil, err
	}
	a.rows = sha256.New()
	return &readRows{rows{a}, t, q, a.rows}, nil
}

// readRows are rows that are to be the same ones when the transaction ends.
type readRows struct {
	rows
	of  *transaction
	q   string
	sum hash.Hash
}

// Close reads what nobody wanted, and notes what all of it was.
func (r *readRows) Close() error {
	defer r.rows.Close()
	cells := make([]driver.Value, len(r.a.columns))
	err := r.a.done
	for err == nil {
		err = r.Next(cells)
	}
	if err != io.EOF {
		return err
	}
	r.of.list = append(r.of.list, "="+hex.EncodeToString(r.sum.Sum(nil))+r.q)
	return nil
}
