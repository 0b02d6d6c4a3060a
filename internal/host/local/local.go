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
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"alibi/internal/host"
)

var (
	_ host.Root        = (*root)(nil)
	_ host.Writer      = (*root)(nil)
	_ host.Linker      = (*root)(nil)
	_ host.Owning      = (*root)(nil)
	_ host.Attributed  = (*root)(nil)
	_ host.Attributing = (*root)(nil)
)

// Host is this machine under a name.
type Host struct{ name string }

// New gives this machine the name under which it is shown.
func New(name string) *Host { return &Host{name} }

func (h *Host) Name() string { return h.name }
func (h *Host) Close() error { return nil }

// Open opens dir; os.Root keeps everything below it.
func (h *Host) Open(ctx context.Context, dir string) (host.Tree, error) { return h.Write(ctx, dir) }

// Write opens dir; os.Root keeps everything below it.
func (h *Host) Write(_ context.Context, dir string) (host.Root, error) {
	if !filepath.IsAbs(dir) {
		return nil, fmt.Errorf("opening %q on %s: not an absolute path", dir, h.name)
	}
	r, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("opening %s on %s: %w", dir, h.name, err)
	}
	return &root{r: r, dirs: map[string]*kept{}, owner: owner(r)}, nil
}

// owner is whose a folder is where we are root and it is another's: what is made in it is to be theirs too.
func owner(r *os.Root) *host.Owner {
	if os.Geteuid() != 0 {
		return nil
	}
	fi, err := r.Stat(".")
	if err != nil {
		return nil // then nothing can be made in it either
	}
	if o := host.OwnerOf(fi); o != nil && o.User != 0 {
		return o
	}
	return nil
}

// Make creates dir, readable by the owner only, and opens it.
func (h *Host) Make(ctx context.Context, dir string) (host.Root, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making %s on %s: %w", dir, h.name, err)
	}
	return h.Write(ctx, dir)
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
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	out, err := cmd.Output()
	if err != nil {
		return out, fmt.Errorf("running %s on %s: %w", name, h.name, err)
	}
	return out, nil
}

// Pipe runs a program of this machine between two streams.
func (h *Host) Pipe(ctx context.Context, in io.Reader, out io.Writer, name string, args ...string) error {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin, cmd.Stdout, cmd.Env = in, out, append(os.Environ(), "LC_ALL=C")
	cmd.WaitDelay = 2 * time.Second
	cmd.SysProcAttr = &unix.SysProcAttr{Setpgid: true} // what it starts can be ended with it, and only that
	cmd.Cancel = func() error { return unix.Kill(-cmd.Process.Pid, unix.SIGKILL) }
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

// root keeps the directories that were used last open, so that files beside one
// another don't cost a walk from the top each.
type root struct {
	r     *os.Root
	owner *host.Owner // of what is made; nil: ours

	mu   sync.Mutex
	dirs map[string]*kept
}

type kept struct {
	*os.Root
	opened time.Time
}

// trust is for how long a directory that was walked to is taken to be there,
// and keptOpen how many are.
const (
	trust    = 2 * time.Second
	keptOpen = 64
)

func (r *root) Path() string { return r.r.Name() }
func (r *root) Near() bool   { return true }

func (r *root) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, d := range r.dirs {
		d.Close()
	}
	clear(r.dirs)
	return r.r.Close()
}

// Write writes a file that nobody looks at yet.
func (r *root) Write(name string, perm fs.FileMode, mtime time.Time, from io.Reader) (int64, error) {
	f, err := r.begin(name, perm)
	if err != nil {
		return 0, err
	}
	n, err := io.CopyBuffer(struct{ io.Writer }{f}, from, make([]byte, 1<<17))
	return n, finish(f, perm, mtime, err)
}

// duplicated is how many bytes the kernel copies at once.
const duplicated = 16 << 20

// Duplicate has the kernel copy a file of this machine.
func (r *root) Duplicate(name string, perm fs.FileMode, mtime time.Time, from host.File, tell func(int64) error) (
	n int64, err error,
) {
	in, ours := from.(*os.File)
	if !ours {
		return 0, errors.ErrUnsupported
	}
	f, err := r.begin(name, perm)
	if err != nil {
		return 0, err
	}
	for part := int64(duplicated); err == nil && part == duplicated; n += part {
		if part, err = io.CopyN(f, in, duplicated); errors.Is(err, io.EOF) {
			err = nil
		}
		if err == nil {
			err = tell(part)
		}
	}
	return n, finish(f, perm, mtime, err)
}

