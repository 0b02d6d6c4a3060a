// Package pool runs the code of the copies, on this machine and on others: each
// is started when somebody first asks for it, watched, started again when it
// ended or was changed, and stopped when it is off the air.
package pool

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"alibi/internal/behind"
	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/runtime/outbox"
	"alibi/internal/runtime/php"
	"alibi/internal/runtime/process"
	"alibi/internal/runtime/wall"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
)

// Running is a copy whose code runs.
type Running interface {
	Dial(ctx context.Context) (net.Conn, error) // to its web server
	Gone() <-chan struct{}                      // closed when it does not run any more
	Stop()
}

// Pool is the running copies of one home.
type Pool struct {
	Local string // this machine's name
	Hosts func(ctx context.Context, name string) (host.Host, error)
	Run   string // folder of sockets and configurations; its path is short
	Log   *slog.Logger
	// PHP gives the versions that this machine has.
	PHP func() []php.PHP
	// Behind is where files are asked for that are still to come to copies; nil: nowhere.
	Behind *behind.Desk
	// Sealed has copies run behind a wall or not at all.
	Sealed bool

	mu      sync.Mutex
	running map[site.ID]*entry
	starts  map[site.ID]int  // how often each was started
	full    map[site.ID]bool // those that were stopped for what their folders hold
	noted   map[site.ID]*outbox.Notes
}

type entry struct {
	once  sync.Once
	spec  site.Site // as it was when it was started
	web   Running
	err   error
	tried time.Time
}

// Runs tells whether a copy's code can be run, rather than its pages drawn.
func Runs(s site.Site) bool { return s.Stack == "wordpress" && s.Database.Served() }

// same tells whether a copy need not be started again for what changed.
func same(a, b site.Site) bool {
	return a.Root == b.Root && a.Runtime == b.Runtime && a.Database == b.Database && a.PlacedAt.Equal(b.PlacedAt) &&
		slices.EqualFunc(a.Allowed(), b.Allowed(), samePass) && slices.Equal(a.Addresses, b.Addresses)
}

func samePass(a, b site.Pass) bool { return a.To == b.To && a.Until.Equal(b.Until) }

// ErrUnsealed is given for a copy whose code is to run behind a wall or not at all, where there is none.
var ErrUnsealed = errors.New("its code does not run without a wall, for [runtime] sealed is 'required'; install " +
	"bubblewrap, or set it to 'preferred'")

// again is how long a copy that did not start is left alone.
const again = 3 * time.Second

// Get gives a running copy, starting it if it does not run.
func (p *Pool) Get(ctx context.Context, s site.Site) (Running, error) {
	p.mu.Lock()
	if p.running == nil {
		p.running, p.starts, p.full = map[site.ID]*entry{}, map[site.ID]int{}, map[site.ID]bool{}
	}
	e := p.running[s.ID]
	if e != nil && e.ended() {
		p.drop(s.ID, e, "it ended by itself")
		e = nil
	}
	if e != nil && !same(e.spec, s) && e.done() {
		p.drop(s.ID, e, "it was changed")
		e = nil
	}
	if e == nil {
		e = &entry{spec: s}
		p.running[s.ID] = e
	}
	p.mu.Unlock()
	e.once.Do(func() {
		w, err := p.start(context.WithoutCancel(ctx), s)
		p.mu.Lock()
		e.web, e.err, e.tried = w, err, time.Now()
		p.mu.Unlock()
		if err != nil {
			p.Log.Error("starting a copy", "site", s.Name, "err", err)
		}
	})
	p.mu.Lock()
	defer p.mu.Unlock()
	return e.web, e.err
}

// Reap ends what a dead pool left of the programs of copies.
func (p *Pool) Reap(all []site.Site) {
	for _, s := range all {
		if dir := filepath.Join(p.Run, string(s.ID)); s.Role == site.Copy && s.Host == p.Local {
			if _, err := os.Stat(dir); err == nil {
				process.Reap(dir)
			}
		}
	}
}

// specOf is how a copy is to run, wherever that is.
func specOf(s site.Site) web.Spec {
	now := path.Dir(s.Root)
	return web.Spec{
		Root:    s.Root,
		Logs:    path.Join(path.Dir(now), "logs"),
		Also:    []string{path.Join(now, "data"), path.Join(now, "caught")},
		Mail:    path.Join(now, "caught"),
		Memory:  s.Runtime.Memory,
		RunTime: time.Duration(s.Runtime.RunTime) * time.Second,
		Upload:  s.Runtime.Upload,
		Show:    s.Runtime.Show,
		SubDirs: subDirs(s),
	}
}

// done tells whether the start is over, however it ended.
func (e *entry) done() bool { return !e.tried.IsZero() }

