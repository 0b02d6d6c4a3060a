// Package desk is where people's wishes come in: each thing that can be asked
// of Alibi is one function here, which the screens and the command line both
// call, with the same types.
package desk

import (
	"context"
	"crypto/rand"
	"database/sql/driver"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"alibi/internal/catalogue"
	"alibi/internal/depot"
	"alibi/internal/gateway"
	"alibi/internal/host"
	"alibi/internal/host/ssh"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/op/blank"
	"alibi/internal/op/clone"
	"alibi/internal/op/export"
	"alibi/internal/op/keep"
	"alibi/internal/op/remove"
	"alibi/internal/op/reset"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/stack/plain"
	"alibi/internal/stack/wordpress"
	"alibi/internal/tables"
	"alibi/internal/work"
)

// Options of a desk.
type Options struct {
	Home    string
	Asker   ssh.Asker // nil: nobody
	Now     func() time.Time
	Observe func(work.Moment)
	Workers int
}

// Desk is Alibi, open.
type Desk struct {
	configDigest [32]byte // digest of the configuration that was read
	Config       Config
	Record       *inventory.Inventory
	Queue        *work.Queue
	Env          *op.Env
	Secret       []byte // signs latchkeys
	Who          string
	Log          *slog.Logger
	Front        net.Listener // the gateway's port, where it was taken before; else nil

	lease   time.Duration
	opt     Options
	logFile *os.File

	mu        sync.Mutex
	depot     *depot.Depot
	kept      map[site.ID]Kept // what a bucket had when it was asked last
	keptAt    time.Time
	hosts     map[string]host.Host
	phps      func() []php.PHP
	catalogue func() *catalogue.Client
	own       *mariadb.Server // a database server of our own, if one was needed and this process started it
}

// DefaultHome is $XDG_DATA_HOME/alibi.
func DefaultHome() (string, error) {
	base := os.Getenv("XDG_DATA_HOME")
	if base == "" {
		h, err := os.UserHomeDir()
		if err != nil {
			return "", fmt.Errorf("finding a folder for Alibi's own files: %w; name one with --home", err)
		}
		base = filepath.Join(h, ".local", "share")
	}
	return filepath.Join(base, "alibi"), nil
}

// Open opens Alibi's folder, making it if it is new.
func Open(ctx context.Context, opt Options) (_ *Desk, err error) {
	if !filepath.IsAbs(opt.Home) {
		return nil, fmt.Errorf("the folder %q for Alibi's own files must be an absolute path", opt.Home)
	}
	for _, d := range []string{"", "copies", "temp"} {
		if err := os.MkdirAll(filepath.Join(opt.Home, d), 0o700); err != nil {
			return nil, fmt.Errorf("making Alibi's folder: %w", room(err))
		}
	}
	if err := checkOwn(opt.Home, 0o022, "that only we may write to"); err != nil {
		return nil, err
	}
	if err := chooseRunDir(opt.Home); err != nil {
		return nil, fmt.Errorf("making Alibi's folder: %w", err)
	}
	if opt.Now == nil {
		opt.Now = time.Now
	}
	d := &Desk{opt: opt, hosts: map[string]host.Host{}, Who: who()}
	defer func() {
		if err != nil {
			d.Close()
		}
	}()
	if d.Config, err = loadConfig(opt.Home); err != nil {
		return nil, err
	}
	d.configDigest = digestOfConfig(opt.Home)
	lease, grace, err := d.Config.leases()
	if err != nil {
		return nil, err
	}
	d.lease = lease
	d.Log = slog.New(slog.DiscardHandler)
	d.logFile, err = os.OpenFile(filepath.Join(opt.Home, "alibi.log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	switch {
	case err == nil:
		d.Log = slog.New(slog.NewTextHandler(d.logFile, nil))
	case !errors.Is(err, unix.EROFS) && !errors.Is(err, fs.ErrPermission): // else the record may still be read
		return nil, fmt.Errorf("opening the log: %w", room(err))
	}
	if d.Secret, err = secret(filepath.Join(opt.Home, "secret")); err != nil {
		return nil, err
	}
	d.phps = sync.OnceValue(func() []php.PHP { return php.Find(context.Background(), d.Config.Runtime.PHP...) })
	d.catalogue = sync.OnceValue(func() *catalogue.Client {
		return &catalogue.Client{
			Address:  d.Config.Catalogue.Address,
			Dir:      filepath.Join(opt.Home, "components"),
			Identify: wordpress.Stack{}.Identify,
		}
	})
	if d.Record, err = inventory.Open(filepath.Join(opt.Home, "record.db")); err != nil {
		return nil, err
	}
	d.Env = &op.Env{
		Record: d.Record, Home: opt.Home, Local: d.Config.Machine, Hosts: d.Host,
		Stacks: []stack.Stack{wordpress.Stack{}, plain.Stack{}},
		Port:   strconv.Itoa(d.Config.Gateway.Port), Probe: gateway.Prober(d.Secret, opt.Now),
		Pages: gateway.Pager(d.Host), Runtime: gateway.Runtime(d.Host),
		Now: opt.Now, Grace: grace,
		Secret: d.Secret, Server: d.server, Run: RunDir(opt.Home), PHP: d.PHP, Depot: d.Depot,
		Try: gateway.Trier(d.Secret, opt.Now), Wake: gateway.Waker(d.Secret, opt.Now),
		Post: gateway.Poster(d.Secret, opt.Now),
	}
	d.Env.Keep, d.Env.Pin = keep.Before(d.Env), d.pinCopy
	if d.Env.Personal, err = d.Config.personal(); err != nil {
		return nil, err
	}
	patience, err := d.Config.Work.patience()
	if err != nil {
		return nil, err
	}
	d.Queue, err = work.New(
		ctx,
		work.Options{
			Patience:   patience,
			Unstick:    d.unstick,
			Record:     d.Record,
			Log:        d.Log,
			Now:        opt.Now,
			Transient:  transient,
			Observe:    opt.Observe,
			Workers:    opt.Workers,
			Operations: operations(d.Env),
		},
	)
	return d, err
}

// operations are what Alibi can do to a site.
func operations(env *op.Env) []work.Definition {
	return slices.Concat(clone.Operations(env), reset.Operations(env), []work.Definition{
		keep.Operation(env), trial.Operation(env), blank.Operation(env),
		export.Operation(env), export.Import(env), remove.Operation(env),
	})
}

// room gives an error of a full disk its name.
func room(err error) error {
	if errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) {
		return fmt.Errorf("%w (%w)", inventory.ErrNoRoom, err)
	}
	return err
}

