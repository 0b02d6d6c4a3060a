// Package mysql is MariaDB and MySQL as a site's database
// (https://mariadb.com/kb/en/clientserver-protocol/).
//
// Rows are read and written as they are stored: the server converts neither
// character sets nor times, so that what is no valid text comes over as it is.
package mysql

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"strings"
	"time"

	driverpkg "github.com/go-sql-driver/mysql"

	"alibi/internal/tables"
)

// Login is how a server is reached, and as whom.
type Login struct {
	Network  string // "unix" or "tcp"
	Addr     string // path of a socket, or host:port
	User     string
	Password string
	// Dial connects; nil from this machine.
	Dial func(ctx context.Context, network, addr string) (net.Conn, error)
	// Compress has what is said compressed, where the server can do that.
	Compress bool
}

// ParseServer reads how sites and people write a server: "localhost" is its
// socket, "name", "name:3307", "[::1]:3306", "localhost:/run/x.sock", "/run/x.sock".
// socket is where "localhost" is.
func ParseServer(s, socket string) (network, addr string) {
	if i := strings.Index(s, "/"); i >= 0 {
		return "unix", s[i:]
	}
	if s == "" || s == "localhost" {
		return "unix", socket
	}
	if h, p, err := net.SplitHostPort(s); err == nil {
		if p == "" {
			p = "3306"
		}
		return "tcp", net.JoinHostPort(h, p)
	}
	return "tcp", net.JoinHostPort(strings.Trim(s, "[]"), "3306")
}

// String names the server, without any secret.
func (l Login) String() string { return l.User + " at " + l.Addr }

// pool opens connections to a database; name may be "".
func (l Login) pool(name string, conns int, params map[string]string) (*sql.DB, error) {
	cfg := driverpkg.NewConfig()
	cfg.Net, cfg.Addr, cfg.User, cfg.Passwd, cfg.DBName = l.Network, l.Addr, l.User, l.Password, name
	cfg.DialFunc = l.Dial
	cfg.InterpolateParams = true
	cfg.MaxAllowedPacket = 0 // what the server says
	cfg.Timeout = 10 * time.Second
	cfg.Collation = ""
	cfg.Logger = log.New(io.Discard, "", 0)
	cfg.Params = map[string]string{
		"charset":               "utf8mb4",
		"character_set_results": "NULL",
		"time_zone":             "'+00:00'",
		"sql_mode":              "'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,NO_ENGINE_SUBSTITUTION'",
		"foreign_key_checks":    "0",
		"unique_checks":         "0",
		"wait_timeout":          "28800",
		"lock_wait_timeout":     "120", // seconds, for a table that somebody reads; then it is tried again
	}
	for k, v := range params {
		cfg.Params[k] = v
	}
	// The driver takes the character set from its own option, not from params.
	delete(cfg.Params, "charset")
	if err := cfg.Apply(driverpkg.Charset("utf8mb4", "")); err != nil {
		return nil, err
	}
	if err := cfg.Apply(driverpkg.EnableCompression(l.Compress)); err != nil {
		return nil, err
	}
	c, err := driverpkg.NewConnector(cfg)
	if err != nil {
		return nil, fmt.Errorf("the database at %s: %w", l.Addr, err)
	}
	db := sql.OpenDB(c)
	db.SetMaxOpenConns(conns)
	db.SetMaxIdleConns(conns)
	return db, nil
}

// refused, busy and full are the server's numbers for errors that callers decide on
// (https://mariadb.com/kb/en/mariadb-error-code-reference/).
var (
	refused = map[uint16]bool{1044: true, 1045: true, 1049: true, 1142: true, 1143: true, 1227: true, 1370: true, 1698: true}
	busy    = map[uint16]bool{1040: true, 1053: true, 1158: true, 1159: true, 1160: true, 1161: true, 1203: true, 1205: true, 1213: true, 1226: true, 1412: true, 1927: true}
	full    = map[uint16]bool{1021: true, 1114: true}
)

// explain gives an error its kind.
func explain(err error) error {
	var e *driverpkg.MySQLError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &e) && refused[e.Number]:
		return fmt.Errorf("%w: %w", tables.ErrRefused, err)
	case errors.As(err, &e) && full[e.Number]:
		return fmt.Errorf("%w: %w", tables.ErrFull, err)
	case errors.As(err, &e) && busy[e.Number], errors.Is(err, driver.ErrBadConn), errors.Is(err, driverpkg.ErrInvalidConn):
		return fmt.Errorf("%w: %w", tables.ErrBusy, err)
	}
	return err
}

// number is the server's number of an error, or 0.
func number(err error) uint16 {
	var e *driverpkg.MySQLError
	if errors.As(err, &e) {
		return e.Number
	}
	return 0
}

// name quotes an identifier.
func name(s string) string { return "`" + strings.ReplaceAll(s, "`", "``") + "`" }

func names(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = name(s)
	}
	return strings.Join(out, ", ")
}

// Database is one database of a server.
type Database struct {
	login Login
	name  string
	under under
	// Readers bounds how many connections a snapshot uses; 0 is the usual number.
	Readers int
}

// Open names a database; nothing is connected yet.
func Open(l Login, database string) *Database { return &Database{login: l, name: database} }

// Login is how the database is reached.
func (d *Database) Login() Login { return d.login }

// Exec runs one statement.
func (d *Database) Exec(ctx context.Context, statement string, args ...any) error {
	db, err := d.login.pool(d.name, 1, nil)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, statement, args...)
	return explain(err)
}

// Stamp digests everything that is stored: all rows are looked at, inside the
// server.
func (d *Database) Stamp(ctx context.Context) (string, error) {
	s, err := d.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	defer s.Close()
	stamp := ""
	for _, t := range s.Schema().Tables {
		n, sum, err := s.(tables.Summer).Total(ctx, t.Name, tables.Range{})
		if err != nil {
			return "", err
		}
		stamp += fmt.Sprintf("%s %d %016x\n", t.Name, n, sum)
	}
	for _, o := range s.Schema().After {
		stamp += o.Kind + " " + o.Name + " " + o.SQL + "\n"
	}
	return digestText(stamp), nil
}

// queryTime is how long a statement that a person runs may take.
const queryTime = "60"

// Query runs a statement as the site's own account; without write in a
// transaction in which the server lets nothing be written.
func (d *Database) Query(ctx context.Context, statement string, write bool, give func([]string, []tables.Value) error) (int64, error) {
	db, err := d.login.pool(d.name, 1, nil)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	c, err := db.Conn(ctx)
	if err != nil {
		return 0, explain(err)
	}
	defer c.Close()
	_, _ = c.ExecContext(ctx, "SET SESSION max_statement_time = "+queryTime) // MySQL has none for all statements
	if !write {
		if err := tables.OnlyReads(statement); err != nil {
			return 0, err
		}
		if _, err := c.ExecContext(ctx, "START TRANSACTION READ ONLY"); err != nil {
			return 0, explain(err)
		}
	}
	if tables.OnlyReads(statement) != nil {
		r, err := c.ExecContext(ctx, statement)
		if err != nil {
			return 0, explain(err)
		}
		return r.RowsAffected()
	}
	rows, err := c.QueryContext(ctx, statement)
	if err != nil {
		return 0, explain(err)
	}
	return 0, explain(tables.Results(rows, give))
}
