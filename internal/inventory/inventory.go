// Package inventory is the record: hosts, sites, runs, evidence, events, and
// everything that Alibi ever made anywhere. It is one SQLite file that several
// processes may have open; each change is one transaction.
package inventory

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"runtime"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"
	_ "modernc.org/sqlite" // the driver, in Go

	"alibi/internal/site"
)

// ErrUnknown is given for what is not in the record.
var ErrUnknown = errors.New("not in the record")

// Inventory is the open record.
type Inventory struct {
	db       *sql.DB
	spare    spare
	readOnly bool
	listed   listed
}

// ReadOnly tells whether nothing can be written to the record.
func (in *Inventory) ReadOnly() bool { return in.readOnly }

// schema is applied in order; how many were is kept in user_version.
var schema = []string{
	`CREATE TABLE hosts (name TEXT PRIMARY KEY, doc TEXT NOT NULL);
	CREATE TABLE sites (id TEXT PRIMARY KEY, name TEXT NOT NULL, state TEXT NOT NULL, doc TEXT NOT NULL);
	CREATE INDEX sites_by_name ON sites (name);
	CREATE TABLE runs (id TEXT PRIMARY KEY, site TEXT NOT NULL, state TEXT NOT NULL, made INTEGER NOT NULL,
		cancel INTEGER NOT NULL DEFAULT 0, doc TEXT NOT NULL, checkpoint TEXT NOT NULL DEFAULT '{}');
	CREATE INDEX runs_by_time ON runs (made);
	CREATE TABLE made (id INTEGER PRIMARY KEY, site TEXT NOT NULL, kind TEXT NOT NULL, host TEXT NOT NULL,
		path TEXT NOT NULL, at INTEGER NOT NULL, UNIQUE (host, path));
	CREATE TABLE evidence (id INTEGER PRIMARY KEY, site TEXT NOT NULL, at INTEGER NOT NULL, doc TEXT NOT NULL);
	CREATE INDEX evidence_by_site ON evidence (site, at);
	CREATE TABLE events (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, who TEXT NOT NULL, site TEXT NOT NULL,
		kind TEXT NOT NULL, text TEXT NOT NULL);
	CREATE INDEX events_by_site ON events (site, id);
	CREATE TABLE notes (key TEXT PRIMARY KEY, value TEXT NOT NULL);`,
	`CREATE TABLE claims (site TEXT NOT NULL, run TEXT NOT NULL, alone INTEGER NOT NULL, PRIMARY KEY (site, run));
	CREATE INDEX claims_by_run ON claims (run);
	CREATE INDEX runs_by_site ON runs (site, made);`,
	listedSchema,
	`CREATE TABLE moves (name TEXT PRIMARY KEY, doc TEXT NOT NULL);`,
}

// Open opens the record at path, made readable by its owner only if it is new.
func Open(path string) (*Inventory, error) {
	in := &Inventory{spare: spare{path: path + ".spare"}}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if _, serr := os.Stat(path); serr == nil && (errors.Is(err, unix.EROFS) || errors.Is(err, fs.ErrPermission)) {
		return in.openToRead(path)
	}
	if err != nil {
		return nil, fmt.Errorf("opening the record: %w", err)
	}
	f.Close()
	q := url.Values{
		"_pragma": {"busy_timeout(10000)", "journal_mode(WAL)", "synchronous(NORMAL)"},
		"_txlock": {"immediate"},
	}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+q.Encode())
	if err != nil {
		return nil, fmt.Errorf("opening the record: %w", err)
	}
	db.SetMaxOpenConns(1) // one writer; the job queue asks for it too
	in.db = db
	if err := in.write(context.Background(), in.migrate); err != nil {
		db.Close()
		return nil, fmt.Errorf("the record %s can't be used: %w", path, err)
	}
	in.spare.set()
	return in, nil
}

// openToRead opens a record that can't be written to: nobody else can either.
func (in *Inventory) openToRead(path string) (*Inventory, error) {
	q := url.Values{"mode": {"ro"}, "immutable": {"1"}}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+q.Encode())
	if err != nil {
		return nil, fmt.Errorf("opening the record: %w", err)
	}
	db.SetMaxOpenConns(1)
	in.db, in.readOnly = db, true
	var have int
	if err := db.QueryRow("PRAGMA user_version").Scan(&have); err != nil || have != len(schema) {
		db.Close()
		return nil, fmt.Errorf("the record %s: %w; it is of another version, or damaged (%w)", path, ErrReadOnly,
			errors.Join(err))
	}
	return in, nil
}

