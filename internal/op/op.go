// Package op is what all operations share: where things are, how hosts and
// stacks are reached, and inspecting. Each operation is a package below it.
package op

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"alibi/internal/behind"
	"alibi/internal/depot"
	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/rewrite"
	"alibi/internal/runtime/php"
	"alibi/internal/runtime/remote"
	"alibi/internal/runtime/wall"
	"alibi/internal/scrub"
	"alibi/internal/secrets"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/work"
)

// Env is the world of an operation.
type Env struct {
	Settings
	Machines
	Web    // nil: nothing is asked over HTTP
	Record *inventory.Inventory
	Stacks []stack.Stack // the first that recognises a site understands it
	// Depot gives the depot of restore points.
	Depot func(ctx context.Context) (*depot.Depot, error)
	// Keep takes a restore point of a site as a step of a run that will write over
	// it.
	Keep func(ctx context.Context, t *work.Task, s site.Site, why string) error
	// Pin has a finished copy brought to a pin sheet, and gives the run that does it;
	// "" if nothing need be done.
	Pin func(ctx context.Context, s site.Site, sheet string) (run string, err error)
	// Stop ends the programs of a copy, in the process that runs them; nil: none does.
	Stop func(id site.ID)
	// Behind is where files are asked for that come behind a copy which answers already.
	Behind *behind.Desk
	Relays *Relays
	Now    func() time.Time
}

// Settings are what a person has set, and what follows from it.
type Settings struct {
	Home   string        // Alibi's own folder
	Local  string        // the name of this machine's host
	Port   string        // the gateway's
	Run    string        // folder of sockets and configurations of programs; its path is short
	Secret []byte        // from which the passwords of copies' accounts are worked out
	Grace  time.Duration // for which a copy that has ended is kept
	Sealed bool          // the code of copies runs behind a wall or not at all
	// Secrets are those that people keep by name.
	Secrets secrets.Store
	// Personal names columns with personal data, as TABLE.COLUMN, beside those that
	// the kind of site knows.
	Personal map[string]scrub.Kind
}

// Machines are where sites are.
type Machines interface {
	// Host reaches a machine by its name in the record.
	Host(ctx context.Context, name string) (host.Host, error)
	// Server gives the database server for copies on a host, or ErrNoServer.
	Server(ctx context.Context, hostName string) (*Server, error)
	// PHP are the versions that this machine has.
	PHP() []php.PHP
}

// Web asks sites over HTTP.
type Web interface {
	// Probe asks a copy for its first page, and for pages that it leads to.
	Probe(ctx context.Context, s site.Site) (Answer, error)
	// First asks a copy for its first page only.
	First(ctx context.Context, s site.Site) (Answer, error)
	// Runtime asks a live site which PHP runs it; "" where it does not say.
	Runtime(ctx context.Context, s site.Site) string
	// Pages asks a live site for pages: for those that were asked for before, or for
	// the first one and some that it leads to; ErrNoPages where it can't be asked.
	// pass is the word with which it looks past a notice.
	Pages(ctx context.Context, s site.Site, pass string, before []Page) ([]Page, error)
	// Try has a copy's own code try what its quiet rules forbid, and to reach what is outside of it;
	// ErrNotRun where no code runs.
	Try(ctx context.Context, s site.Site, out Outside) (Tried, error)
	// Wake has a copy's own code do what belongs to other components: what each does
	// when it is activated, and bringing the data in line with the core; ErrNotRun where
	// no code runs.
	Wake(ctx context.Context, s site.Site, ask Ask) (Woken, error)
	// Post sends a form to an address of a copy's, before anybody else sees it.
	Post(ctx context.Context, s site.Site, path string, form url.Values) (status int, page string, err error)
}

// Answer is what a site says over HTTP.
type Answer struct {
	Status int
	Bytes  int
	Title  string
	Banner bool     // says that it is a copy
	Pages  int      // further pages that answered
	Files  int      // files of the first page that did: styles, scripts, pictures
	Failed []string // further pages that did not, or with an error of the server's
	Gone   []string // further addresses that lead to nothing
}

// Further says what answered beside the first page.
func (a Answer) Further() string {
	return site.Plural(a.Pages, "page", "pages") + ", " + site.Plural(a.Files, "file", "files")
}

// Tried is what came of trying what the quiet rules forbid, and what the copy's
// code says of what it runs on.
type Tried struct {
	PHP    string
	Core   string
	Memory string
	Walled bool               // its code runs in a world of its own
	Holds  map[site.Rule]bool // of the rules that were tried
	Tries  []Attempt
}