// ended tells whether a new start is due.
func (e *entry) ended() bool {
	if !e.done() {
		return false
	}
	if e.err != nil {
		return time.Since(e.tried) > again
	}
	select {
	case <-e.web.Gone():
		return true
	default:
		return false
	}
}

// full tells whether a copy was stopped, or not started, for what its folders hold.
func (e *entry) full() bool {
	w, ok := e.web.(interface{ Full() bool })
	return errors.Is(e.err, web.ErrFull) || ok && w.Full()
}

// stop ends a copy's programs, and removes their sockets and logs.
func (e *entry) stop() {
	e.web.Stop()
	if w, ok := e.web.(*web.Web); ok {
		_ = os.RemoveAll(w.Spec.Run)
	}
}

// drop stops an entry; the pool is locked.
func (p *Pool) drop(id site.ID, e *entry, why string) {
	delete(p.running, id)
	p.full[id] = e.full()
	if e.web != nil {
		p.Log.Info("stopping a copy", "site", e.spec.Name, "why", why)
		go e.stop()
	}
}

func (p *Pool) start(ctx context.Context, s site.Site) (Running, error) {
	spec := specOf(s)
	if s.Host != p.Local {
		return p.startThere(ctx, s, spec)
	}
	var err error
	if spec.PHP, err = p.choose(s, p.PHP()); err != nil {
		return nil, err
	}
	if spec.Load, err = spec.PHP.Load(ctx, s.Runtime.Extensions); err != nil {
		return nil, err
	}
	p.mu.Lock()
	n, full := p.starts[s.ID], p.full[s.ID]
	p.starts[s.ID]++
	p.mu.Unlock()
	if n == 0 {
		process.Reap(filepath.Join(p.Run, string(s.ID))) // what a dead keeper left
	}
	// One that is still ending must not share a socket with the next.
	spec.Run = filepath.Join(p.Run, string(s.ID), strconv.Itoa(n))
	// What a copy of before left there, its code may have written: nothing of ours is written into that.
	if err := os.RemoveAll(spec.Run); err != nil {
		return nil, fmt.Errorf("making room for the copy's sockets: %w", err)
	}
	if err := os.MkdirAll(spec.Run, 0o700); err != nil {
		return nil, fmt.Errorf("making room for the copy's sockets: %w", err)
	}
	if why := wall.Missing(); p.Sealed && why != "" {
		return nil, fmt.Errorf("%w: %s", ErrUnsealed, why)
	}
	if spec.Sealed = Sealed(local.New(p.Local), s, p.notes(s, spec.Mail)); spec.Sealed != nil {
		spec.Sealed.Full = full
		if s.Behind && p.Behind != nil {
			spec.Sealed.Awaited = behind.Of{Desk: p.Behind, ID: s.ID}
		}
	}
	w, err := web.Start(spec)
	if err != nil {
		return nil, err
	}
	return w, nil
}

func (p *Pool) choose(s site.Site, have []php.PHP) (php.PHP, error) {
	version, ok := php.Choose(have, s.Runtime.PHP)
	if version.Version == "" {
		return version, web.ErrNoPHP
	}
	if !ok && s.Runtime.PHP != "" {
		p.Log.Warn("another PHP than was asked for", "site", s.Name, "asked", s.Runtime.PHP, "used", version.Version)
	}
	return version, nil
}

// subDirs tells whether the copy is of a network whose sites are folders.
func subDirs(s site.Site) bool {
	return s.Facts != nil && s.Facts.Network != nil && !s.Facts.Network.SubDomains
}

// Sweep stops the copies that are not among those that are on the air.
func (p *Pool) Sweep(all []site.Site) {
	on := map[site.ID]bool{}
	for _, s := range all {
		on[s.ID] = s.Role == site.Copy && (s.State == site.Ready || s.State == site.Making || s.State == site.Failed)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for id, e := range p.running {
		if !on[id] && e.done() {
			p.drop(id, e, "it is off the air")
		}
	}
}

// Stop ends a copy's programs, and waits until they have.
func (p *Pool) Stop(id site.ID) {
	p.mu.Lock()
	e := p.running[id]
	delete(p.running, id)
	p.mu.Unlock()
	if e == nil {
		return
	}
	e.once.Do(func() { e.err = errStopped }) // or it is being started, and waited for
	if e.web != nil {
		e.stop()
	}
}

var errStopped = errors.New("it was stopped")

// Close stops them all.
func (p *Pool) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	var wg sync.WaitGroup
	for id, e := range p.running {
		delete(p.running, id)
		if e.web != nil {
			wg.Go(func() {
				e.stop()
				_ = os.Remove(filepath.Join(p.Run, string(id)))
			})
		}
	}
	wg.Wait()
	_ = os.Remove(p.Run) // unless something else of ours is in it
}
