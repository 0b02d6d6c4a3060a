// Package web is a machine of which only a site is known, and the account of somebody who may put code into it: a PHP
// file of ours is brought there, reaches the files that the site's own code reaches, and is taken off again. See
// package relay.
package web

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"

	"alibi/internal/host"
	"alibi/internal/relay"
	"alibi/internal/tables"
)

// Target is where a site is.
type Target struct {
	URL *url.URL
	At  string // the machine where that is; "": where its name leads
	Pin string // the digest of the key that is accepted of it; see package trust
}

// Options say how a file is brought there.
type Options struct {
	// Bring puts a PHP file with a name and a text where it answers, and gives its address. Before that it calls before.
	Bring func(ctx context.Context, name, text string, before func(context.Context) error) (*url.URL, error)
	// Made and Unmade note that a file with a name will be there, and that it is gone.
	Made, Unmade func(ctx context.Context, name string) error
}

// Host is a machine that is reached so. It is safe for concurrent use.
type Host struct {
	host.FilesOnly
	name string
	t    Target
	opt  Options

	mu    sync.Mutex
	relay *relay.Relay
	file  string // its name
	ends  *time.Timer
}

var (
	_ host.Host      = (*Host)(nil)
	_ host.Addressed = (*Host)(nil)
)

// New names a host; nothing is connected yet.
func New(name string, t Target, opt Options) *Host {
	return &Host{FilesOnly: host.FilesOnly(name), name: name, t: t, opt: opt}
}

func (h *Host) Name() string { return h.name }

// Address is where connections to it are made.
func (h *Host) Address() string { return cmp.Or(h.t.At, h.t.URL.Hostname()) }

// rest is how much of a relay's life has to be left for something new to begin with it.
const rest = relay.Life / 4

// reach gives the relay that is there, or has one brought.
func (h *Host) reach(ctx context.Context) (*relay.Relay, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.relay != nil && h.relay.Left() > rest {
		return h.relay, nil
	}
	if err := h.takeOff(ctx); err != nil {
		return nil, err
	}
	name := relay.Name()
	made := false
	r, err := relay.Bring(ctx, h.t.At, h.t.Pin, name, func(ctx context.Context, name, text string) (*url.URL, error) {
		return h.opt.Bring(ctx, name, text, func(ctx context.Context) error {
			made = true
			return h.opt.Made(ctx, name)
		})
	})
	if r != nil {
		h.relay, h.file = r, name
		h.ends = time.AfterFunc(Idle, func() { h.idle(r) })
	}
	switch {
	case err == nil:
		return r, nil
	case r != nil:
		return nil, errors.Join(h.named(err), h.takeOff(context.WithoutCancel(ctx)))
	case !made, errors.Is(err, host.ErrNoAnswer): // it did not come so far, or may have come there
		return nil, h.named(err)
	}
	return nil, errors.Join(h.named(err), h.opt.Unmade(context.WithoutCancel(ctx), name))
}

// Idle is for how long a relay that nobody asks stays. Tests have less.
var Idle = 2 * time.Minute

// idle takes a relay off that was not asked for a while.
func (h *Host) idle(r *relay.Relay) {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch since := r.Idle(); {
	case h.relay != r:
	case since < Idle && r.Left() > 0:
		h.ends.Reset(Idle - since)
	default:
		_ = h.takeOff(context.Background()) // else it is among the leftovers
	}
}

// takeOff removes the relay. One that does not answer is among the leftovers.
func (h *Host) takeOff(ctx context.Context) error {
	if h.relay == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	r := h.relay
	h.relay = nil
	h.ends.Stop()
	if err := r.End(ctx); err != nil {
		return nil //nolint:nilerr // it may be gone, or will be by its own clock: the record has it still
	}
	return h.opt.Unmade(ctx, h.file)
}

// Remove removes the file with a name that an earlier process left, with its folder.
func (h *Host) Remove(ctx context.Context, name string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.relay != nil && h.file == name {
		return h.takeOff(ctx)
	}
	h.mu.Unlock()
	defer h.mu.Lock()
	return h.ask(ctx, nil, "beside", "/", ".", strings.TrimSuffix(name, ".php"))
}

// Shown is the folder that the site's address shows.
func (h *Host) Shown(ctx context.Context) (dir string, err error) {
	err = h.ask(ctx, func(row []string) error {
		dir = path.Join(row[0], h.t.URL.Path)
		return nil
	}, "shown", "/", ".")
	return dir, err
}

// Close takes the relay off.
func (h *Host) Close() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.takeOff(context.Background())
}

func (h *Host) named(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("host %s: %w", h.name, err)
}

// ask asks the relay. What the host says of files becomes what the system says of them.
func (h *Host) ask(ctx context.Context, give func(row []string) error, parts ...string) error {
	r, err := h.reach(ctx)
	if err != nil {
		return err
	}
	err = r.Files(ctx, give, parts...)
	var said *mysql.MySQLError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &said) && said.Number == uint16(syscall.ELOOP):
		err = host.ErrEscapes
	case errors.As(err, &said):
		err = syscall.Errno(said.Number)
	case errors.Is(err, tables.ErrAway):
		err = fmt.Errorf("%w: %w", host.ErrNoAnswer, err)
	default:
		return h.named(err)
	}
	return h.named(&fs.PathError{Op: parts[0], Path: parts[2], Err: err})
}

// Open gives a folder.
func (h *Host) Open(ctx context.Context, dir string) (host.Tree, error) {
	r, err := h.Write(ctx, dir)
	if err != nil {
		return nil, err
	}
	return r, nil
}

// Write gives a folder to be written to.
func (h *Host) Write(ctx context.Context, dir string) (host.Root, error) {
	if !path.IsAbs(dir) {
		return nil, fmt.Errorf("%q on %s: %w: name an absolute path", dir, h.name, fs.ErrInvalid)
	}
	r := &root{h: h, path: path.Clean(dir)}
	if err := h.ask(ctx, nil, "list", r.path, "."); err != nil {
		return nil, fmt.Errorf("folder %s: %w", dir, err)
	}
	return r, nil
}

// Make makes a folder and those above it.
func (h *Host) Make(ctx context.Context, dir string) (host.Root, error) {
	return host.MakeAll(ctx, h, dir)
}

// Free is the room on the disk that holds a folder.
func (h *Host) Free(ctx context.Context, dir string) (n int64, err error) {
	err = h.ask(ctx, func(row []string) (err error) {
		n, err = strconv.ParseInt(row[0], 10, 64)
		return err
	}, "free", dir, ".")
	return n, err
}
