package stack

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"slices"
	"time"

	"alibi/internal/ballast"
	"alibi/internal/host"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// What only some kinds of sites have. Each is an interface that a Stack may implement, and a function
// that gives it: of a kind that does not, one that has nothing of it and says so.

// Layout says where a kind of site has what others ask for, as paths below its root.
type Layout struct {
	Config  string   // its configuration
	Uploads string   // what visitors and editors bring
	Log     string   // what went wrong, where the site is told to write that
	Caches  string   // results that are kept
	Folders []string // that one has that is new
}

// Laid is a kind of site with a layout.
type Laid interface{ Layout() Layout }

// LayoutOf gives that of a kind of site; without paths where it has none.
func LayoutOf(st Stack) Layout {
	if l, ok := st.(Laid); ok {
		return l.Layout()
	}
	return Layout{}
}

// Settings are those by which a site knows where it is, and its copy that it is one.
type Settings interface {
	// Password gives the secret of the site's database account, from where the
	// site itself has it.
	Password(ctx context.Context, p Place) (string, error)
	// Configure gives the files of the copy that differ from the origin's, by
	// path, with their new contents.
	Configure(ctx context.Context, origin Place, c Change) (map[string][]byte, error)
	// Adjust changes a row of a copy beyond its addresses, in place, and counts
	// the values that it changed.
	Adjust(c Change, t tables.Table, row tables.Row) int
	// Touches tells which rows Adjust may change: those with one of the values in
	// the column. "" is none of this table.
	Touches(prefix, table string) (column string, values []string)
	// Caught is the folder on its host in which a copy puts down what it does not send.
	Caught(s site.Site) string
	// Keyed names the column of a table in which the table prefix begins names
	// of settings; "" for none.
	Keyed(prefix, table string) string
}

// SettingsOf gives those of a kind of site.
func SettingsOf(st Stack) Settings {
	if c, ok := st.(Settings); ok {
		return c
	}
	return noSettings{}
}

type noSettings struct{}

func (noSettings) Caught(site.Site) string { return "" }

func (noSettings) Password(context.Context, Place) (string, error) { return "", nil }

func (noSettings) Configure(context.Context, Place, Change) (map[string][]byte, error) {
	return nil, nil
}

func (noSettings) Adjust(Change, tables.Table, tables.Row) int { return 0 }

func (noSettings) Touches(string, string) (string, []string) { return "", nil }

func (noSettings) Keyed(string, string) string { return "" }

// Movable is a kind of site that can stand in another place as it is.
type Movable interface {
	// Arrive gives the files that are to be others in another place, by path, with their new contents: c.Copy is the
	// site as it will stand there.
	Arrive(ctx context.Context, origin Place, c Change) (map[string][]byte, error)
}

// MovableOf gives what a kind of site needs to be moved: nothing, where no file of it says where it stands.
func MovableOf(st Stack) Movable {
	if m, ok := st.(Movable); ok {
		return m
	}
	return noPlaces{}
}

type noPlaces struct{}

func (noPlaces) Arrive(context.Context, Place, Change) (map[string][]byte, error) { return nil, nil }

// Contents are what a site is made for: items, of kinds, that refer to each other.
type Contents interface {
	// Choose works out which rows belong to kinds of content, and to what these
	// refer to.
	Choose(ctx context.Context, snap tables.Snapshot, f site.Facts, only []site.Kind) (Keeper, error)
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
}

// ContentsOf gives those of a kind of site.
func ContentsOf(st Stack) Contents {
	if c, ok := st.(Contents); ok {
		return c
	}
	return noContents{}
}

type noContents struct{}

func (noContents) Choose(context.Context, tables.Snapshot, site.Facts, []site.Kind) (Keeper, error) {
	return nil, nil
}

func (noContents) PutBack(
	context.Context,
	tables.Snapshot,
	tables.Snapshot,
	string,
	Content,
) (func(string) (drop, bring Rows), error) {
	return nil, errors.New("of this kind of site Alibi knows no kinds of content: choose tables instead")
}

func (noContents) Clean(context.Context, tables.Snapshot, string, Wish) (func(tables.Table) Cleanup, error) {
	return nil, errors.New("of this kind of site nothing tells what is content: bring it to a restore point or to " +
		"its origin instead")
}

func (noContents) LeftFolders() []LeftFolder { return nil }

func (noContents) BareTheme(site.Facts) string { return "" }