// unstick breaks off the connections to a run's hosts.
func (d *Desk) unstick(p plan.Plan) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, name := range []string{p.Origin.Host, p.Target.Host} {
		if h, ok := d.hosts[name].(interface{ Abort() }); ok {
			h.Abort()
		}
	}
}

func who() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "somebody"
}

// secret reads the signing key, or draws one.
func secret(path string) ([]byte, error) {
	b, err := os.ReadFile(path)
	if err == nil && len(b) == 32 {
		return b, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("reading the signing key: %w", err)
	}
	b = make([]byte, 32)
	_, _ = rand.Read(b)
	return b, os.WriteFile(path, b, 0o600)
}

// transient errors may go away by themselves: a line that broke, a busy database.
func transient(err error) bool {
	var n *net.OpError
	return tables.Transient(err) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, host.ErrNoAnswer) ||
		errors.As(err, &n) ||
		errors.Is(err, net.ErrClosed) ||
		ssh.Lost(err)
}

// Close closes everything that is open.
func (d *Desk) Close() error {
	d.mu.Lock()
	for _, h := range d.hosts {
		h.Close()
	}
	if d.own != nil {
		if err := d.own.Stop(); err != nil {
			d.Log.Error("stopping the database server", "err", err)
		}
	}
	d.mu.Unlock()
	var err error
	if d.Env != nil {
		_ = os.Remove(d.Env.Temp()) // if it is empty: another desk of this process may use it
	}
	if d.Record != nil {
		err = d.Record.Close()
	}
	if d.logFile != nil {
		d.logFile.Close()
	}
	return err
}

// Now is the time by the desk's clock.
func (d *Desk) Now() time.Time { return d.opt.Now() }

// Lease is how long a copy lives if nobody says otherwise.
func (d *Desk) Lease() time.Duration { return d.lease }

// Home is Alibi's own folder.
func (d *Desk) Home() string { return d.opt.Home }

func (d *Desk) log(ctx context.Context, id site.ID, kind, format string, a ...any) error {
	return d.Record.Log(ctx, inventory.Event{At: d.Now(), Who: d.Who, Site: id, Kind: kind,
		Text: fmt.Sprintf(format, a...)})
}

// NewSite is what is told of a live site that is to be added.
type NewSite struct {
	Host, Root, Name string
	Address          string // "" takes what the site says of itself
	Database         string // of those that its configuration names; "": the one that it is found to use
	Client, Owner    string
}

