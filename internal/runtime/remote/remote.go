// Package remote runs the code of a copy on another host, through the
// connection to it, for as long as the connection lasts: by our own program,
// which is put there and goes with the last copy, or by PHP's own server alone.
package remote

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"alibi/internal/host"
	"alibi/internal/runtime/php"
	"alibi/internal/runtime/web"
)

// list asks for every PHP that a login shell of the host would find.
const list = `for p in php php8.5 php8.4 php8.3 php8.2 php8.1 php8.0 php7.4 php7.3 php7.2 php7.1 php7.0; do
	f=$(command -v $p) && printf '%s %s\n' "$f" "$($f -n -r 'echo PHP_VERSION;' 2>/dev/null)"
done; true`

// Find lists the PHP versions of a host, newest first.
func Find(ctx context.Context, h host.Host) ([]php.PHP, error) {
	out, err := h.Command(ctx, "sh", "-c", list)
	if err != nil {
		return nil, err
	}
	var found []php.PHP
	for _, l := range strings.Split(string(out), "\n") {
		file, version, ok := strings.Cut(l, " ")
		version, _, _ = strings.Cut(version, "-")
		p := php.PHP{Version: version, CLI: file}
		if ok && version != "" &&
			!slices.ContainsFunc(found, func(x php.PHP) bool { return x.Series() == p.Series() }) {
			found = append(found, p)
		}
	}
	slices.SortFunc(found, func(a, b php.PHP) int { return php.Compare(b.Version, a.Version) })
	return found, nil
}

// serve runs the server until its standard input ends, as it does when the
// connection breaks, and ends all that it started.
const serve = `cd "$1" || exit 1; shift; umask 077; trap '' TERM
(trap - TERM; PHP_CLI_SERVER_WORKERS=4 exec "$@") & cat >/dev/null; kill -TERM 0; wait`

// Running is a copy that runs on another host.
type Running struct {
	h    host.Host
	net  string // "tcp", or "unix" for a copy in a world of its own
	addr string
	stop context.CancelFunc
	in   *io.PipeWriter
	gone chan struct{}
	err  error
	log  *record
}

// Start starts a site; s.Run is a folder on the host that is made for it, and
// s.PHP one of the versions that Find gave.
func Start(ctx context.Context, h host.Host, s web.Spec) (*Running, error) {
	if s.PHP.CLI == "" {
		return nil, fmt.Errorf("host %s: %w", h.Name(), web.ErrNoPHP)
	}
	if s.Logs == "" {
		s.Logs = s.Run
	}
	r, err := h.Make(ctx, s.Run)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	if err := host.MkdirAll(r, "tmp", 0o700); err != nil {
		return nil, err
	}
	logs, err := h.Make(ctx, s.Logs)
	if err != nil {
		return nil, err
	}
	logs.Close()
	support, err := s.Support()
	if err != nil {
		return nil, err
	}
	for name, text := range support {
		if _, err := host.Put(r, name, 0o700, time.Time{}, bytes.NewReader(text)); err != nil {
			return nil, fmt.Errorf("preparing the copy on %s: %w", h.Name(), err)
		}
	}
	if s.Sealed != nil {
		return startSealed(ctx, h, r, s)
	}
	for try := 0; ; try++ {
		x, err := start(ctx, h, s)
		if err == nil || try == 3 || !strings.Contains(err.Error(), "in use") {
			return x, err
		}
	}
}

func start(ctx context.Context, h host.Host, s web.Spec) (*Running, error) {
	addr := fmt.Sprintf("127.0.0.1:%d", 20000+rand.IntN(20000))
	args := append([]string{"-c", "exec 2>&1; " + serve, "sh", path.Dir(s.Root), s.PHP.CLI}, s.Args(addr)...)
	return await(ctx, h, "tcp", addr, args)
}

// await runs a script for sh and waits until something listens at an address of the host.
func await(ctx context.Context, h host.Host, network, addr string, args []string) (*Running, error) {
	x := &Running{h: h, net: network, addr: addr, gone: make(chan struct{}), log: &record{}}
	run, stop := context.WithCancel(context.WithoutCancel(ctx))
	x.stop = stop
	var in *io.PipeReader
	in, x.in = io.Pipe()
	go func() {
		x.err = h.Pipe(run, in, x.log, "sh", args...)
		close(x.gone)
	}()
	for wait := 10 * time.Millisecond; wait < 8*time.Second; wait = wait * 3 / 2 {
		select {
		case <-x.gone:
			return nil, fmt.Errorf("PHP does not run on %s: %w", h.Name(), errors.Join(x.err, errors.New(x.log.last())))
		case <-time.After(wait):
		}
		if c, err := x.Dial(ctx); err == nil {
			c.Close()
			return x, nil
		} else if errors.Is(err, host.ErrNoForward) {
			x.Stop()
			return nil, err
		}
	}
	x.Stop()
	return nil, fmt.Errorf("PHP's server on %s did not answer: %s", h.Name(), x.log.last())
}

// Dial connects to the site's web server.
func (x *Running) Dial(ctx context.Context) (net.Conn, error) { return x.h.Dial(ctx, x.net, x.addr) }

// Gone is closed when the site does not run any more.
func (x *Running) Gone() <-chan struct{} { return x.gone }

// Stop ends it.
func (x *Running) Stop() {
	x.in.Close()
	select {
	case <-x.gone:
	case <-time.After(3 * time.Second):
	}
	x.stop()
}

// record keeps the end of what a program writes.
type record struct {
	mu   sync.Mutex
	text []byte
}

func (r *record) Write(p []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.text = append(r.text, p...)
	r.text = r.text[max(0, len(r.text)-2000):]
	return len(p), nil
}

func (r *record) last() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	lines := strings.Split(strings.TrimSpace(string(r.text)), "\n")
	return lines[len(lines)-1]
}