func (noContents) Export(context.Context, tables.Snapshot, string, []site.Kind, io.Writer) (int, error) {
	return 0, errNoContent
}

func (noContents) Bring(
	context.Context,
	tables.Snapshot,
	string,
	io.Reader,
) (func(tables.Table) Cleanup, Brought, error) {
	return nil, Brought{}, errNoContent
}

// People are the accounts under which one can sign in to a site.
type People interface {
	// Accounts lists those under which one can sign in, administrators first.
	Accounts(ctx context.Context, snap tables.Snapshot, prefix string) ([]Account, error)
	// Account says what becomes of each table for an account to be what is wished.
	Account(
		ctx context.Context,
		snap tables.Snapshot,
		prefix string,
		w AccountWish,
	) (func(t tables.Table) Cleanup, error)
}

// PeopleOf gives those of a kind of site.
func PeopleOf(st Stack) People {
	if c, ok := st.(People); ok {
		return c
	}
	return noPeople{}
}

type noPeople struct{}

func (noPeople) Accounts(context.Context, tables.Snapshot, string) ([]Account, error) {
	return nil, nil
}

func (noPeople) Account(
	context.Context,
	tables.Snapshot,
	string,
	AccountWish,
) (func(tables.Table) Cleanup, error) {
	return nil, errors.New("of this kind of site Alibi knows no accounts")
}

// Filler makes content up.
type Filler interface {
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
}

// FillerOf gives those of a kind of site.
func FillerOf(st Stack) Filler {
	if c, ok := st.(Filler); ok {
		return c
	}
	return noFiller{}
}

type noFiller struct{}

func (noFiller) Ballast(
	context.Context,
	tables.Snapshot,
	site.Facts,
	ballast.Load,
	time.Time,
) (func(tables.Table) Cleanup, error) {
	return nil, errNoContent
}

func (noFiller) BallastFiles(ballast.Load) map[string][]byte { return nil }

func (noFiller) BallastFolder() string { return "" }

// Installer begins a site that has nothing yet.
type Installer interface {
	// TablePrefix begins the names of its tables.
	TablePrefix() string
	// SetPassword is the statement that gives an account a hash of a password: it takes the hash and
	// the account's name.
	SetPassword(prefix string) string
	// FirstConfig gives the configuration with which an unpacked core begins.
	FirstConfig(root host.Tree) ([]byte, error)
	// FirstForm gives the form with which the CMS is installed, and where it is sent.
	FirstForm(title, admin, mail, password string) (path string, form url.Values)
}

// InstallerOf gives those of a kind of site.
func InstallerOf(st Stack) Installer {
	if c, ok := st.(Installer); ok {
		return c
	}
	return noInstaller{}
}

type noInstaller struct{}

func (noInstaller) TablePrefix() string { return "" }

func (noInstaller) SetPassword(string) string { return "" }

func (noInstaller) FirstConfig(host.Tree) ([]byte, error) {
	return nil, errors.New("a site without a CMS has no core to begin with")
}

func (noInstaller) FirstForm(_, _, _, _ string) (string, url.Values) { return "", nil }

// Notices stand before a live site's pages.
type Notices interface {
	// Notice gives the files that make a live site's web server show a front, by
	// path; the first one by name switches it on. None where there is no such way.
	Notice(f site.Front) map[string][]byte
}

// NoticesOf gives those of a kind of site.
func NoticesOf(st Stack) Notices {
	if c, ok := st.(Notices); ok {
		return c
	}
	return noNotices{}
}

type noNotices struct{}

func (noNotices) Notice(site.Front) map[string][]byte { return nil }

// Caches are results that a site keeps.
type Caches interface {
	// EmptyCaches says what becomes of a table for kept results to be gone from it.
	EmptyCaches(prefix string, t tables.Table) Cleanup
	// ObjectCache is the file that switches a cache of objects on, and what it is
	// called while that is off; "" where there is none.
	ObjectCache() (on, off string)
}

// CachesOf gives those of a kind of site.
func CachesOf(st Stack) Caches {
	if c, ok := st.(Caches); ok {
		return c
	}
	return noCaches{}
}

type noCaches struct{}

func (noCaches) EmptyCaches(string, tables.Table) Cleanup { return Cleanup{} }

func (noCaches) ObjectCache() (on, off string) { return "", "" }

// Secrets are what nobody else may know of a site.
type Secrets interface {
	// Redact takes out of a site what nobody else may know.
	Redact(prefix string) Redaction
}