func (in *Inventory) migrate() error {
	var have int
	if err := in.db.QueryRow("PRAGMA user_version").Scan(&have); err != nil {
		return err
	}
	if have > len(schema) {
		return fmt.Errorf("it was written by a newer version of Alibi (form %d, this one knows %d)", have, len(schema))
	}
	for i := have; i < len(schema); i++ {
		tx, err := in.db.Begin()
		if err != nil {
			return err
		}
		if _, err = tx.Exec(schema[i] + fmt.Sprintf("; PRAGMA user_version = %d", i+1)); err != nil {
			return errors.Join(err, tx.Rollback())
		}
		if err := tx.Commit(); err != nil {
			return err
		}
	}
	return nil
}

// Version is a text that changes whenever anything in the record does, whoever
// changed it.
func (in *Inventory) Version(ctx context.Context) (string, error) {
	var others, own int64
	if err := in.db.QueryRowContext(ctx, "SELECT (SELECT data_version FROM pragma_data_version()), "+
		"total_changes()").Scan(&others, &own); err != nil {
		return "", fmt.Errorf("reading the record: %w", err)
	}
	return fmt.Sprint(others, " ", own), nil
}

// DB is the database itself, for the job queue that lives in it.
func (in *Inventory) DB() *sql.DB { return in.db }

// Close closes the record.
func (in *Inventory) Close() error { return in.db.Close() }

// Host is how a machine is reached.
type Host struct {
	Name   string      `json:"name"`
	Addr   string      `json:"addr,omitempty"` // "" for this machine
	Port   string      `json:"port,omitempty"`
	User   string      `json:"user,omitempty"`
	Key    string      `json:"key,omitempty"`    // file
	Way    string      `json:"way,omitempty"`    // "": SSH; FTPS, FTP, HTTPS or HTTP
	At     string      `json:"at,omitempty"`     // the machine, where the name leads elsewhere; "": it does not
	Pin    string      `json:"pin,omitempty"`    // fingerprint of the host's key that was accepted by name
	Copies string      `json:"copies,omitempty"` // folder in which copies may be made; "": none may
	Server site.Server `json:"server,omitzero"`  // on which copies get their databases
	Limits site.Limits `json:"limits,omitzero"`
	Client string      `json:"client,omitempty"`
	// PasswordFile is a file on this machine with the account's password, where one is needed; "": it is asked for.
	PasswordFile string `json:"password_file,omitempty"`
	// Open is why no wall can be had there for the code of copies, when it was asked last; "": one can, or it was not.
	Open string `json:"open,omitempty"`
}

// Ways to reach a host beside SSH.
const (
	FTPS = "ftps" // FTP with TLS
	FTP  = "ftp"  // without: what is said can be read on its way, the password too
	// By the pages of a site there, as an account that may put code into it: with TLS, or without.
	HTTPS = "https"
	HTTP  = "http"
)

// BySite tells whether a host is reached by the pages of a site there.
func (h Host) BySite() bool { return h.Way == HTTPS || h.Way == HTTP }

// Plain tells whether what is said to a host can be read on its way.
func (h Host) Plain() bool { return h.Way == FTP || h.Way == HTTP }

// PlainWay tells whether an address says that a host is reached by a way that encrypts nothing, and which.
func PlainWay(addr string) (way string, plain bool) {
	way, _, says := strings.Cut(addr, "://")
	return way, says && Host{Way: way}.Plain()
}

// Ways are those to reach hosts, as addresses begin.
func Ways() []string { return []string{HTTPS, HTTP, FTPS, FTP} }

// Where is the address as a person writes it.
func (h Host) Where() string {
	out := h.Addr
	if h.Port != "" {
		out = net.JoinHostPort(h.Addr, h.Port)
	}
	if h.User != "" {
		out = h.User + "@" + out
	}
	if h.Way != "" {
		out = h.Way + "://" + out
	}
	return out
}

// Local tells whether the host is this machine.
func (h Host) Local() bool { return h.Addr == "" }

