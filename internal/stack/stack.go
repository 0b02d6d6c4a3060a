// Package stack is understanding a kind of site: what is in it, how its values
// are to be changed for a copy, and how its configuration is. A stack reads;
// it never runs the site's code.
package stack

import (
	"context"
	"fmt"
	"path"
	"strings"

	"alibi/internal/host"
	"alibi/internal/relay"
	"alibi/internal/rewrite"
	"alibi/internal/scrub"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

// Place is an opened site.
type Place struct {
	Host host.Host
	Root host.Tree
	Temp string // folder of this machine for snapshots

	PHP   func() string                   // a PHP of this machine, "" if it has none; nil: none
	Known func(ctx context.Context) Known // what is known of the site already; nil: nothing
	// Relay gives a relay to the site's database, nil where it is reached without one; nil: it always is.
	Relay func(ctx context.Context, p Place) Relay
}

// Relay puts a relay in its place, or gives the one that is there.
type Relay func(ctx context.Context, s relay.Server) (*relay.Relay, error)

// Known is what is known of a site before it is read: which of the sites that its
// configuration is about is meant.
type Known struct {
	HostPort string // at which it is asked for; "": not known
	Database string // the name of its database; "": not known
	Relay    string // the address at which its folder answers, where its database is reached through a relay
}

// About is what is known of the site already.
func (p Place) About(ctx context.Context) Known {
	if p.Known == nil {
		return Known{}
	}
	return p.Known(ctx)
}

// Stack understands one kind of site. What only some kinds have is in further interfaces, which a kind
// implements or not: see Settings, Contents and the others.
type Stack interface {
	Name() string
	// Is tells whether the place holds such a site.
	Is(ctx context.Context, p Place) bool
	// Inspect gathers the facts, reading only.
	Inspect(ctx context.Context, p Place) (*site.Facts, error)
	// Scope says what is meant in a column: prose or settings.
	Scope(table, column string) rewrite.Scope
	// Personal tells where a site has personal data; own names further columns, as
	// TABLE.COLUMN.
	Personal(prefix string, own map[string]scrub.Kind) scrub.Rules
	// Pages gives pages by which the site can be tried, one of each kind.
	Pages(ctx context.Context, snap tables.Snapshot, f site.Facts) ([]Page, error)
	// Owns tells which tables of a database are a site's own: others may stand
	// beside them.
	Owns(s tables.Schema, prefix string) func(table string) bool
}

// Change is what is to be different in a copy.
type Change struct {
	Origin   site.Facts
	Copy     site.Site
	Rewriter *rewrite.Rewriter
	Moves    bool   // it is no copy but the site itself, in another place: nothing but that is different
	Title    bool   // say in the title that it is a copy
	Password string // of the copy's database account
	Secret   string // by which the copy knows words of Alibi's
	// Brought gives the files that came from the origin, by their paths; without it
	// only the folder of the configuration is looked into.
	Brought func(want func(path string) bool) ([]string, error)
}

// Quiet tells whether the copy keeps a rule.
func (c Change) Quiet(r site.Rule) bool {
	for _, q := range c.Copy.Quiet {
		if q == r {
			return true
		}
	}
	return false
}

// Content is content of some kinds, or single pieces of it by their numbers.
type Content struct {
	Kinds []site.Kind
	Items []int64
}

// Redaction takes secrets out of files and rows.
type Redaction struct {
	Has  func(path string) bool // the file holds some
	File func(path string, text []byte) []byte
	Row  func(t tables.Table, r tables.Row) tables.Row
	// Same tells whether two rows of one key are about the same thing, so that the
	// secret of one belongs to the other.
	Same func(t tables.Table, a, b tables.Row) bool
}

// Rows chooses rows of a table.
type Rows func(t tables.Table, r tables.Row) bool

// TitleMark stands before the title of a copy.
const TitleMark = "[copy] "

// Holder is a host that has the tables of its sites itself.
type Holder interface {
	Database(ctx context.Context, db site.Database) (tables.Database, error)
}

// OpenDatabase opens a site's database where the site is, to be read.
func OpenDatabase(ctx context.Context, st Stack, p Place, db site.Database) (tables.Database, error) {
	if h, ok := p.Host.(Holder); ok {
		return h.Database(ctx, db)
	}
	return openWhere(ctx, st, p, db)
}

// OpenCopy opens the database of a copy, which may be written to. That of a live site is
// never opened so: what changes one is a tables.Edit, with consent to its plan.
func OpenCopy(ctx context.Context, st Stack, p Place, s site.Site) (tables.Writable, error) {
	if s.Role != site.Copy {
		return nil, fmt.Errorf("%s is no copy: %w", s.Name, tables.ErrRefused)
	}
	return openWhere(ctx, st, p, s.Database)
}

func openWhere(ctx context.Context, st Stack, p Place, db site.Database) (tables.Writable, error) {
	return engines.Open(ctx, Where(ctx, st, p, db))
}

// Where is a site's database where the site is.
func Where(ctx context.Context, st Stack, p Place, db site.Database) engines.Where {
	password := func(ctx context.Context) (string, error) { return SettingsOf(st).Password(ctx, p) }
	w := engines.Where{Host: p.Host, Database: db, Password: password, Temp: p.Temp}
	if p.Relay != nil && db.Served() {
		w.Relay = p.Relay(ctx, p)
	}
	return w
}

// Inside gives the path of an absolute name below root.
func Inside(root, name string) (string, bool) {
	rest, ok := strings.CutPrefix(path.Clean(name), strings.TrimRight(root, "/")+"/")
	return rest, ok
}

// Largest is the size from which a single file is worth a remark, in bytes.
const Largest = 64 << 20