// Outside names what a copy's code must not reach, for it to try.
type Outside struct {
	Files   []string `json:"files"`   // of the live site, of Alibi and of the machine
	Sockets []string `json:"sockets"` // of the machine's services
	Ports   []string `json:"ports"`   // on which something of the machine listens
	Server  string   `json:"server"`  // the copy's database server, as its configuration names it
	Account string   `json:"account"` // of the live site on that server; "": none
	Own     []string `json:"own"`     // databases that are the copy's: two while it is refreshed
}

// Attempt is one way in which a copy's code tried to leave the copy.
type Attempt struct {
	What string `json:"what"`
	To   string `json:"to"`
	Open bool   `json:"open"`
	By   string `json:"by"` // what stopped it
}

// ErrNotRun is given for a copy whose code does not run.
var ErrNotRun = errors.New("the copy's code does not run here")

// ErrNoSite is given for a folder that holds no site.
var ErrNoSite = errors.New("there is no site in this folder")

// Temp is this process's folder for snapshots and other things that do not
// outlive it.
func (e *Env) Temp() string { return filepath.Join(e.Home, "temp", strconv.Itoa(os.Getpid())) }

// DeadTemps lists the folders that processes left which died before they could
// clear up.
func (e *Env) DeadTemps() []string {
	var out []string
	dir := filepath.Join(e.Home, "temp")
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil // not made yet
	}
	for _, d := range entries {
		pid, err := strconv.Atoi(d.Name())
		if err != nil || pid != os.Getpid() && errors.Is(unix.Kill(pid, 0), unix.ESRCH) {
			out = append(out, filepath.Join(dir, d.Name()))
		}
	}
	return out
}

// Log adds an event to a site's history.
func (e *Env) Log(ctx context.Context, who string, id site.ID, kind plan.Kind, format string, a ...any) error {
	return e.Record.Log(ctx, inventory.Event{
		At: e.Now(), Who: who, Site: id, Kind: string(kind), Text: fmt.Sprintf(format, a...),
	})
}

// ValuesOf is the file with the rows of a copy as they were when it parted from its origin.
func (e *Env) ValuesOf(name string) string { return filepath.Join(e.CopyDir(name), "values.db") }

// CopyDir is the folder of a copy: what is in use stands in "now", what is
// being built in "next", and what was in use before in "old", or in "former" when there is no way back to it.
func (e *Env) CopyDir(name string) string { return filepath.Join(e.Home, "copies", name) }

// Stack finds a stack by name.
func (e *Env) Stack(name string) (stack.Stack, error) {
	for _, s := range e.Stacks {
		if s.Name() == name {
			return s, nil
		}
	}
	return nil, fmt.Errorf("no stack is called %q", name)
}

// Place opens a site's folder on its host.
func (e *Env) Place(ctx context.Context, hostName, root string) (stack.Place, error) {
	h, err := e.Host(ctx, hostName)
	if err != nil {
		return stack.Place{}, err
	}
	r, err := h.Open(ctx, root)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			err = fmt.Errorf("%w; check the folder's name on %s", err, hostName)
		}
		return stack.Place{}, err
	}
	if err := os.MkdirAll(e.Temp(), 0o700); err != nil {
		r.Close()
		return stack.Place{}, err
	}
	p := stack.Place{
		Host:  h,
		Root:  r,
		Temp:  e.Temp(),
		Known: func(ctx context.Context) stack.Known { return e.known(ctx, hostName, root) },
		PHP:   e.anyPHP,
		Relay: e.relayFor(hostName, root),
	}
	return p, nil
}

// ErrUnclaimed is given where a site was to be written to by a run that has not claimed it
// for itself.
var ErrUnclaimed = errors.New("it is not written to: the run has not claimed it for itself")

// claimed gives ErrUnclaimed unless a run has a site for itself. Runs get their claims as they
// are queued, for a live site with a person's consent to the plan.
func (e *Env) claimed(ctx context.Context, run string, s site.Site) error {
	has, err := e.Record.ClaimedAlone(ctx, run, s.ID)
	if err == nil && !has {
		err = fmt.Errorf("%s: %w", s.Name, ErrUnclaimed)
	}
	return err
}

// Write opens a folder on a site's host to be written to, for a run that has claimed the site
// for itself.
func (e *Env) Write(ctx context.Context, run string, s site.Site, dir string) (host.Root, error) {
	if err := e.claimed(ctx, run, s); err != nil {
		return nil, err
	}
	h, err := e.Host(ctx, s.Host)
	if err != nil {
		return nil, err
	}
	return h.Write(ctx, dir)
}

// anyPHP is a PHP of this machine, "" if it has none.
func (e *Env) anyPHP() string {
	for _, v := range e.PHP() {
		if v.CLI != "" {
			return v.CLI
		}
	}
	return ""
}

// asked is the key of what a context knows of a site that is not in the record yet.
type asked struct{}

// For has a site that is not in the record yet inspected with what is known of it.
func For(ctx context.Context, k stack.Known) context.Context {
	return context.WithValue(ctx, asked{}, k)
}

