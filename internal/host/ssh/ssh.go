// Package ssh is a machine that is reached by SSH: its files by SFTP, its
// commands where it allows any. People's own keys, agent, ~/.ssh/config and
// known_hosts are honoured; keys that are learnt are kept in a file of ours.
package ssh

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"alibi/internal/host"
	"alibi/internal/host/pace"
	"alibi/internal/site"
)

// Target is where to connect and as whom. Empty fields come from ~/.ssh/config
// and then from the protocol's defaults.
type Target struct {
	Alias string // the name in ~/.ssh/config, or a host name
	Addr  string // host name or number address
	At    string // the machine, where that name leads elsewhere; "": it does not
	Port  string
	User  string
	Key   string // private key file
	Jump  string // hosts to go through: [USER@]HOST[:PORT], several with commas; "none" for none

	keys    []string // files to try
	agent   string   // socket of the agent that the configuration names
	command string   // that connects, with the tokens of ssh_config(5); "none" for none
}

// Asker is a person, asked when something can't be decided without one.
type Asker interface {
	// HostKey shows the fingerprint of a host that was never seen; true accepts it.
	HostKey(hostname, fingerprint string) (bool, error)
	// Secret asks for a password or passphrase, without showing it.
	Secret(prompt string) (string, error)
}

// Nobody is an Asker that accepts nothing and knows no secret.
type Nobody struct{}

func (Nobody) HostKey(string, string) (bool, error) { return false, nil }
func (Nobody) Secret(string) (string, error)        { return "", errors.New("nobody is there to ask") }

// Options say where things are and whom to ask.
type Options struct {
	Config     string   // ~/.ssh/config
	KnownHosts []string // files to read; the first is ours, and written to
	Asker      Asker
	// Password gives that of the account, where it is kept; nil: it is asked for.
	Password func() (string, error)
	Timeout  time.Duration // for connecting; 10 s if 0
	Limits   Limits
}

// Host is a machine behind SSH. The connection is made when it is first used
// and made again after it broke.
type Host struct {
	name   string
	target Target
	opt    Options

	mu     sync.Mutex
	conn   *ssh.Client
	sftp   *sftp.Client
	load   float64 // of the host, when it was last asked
	loadAt time.Time

	far time.Duration // the shortest time of a question and its answer

	tar  *bool         // whether it runs one; nil: not asked yet
	gzip bool          // whether it has one; known with tar
	via  []*ssh.Client // jump hosts, nearest first

	through func(ctx context.Context, network, addr string) (net.Conn, error) // for a jump host behind another

	now  atomic.Pointer[ssh.Client] // conn, for who must not wait for mu
	shun atomic.Int64               // until when the host is not asked; nanoseconds
}

// New describes a host; nothing is connected yet.
func New(name string, t Target, opt Options) *Host {
	if opt.Timeout == 0 {
		opt.Timeout = 10 * time.Second
	}
	if opt.Asker == nil {
		opt.Asker = Nobody{}
	}
	return &Host{name: name, target: t.fill(opt.Config), opt: opt}
}

func (h *Host) Name() string { return h.name }

// Address is where connections to it are made.
func (h *Host) Address() string { return h.target.machine() }

// machine is where connections are made. Its key is that of its name.
func (t Target) machine() string { return cmp.Or(t.At, t.Addr) }

// Close ends the connection; the next use makes a new one.
func (h *Host) Close() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.drop()
}

func (h *Host) drop() error {
	if h.conn == nil {
		return nil
	}
	err := h.conn.Close() // first: a host that says nothing is not waited for
	if h.sftp != nil {
		h.sftp.Close()
	}
	h.hangUp()
	h.conn, h.sftp = nil, nil
	return err
}

// connect gives the connection, made anew if there is none that answers.
func (h *Host) connect(ctx context.Context) (*ssh.Client, *sftp.Client, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if err := h.refused(); err != nil {
		return nil, nil, err
	}
	if h.conn != nil {
		if answers(ctx, h.sftp) {
			return h.conn, h.sftp, nil
		}
		h.drop()
	}
	if err := ctx.Err(); err != nil {
		return nil, nil, err
	}
	conn, err := h.dial(ctx)
	if err != nil {
		return nil, nil, err
	}
	h.now.Store(conn)
	go keepAlive(conn)
	files, err := sftp.NewClient(conn, sftp.MaxConcurrentRequestsPerFile(32), sftp.UseConcurrentReads(true))
	if err != nil {
		conn.Close()
		return nil, nil, fmt.Errorf("host %s answers but offers no SFTP; ask its keeper to allow it: %w", h.name, err)
	}
	h.conn, h.sftp, h.far = conn, files, distance(files)
	return conn, files, nil
}