// AddSite inspects a folder and adds the live site in it.
func (d *Desk) AddSite(ctx context.Context, n NewSite) (site.Site, error) {
	if n.Host == "" {
		n.Host = d.Config.Machine
	}
	if !strings.HasPrefix(n.Root, "/") {
		return site.Site{}, fmt.Errorf("%q is no absolute path: name the document root on %s, such as /srv/www/example",
			n.Root, n.Host)
	}
	k := stack.Known{Database: n.Database}
	var given []site.Address
	if n.Address != "" {
		a, err := site.ParseAddress(n.Address)
		if err != nil {
			return site.Site{}, err
		}
		k.HostPort, given = a.HostPort(), []site.Address{a}
	}
	f, err := d.Env.Inspect(op.For(ctx, k), n.Host, n.Root, "")
	if err != nil {
		return site.Site{}, err
	}
	if n.Database != "" && n.Database != f.Database.Name {
		return site.Site{}, fmt.Errorf(
			"the site's configuration does not name a database %q: as it reads, the site uses %s; name that one, or "+
				"leave the database out",
			n.Database,
			f.Database.Text(),
		)
	}
	s := site.Site{
		ID:        site.NewID(),
		Name:      n.Name,
		Role:      site.Live,
		State:     site.Ready,
		Client:    n.Client,
		Owner:     n.Owner,
		Host:      n.Host,
		Root:      filepath.Clean(n.Root),
		Stack:     f.Stack,
		Addresses: f.Addresses,
		Database:  f.Database,
		Title:     f.Title,
		MadeAt:    d.Now(),
		Facts:     f,
	}
	s.Addresses = append(given, s.Addresses...)
	f.Addresses = s.Addresses
	if len(s.Addresses) == 0 {
		return s, fmt.Errorf("this %s site does not say at which address it answers: name it with --address", f.Stack)
	}
	all, err := d.Record.Sites(ctx)
	if err != nil {
		return s, err
	}
	for _, o := range all {
		if o.Host == s.Host && o.Root == s.Root {
			return s, fmt.Errorf("%s on %s is in the record already, as %s", s.Root, s.Host, o.Name)
		}
	}
	if s.Name == "" {
		s.Name = site.FreeName(s.Address().Short(), nameTaken(all))
	}
	if nameTaken(all)(s.Name) {
		return s, fmt.Errorf("the name %q is in use; try %q", s.Name, site.FreeName(s.Name, nameTaken(all)))
	}
	if err := d.Record.PutSite(ctx, s); err != nil {
		return s, err
	}
	return s, d.log(ctx, s.ID, "add", "added as live: %s, %s", f.Stack, s.Address())
}

// Forget takes a live site out of the record. Nothing of it is touched.
func (d *Desk) Forget(ctx context.Context, id site.ID) error {
	all, err := d.Record.Sites(ctx)
	if err != nil {
		return err
	}
	for _, c := range all {
		if c.Origin == id {
			return fmt.Errorf("%s is a copy of it: remove its copies first", c.Name)
		}
	}
	_, err = d.Record.ChangeSite(ctx, id, func(s *site.Site) error {
		if s.Role != site.Live {
			return fmt.Errorf("%s is a copy: remove it instead", s.Name)
		}
		s.State = site.Gone
		return nil
	})
	if err != nil {
		return err
	}
	return d.log(ctx, id, "forget", "taken out of the record; the site itself was not touched")
}

// SetOwner says who answers for a site.
func (d *Desk) SetOwner(ctx context.Context, id site.ID, owner string) (site.Site, error) {
	s, err := d.Record.ChangeSite(ctx, id, func(s *site.Site) error {
		s.Owner = strings.TrimSpace(owner)
		return nil
	})
	if err != nil {
		return s, err
	}
	return s, d.log(ctx, id, "owner", "%s answers for it", s.Owner)
}

func nameTaken(all []site.Site) func(string) bool {
	m := make(map[string]bool, len(all))
	for _, s := range all {
		m[s.Name] = true
	}
	return func(n string) bool { return m[n] }
}

// ErrAmbiguous is given for a name that several sites have.
var ErrAmbiguous = errors.New("it is said of several sites")

// Find gives the site that a person names: by its name or ID, else by its
// address, else by a part of one of these. What fits several sites is refused
// with the choices.
func (d *Desk) Find(ctx context.Context, what string) (site.Site, error) {
	all, err := d.Record.Sites(ctx)
	if err != nil {
		return site.Site{}, err
	}
	address := strings.TrimRight(what, "/")
	for _, fits := range []func(site.Site) bool{
		func(s site.Site) bool { return string(s.ID) == what },
		func(s site.Site) bool { return s.Name == what },
		func(s site.Site) bool { return s.Address().Short() == address || s.Address().String() == address },
		func(s site.Site) bool {
			return what != "" && (strings.Contains(s.Name, what) || strings.Contains(s.Address().String(), what))
		},
	} {
		var found []site.Site
		for _, s := range all {
			if fits(s) {
				found = append(found, s)
			}
		}
		switch {
		case len(found) == 1:
			return found[0], nil
		case len(found) > 1:
			return site.Site{}, fmt.Errorf("%q fits %d sites: %s; say which by its name: %w", what, len(found),
				choices(found), ErrAmbiguous)
		}
	}
	return site.Site{}, fmt.Errorf("no site is called %q: %w; see: alibi list", what, inventory.ErrUnknown)
}

// choices names sites so that one can be chosen.
func choices(list []site.Site) string {
	var out []string
	for _, s := range list[:min(5, len(list))] {
		out = append(out, fmt.Sprintf("%s (%s, on %s)", s.Name, s.Role, s.Host))
	}
	sort.Strings(out)
	return strings.Join(out, ", ")
}
