// Package ftp is a machine that is reached by FTP, with TLS (RFC 4217) or, where somebody says so, without it: files
// and nothing else.
//
// It speaks the protocol itself, over net/textproto: what reads a site has to tell links from what they lead to, which
// only LIST does, and has to know modes and times to the second, which only MLSD does; client libraries give one of
// these, or neither.
//
// FTP knows no exclusive creation and follows links: what is done is looked at before, not at the same moment.
package ftp

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"path"
	"slices"
	"sync"
	"time"

	"alibi/internal/host"
	"alibi/internal/host/pace"
	"alibi/internal/host/trust"
)

// Target is where a host is, and as whom it is reached.
type Target struct {
	Host  string
	At    string // the machine, where that name leads elsewhere; "": it does not
	Port  string // "": 21
	User  string
	Plain bool   // nothing is encrypted, the password neither
	Pin   string // the digest of the certificate's key that is accepted whoever signed it; see package trust
}

func (t Target) port() string {
	if t.Port == "" {
		return "21"
	}
	return t.Port
}

// implicit tells whether the connection is encrypted from its first byte on, as the port for that says.
func (t Target) implicit() bool { return t.Port == "990" && !t.Plain }

// Options say what is needed beside.
type Options struct {
	// Password gives the account's; it is asked once for each connection.
	Password func() (string, error)
	Roots    *x509.CertPool // who may sign certificates; nil: whom this machine trusts
	Streams  int            // files at once; 0: usual
	// Bandwidth bounds what all connections say and are told, in bytes a second each way; 0: nothing does.
	Bandwidth int64
}

// usualStreams is how many connections are used at once: many hosts allow few.
const usualStreams = 3

// Host is a machine that is reached by FTP. It is safe for concurrent use.
type Host struct {
	host.FilesOnly
	name string
	t    Target
	opt  Options
	tls  *tls.Config
	pace *pace.Pace

	mu     sync.Mutex
	free   []*control
	open   map[*tracked]bool
	shun   time.Time // until then nothing is connected: a person has given up waiting
	closed bool
}

// shunned is for how long a host is left alone that a person has given up waiting for.
const shunned = 2 * time.Second

// tracked is a connection that Abort can end.
type tracked struct {
	net.Conn
	h *Host
}

func (c *tracked) Close() error {
	c.h.mu.Lock()
	delete(c.h.open, c)
	c.h.mu.Unlock()
	return c.Conn.Close()
}

// connect opens a connection to a port of the host.
func (h *Host) connect(ctx context.Context, addr string) (net.Conn, error) {
	h.mu.Lock()
	given := time.Now().Before(h.shun)
	h.mu.Unlock()
	if given {
		return nil, errors.New("it was given up a moment ago")
	}
	d := net.Dialer{Timeout: 10 * time.Second}
	raw, err := d.DialContext(ctx, "tcp", addr)
	if err != nil {
		return nil, err
	}
	c := &tracked{h.pace.Conn(raw), h}
	h.mu.Lock()
	h.open[c] = true
	h.mu.Unlock()
	return c, nil
}

// Abort breaks off all that goes on with the host: a person does not want to wait for it any longer.
func (h *Host) Abort() {
	h.mu.Lock()
	h.shun = time.Now().Add(shunned)
	open := slices.Collect(maps.Keys(h.open))
	h.mu.Unlock()
	for _, c := range open {
		_ = c.Conn.Close()
	}
}

var _ host.Host = (*Host)(nil)

// New names a host; nothing is connected yet.
func New(name string, t Target, opt Options) *Host {
	h := &Host{FilesOnly: host.FilesOnly(name), name: name, t: t, opt: opt, pace: pace.Of(opt.Bandwidth),
		open: map[*tracked]bool{}}
	if !t.Plain {
		h.tls = trust.Config(t.Host, t.Pin, opt.Roots)
	}
	return h
}

// idle is for how long a connection that nobody used is taken to be there still.
const idle = 40 * time.Second

// with lends a connection. One that was used before may have been closed by the host: then once more with a new one.
func (h *Host) with(ctx context.Context, do func(*control) error) error {
	for {
		c, fresh, err := h.take(ctx)
		if err != nil {
			return h.named(err)
		}
		err = do(c)
		if err == nil || !errors.Is(err, errBroken) && !errors.Is(err, errSpent) {
			h.give(c)
			return h.named(err)
		}
		c.close()
		if errors.Is(err, errSpent) {
			return h.named(err)
		}
		if fresh || ctx.Err() != nil {
			return h.named(fmt.Errorf("%w: %w", host.ErrNoAnswer, err))
		}
	}
}

func (h *Host) named(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("host %s: %w", h.name, err)
}

func (h *Host) take(ctx context.Context) (c *control, fresh bool, err error) {
	h.mu.Lock()
	for n := len(h.free); n > 0 && c == nil; n = len(h.free) {
		c, h.free = h.free[n-1], h.free[:n-1]
		if time.Since(c.used) > idle {
			defer c.close()
			c = nil
		}
	}
	h.mu.Unlock()
	if c != nil {
		return c, false, nil
	}
	password, err := h.opt.Password()
	if err != nil {
		return nil, true, fmt.Errorf("%w: %w", host.ErrAuth, err)
	}
	c, err = h.dial(ctx, password)
	return c, true, err
}

func (h *Host) give(c *control) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		go c.close()
		return
	}
	h.free = append(h.free, c)
}

func (h *Host) Name() string { return h.name }

// Address is where connections to it are made.
func (h *Host) Address() string { return cmp.Or(h.t.At, h.t.Host) }

func (h *Host) Close() error {
	h.mu.Lock()
	free := h.free
	h.free, h.closed = nil, true
	h.mu.Unlock()
	for _, c := range free {
		c.close()
	}
	return nil
}

// Open gives a folder.
func (h *Host) Open(ctx context.Context, dir string) (host.Tree, error) {
	r, err := h.root(ctx, dir)
	if err != nil {
		return nil, err
	}
	return r, nil
}

// Write gives a folder to be written to.
func (h *Host) Write(ctx context.Context, dir string) (host.Root, error) {
	r, err := h.root(ctx, dir)
	if err != nil {
		return nil, err
	}
	return r, nil
}

func (h *Host) root(ctx context.Context, dir string) (*root, error) {
	if !path.IsAbs(dir) {
		return nil, fmt.Errorf("%q on %s: %w: name an absolute path", dir, h.name, fs.ErrInvalid)
	}
	r := &root{h: h, path: path.Clean(dir), seen: map[string]listing{}}
	err := h.with(ctx, func(c *control) error {
		_, err := c.say(250, "CWD "+r.path)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("folder %s: %w", dir, err)
	}
	return r, nil
}

// Make makes a folder and those above it.
func (h *Host) Make(ctx context.Context, dir string) (host.Root, error) {
	return host.MakeAll(ctx, h, dir)
}

// Free is not told by FTP.
func (h *Host) Free(context.Context, string) (int64, error) { return 0, nil }