// dial connects. Where a person took so long to answer a question that the host hung up
// meanwhile, it connects once more with the answer.
func (h *Host) dial(ctx context.Context) (*ssh.Client, error) {
	ask := &asking{Asker: h.opt.Asker, limit: h.opt.Timeout}
	for {
		c, err := h.handshake(ctx, ask)
		if !errors.Is(err, host.ErrNoAnswer) || ctx.Err() != nil || !ask.again() {
			return c, err
		}
	}
}

func (h *Host) handshake(ctx context.Context, ask *asking) (*ssh.Client, error) {
	addr := net.JoinHostPort(h.target.Addr, h.target.Port)
	raw, err := h.raw(ctx, net.JoinHostPort(h.target.machine(), h.target.Port))
	if err != nil {
		h.hangUp()
		if errors.Is(err, host.ErrAuth) || errors.Is(err, host.ErrHostKey) {
			return nil, err
		}
		return nil, fmt.Errorf("host %s at %s: %w; check the address and port, and that it can be reached "+
			"from here: %w", h.name, addr, host.ErrNoAnswer, err)
	}
	callback, algos, err := h.hostKeys(addr, ask)
	if err != nil {
		raw.Close()
		return nil, err
	}
	auth, closeAgent := h.auth(ask)
	defer closeAgent()
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	defer stop()
	silent := ask.start(raw) // a host that takes connections and says nothing
	defer ask.stop()
	c, chans, reqs, err := ssh.NewClientConn(pace.Of(h.opt.Limits.Bandwidth).Conn(timed{raw}), addr, &ssh.ClientConfig{
		User: h.target.User, Auth: auth, HostKeyCallback: callback, HostKeyAlgorithms: algos, Timeout: h.opt.Timeout,
	})
	if err == nil {
		return ssh.NewClient(c, chans, reqs), nil
	}
	raw.Close()
	switch {
	case errors.Is(err, host.ErrHostKey):
		return nil, cause(err)
	case errors.Is(err, host.ErrAuth):
		return nil, fmt.Errorf("host %s as %s: %w", h.name, h.target.User, cause(err))
	case strings.Contains(err.Error(), "unable to authenticate"):
		return nil, fmt.Errorf("host %s as %s: %w; check the user name, and that the key or the agent holds what the "+
			"host expects", h.name, h.target.User, host.ErrAuth)
	case silent():
		return nil, fmt.Errorf(
			"host %s at %s: %w: it took the connection and did not let us in within %s; check that SSH answers "+
				"on this port",
			h.name,
			addr,
			host.ErrNoAnswer,
			h.opt.Timeout,
		)
	}
	return nil, fmt.Errorf("host %s at %s: %w: %w%s", h.name, addr, host.ErrNoAnswer, err, complaint(raw))
}

// hangUp ends the connections to the jump hosts, farthest first.
func (h *Host) hangUp() {
	for i := len(h.via) - 1; i >= 0; i-- {
		h.via[i].Close()
	}
	h.via = nil
}

// Lost tells whether an error says that the line to a host broke: the SFTP
// library has several ways to put it, depending on who was writing or reading.
func Lost(err error) bool {
	for _, e := range []error{sftp.ErrSSHFxConnectionLost, sftp.ErrSSHFxNoConnection, io.EOF, io.ErrUnexpectedEOF,
		io.ErrClosedPipe} {
		if errors.Is(err, e) {
			return true
		}
	}
	var missing *ssh.ExitMissingError // a command that was not seen to end
	return errors.As(err, &missing) || strings.Contains(err.Error(), "failed to send packet") ||
		strings.Contains(err.Error(), "connection lost")
}

// cause takes off what the protocol's library puts before our own error.
func cause(err error) error {
	for inner := errors.Unwrap(err); inner != nil; inner = errors.Unwrap(inner) {
		if inner == host.ErrHostKey || inner == host.ErrAuth {
			break
		}
		err = inner
	}
	return err
}

// Open opens dir after the server resolved it.
func (h *Host) Open(ctx context.Context, dir string) (host.Tree, error) { return h.Write(ctx, dir) }

// Write opens dir after the server resolved it.
func (h *Host) Write(ctx context.Context, dir string) (host.Root, error) {
	_, c, err := h.connect(ctx)
	if err != nil {
		return nil, err
	}
	real, err := c.RealPath(dir)
	if err != nil {
		return nil, fmt.Errorf("opening %s on %s: %w", dir, h.name, err)
	}
	fi, err := c.Stat(real)
	if err != nil {
		return nil, fmt.Errorf("opening %s on %s: %w", dir, h.name, err)
	}
	if !fi.IsDir() {
		return nil, fmt.Errorf("opening %s on %s: it is a file, not a folder", dir, h.name)
	}
	return &root{h: h, c: c, path: real, dirs: map[string]time.Time{}}, nil
}

