// Package sshd is a stand-in for somebody's machine: an SSH server inside this
// process, on loopback, that serves one directory by SFTP as if it were the
// whole machine, and answers a few commands. The demo world and the tests use it.
package sshd

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// Config says what the machine is like.
type Config struct {
	Dir      string                           // what is served as /
	User     string                           // who may sign in
	Password string                           // with this, if not empty
	Key      ssh.PublicKey                    // or with this
	HostKey  ssh.Signer                       // drawn if nil
	Commands map[string]func([]string) []byte // by name; nil: none are allowed
	// Answers is asked before them for what a command says to what it is told.
	Answers func(words []string, in io.Reader, out io.Writer) (known bool)
	Fault   func(op, path string) error // injected into SFTP requests, for tests
	Free    uint64                      // bytes that the disk claims to have free
}

// Server is a running stand-in.
type Server struct {
	cfg  Config
	root *os.Root
	ln   net.Listener

	mu    sync.Mutex
	conns map[net.Conn]bool
}

// Start listens on a free port of loopback.
func Start(cfg Config) (*Server, error) {
	root, err := os.OpenRoot(cfg.Dir)
	if err != nil {
		return nil, err
	}
	if cfg.HostKey == nil {
		_, key, _ := ed25519.GenerateKey(rand.Reader)
		if cfg.HostKey, err = ssh.NewSignerFromKey(key); err != nil {
			return nil, err
		}
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Server{cfg: cfg, root: root, ln: ln, conns: map[net.Conn]bool{}}
	go s.accept()
	return s, nil
}

// Port is where the server listens.
func (s *Server) Port() string {
	_, p, _ := net.SplitHostPort(s.ln.Addr().String())
	return p
}

// HostKey is the server's public key.
func (s *Server) HostKey() ssh.PublicKey { return s.cfg.HostKey.PublicKey() }

// Cut ends all connections at once, as a broken line would.
func (s *Server) Cut() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.conns {
		c.Close()
	}
}

// Close stops the server.
func (s *Server) Close() error {
	err := s.ln.Close()
	s.Cut()
	return errors.Join(err, s.root.Close())
}

func (s *Server) accept() {
	for {
		c, err := s.ln.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		s.conns[c] = true
		s.mu.Unlock()
		go func() {
			s.serve(c)
			s.mu.Lock()
			delete(s.conns, c)
			s.mu.Unlock()
		}()
	}
}

func (s *Server) serve(c net.Conn) {
	defer c.Close()
	refuse := errors.New("refused")
	cfg := &ssh.ServerConfig{
		PublicKeyCallback: func(m ssh.ConnMetadata, k ssh.PublicKey) (*ssh.Permissions, error) {
			if s.cfg.Key == nil || m.User() != s.cfg.User || string(k.Marshal()) != string(s.cfg.Key.Marshal()) {
				return nil, refuse
			}
			return nil, nil
		},
	}
	if s.cfg.Password != "" {
		cfg.PasswordCallback = func(m ssh.ConnMetadata, pw []byte) (*ssh.Permissions, error) {
			if m.User() != s.cfg.User || string(pw) != s.cfg.Password {
				return nil, refuse
			}
			return nil, nil
		}
	}
	cfg.AddHostKey(s.cfg.HostKey)
	_, chans, reqs, err := ssh.NewServerConn(c, cfg)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(reqs)
	for nc := range chans {
		if nc.ChannelType() != "session" {
			_ = nc.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		ch, reqs, err := nc.Accept()
		if err != nil {
			return
		}
		go s.session(ch, reqs)
	}
}

func (s *Server) session(ch ssh.Channel, reqs <-chan *ssh.Request) {
	defer ch.Close()
	for r := range reqs {
		var arg struct{ Value string }
		_ = ssh.Unmarshal(r.Payload, &arg)
		switch {
		case r.Type == "subsystem" && arg.Value == "sftp":
			_ = r.Reply(true, nil)
			h := &handlers{s}
			_ = sftp.NewRequestServer(ch, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h}).Serve()
			return
		case r.Type == "exec" && s.cfg.Commands != nil:
			_ = r.Reply(true, nil)
			s.exec(ch, arg.Value)
			return
		default:
			_ = r.Reply(false, nil)
		}
	}
}

func (s *Server) exec(ch ssh.Channel, line string) {
	words := strings.Split(strings.Trim(strings.TrimPrefix(line, "env LC_ALL=C "), "'"), "' '")
	status := uint32(127)
	if s.cfg.Answers != nil && s.cfg.Answers(words, ch, ch) {
		status = 0
	} else if f := s.cfg.Commands[words[0]]; f != nil {
		_, _ = ch.Write(f(words[1:]))
		status = 0
	}
	_, _ = ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{status}))
}

// handlers answer SFTP requests from the served directory.
type handlers struct{ s *Server }

func (h *handlers) name(op, p string) (string, error) {
	if h.s.cfg.Fault != nil {
		if err := h.s.cfg.Fault(op, p); err != nil {
			return "", err
		}
	}
	p = strings.TrimPrefix(filepath.Clean("/"+p), "/")
	if p == "" {
		p = "."
	}
	return p, nil
}

