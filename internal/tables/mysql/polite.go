package mysql

import (
	"context"
	"database/sql/driver"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"
)

// polite makes connections whose errors have their kind, and whose statements keep nobody waiting and do not
// outlive us: one that can't have a table within a second (lock_wait_timeout)
// lets those by who queue behind it, and is tried again; one that nobody wants
// any more is ended on the server too, where a closed connection alone is only
// noticed when there is something to say.
type polite struct {
	driver.Connector
	patience time.Duration // for how long a statement is tried again; 0: the caller does that
	asked    *atomic.Int64 // see Login
}

// count counts statements that are sent.
func (p polite) count(n int64) {
	if p.asked != nil {
		p.asked.Add(n)
	}
}

// connecting is how many statements it takes to connect: the session is set, and asked for its number.
const connecting = 2

// patient is for how long a statement waits for tables in all.
const patient = 2 * time.Minute

// Connect opens a connection and learns the server's number of it.
func (p polite) Connect(ctx context.Context) (_ driver.Conn, err error) {
	defer nonsense(&err)
	raw, err := p.Connector.Connect(ctx)
	if err != nil {
		return nil, explain(err)
	}
	c, ok := raw.(whole)
	if !ok {
		raw.Close()
		return nil, fmt.Errorf("the driver's connection is a %T, which can't be used", raw)
	}
	p.count(connecting)
	id, err := ask(ctx, c, "SELECT CONNECTION_ID()")
	if err != nil {
		c.Close()
		return nil, explain(err)
	}
	return &politeConn{whole: c, by: p, id: id}, nil
}

// whole is what the driver's connections can do.
type whole interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.ExecerContext
	driver.NamedValueChecker
	driver.Pinger
	driver.QueryerContext
	driver.SessionResetter
	driver.Validator
}

// ask runs a query that gives one text.
func ask(ctx context.Context, c driver.QueryerContext, q string) (string, error) {
	rows, err := c.QueryContext(ctx, q, nil)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	cells := make([]driver.Value, len(rows.Columns()))
	if err := rows.Next(cells); err != nil && err != io.EOF {
		return "", err
	}
	if b, ok := cells[0].([]byte); ok {
		return string(b), nil
	}
	return fmt.Sprint(cells[0]), nil
}

type politeConn struct {
	whole
	by polite
	id string
}

// watch ends the connection's statement on the server when ctx ends, until it is
// let go of.
func (c *politeConn) watch(ctx context.Context) (letGo func()) {
	ended := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(ended)
		c.kill()
	})
	return func() {
		if !stop() {
			<-ended // so that it can't hit the next statement
		}
	}
}

// kill ends what the connection's statement does, by a connection of its own.
func (c *politeConn) kill() {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	by, err := c.by.Connector.Connect(ctx)
	if err != nil {
		return // then it ends when it has something to say
	}
	defer by.Close()
	if e, ok := by.(driver.ExecerContext); ok {
		_, _ = e.ExecContext(ctx, "KILL QUERY "+c.id, nil) // it may have ended since
	}
}

func (c *politeConn) ExecContext(
	ctx context.Context,
	q string,
	args []driver.NamedValue,
) (r driver.Result, err error) {
	defer nonsense(&err)
	defer c.watch(ctx)()
	err = c.again(ctx, func() error {
		c.by.count(1)
		r, err = c.whole.ExecContext(ctx, q, args)
		return err
	})
	return r, err
}

func (c *politeConn) QueryContext(
	ctx context.Context,
	q string,
	args []driver.NamedValue,
) (r driver.Rows, err error) {
	letGo := c.watch(ctx)
	defer func() {
		if r == nil {
			letGo()
		}
	}()
	defer nonsense(&err)
	err = c.again(ctx, func() error {
		c.by.count(1)
		r, err = c.whole.QueryContext(ctx, q, args)
		return err
	})
	if err != nil {
		return nil, err
	}
	return &politeRows{r, sync.OnceFunc(letGo)}, nil
}

// politeRows are the rows of a statement that goes on until they are closed.
type politeRows struct {
	driver.Rows
	letGo func()
}

// Next reads the next row; an error of the line has its kind.
func (r *politeRows) Next(cells []driver.Value) (err error) {
	defer nonsense(&err)
	err = r.Rows.Next(cells)
	if err == nil || err == io.EOF {
		return err
	}
	return explain(err)
}

func (r *politeRows) Close() error {
	defer r.letGo()
	return r.Rows.Close()
}

// BeginTx begins a transaction.
func (c *politeConn) BeginTx(ctx context.Context, o driver.TxOptions) (driver.Tx, error) {
	tx, err := c.whole.BeginTx(ctx, o)
	if err != nil {
		return nil, explain(err)
	}
	return politeTx{tx}, nil
}

// politeTx is a transaction whose errors have their kind.
type politeTx struct{ driver.Tx }

func (t politeTx) Commit() error { return explain(t.Tx.Commit()) }

// again does a statement, and once more if it could not have its tables: the
// server has then done nothing of it.
func (c *politeConn) again(ctx context.Context, do func() error) error {
	for until := time.Now().Add(c.by.patience); ; {
		began := time.Now()
		err := do()
		if number(err) != lockWait || time.Since(began) > 5*time.Second || time.Now().After(until) {
			return explain(err) // one that waited for long waited for a row
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(stepBack):
		}
	}
}
