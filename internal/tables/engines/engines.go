// Package engines opens databases of any engine. It is the only place that knows which
// engines there are: everybody else works with what package tables declares.
package engines

import (
	"context"
	"fmt"
	"io"
	"net"
	"path"
	"strconv"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/relay"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
	"alibi/internal/tables/sqlite"
)

// Where is a database where its site is.
type Where struct {
	Host     host.Host
	Database site.Database
	// Password gives that of the site's own account, where the engine asks for one.
	Password func(ctx context.Context) (string, error)
	Temp     string // for the engine's own files, on this machine
	// Relay gives a relay to its server, where that can't be reached from here; nil: it can.
	Relay  func(ctx context.Context, s relay.Server) (*relay.Relay, error)
	Writes bool // a relay may change the database
}

// Open opens a site's own database.
func Open(ctx context.Context, w Where) (tables.Writable, error) {
	db := w.Database
	switch {
	case db.InFile():
		dir, err := w.Host.Open(ctx, path.Dir(db.Path))
		if err != nil {
			return nil, err
		}
		return sqlite.Open(dir, path.Base(db.Path), w.Temp), nil
	case db.Served():
		srv, err := Own(ctx, w)
		if err != nil {
			return nil, err
		}
		switch {
		case db.Beside():
			return srv.Open(db.Name, tables.Prefix{Name: db.As, Stored: db.Prefix}), nil
		case strings.HasPrefix(db.Prefix, mysql.OwnPrefix): // a copy by itself
			return srv.Open(db.Name, tables.Prefix{Name: db.Prefix, Stored: db.Prefix}), nil
		}
		return srv.Open(db.Name, tables.Prefix{}), nil
	}
	return nil, fmt.Errorf("a %s database can't be read: %w", db.Engine, tables.ErrRefused)
}

// Own is the server of a site's database, reached as the site itself reaches it.
func Own(ctx context.Context, w Where) (tables.Server, error) {
	password, err := w.Password(ctx)
	if err != nil {
		return nil, err
	}
	if w.Relay != nil {
		return relayed(ctx, w, password)
	}
	return Server(ctx, w.Host, w.Database.Server, w.Database.User, password), nil
}

// relayed is a server that a site's own PHP reaches for us.
func relayed(ctx context.Context, w Where, password string) (tables.Server, error) {
	s := relay.Server{Host: "localhost", User: w.Database.User, Password: password, Writes: w.Writes}
	switch network, addr := mysql.ParseServer(w.Database.Server, ""); {
	case network == "unix":
		s.Socket = addr
	default:
		host, port, err := net.SplitHostPort(addr)
		if err == nil {
			s.Port, err = strconv.Atoi(port)
		}
		if err != nil {
			return nil, fmt.Errorf("the database server %q of the site: %w", w.Database.Server, err)
		}
		s.Host = host
	}
	r, err := w.Relay(ctx, s)
	if err != nil {
		return nil, fmt.Errorf("reaching the database through a relay: %w", err)
	}
	return mysql.Login{Addr: w.Database.Server + " through a relay", User: w.Database.User, Through: r.Connector}, nil
}

// EditFile changes a database that is a file. What is made beside it gets names that
// begin with mark; at is when the site's files were placed.
func EditFile(ctx context.Context, w Where, mark string, at time.Time) (tables.Edit, error) {
	dir, err := w.Host.Write(ctx, path.Dir(w.Database.Path))
	if err != nil {
		return nil, err
	}
	return sqlite.NewEdit(dir, path.Base(w.Database.Path), mark, w.Temp, at, w.Host), nil
}

// Program is what PHP runs on another machine to change rows of a database file there.
const Program = sqlite.Program

// FileTarget is a database file of this machine that is to be filled.
func FileTarget(name string) tables.Target { return sqlite.NewTarget(name) }

// IsFile tells whether a file is a database.
func IsFile(root host.Tree, name string) bool { return sqlite.Is(root, name) }

// sockets are where "localhost" is, by the habits of distributions.
var sockets = []string{
	"/run/mysqld/mysqld.sock",
	"/var/run/mysqld/mysqld.sock",
	"/var/lib/mysql/mysql.sock",
	"/tmp/mysql.sock",
}

