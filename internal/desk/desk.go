// Package desk is where people's wishes come in: each thing that can be asked
// of Alibi is one function here, which the screens and the command line both
// call, with the same types.
package desk

import (
	"cmp"
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
	"strconv"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"alibi/internal/behind"
	"alibi/internal/catalogue"
	"alibi/internal/depot"
	"alibi/internal/dns"
	"alibi/internal/gateway"
	"alibi/internal/host"
	"alibi/internal/host/ssh"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/op/blank"
	"alibi/internal/op/carry"
	"alibi/internal/op/clone"
	"alibi/internal/op/export"
	"alibi/internal/op/keep"
	"alibi/internal/op/move"
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
	Who     string    // asks; "": whose account on this machine it is
	Asker   ssh.Asker // nil: nobody
	Now     func() time.Time
	Observe func(work.Moment)
	Workers int
	Pages   int // of those that a first page leads to, how many are asked for; 0: 12
}

// Desk is Alibi, open: services, each for one field of what people ask for.
type Desk struct {
	Fleet      *Fleet
	Runs       *Runs
	Copies     *Copies
	Points     *Points
	Components *Components
	Pins       *Sheets
	Hands      *Hands
	Moves      *Moves

	core *core
}

// The services, on the same core.
type (
	// Fleet is what there is: hosts and sites, what became of them, what is to end and what it costs.
	Fleet struct{ *core }
	// Runs are plans that are carried out.
	Runs struct{ *core }
	// Copies makes copies, refreshes, proves, shows and ends them.
	Copies struct{ *core }
	// Points keeps sites as restore points and archives, and brings them back.
	Points struct{ *core }
	// Components are what sites run: their core, plugins and themes, and the trials that find the one to blame.
	Components struct{ *core }
	// Sheets say what copies are to run: pins.
	Sheets struct{ *core }
	// Hands is work on a site by hand: files, tables, logs, accounts, content.
	Hands struct{ *core }
	// Moves are sites on their way to other places.
	Moves struct{ *core }
)

// Workings are what a desk works with. They are for the keeper, and for who sets a world up: screens
// and commands ask the services.
type Workings struct {
	Config Config
	Record *inventory.Inventory
	Queue  *work.Queue
	Env    *op.Env
	Secret []byte // signs latchkeys
	Log    *slog.Logger
	Hosts  func(ctx context.Context, name string) (host.Host, error)
	Depot  func(ctx context.Context) (*depot.Depot, error)
}

// core is what the services share.
type core struct {
	config Config
	record *inventory.Inventory
	queue  *work.Queue
	env    *op.Env
	secret []byte // signs latchkeys
	who    string
	logger *slog.Logger
	port   net.Listener // the gateway's port, where it was taken before; else nil

	fleet      *Fleet
	runs       *Runs
	copies     *Copies
	points     *Points
	components *Components
	pins       *Sheets
	hands      *Hands

	configDigest [32]byte // digest of the configuration that was read
	grace        time.Duration
	lease        time.Duration // for which a copy is leased if nobody says otherwise
	opt          Options
	logFile      *os.File

	mu        sync.Mutex
	depot     *depot.Depot
	kept      map[site.ID]Kept // what a bucket had when it was asked last
	keptAt    time.Time
	hosts     map[string]openHost
	former    []host.Host // that are reached otherwise now
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
	if err := prepare(opt.Home); err != nil {
		return nil, err
	}
	if opt.Now == nil {
		opt.Now = time.Now
	}
	c := &core{opt: opt, hosts: map[string]openHost{}, who: cmp.Or(opt.Who, username())}
	c.fleet, c.runs, c.copies, c.points = &Fleet{c}, &Runs{c}, &Copies{c}, &Points{c}
	c.components, c.pins, c.hands = &Components{c}, &Sheets{c}, &Hands{c}
	d := &Desk{c.fleet, c.runs, c.copies, c.points, c.components, c.pins, c.hands, &Moves{c}, c}
	defer func() {
		if err != nil {
			d.Close()
		}
	}()
	if err := c.configure(); err != nil {
		return nil, err
	}
	if err := c.openLog(); err != nil {
		return nil, err
	}
	if c.secret, err = secret(filepath.Join(opt.Home, "secret")); err != nil {
		return nil, err
	}
	c.phps = sync.OnceValue(func() []php.PHP { return php.Find(context.Background(), c.config.Runtime.PHP...) })
	c.catalogue = sync.OnceValue(func() *catalogue.Client {
		return &catalogue.Client{
			Address:  c.config.Catalogue.Address,
			Dir:      filepath.Join(opt.Home, "components"),
			Identify: wordpress.Stack{}.Identify,
		}
	})
	if c.record, err = inventory.Open(filepath.Join(opt.Home, "record.db")); err != nil {
		return nil, err
	}
	if err := c.equip(); err != nil {
		return nil, err
	}
	return d, c.openQueue(ctx)
}

