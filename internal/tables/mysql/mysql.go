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
	"maps"
	"net"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
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
	// Through makes connections to a database by something else, with statements that set their sessions; nil: by
	// the server's own protocol. None of them sees the same state as another.
	Through func(database string, session []string) driver.Connector

	asked *atomic.Int64 // counts the statements of its connections; nil: nobody wants to know
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

// ownRetries among the parameters of a pool leaves it to the caller to try a
// statement again that could not have its tables.
const ownRetries = "alibi_own_retries"

// pool opens connections to a database; name may be "".
func (l Login) pool(name string, conns int, params map[string]string) (*sql.DB, error) {
	cfg := driverpkg.NewConfig()
	cfg.Net, cfg.Addr, cfg.User, cfg.Passwd, cfg.DBName = l.Network, l.Addr, l.User, l.Password, name
	if cfg.DialFunc = l.Dial; !l.Compress {
		cfg.DialFunc = dialSane(l.Dial)
	}
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
		"lock_wait_timeout":     "1", // seconds, for a table that somebody else has; then it is tried again
	}
	patience := patient
	for k, v := range params {
		if k == ownRetries {
			patience = 0
			continue
		}
		cfg.Params[k] = v
	}
	if l.Through != nil {
		return opened(polite{l.Through(name, settings(cfg.Params)), patience, l.asked}, conns), nil
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
	return opened(polite{c, patience, l.asked}, conns), nil
}

func opened(by driver.Connector, conns int) *sql.DB {
	db := sql.OpenDB(by)
	db.SetMaxOpenConns(conns)
	db.SetMaxIdleConns(conns)
	return db
}

// settings are the statements that the driver says for parameters.
func settings(params map[string]string) []string {
	out := []string{"SET NAMES " + params["charset"]}
	for _, k := range slices.Sorted(maps.Keys(params)) {
		if k != "charset" {
			out = append(out, "SET "+k+" = "+params[k])
		}
	}
	return out
}

// kinds are the server's numbers of errors that callers decide on
// (https://mariadb.com/kb/en/mariadb-error-code-reference/).
var kinds = map[error][]uint16{
	tables.ErrRefused: {1044, 1045, 1049, 1142, 1143, 1227, 1370, 1698},
	tables.ErrCrowded: {1040, 1203, 1226},
	tables.ErrAway:    {1053, 1152, 1158, 1159, 1160, 1161, 1184, 1927, 4031},
	tables.ErrWaits:   {1205, 1213},
	tables.ErrShape:   {1412},
	tables.ErrFull:    {1021, 1114},
}

// inFiles are the errors of a server that could not write a file; why, the system's
// own number tells, which MariaDB and MySQL write beside its text in any language:
// 28 and 122 from errno(3), 135 and 139 from the storage engines.
var (
	inFiles = []uint16{3, 1004, 1005, 1006, 1026, 1030}
	noRoom  = regexp.MustCompile(`\b(28|122|135|139) ["-]`)
)

// explain gives an error its kind.
func explain(err error) error {
	if err == nil {
		return nil
	}
	for kind := range kinds {
		if errors.Is(err, kind) {
			return err // it has its kind
		}
	}
	n := number(err)
	for kind, list := range kinds {
		if slices.Contains(list, n) {
			return fmt.Errorf("%w: %w", kind, err)
		}
	}
	if slices.Contains(inFiles, n) && noRoom.MatchString(err.Error()) {
		return fmt.Errorf("%w: %w", tables.ErrFull, err)
	}
	var op *net.OpError
	if errors.Is(err, driver.ErrBadConn) || errors.Is(err, driverpkg.ErrInvalidConn) || errors.As(err, &op) {
		return fmt.Errorf("%w: %w", tables.ErrAway, err)
	}
	return err
}

// explainReading gives an error its kind that came while a table was read whose
// definition was read before: a column or the table itself may be gone.
func explainReading(err error) error {
	if n := number(err); n == 1054 || n == 1146 {
		return fmt.Errorf("%w: %w", tables.ErrShape, err)
	}
	return explain(err)
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
func (d *Database) Query(
	ctx context.Context,
	statement string,
	write bool,
	give func([]string, []tables.Value) error,
) (int64, error) {
	reads := tables.OnlyReads(statement)
	if !write && reads != nil {
		return 0, reads
	}
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
	id, err := connection(ctx, c)
	if err != nil {
		return 0, explain(err)
	}
	g := newGuard(d.login)
	defer g.close()
	if _, err := g.open(); err != nil {
		return 0, err
	}
	g.set(id, true)
	_, _ = c.ExecContext(ctx, "SET SESSION max_statement_time = "+queryTime) // MySQL has none for all statements
	if !write {
		for _, q := range []string{"SET SESSION TRANSACTION READ ONLY", "START TRANSACTION READ ONLY"} {
			if _, err := c.ExecContext(ctx, q); err != nil {
				return 0, explain(err)
			}
		}
	}
	if reads != nil {
		r, err := c.ExecContext(ctx, statement)
		if err != nil {
			return 0, ended(ctx, err)
		}
		return r.RowsAffected()
	}
	rows, err := c.QueryContext(ctx, statement)
	if err != nil {
		return 0, ended(ctx, err)
	}
	return 0, ended(ctx, tables.Results(rows, give))
}

// ended says why a statement of a person's was ended.
func ended(ctx context.Context, err error) error {
	switch n := number(err); {
	case ctx.Err() != nil:
		return ctx.Err()
	case n == interrupted:
		return fmt.Errorf("the statement was ended, since visitors waited for a table that it reads: %w", err)
	case n == 1969, n == 3024:
		return fmt.Errorf("the statement was ended after %s seconds: ask for less at once: %w", queryTime, err)
	}
	return explain(err)
}