func (h *handlers) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	p, err := h.name("read", r.Filepath)
	if err != nil {
		return nil, err
	}
	f, err := h.s.root.Open(p)
	if err != nil {
		return nil, plain(err)
	}
	return f, nil
}

func (h *handlers) OpenFile(r *sftp.Request) (sftp.WriterAtReaderAt, error) {
	p, err := h.name("write", r.Filepath)
	if err != nil {
		return nil, err
	}
	flags, fl := os.O_RDWR, r.Pflags()
	if fl.Creat {
		flags |= os.O_CREATE
	}
	if fl.Excl {
		flags |= os.O_EXCL
	}
	if fl.Trunc {
		flags |= os.O_TRUNC
	}
	f, err := h.s.root.OpenFile(p, flags, 0o644)
	if err != nil {
		return nil, plain(err)
	}
	return f, nil
}

func (h *handlers) Filewrite(r *sftp.Request) (io.WriterAt, error) { return h.OpenFile(r) }

func (h *handlers) Filecmd(r *sftp.Request) error {
	p, err := h.name("change", r.Filepath)
	if err != nil {
		return err
	}
	root := h.s.root
	switch r.Method {
	case "Setstat":
		if r.AttrFlags().Permissions {
			err = root.Chmod(p, r.Attributes().FileMode()&(fs.ModePerm|fs.ModeSetuid|fs.ModeSetgid|fs.ModeSticky))
		}
		if r.AttrFlags().UidGid && err == nil {
			err = root.Chown(p, int(r.Attributes().UID), int(r.Attributes().GID))
		}
		if r.AttrFlags().Acmodtime && err == nil {
			err = root.Chtimes(p, r.Attributes().AccessTime(), r.Attributes().ModTime())
		}
	case "Rename", "PosixRename":
		err = root.Rename(p, strings.TrimPrefix(r.Target, "/"))
	case "Rmdir", "Remove":
		err = root.Remove(p)
	case "Mkdir":
		err = root.Mkdir(p, 0o755)
	case "Symlink":
		err = root.Symlink(r.Filepath, strings.TrimPrefix(r.Target, "/"))
	default:
		err = sftp.ErrSSHFxOpUnsupported
	}
	return plain(err)
}

func (h *handlers) PosixRename(r *sftp.Request) error {
	p, err := h.name("change", r.Filepath)
	if err != nil {
		return err
	}
	return plain(h.s.root.Rename(p, strings.TrimPrefix(r.Target, "/")))
}

func (h *handlers) StatVFS(*sftp.Request) (*sftp.StatVFS, error) {
	free := h.s.cfg.Free
	if free == 0 {
		free = 40 << 30
	}
	return &sftp.StatVFS{
		Bsize:   4096,
		Frsize:  4096,
		Blocks:  2 * free / 4096,
		Bfree:   free / 4096,
		Bavail:  free / 4096,
		Namemax: 255,
	}, nil
}

func (h *handlers) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	p, err := h.name("list", r.Filepath)
	if err != nil {
		return nil, err
	}
	switch r.Method {
	case "List":
		f, err := h.s.root.Open(p)
		if err != nil {
			return nil, plain(err)
		}
		defer f.Close()
		list, err := f.Readdir(-1)
		return lister(list), plain(err)
	case "Stat":
		fi, err := h.s.root.Stat(p)
		return lister{fi}, plain(err)
	}
	return nil, sftp.ErrSSHFxOpUnsupported
}

// Lstat answers for the name itself.
func (h *handlers) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	p, err := h.name("list", r.Filepath)
	if err != nil {
		return nil, err
	}
	fi, err := h.s.root.Lstat(p)
	return lister{fi}, plain(err)
}

// Readlink gives a link's text.
func (h *handlers) Readlink(p string) (string, error) {
	p, err := h.name("list", p)
	if err != nil {
		return "", err
	}
	t, err := h.s.root.Readlink(p)
	return t, plain(err)
}

// RealPath resolves links as the machine would.
func (h *handlers) RealPath(p string) (string, error) {
	if _, err := h.name("list", p); err != nil {
		return "", err
	}
	dir := h.s.cfg.Dir
	real, err := filepath.EvalSymlinks(filepath.Join(dir, filepath.Clean("/"+p)))
	if err != nil {
		return filepath.Clean("/" + p), nil
	}
	if base, err := filepath.EvalSymlinks(dir); err == nil {
		if rel, err := filepath.Rel(base, real); err == nil && rel != ".." && !strings.HasPrefix(rel, "../") {
			return filepath.Clean("/" + rel), nil
		}
	}
	return real, nil
}

// plain gives the errors that the protocol has a number for.
func plain(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		return sftp.ErrSSHFxNoSuchFile
	case errors.Is(err, fs.ErrPermission):
		return sftp.ErrSSHFxPermissionDenied
	}
	return fmt.Errorf("failure: %w", err)
}

type lister []os.FileInfo

func (l lister) ListAt(out []os.FileInfo, off int64) (int, error) {
	if off >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(out, l[off:])
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}