// Server is a database server, reached on a host by the name that sites there use
// for it.
func Server(ctx context.Context, h host.Host, server, user, password string) tables.Server {
	network, addr, dial := Reach(h, server)
	return mysql.Login{
		Network:  network,
		Addr:     addr,
		User:     user,
		Password: password,
		Dial:     func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) },
		Compress: host.Compresses(ctx, h),
	}
}

// Reach gives where programs of a host look for a server by the name that sites there use for it ("unix" and the
// path of a socket, or "tcp" and HOST:PORT), and what connects to it.
func Reach(h host.Host, server string) (network, addr string, dial func(context.Context) (net.Conn, error)) {
	network, addr = mysql.ParseServer(server, sockets[0])
	if network == "unix" && addr == sockets[0] && !strings.Contains(server, "/") {
		return network, addr, func(ctx context.Context) (net.Conn, error) { return dialLocal(ctx, h) }
	}
	return network, addr, func(ctx context.Context) (net.Conn, error) { return h.Dial(ctx, network, addr) }
}

// dialLocal connects to the server that "localhost" means on a host.
func dialLocal(ctx context.Context, h host.Host) (net.Conn, error) {
	var first error
	for _, s := range sockets {
		c, err := h.Dial(ctx, "unix", s)
		if err == nil {
			return c, nil
		}
		if first == nil {
			first = err
		}
	}
	if c, err := h.Dial(ctx, "tcp", "127.0.0.1:3306"); err == nil {
		return c, nil
	}
	return nil, first
}

// Local is a server of this machine, by its socket.
func Local(socket, user, password string) tables.Server {
	return mysql.Login{Network: "unix", Addr: socket, User: user, Password: password}
}

// served tells whether tables are a server's.
func served(engine string) bool { return site.Database{Engine: engine}.Served() }

// Dump writes tables as statements that their engine's own client loads.
func Dump(ctx context.Context, snap tables.Snapshot, to io.Writer) error {
	if served(snap.Schema().Engine) {
		return mysql.Dump(ctx, snap, to)
	}
	return sqlite.Dump(ctx, snap, to)
}

// Escapes tells whether a backslash in a text of such a dump stands before another
// character than itself.
func Escapes(engine string) bool { return served(engine) }

// Typed makes values that were read from a dump what a snapshot gives: each as its
// column keeps it.
func Typed(engine string, t tables.Table, values []tables.Value) {
	if served(engine) {
		mysql.Typed(t, values)
	}
}

// Digester digests rows as a snapshot of their engine does.
func Digester(s tables.Schema) func(table string, r tables.Row, buf []byte) (tables.Digest, []byte) {
	if served(s.Engine) {
		return mysql.Digester(s)
	}
	return func(_ string, r tables.Row, buf []byte) (tables.Digest, []byte) { return r.Digest(buf) }
}

// SameShape tells whether two tables are defined alike; the numbers that their next
// rows get don't count.
func SameShape(a, b tables.Table) bool { return mysql.Definition(a) == mysql.Definition(b) }

// Collations gives the collations that a schema names, each with the first thing that has it.
func Collations(s tables.Schema) map[string]string {
	if !served(s.Engine) {
		return nil
	}
	return mysql.Collations(s)
}

// Exchange gives the collations that a schema gets on a server that knows some, in place of its own: those that are not
// known there, and those that a person chose. missing are those for which there is none, each with what has it.
func Exchange(s tables.Schema, chosen map[string]string, known map[string]bool) (to, missing map[string]string) {
	if !served(s.Engine) {
		return nil, nil
	}
	return mysql.Exchange(s, chosen, known)
}

// Nearest gives the collation that comes nearest to another one, of those that a server knows, and whether it is the
// same by another name; "" where there is none.
func Nearest(collation string, known map[string]bool) (to string, same bool) {
	return mysql.Nearest(collation, known)
}

// Recollate gives a schema with other collations in place of some.
func Recollate(s tables.Schema, to map[string]string) tables.Schema { return mysql.Recollate(s, to) }

// Defined gives a table with the definition of one that means the same, as a server of another make writes it.
func Defined(t, as tables.Table) tables.Table { return mysql.Defined(t, as) }