// collect reads the JSON documents that a query gives.
func collect[T any](ctx context.Context, db *sql.DB, q string, args ...any) ([]T, error) {
	rows, err := db.QueryContext(ctx, q, args...)
	if err != nil {
		return nil, fmt.Errorf("reading the record: %w", err)
	}
	defer rows.Close()
	var docs [][]byte
	for rows.Next() {
		var doc []byte
		if err := rows.Scan(&doc); err != nil {
			return nil, fmt.Errorf("reading the record: %w", err)
		}
		docs = append(docs, doc)
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("reading the record: %w", err)
	}
	return decode[T](docs)
}

// decode reads documents on all processors: a long list is read each time that
// something in it changes.
func decode[T any](docs [][]byte) ([]T, error) {
	out := make([]T, len(docs))
	var g errgroup.Group
	part := len(docs)/runtime.NumCPU() + 1
	for from := 0; from < len(docs); from += part {
		g.Go(func() error {
			for i := from; i < min(from+part, len(docs)); i++ {
				if err := json.Unmarshal(docs[i], &out[i]); err != nil {
					return fmt.Errorf("reading the record: %w", err)
				}
			}
			return nil
		})
	}
	return out, g.Wait()
}

func one[T any](list []T, err error, what, name string) (T, error) {
	var zero T
	if err != nil {
		return zero, err
	}
	if len(list) == 0 {
		return zero, fmt.Errorf("%s %q: %w", what, name, ErrUnknown)
	}
	return list[0], nil
}

func (in *Inventory) exec(ctx context.Context, q string, args ...any) error {
	err := in.write(ctx, func() error {
		_, err := in.db.ExecContext(ctx, q, args...)
		return err
	})
	if err != nil {
		return fmt.Errorf("writing to the record: %w", err)
	}
	return nil
}

func doc(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own plain types
	}
	return string(b)
}

// Hosts lists all hosts by name.
func (in *Inventory) Hosts(ctx context.Context) ([]Host, error) {
	return collect[Host](ctx, in.db, "SELECT doc FROM hosts ORDER BY name")
}

// Host finds a host.
func (in *Inventory) Host(ctx context.Context, name string) (Host, error) {
	l, err := collect[Host](ctx, in.db, "SELECT doc FROM hosts WHERE name = ?", name)
	return one(l, err, "host", name)
}

// PutHost adds or changes a host.
func (in *Inventory) PutHost(ctx context.Context, h Host) error {
	return in.exec(ctx, "INSERT INTO hosts VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET doc = excluded.doc", h.Name,
		doc(h))
}

// DropHost takes a host out of the record.
func (in *Inventory) DropHost(ctx context.Context, name string) error {
	return in.exec(ctx, "DELETE FROM hosts WHERE name = ?", name)
}

// Sites lists all sites that are not gone, by name. The other places of sites that are moved are none.
func (in *Inventory) Sites(ctx context.Context) ([]site.Site, error) {
	return collect[site.Site](ctx, in.db, "SELECT doc FROM sites WHERE state NOT IN ('gone', 'aside') ORDER BY name")
}

// AllSites lists all sites by name, also those that are gone.
func (in *Inventory) AllSites(ctx context.Context) ([]site.Site, error) {
	return collect[site.Site](ctx, in.db, "SELECT doc FROM sites ORDER BY name")
}

// Site finds a site by its ID, also one that is gone.
func (in *Inventory) Site(ctx context.Context, id site.ID) (site.Site, error) {
	l, err := collect[site.Site](ctx, in.db, "SELECT doc FROM sites WHERE id = ?", string(id))
	return one(l, err, "site", string(id))
}

// PutSite adds or changes a site.
func (in *Inventory) PutSite(ctx context.Context, s site.Site) error {
	return in.write(ctx, func() error { return put(ctx, in.db, s) })
}

type execer interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

func put(ctx context.Context, db execer, s site.Site) error {
	_, err := db.ExecContext(ctx, `INSERT INTO sites VALUES (?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET name = excluded.name, state = excluded.state, doc = excluded.doc`, string(s.ID),
		s.Name, string(s.State), doc(s))
	if err != nil {
		return fmt.Errorf("writing site %s to the record: %w", s.Name, err)
	}
	return nil
}

// ChangeSite reads a site, lets change change it and writes it back, in one
// transaction. An error from change leaves it as it was.
func (in *Inventory) ChangeSite(
	ctx context.Context,
	id site.ID,
	change func(*site.Site) error,
) (s site.Site, err error) {
	err = in.write(ctx, func() error {
		s, err = in.changeSite(ctx, id, change)
		return err
	})
	return s, err
}

