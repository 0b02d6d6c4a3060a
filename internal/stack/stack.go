// Package stack is understanding a kind of site: what is in it, how its values
// are to be changed for a copy, and how its configuration is. A stack reads;
// it never runs the site's code.
package stack

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"path"
	"strings"
	"time"

	"alibi/internal/ballast"
	"alibi/internal/host"
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
}

// Known is what is known of a site before it is read: which of the sites that its
// configuration is about is meant.
type Known struct {
	HostPort string // at which it is asked for; "": not known
	Database string // the name of its database; "": not known
}

// About is what is known of the site already.
func (p Place) About(ctx context.Context) Known {
	if p.Known == nil {
		return Known{}
	}
	return p.Known(ctx)
}

// Stack understands one kind of site.
type Stack interface {
	Name() string
	// Is tells whether the place holds such a site.
	Is(ctx context.Context, p Place) bool
	// Inspect gathers the facts, reading only.
	Inspect(ctx context.Context, p Place) (*site.Facts, error)
	// Scope says what is meant in a column: prose or settings.
	Scope(table, column string) rewrite.Scope
	// Adjust changes a row of a copy beyond its addresses, in place, and counts
	// the values that it changed.
	Adjust(c Change, t tables.Table, row tables.Row) int
	// Touches tells which rows Adjust may change: those with one of the values in
	// the column. "" is none of this table.
	Touches(prefix, table string) (column string, values []string)
	// Keyed names the column of a table in which the table prefix begins names
	// of settings; "" for none.
	Keyed(prefix, table string) string
	// Choose works out which rows belong to kinds of content, and to what these
	// refer to.
	Choose(ctx context.Context, snap tables.Snapshot, f site.Facts, only []site.Kind) (Keeper, error)
	// Accounts lists those under which one can sign in, administrators first.
	Accounts(ctx context.Context, snap tables.Snapshot, prefix string) ([]Account, error)
	// Account says what becomes of each table for an account to be what is wished.
	Account(
		ctx context.Context,
		snap tables.Snapshot,
		prefix string,
		w AccountWish,
	) (func(t tables.Table) Cleanup, error)
	// Ballast says what becomes of each table for made-up content to be there, or none
	// of any seed; at is the time of the newest of it.
	Ballast(
		ctx context.Context,
		snap tables.Snapshot,
		f site.Facts,
		l ballast.Load,
		at time.Time,
	) (func(t tables.Table) Cleanup, error)
	// BallastFiles are the files of made-up content, by path, all in BallastFolder.
	BallastFiles(l ballast.Load) map[string][]byte
	BallastFolder() string
	// Password gives the secret of the site's database account, from where the
	// site itself has it.
	Password(ctx context.Context, p Place) (string, error)
	// Configure gives the files of the copy that differ from the origin's, by
	// path, with their new contents.
	Configure(ctx context.Context, origin Place, c Change) (map[string][]byte, error)
	// FirstConfig gives the configuration with which an unpacked core begins.
	FirstConfig(root host.Tree) ([]byte, error)
	// FirstForm gives the form with which the CMS is installed, and where it is sent.
	FirstForm(title, admin, mail, password string) (path string, form url.Values)
	// Notice gives the files that make a live site's web server show a front, by
	// path; the first one by name switches it on. None where there is no such way.
	Notice(f site.Front) map[string][]byte
	// PutBack tells for a table which rows of now are to go and which of was are to
	// come so that content is again what it was; nil where the table has none.
	PutBack(
		ctx context.Context,
		was, now tables.Snapshot,
		prefix string,
		c Content,
	) (func(table string) (drop, bring Rows), error)
	// Clean says what becomes of each table for a site to be clean. Asked again of a
	// site that is, it says that nothing differs.
	Clean(ctx context.Context, snap tables.Snapshot, prefix string, w Wish) (func(t tables.Table) Cleanup, error)
	// LeftFolders are the folders of what a reset may leave over.
	LeftFolders() []LeftFolder
	// BareTheme is the theme that a clean site has; "" where there are none.
	BareTheme(f site.Facts) string
	// Export writes content of some kinds, or all, in the open form in which the CMS
	// exports it, and tells how many items that was.
	Export(ctx context.Context, snap tables.Snapshot, prefix string, kinds []site.Kind, to io.Writer) (int, error)
	// Bring reads such content, and says which rows are to be added for it. Asked
	// again of a site that has it, it says that none are.
	Bring(
		ctx context.Context,
		snap tables.Snapshot,
		prefix string,
		from io.Reader,
	) (func(t tables.Table) Cleanup, Brought, error)
	// Personal tells where a site has personal data; own names further columns, as
	// TABLE.COLUMN.
	Personal(prefix string, own map[string]scrub.Kind) scrub.Rules
	// EmptyCaches says what becomes of a table for kept results to be gone from it.
	EmptyCaches(prefix string, t tables.Table) Cleanup
	// ObjectCache is the file that switches a cache of objects on, and what it is
	// called while that is off; "" where there is none.
	ObjectCache() (on, off string)
	// Redact takes out of a site what nobody else may know.
	Redact(prefix string) Redaction
	// Identify tells what the files below a root are, in a folder of that name: a
	// plugin, a theme or a core.
	Identify(root host.Tree, folder string) (site.ComponentKind, site.Component, bool)
	// Stands says where a plugin or a theme stands below a site's root.
	Stands(kind site.ComponentKind, slug string) string
	// Pages gives pages by which the site can be tried, one of each kind.
	Pages(ctx context.Context, snap tables.Snapshot, f site.Facts) ([]Page, error)
	// Declared gives the functions and classes that the code below a root declares
	// for all, without looking whether they are there.
	Declared(root host.Tree) map[string]bool
	// CoreFile tells whether a path is one of the CMS's own files.
	CoreFile(path string) bool
	// Switch says what becomes of each table for plugins and themes to be on or off.
	// Asked again of a site where they are, it says that nothing differs.
	Switch(ctx context.Context, snap tables.Snapshot, prefix string, w Switches) (func(t tables.Table) Cleanup, error)
	// Owns tells which tables of a database are a site's own: others may stand
	// beside them.
	Owns(s tables.Schema, prefix string) func(table string) bool
}

// Change is what is to be different in a copy.
type Change struct {
	Origin   site.Facts
	Copy     site.Site
	Rewriter *rewrite.Rewriter
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
	return engines.Open(ctx, Where(st, p, db))
}

// Where is a site's database where the site is.
func Where(st Stack, p Place, db site.Database) engines.Where {
	password := func(ctx context.Context) (string, error) { return st.Password(ctx, p) }
	return engines.Where{Host: p.Host, Database: db, Password: password, Temp: p.Temp}
}

// Inside gives the path of an absolute name below root.
func Inside(root, name string) (string, bool) {
	rest, ok := strings.CutPrefix(path.Clean(name), strings.TrimRight(root, "/")+"/")
	return rest, ok
}

// Largest is the size from which a single file is worth a remark, in bytes.
const Largest = 64 << 20