// Make creates dir and those above it.
func (h *Host) Make(ctx context.Context, dir string) (host.Root, error) {
	_, c, err := h.connect(ctx)
	if err != nil {
		return nil, err
	}
	if err := c.MkdirAll(dir); err != nil {
		return nil, fmt.Errorf("making %s on %s: %w", dir, h.name, err)
	}
	return h.Write(ctx, dir)
}

// Free asks by OpenSSH's statvfs extension; 0 where the server lacks it.
func (h *Host) Free(ctx context.Context, dir string) (int64, error) {
	_, c, err := h.connect(ctx)
	if err != nil {
		return 0, err
	}
	st, err := c.StatVFS(dir)
	if err != nil {
		return 0, nil
	}
	return int64(st.Bavail * st.Frsize), nil
}

// Command runs a program; its arguments are quoted for a POSIX shell.
func (h *Host) Command(ctx context.Context, name string, args ...string) ([]byte, error) {
	conn, _, err := h.connect(ctx)
	if err != nil {
		return nil, err
	}
	s, err := conn.NewSession()
	if err != nil {
		return nil, fmt.Errorf("host %s: %w: %w", h.name, host.ErrNoCommands, err)
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	out, err := s.Output(line(ctx, name, args))
	var exit *ssh.ExitError
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.As(err, &exit) && h.runs(conn):
		return out, fmt.Errorf("running %s on %s: %w", name, h.name, err)
	case err != nil && Lost(err):
		return nil, fmt.Errorf("running %s on %s: %w", name, h.name, err)
	case err != nil:
		return nil, fmt.Errorf("host %s: %w", h.name, host.ErrNoCommands)
	}
	return out, nil
}

// runs tells whether the host runs what it is asked to: one that is forced to
// SFTP answers every command with a failure.
func (h *Host) runs(conn *ssh.Client) bool {
	s, err := conn.NewSession()
	if err != nil {
		return false
	}
	defer s.Close()
	return s.Run("true") == nil
}

// Pipe runs a program like Command, with in as its standard input and out as
// its output, until it ends or ctx does.
func (h *Host) Pipe(ctx context.Context, in io.Reader, out io.Writer, name string, args ...string) error {
	conn, _, err := h.connect(ctx)
	if err != nil {
		return err
	}
	s, err := conn.NewSession()
	if err != nil {
		return fmt.Errorf("host %s: %w: %w", h.name, host.ErrNoCommands, err)
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	var complaint tail
	s.Stdin, s.Stdout, s.Stderr = in, out, &complaint
	err = s.Run(line(ctx, name, args))
	var exit *ssh.ExitError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &exit):
		return fmt.Errorf("running %s on %s: %w: %s", name, h.name, err, complaint)
	case err != nil && !Lost(err):
		return fmt.Errorf("host %s: %w: %w", h.name, host.ErrNoCommands, err)
	case err != nil:
		return fmt.Errorf("running %s on %s: the line broke: %w", name, h.name, err)
	}
	return nil
}

// tail keeps the last bytes that are written to it.
type tail []byte

func (t *tail) Write(p []byte) (int, error) {
	*t = append(*t, p...)
	if len(*t) > 500 {
		*t = (*t)[len(*t)-500:]
	}
	return len(p), nil
}

func (t tail) String() string { return strings.TrimSpace(string(t)) }

// line quotes a command for a POSIX shell. What it says is in no language but the
// one that is looked for. What nobody waits for yields to all others.
func line(ctx context.Context, name string, args []string) string {
	out := saysIn + site.Either(pace.CalmOf(ctx) != nil, yields, "") + quote(name)
	for _, a := range args {
		out += " " + quote(a)
	}
	return out
}

// Dial connects from the host, through the connection to it.
func (h *Host) Dial(ctx context.Context, network, addr string) (net.Conn, error) {
	conn, _, err := h.connect(ctx)
	if err != nil {
		return nil, err
	}
	c, err := conn.DialContext(ctx, network, addr)
	var refused *ssh.OpenChannelError
	if errors.As(err, &refused) && refused.Reason == ssh.Prohibited {
		return nil, fmt.Errorf("host %s: %w; its keeper can allow it (AllowTcpForwarding, AllowStreamLocalForwarding)",
			h.name, host.ErrNoForward)
	}
	if refused != nil {
		return nil, fmt.Errorf("connecting to %s from %s: %w: %w", addr, h.name, host.ErrNoConnect, err)
	}
	if err != nil {
		return nil, fmt.Errorf("connecting to %s from %s: %w", addr, h.name, err)
	}
	return c, nil
}

// saysIn has a program write its messages as they are in its source.
const saysIn = "env LC_ALL=C "

// yields has a program give way to others (POSIX nice; 19 is the most).
const yields = "nice -n 19 "

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

func home(rest string) string {
	h, err := os.UserHomeDir()
	if err != nil {
		return rest
	}
	return filepath.Join(h, rest)
}