// known is what is known of the site in a folder.
func (e *Env) known(ctx context.Context, hostName, root string) stack.Known {
	if k, ok := ctx.Value(asked{}).(stack.Known); ok {
		return k
	}
	if e.Record == nil {
		return stack.Known{}
	}
	all, err := e.Record.AllSites(ctx) // the other place of one that is moved is among them
	if err != nil {
		return stack.Known{}
	}
	for _, s := range all {
		if s.Host == hostName && s.Root == root && s.State != site.Gone {
			return stack.Known{HostPort: s.Address().HostPort(), Database: s.Database.Name, Relay: s.Relay}
		}
	}
	return stack.Known{}
}

// Inspect gathers the facts of what is at root on a host, reading only. An
// empty stackName has the stack found out.
func (e *Env) Inspect(ctx context.Context, hostName, root, stackName string) (*site.Facts, error) {
	p, err := e.Place(ctx, hostName, root)
	if err != nil {
		return nil, err
	}
	defer p.Root.Close()
	for _, s := range e.Stacks {
		if stackName == "" && s.Is(ctx, p) || stackName == s.Name() {
			f, err := s.Inspect(ctx, p)
			if err != nil {
				return nil, fmt.Errorf("inspecting %s on %s: %w", root, hostName, err)
			}
			if e.Web != nil && !strings.HasPrefix(root, e.Home+"/") { // a copy is asked when it is proven
				if v := e.Runtime(ctx, site.Site{Host: hostName, Root: root, Addresses: f.Addresses}); v != "" {
					f.PHP, f.PHPAsked = v, true
				}
			}
			return f, nil
		}
	}
	return nil, fmt.Errorf("%s on %s: %w: neither the CMS's files nor an index page are there; name the folder that "+
		"the web server shows", root, hostName, ErrNoSite)
}

// Pairs says which address of an origin becomes which of a copy: the first
// address and its www form the copy's own, the others names below it.
func Pairs(origin []site.Address, copyAddress site.Address) []rewrite.Pair {
	var out []rewrite.Pair
	seen := map[string]bool{}
	taken := map[string]bool{}
	for i, a := range origin {
		to := copyAddress
		if first := origin[0]; i > 0 && a.Host != first.Host && a.Host != first.Sibling().Host {
			label := site.Slug(a.Host[:max(1, indexOr(a.Host, '.', len(a.Host)))])
			label = site.FreeName(label, func(s string) bool { return taken[s] })
			taken[label] = true
			to.Host = label + "." + to.Host
		} else if a.Path != origin[0].Path {
			continue // a folder below the first address follows it
		}
		to.Path = ""
		for _, from := range []site.Address{a, a.Sibling()} {
			if !seen[from.String()] {
				seen[from.String()] = true
				out = append(out, rewrite.Pair{From: from, To: to})
			}
		}
	}
	return out
}

func indexOr(s string, c byte, or int) int {
	for i := range len(s) {
		if s[i] == c {
			return i
		}
	}
	return or
}

// Scrubber makes up the people of a site and of its copies: the same on all.
func (e *Env) Scrubber(st stack.Stack, s site.Site) *scrub.Scrubber {
	family := s.ID
	if s.Origin != "" {
		family = s.Origin
	}
	prefix := s.Database.Prefix
	if prefix == "" && s.Facts != nil {
		prefix = s.Facts.Prefix
	}
	return scrub.New([]byte(Derive(e.Secret, "scrub", family)), st.Personal(prefix, e.Personal))
}

// Pinned has a finished copy brought to a pin sheet as the last step of the run
// that made it. The copy stands, whatever becomes of that.
func (e *Env) Pinned(ctx context.Context, t *work.Task, s site.Site, sheet string) error {
	r, err := e.Pin(ctx, s, sheet)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		t.Result("%s stands, and is not brought to pin sheet %s: %s; try it again: alibi pins apply %s --sheet %s",
			s.Name, sheet, err, s.Name, sheet)
		return e.Log(ctx, s.Owner, s.ID, "pins", "not brought to pin sheet %s: %s", sheet, err)
	case r == "":
		t.Note("it runs what pin sheet %s asks for", sheet)
	default:
		t.Note("run %s brings it to pin sheet %s", r, sheet)
	}
	return nil
}

// UnsealedThere is as Unsealed, of another host, which is asked.
func (e *Env) UnsealedThere(ctx context.Context, hostName string) (string, error) {
	h, err := e.Host(ctx, hostName)
	if err != nil {
		return "", err
	}
	return remote.Unsealed(ctx, h, ""), nil
}

// Unsealed says why the code of copies on a host does not run in a world of its own; "" if it does.
func (e *Env) Unsealed(hostName string) string {
	if hostName != e.Local {
		return "" // it is seen when it runs
	}
	return wall.Missing()
}