// prepare makes Alibi's folder, if it is new, and sees to it that it is ours.
func prepare(home string) error {
	if !filepath.IsAbs(home) {
		return fmt.Errorf("the folder %q for Alibi's own files must be an absolute path", home)
	}
	for _, d := range []string{"", "copies", "temp"} {
		if err := os.MkdirAll(filepath.Join(home, d), 0o700); err != nil {
			return fmt.Errorf("making Alibi's folder: %w", room(err))
		}
	}
	if err := checkOwn(home, 0o022, "that only we may write to"); err != nil {
		return err
	}
	if err := chooseRunDir(home); err != nil {
		return fmt.Errorf("making Alibi's folder: %w", err)
	}
	return nil
}

// configure reads the configuration.
func (d *core) configure() (err error) {
	if d.config, err = LoadConfig(d.opt.Home); err != nil {
		return err
	}
	d.configDigest = digestOfConfig(d.opt.Home)
	if err := d.config.Notices.Check(); err != nil {
		return err
	}
	d.lease, d.grace, err = d.config.leases()
	return err
}

// openLog opens the log, where Alibi's folder can be written to.
func (d *core) openLog() (err error) {
	d.logger = slog.New(slog.DiscardHandler)
	d.logFile, err = os.OpenFile(filepath.Join(d.opt.Home, "alibi.log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	switch {
	case err == nil:
		d.logger = slog.New(slog.NewTextHandler(d.logFile, nil))
	case !errors.Is(err, unix.EROFS) && !errors.Is(err, fs.ErrPermission): // else the record may still be read
		return fmt.Errorf("opening the log: %w", room(err))
	}
	return nil
}

// equip gives the operations what they work with.
func (d *core) equip() error {
	personal, err := d.config.personal()
	if err != nil {
		return err
	}
	d.env = &op.Env{
		Settings: op.Settings{
			Home: d.opt.Home, Local: d.config.Machine, Port: strconv.Itoa(d.config.Gateway.Port),
			Run: RunDir(d.opt.Home), Secret: d.secret, Grace: d.grace, Personal: personal,
			Sealed: d.config.Runtime.Sealed == "required", Secrets: d.safe(),
		},
		Machines: machines{d},
		Web:      gateway.Visitor{Secret: d.secret, Now: d.opt.Now, Hosts: d.host, Most: d.opt.Pages},
		Record:   d.record,
		Stacks:   []stack.Stack{wordpress.Stack{}, plain.Stack{}},
		Depot:    d.store,
		Pin:      d.pinCopy,
		Behind:   &behind.Desk{},
		Relays:   &op.Relays{},
		Now:      d.opt.Now,
	}
	d.env.Keep = keep.Before(d.env)
	return nil
}

// machines are the desk's, for operations.
type machines struct{ d *core }

func (m machines) Host(ctx context.Context, name string) (host.Host, error) {
	return m.d.host(ctx, name)
}

func (m machines) Server(ctx context.Context, name string) (*op.Server, error) {
	return m.d.server(ctx, name)
}

func (m machines) PHP() []php.PHP { return m.d.php() }

// openQueue opens the queue of runs.
func (d *core) openQueue(ctx context.Context) error {
	patience, err := d.config.Work.patience()
	if err != nil {
		return err
	}
	d.queue, err = work.New(
		ctx,
		work.Options{
			Patience:   patience,
			Unstick:    d.unstick,
			Record:     d.record,
			Log:        d.logger,
			Now:        d.opt.Now,
			Transient:  transient,
			Observe:    d.opt.Observe,
			Ended:      d.ended,
			Workers:    d.opt.Workers,
			Operations: append(operations(d.env), move.Operations(d.env, d.means())...),
		},
	)
	return err
}

// operations are what Alibi can do to a site.
func operations(env *op.Env) []work.Definition {
	return slices.Concat(clone.Operations(env), reset.Operations(env), []work.Definition{
		keep.Operation(env), trial.Operation(env), blank.Operation(env),
		export.Operation(env), export.Import(env), remove.Operation(env), carry.Operation(env),
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
func (d *core) unstick(p plan.Plan) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, name := range []string{p.Origin.Host, p.Target.Host} {
		if h, ok := d.hosts[name].Host.(interface{ Abort() }); ok {
			h.Abort()
		}
	}
}

func username() string {
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
		errors.Is(err, dns.ErrNoAnswer) ||
		errors.As(err, &n) ||
		errors.Is(err, net.ErrClosed) ||
		ssh.Lost(err)
}

// Close closes everything that is open.
func (d *Desk) Close() error {
	c := d.core
	if c.env != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		if err := c.env.CloseRelays(ctx); err != nil {
			c.logger.Error("removing a relay", "err", err)
		}
		cancel()
	}
	c.mu.Lock()
	for _, h := range c.hosts {
		h.Close()
	}
	for _, h := range c.former {
		h.Close()
	}
	if c.own != nil {
		if err := c.own.Stop(); err != nil {
			c.logger.Error("stopping the database server", "err", err)
		}
	}
	c.mu.Unlock()
	var err error
	if c.env != nil {
		_ = os.Remove(c.env.Temp()) // if it is empty: another desk of this process may use it
	}
	if c.record != nil {
		err = c.record.Close()
	}
	if c.logFile != nil {
		c.logFile.Close()
	}
	return err
}

// Workings are what the desk works with.
func (d *Desk) Workings() Workings {
	c := d.core
	return Workings{c.config, c.record, c.queue, c.env, c.secret, c.logger, c.host, c.store}
}

// Who asks, by the name of their account on this machine.
func (d *Desk) Who() string { return d.core.who }

// Config is how Alibi is set up.
func (d *Desk) Config() Config { return d.core.config }

// Version is a text that changes whenever anything in the record does, whoever changed it.
func (d *Desk) Version(ctx context.Context) (string, error) { return d.core.record.Version(ctx) }

// Port is that of the gateway, at which copies answer.
func (d *Desk) Port() string { return d.core.env.Port }

// UsePort gives the gateway a port that was taken before the desk was opened.
func (d *Desk) UsePort(ln net.Listener) { d.core.port = ln }

// TakePort gives that port to who serves it, once; nil if there is none.
func (d *Desk) TakePort() net.Listener {
	ln := d.core.port
	d.core.port = nil
	return ln
}

// Now is the time by the desk's clock.
func (d *Desk) Now() time.Time { return d.core.now() }

func (d *core) now() time.Time { return d.opt.Now() }

// Lease is how long a copy lives if nobody says otherwise.
func (d *Desk) Lease() time.Duration { return d.core.lease }

// Grace is how long a copy that has ended is kept until it is deleted.
func (d *Desk) Grace() time.Duration { return d.core.grace }

// Home is Alibi's own folder.
func (d *Desk) Home() string { return d.core.home() }

func (d *core) home() string { return d.opt.Home }

func (d *core) log(ctx context.Context, id site.ID, kind, format string, a ...any) error {
	return d.record.Log(ctx, inventory.Event{At: d.now(), Who: d.who, Site: id, Kind: kind,
		Text: fmt.Sprintf(format, a...)})
}