// begin makes a file, in place of one of an earlier try.
func (r *root) begin(name string, perm fs.FileMode) (*os.File, error) {
	c, err := host.Clean(name)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	d, err := r.dir(path.Dir(c))
	if err != nil {
		return nil, escapes(err)
	}
	base := path.Base(c)
	f, err := d.OpenFile(base, os.O_WRONLY|os.O_CREATE|os.O_EXCL, perm.Perm()|0o200)
	if errors.Is(err, fs.ErrExist) {
		if err = d.Remove(base); err == nil {
			f, err = d.OpenFile(base, os.O_WRONLY|os.O_CREATE|os.O_EXCL, perm.Perm()|0o200)
		}
	}
	if err != nil {
		return nil, escapes(err)
	}
	if err := r.give(f); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// give gives an open file that we have just made to the owner of all.
func (r *root) give(f *os.File) error {
	if r.owner == nil {
		return nil
	}
	return f.Chown(r.owner.User, r.owner.Group)
}

// giveAt gives a folder or a link that we have just made to the owner of all.
func (r *root) giveAt(name string, err error) error {
	if err != nil || r.owner == nil {
		return escapes(err)
	}
	return r.Chown(name, *r.owner)
}

// finish closes a file that was written, with its mode and its time, unless that failed.
func finish(f *os.File, perm fs.FileMode, mtime time.Time, err error) error {
	if fi, serr := f.Stat(); err == nil && (serr != nil || fi.Mode().Perm() != perm.Perm()) {
		err = errors.Join(serr, f.Chmod(perm.Perm()))
	}
	if err == nil && !mtime.IsZero() {
		at := unix.NsecToTimeval(mtime.UnixNano())
		err = unix.Futimes(int(f.Fd()), []unix.Timeval{at, at})
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	return err
}

// dir opens a directory, or gives it as it was opened a moment ago; the root is
// locked.
func (r *root) dir(name string) (*os.Root, error) {
	if name == "." {
		return r.r, nil
	}
	if d := r.dirs[name]; d != nil {
		if time.Since(d.opened) < trust {
			return d.Root, nil
		}
		d.Close()
		delete(r.dirs, name)
	}
	if len(r.dirs) >= keptOpen {
		for n, d := range r.dirs {
			d.Close()
			delete(r.dirs, n)
		}
	}
	d, err := r.r.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	r.dirs[name] = &kept{d, time.Now()}
	return d, nil
}

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
	c, err := host.Clean(name)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	d, err := r.dir(path.Dir(c))
	if err != nil {
		return nil, escapes(err)
	}
	f, err := d.OpenFile(path.Base(c), os.O_RDONLY|unix.O_NONBLOCK, 0) // a pipe must not make us wait
	if err != nil && d != r.r {
		f, err = r.r.OpenFile(c, os.O_RDONLY|unix.O_NONBLOCK, 0) // a link may lead up and stay inside
	}
	if err != nil {
		return nil, escapes(err)
	}
	return f, nil
}

func (r *root) Create(name string, perm fs.FileMode) (io.WriteCloser, error) {
	f, err := r.r.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, perm.Perm())
	if err != nil {
		return nil, escapes(err)
	}
	if err := r.give(f); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

func (r *root) Mkdir(name string, perm fs.FileMode) error {
	return r.giveAt(name, r.r.Mkdir(name, perm.Perm()))
}

func (r *root) Readlink(name string) (string, error) {
	s, err := r.r.Readlink(name)
	return s, escapes(err)
}

func (r *root) Symlink(target, name string) error {
	if !host.LinkInside(r.Path(), name, target) {
		return fmt.Errorf("linking %s to %s: %w", name, target, host.ErrEscapes)
	}
	return r.giveAt(name, r.r.Symlink(target, name))
}

func (r *root) Rename(from, to string) error { return escapes(r.r.Rename(from, to)) }
func (r *root) Remove(name string) error     { return escapes(r.r.Remove(name)) }
func (r *root) RemoveAll(name string) error  { return escapes(r.r.RemoveAll(name)) }

func (r *root) Chmod(name string, perm fs.FileMode) error {
	return escapes(r.r.Chmod(name, perm&(fs.ModePerm|fs.ModeSetuid|fs.ModeSetgid|fs.ModeSticky)))
}

// Link gives a file a hard link.
func (r *root) Link(from, to string) error { return escapes(r.r.Link(from, to)) }

// Chown gives a file, or a link itself, to another account.
func (r *root) Chown(name string, o host.Owner) error {
	if err := r.r.Lchown(name, o.User, o.Group); err != nil {
		return escapes(err)
	}
	if name == "." {
		r.owner = owner(r.r)
	}
	return nil
}

func (r *root) Chtimes(name string, mtime time.Time) error {
	return escapes(r.r.Chtimes(name, mtime, mtime))
}
