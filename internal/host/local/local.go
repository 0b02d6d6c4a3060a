// Package local is the engineer's own machine as a host.
package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"alibi/internal/host"
)

// Host is this machine under a name.
type Host struct{ name string }

// New gives this machine the name under which it is shown.
func New(name string) *Host { return &Host{name} }

func (h *Host) Name() string { return h.name }
func (h *Host) Close() error { return nil }

// Open opens dir; os.Root keeps everything below it.
func (h *Host) Open(_ context.Context, dir string) (host.Root, error) {
	if !filepath.IsAbs(dir) {
		return nil, fmt.Errorf("opening %q on %s: not an absolute path", dir, h.name)
	}
	r, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("opening %s on %s: %w", dir, h.name, err)
	}
	return &root{r}, nil
}

// Make creates dir, readable by the owner only, and opens it.
func (h *Host) Make(ctx context.Context, dir string) (host.Root, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making %s on %s: %w", dir, h.name, err)
	}
	return h.Open(ctx, dir)
}

// Free asks the file system; dir need not exist yet.
func (h *Host) Free(_ context.Context, dir string) (int64, error) {
	for {
		var st unix.Statfs_t
		err := unix.Statfs(dir, &st)
		if err == nil {
			return int64(st.Bavail) * st.Bsize, nil
		}
		if up := filepath.Dir(dir); errors.Is(err, fs.ErrNotExist) && up != dir {
			dir = up
			continue
		}
		return 0, fmt.Errorf("asking for the room at %s: %w", dir, err)
	}
}

// Command runs a program of this machine.
func (h *Host) Command(ctx context.Context, name string, args ...string) ([]byte, error) {
	out, err := exec.CommandContext(ctx, name, args...).Output()
	if err != nil {
		return out, fmt.Errorf("running %s on %s: %w", name, h.name, err)
	}
	return out, nil
}

// Pipe runs a program of this machine between two streams.
func (h *Host) Pipe(ctx context.Context, in io.Reader, out io.Writer, name string, args ...string) error {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin, cmd.Stdout = in, out
	cmd.WaitDelay = 2 * time.Second
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("running %s on %s: %w", name, h.name, err)
	}
	return nil
}

// Dial connects from this machine.
func (h *Host) Dial(ctx context.Context, network, addr string) (net.Conn, error) {
	var d net.Dialer
	return d.DialContext(ctx, network, addr)
}

type root struct{ r *os.Root }

func (r *root) Path() string { return r.r.Name() }
func (r *root) Close() error { return r.r.Close() }

// escapes gives os.Root's refusal its name here.
func escapes(err error) error {
	if err != nil && strings.Contains(err.Error(), "path escapes from parent") {
		return fmt.Errorf("%w: %w", host.ErrEscapes, err)
	}
	return err
}

func (r *root) Lstat(name string) (fs.FileInfo, error) {
	fi, err := r.r.Lstat(name)
	return fi, escapes(err)
}

func (r *root) ReadDir(name string) ([]fs.FileInfo, error) {
	f, err := r.r.Open(name)
	if err != nil {
		return nil, escapes(err)
	}
	defer f.Close()
	entries, err := f.ReadDir(-1)
	if err != nil {
		return nil, err
	}
	infos := make([]fs.FileInfo, 0, len(entries))
	for _, e := range entries {
		fi, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue // went away since
		}
		if err != nil {
			return nil, err
		}
		infos = append(infos, fi)
	}
	slices.SortFunc(infos, func(a, b fs.FileInfo) int { return strings.Compare(a.Name(), b.Name()) })
	return infos, nil
}

func (r *root) Open(name string) (host.File, error) {
	f, err := r.r.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0) // a pipe must not make us wait
	if err != nil {
		return nil, escapes(err)
	}
	return f, nil
}

func (r *root) Create(name string, perm fs.FileMode) (host.File, error) {
	f, err := r.r.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, perm.Perm())
	if err != nil {
		return nil, escapes(err)
	}
	return f, nil
}

func (r *root) Mkdir(name string, perm fs.FileMode) error {
	return escapes(r.r.Mkdir(name, perm.Perm()))
}

func (r *root) Readlink(name string) (string, error) {
	s, err := r.r.Readlink(name)
	return s, escapes(err)
}

func (r *root) Symlink(target, name string) error {
	if !host.LinkInside(r.Path(), name, target) {
		return fmt.Errorf("linking %s to %s: %w", name, target, host.ErrEscapes)
	}
	return escapes(r.r.Symlink(target, name))
}

func (r *root) Rename(from, to string) error { return escapes(r.r.Rename(from, to)) }
func (r *root) Remove(name string) error     { return escapes(r.r.Remove(name)) }
func (r *root) RemoveAll(name string) error  { return escapes(r.r.RemoveAll(name)) }

func (r *root) Chmod(name string, perm fs.FileMode) error {
	return escapes(r.r.Chmod(name, perm.Perm()))
}

// Link gives a file a second name.
func (r *root) Link(from, to string) error { return escapes(r.r.Link(from, to)) }

func (r *root) Chtimes(name string, mtime time.Time) error {
	return escapes(r.r.Chtimes(name, mtime, mtime))
}