// SecretsOf gives those of a kind of site.
func SecretsOf(st Stack) Secrets {
	if c, ok := st.(Secrets); ok {
		return c
	}
	return noSecrets{}
}

type noSecrets struct{}

func (noSecrets) Redact(string) Redaction {
	return Redaction{
		Has:  func(string) bool { return false },
		Row:  func(_ tables.Table, r tables.Row) tables.Row { return r },
		Same: func(tables.Table, tables.Row, tables.Row) bool { return true },
	}
}

// Components are the plugins, themes and core that a site runs.
type Components interface {
	// Identify tells what the files below a root are, in a folder of that name: a
	// plugin, a theme or a core.
	Identify(root host.Tree, folder string) (site.ComponentKind, site.Component, bool)
	// Stands says where a plugin or a theme stands below a site's root.
	Stands(kind site.ComponentKind, slug string) string
	// Declared gives the functions and classes that the code below a root declares
	// for all, without looking whether they are there.
	Declared(root host.Tree) map[string]bool
	// CoreFile tells whether a path is one of the CMS's own files.
	CoreFile(path string) bool
	// Switch says what becomes of each table for plugins and themes to be on or off.
	// Asked again of a site where they are, it says that nothing differs.
	Switch(ctx context.Context, snap tables.Snapshot, prefix string, w Switches) (func(t tables.Table) Cleanup, error)
}

// ComponentsOf gives those of a kind of site.
func ComponentsOf(st Stack) Components {
	if c, ok := st.(Components); ok {
		return c
	}
	return noComponents{}
}

type noComponents struct{}

func (noComponents) Identify(host.Tree, string) (site.ComponentKind, site.Component, bool) {
	return "", site.Component{}, false
}

func (noComponents) Stands(site.ComponentKind, string) string { return "" }

func (noComponents) Declared(host.Tree) map[string]bool { return nil }

func (noComponents) CoreFile(string) bool { return false }

func (noComponents) Switch(
	context.Context,
	tables.Snapshot,
	string,
	Switches,
) (func(tables.Table) Cleanup, error) {
	return func(tables.Table) Cleanup { return Cleanup{} }, nil
}

var errNoContent = errors.New("of this kind of site Alibi knows no kinds of content")

// Admission is what is needed to put code into a site by an account of its own, over HTTP.
type Admission struct {
	Client         *http.Client // that follows nothing by itself
	Header         http.Header  // that each request has
	Address        *url.URL     // of the site
	User, Password string
	Name, Text     string // a PHP file that is to answer by itself
	// Before is called before it is put there; not where it does not come so far.
	Before func(ctx context.Context) error
}

// ErrNotAdmitted is given where a site does not take it.
var ErrNotAdmitted = errors.New("the site lets nothing be put into it by this account")

// Admitting is a kind of site into which an administrator puts code by its own pages.
type Admitting interface {
	// Admit signs in, puts the file there, signs out, and gives the address at which it answers.
	// host.ErrAuth, ErrNotAdmitted.
	Admit(ctx context.Context, a Admission) (*url.URL, error)
}

// TrimPart is a part of a site that visitors do not see, and that can be done without.
type TrimPart struct {
	Name  string `json:"name"`
	About string `json:"about"`
	Files bool   `json:"files,omitempty"` // it is files, not rows
}

// Trimming is a kind of site with such parts.
type Trimming interface {
	Trims() []TrimPart
	// Trim tells for a table to which part each row belongs, "" for one that the site needs; nil of a table that has none.
	Trim(ctx context.Context, snap tables.Snapshot, prefix string, at time.Time) (
		func(t tables.Table) func(tables.Row) string, error)
	// TrimFiles tells of files, by their paths in the document root, to which part they belong that is files; those that
	// the site needs are not among them.
	TrimFiles(ctx context.Context, snap tables.Snapshot, files []tree.Entry) (map[string]string, error)
}

// TrimsFiles tells whether any of some parts of a kind of site is files.
func TrimsFiles(st Stack, parts []string) bool {
	return slices.ContainsFunc(TrimsOf(st), func(p TrimPart) bool { return p.Files && slices.Contains(parts, p.Name) })
}

// TrimsOf gives the parts of a kind of site; none where nothing tells what can be done without.
func TrimsOf(st Stack) []TrimPart {
	if t, can := st.(Trimming); can {
		return t.Trims()
	}
	return nil
}
