package relay

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/go-sql-driver/mysql"
)

// Connector opens a database through the relay, for database/sql. session are statements that stand before each other
// one.
func (r *Relay) Connector(database string, session []string) driver.Connector {
	return connector{r, database, session}
}

type connector struct {
	relay    *Relay
	database string
	session  []string
}

func (c connector) Connect(context.Context) (driver.Conn, error) {
	return &conn{relay: c.relay, database: c.database, session: slices.Clone(c.session)}, nil
}

func (c connector) Driver() driver.Driver { return nil }

// conn is a session of its own in name only: each statement has a connection on the server, in which what was set
// before is set again.
type conn struct {
	relay    *Relay
	database string
	session  []string // what was set
	tx       *transaction
}

// readOnly is what a server says that lets nothing be written (ER_OPTION_PREVENTS_STATEMENT).
func readOnly() error {
	return &mysql.MySQLError{Number: 1290, Message: "through this relay a database is only read"}
}

// kind is a statement's first word.
func kind(q string) string {
	word, _, _ := strings.Cut(strings.TrimLeft(q, " \n\t("), " ")
	return strings.ToUpper(strings.TrimRight(word, ";\n\t"))
}

func (c *conn) ExecContext(ctx context.Context, q string, args []driver.NamedValue) (driver.Result, error) {
	what := kind(q)
	switch {
	case slices.Contains([]string{"START", "BEGIN", "ROLLBACK", "COMMIT", "SAVEPOINT", "RELEASE"}, what):
		return driver.ResultNoRows, nil // a snapshot's: there is no transaction but by BeginTx
	case what == "KILL": // a statement is over with its request
		return driver.ResultNoRows, nil
	case !c.relay.writes && what != "SET":
		return nil, readOnly()
	}
	if strings.HasPrefix(q, "SET TRANSACTION ") || strings.HasPrefix(q, "SET SESSION TRANSACTION ") {
		return driver.ResultNoRows, nil
	}
	q, err := filled(q, args)
	if err != nil {
		return nil, err
	}
	if c.tx != nil && what != "SET" {
		c.tx.list = append(c.tx.list, q)
		return driver.ResultNoRows, nil
	}
	a, err := c.write(ctx, append(slices.Clone(c.session), q))
	if err != nil {
		return nil, err
	}
	if what == "SET" {
		c.session = append(c.session, q)
	}
	return driver.RowsAffected(a.changed), a.body.Close()
}

// write runs statements that may change something. One whose answer does not come may be at work still: the relay is
// not used any more, so that it is removed, and what waits in it with it.
func (c *conn) write(ctx context.Context, statements []string) (*answer, error) {
	a, err := c.relay.run(ctx, c.database, statements)
	var said *mysql.MySQLError
	if err != nil && c.relay.writes && !errors.As(err, &said) {
		c.relay.gone.Store(true)
	}
	return a, err
}

func (c *conn) QueryContext(ctx context.Context, q string, args []driver.NamedValue) (driver.Rows, error) {
	q, err := filled(q, args)
	if err != nil {
		return nil, err
	}
	if c.tx != nil {
		return c.tx.query(ctx, q)
	}
	a, err := c.relay.run(ctx, c.database, append(slices.Clone(c.session), q))
	if err != nil {
		return nil, err
	}
	return rows{a}, nil
}

// rows are an answer's.
type rows struct{ a *answer }

func (r rows) Columns() []string                   { return r.a.columns }
func (r rows) Close() error                        { return r.a.body.Close() }
func (r rows) Next(cells []driver.Value) error     { return r.a.next(cells) }
func (c *conn) Ping(ctx context.Context) error     { return nil }
func (c *conn) IsValid() bool                      { return true }
func (c *conn) ResetSession(context.Context) error { return nil }
func (c *conn) Close() error                       { return nil }

func (c *conn) Begin() (driver.Tx, error) { return c.BeginTx(context.Background(), driver.TxOptions{}) }

func (c *conn) Prepare(string) (driver.Stmt, error) { return nil, errors.ErrUnsupported }

func (c *conn) PrepareContext(context.Context, string) (driver.Stmt, error) {
	return nil, errors.ErrUnsupported
}

// CheckNamedValue takes what filled can write.
func (c *conn) CheckNamedValue(v *driver.NamedValue) (err error) {
	v.Value, err = driver.DefaultParameterConverter.ConvertValue(v.Value)
	return err
}

// filled puts values into a statement in the places of its question marks.
func filled(q string, args []driver.NamedValue) (string, error) {
	if len(args) == 0 {
		return q, nil
	}
	if strings.Count(q, "?") != len(args) {
		return "", fmt.Errorf("a statement with %d places for %d values", strings.Count(q, "?"), len(args))
	}
	var out strings.Builder
	parts := strings.Split(q, "?")
	for i, v := range args {
		out.WriteString(parts[i])
		switch x := v.Value.(type) {
		case nil:
			out.WriteString("NULL")
		case int64:
			out.WriteString(strconv.FormatInt(x, 10))
		case bool:
			out.WriteString(strconv.FormatBool(x))
		case float64:
			out.WriteString(strconv.FormatFloat(x, 'g', -1, 64))
		case string:
			out.WriteString(text(x))
		case []byte:
			out.WriteString(text(string(x)))
		default:
			return "", fmt.Errorf("a value of type %T in a statement", v.Value)
		}
	}
	out.WriteString(parts[len(args)])
	return out.String(), nil
}

// text is a literal in utf8mb4, in which no byte of another sign looks like a quote.
func text(s string) string {
	if !utf8.ValidString(s) {
		return fmt.Sprintf("0x%x", s)
	}
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`, "\x00", `\0`).Replace(s) + "'"
}