func (in *Inventory) changeSite(ctx context.Context, id site.ID, change func(*site.Site) error) (site.Site, error) {
	var s site.Site
	tx, err := in.db.BeginTx(ctx, nil)
	if err != nil {
		return s, fmt.Errorf("writing to the record: %w", err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	var b []byte
	err = tx.QueryRowContext(ctx, "SELECT doc FROM sites WHERE id = ?", string(id)).Scan(&b)
	if errors.Is(err, sql.ErrNoRows) {
		return s, fmt.Errorf("site %q: %w", id, ErrUnknown)
	}
	if err == nil {
		err = json.Unmarshal(b, &s)
	}
	if err != nil {
		return s, fmt.Errorf("reading the record: %w", err)
	}
	if err := change(&s); err != nil {
		return s, err
	}
	if err := put(ctx, tx, s); err != nil {
		return s, err
	}
	return s, tx.Commit()
}

// Made is something that Alibi made on a host, until it is removed again.
type Made struct {
	Site site.ID   `json:"site"`
	Kind string    `json:"kind"` // "folder", "database", "account"
	Host string    `json:"host"`
	Path string    `json:"path"`
	At   time.Time `json:"at"`
}

// AddMade notes something before it is made, so that nothing is ever forgotten.
func (in *Inventory) AddMade(ctx context.Context, m Made) error {
	return in.exec(
		ctx,
		"INSERT INTO made (site, kind, host, path, at) VALUES (?, ?, ?, ?, ?) ON CONFLICT (host, path) DO UPDATE SET "+
			"site = excluded.site",
		string(m.Site),
		m.Kind,
		m.Host,
		m.Path,
		m.At.UnixNano(),
	)
}

// Unmade notes that something is gone.
func (in *Inventory) Unmade(ctx context.Context, hostName, path string) error {
	return in.exec(ctx, "DELETE FROM made WHERE host = ? AND path = ?", hostName, path)
}

// AllMade lists what was made and is not known to be gone.
func (in *Inventory) AllMade(ctx context.Context) ([]Made, error) {
	rows, err := in.db.QueryContext(ctx, "SELECT site, kind, host, path, at FROM made ORDER BY host, path")
	if err != nil {
		return nil, fmt.Errorf("reading the record: %w", err)
	}
	defer rows.Close()
	var out []Made
	for rows.Next() {
		var m Made
		var at int64
		if err := rows.Scan(&m.Site, &m.Kind, &m.Host, &m.Path, &at); err != nil {
			return nil, fmt.Errorf("reading the record: %w", err)
		}
		m.At = time.Unix(0, at)
		out = append(out, m)
	}
	return out, rows.Err()
}

// PutEvidence keeps a report of evidence about a site.
func (in *Inventory) PutEvidence(ctx context.Context, id site.ID, at time.Time, report any) error {
	return in.exec(ctx, "INSERT INTO evidence (site, at, doc) VALUES (?, ?, ?)", string(id), at.UnixNano(), doc(report))
}

// Evidence gives the latest reports about a site, newest first, as JSON.
func (in *Inventory) Evidence(ctx context.Context, id site.ID, limit int) ([]json.RawMessage, error) {
	return collect[json.RawMessage](ctx, in.db, "SELECT doc FROM evidence WHERE site = ? ORDER BY at DESC LIMIT ?",
		string(id), limit)
}

// Note gives a remembered value, "" if there is none.
func (in *Inventory) Note(ctx context.Context, key string) (string, error) {
	var v string
	err := in.db.QueryRowContext(ctx, "SELECT value FROM notes WHERE key = ?", key).Scan(&v)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return v, err
}

// SetNote remembers a value.
func (in *Inventory) SetNote(ctx context.Context, key, value string) error {
	return in.exec(ctx, "INSERT INTO notes VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", key,
		value)
}

// Notes gives the notes whose keys begin with a word, by the rest of their keys.
func (in *Inventory) Notes(ctx context.Context, prefix string) (map[string]string, error) {
	rows, err := in.db.QueryContext(ctx, "SELECT key, value FROM notes WHERE substr(key, 1, ?) = ?", len(prefix),
		prefix)
	if err != nil {
		return nil, fmt.Errorf("reading the record: %w", err)
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var k, v string
		if err := rows.Scan(&k, &v); err != nil {
			return nil, err
		}
		out[k[len(prefix):]] = v
	}
	return out, rows.Err()
}
