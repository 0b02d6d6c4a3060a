package ssh

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"

	"alibi/internal/host"
)

var (
	_ host.Root    = (*root)(nil)
	_ host.Sender  = (*root)(nil)
	_ host.Taker   = (*root)(nil)
	_ host.Sibling = (*root)(nil)
	_ host.Bounded = (*root)(nil)
	_ host.Linker  = (*root)(nil)
	_ host.Owning  = (*root)(nil)

	_ host.Attributed    = (*root)(nil)
	_ host.Attributing   = (*root)(nil)
	_ host.AllAttributed = (*root)(nil)
)

// root keeps to its directory over a protocol that knows no such thing. Each
// name's directory is resolved by the server and must lie below the root; the
// last part is never followed when writing, and a file that was opened must be
// the one that was looked at. New files are made exclusively and their
// directory is resolved again before anything is written to them.
type root struct {
	h    *Host
	c    *sftp.Client
	path string

	mu   sync.Mutex
	dirs map[string]time.Time // directories seen to be inside, and when
}

// trust is for how long a directory that was seen to be inside is taken to be.
const trust = 2 * time.Second

func (r *root) Path() string { return r.path }
func (r *root) Close() error { return nil } // the connection is the host's

func (r *root) inside(real string) bool {
	return real == r.path || r.path == "/" || strings.HasPrefix(real, r.path+"/")
}

// at gives the absolute path of name with its directory known to be inside.
func (r *root) at(name string) (string, error) {
	c, err := host.Clean(name)
	if err != nil {
		return "", err
	}
	abs := path.Join(r.path, c)
	if c == "." {
		return abs, nil
	}
	return abs, r.checkDir(path.Dir(abs), false)
}

func (r *root) checkDir(dir string, anew bool) error {
	if dir == r.path {
		return nil
	}
	r.mu.Lock()
	seen := r.dirs[dir]
	r.mu.Unlock()
	if !anew && time.Since(seen) < trust {
		return nil
	}
	real, err := r.c.RealPath(dir)
	if err != nil {
		return fmt.Errorf("resolving %s: %w", dir, err)
	}
	if !r.inside(real) {
		return fmt.Errorf("%s is %s: %w", dir, real, host.ErrEscapes)
	}
	r.mu.Lock()
	r.dirs[dir] = time.Now()
	r.mu.Unlock()
	return nil
}

func (r *root) Lstat(name string) (fs.FileInfo, error) {
	p, err := r.at(name)
	if err != nil {
		return nil, err
	}
	fi, err := r.c.Lstat(p)
	return owned{fi}, err
}

func (r *root) ReadDir(name string) ([]fs.FileInfo, error) {
	p, err := r.at(name)
	if err != nil {
		return nil, err
	}
	if err := r.checkDir(p, false); err != nil {
		return nil, err
	}
	infos, err := r.c.ReadDir(p)
	if err != nil {
		return nil, fmt.Errorf("reading folder %s: %w", name, err)
	}
	infos = slices.DeleteFunc(infos, func(fi fs.FileInfo) bool {
		n := fi.Name() // a server may say what it likes
		return n == "" || n == "." || n == ".." || strings.ContainsAny(n, "/\x00")
	})
	for i := range infos {
		infos[i] = owned{infos[i]}
	}
	slices.SortFunc(infos, func(a, b fs.FileInfo) int { return strings.Compare(a.Name(), b.Name()) })
	return slices.CompactFunc(infos, func(a, b fs.FileInfo) bool { return a.Name() == b.Name() }), nil
}

func (r *root) Open(name string) (host.File, error) {
	p, err := r.at(name)
	if err != nil {
		return nil, err
	}
	fi, err := r.c.Lstat(p)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	if fi.Mode()&fs.ModeSymlink != 0 {
		real, err := r.c.RealPath(p)
		if err != nil {
			return nil, &fs.PathError{Op: "open", Path: name, Err: err}
		}
		if !r.inside(real) {
			return nil, fmt.Errorf("%s is %s: %w", name, real, host.ErrEscapes)
		}
		if fi, err = r.c.Lstat(real); err != nil {
			return nil, &fs.PathError{Op: "open", Path: name, Err: err}
		}
		p = real
	}
	f, err := r.c.Open(p)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	got, err := f.Stat()
	if err == nil && got.Mode().Type() != fi.Mode().Type() {
		err = fmt.Errorf("%s was exchanged while it was opened: %w", name, host.ErrEscapes)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (r *root) Create(name string, perm fs.FileMode) (io.WriteCloser, error) {
	p, err := r.at(name)
	if err != nil {
		return nil, err
	}
	if _, err := r.c.Lstat(p); err == nil { // servers of protocol 3 have no word for "exists"
		return nil, &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
	}
	f, err := r.c.OpenFile(p, os.O_RDWR|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return nil, &fs.PathError{Op: "create", Path: name, Err: err}
	}
	if err = r.checkDir(path.Dir(p), true); err == nil {
		err = f.Chmod(perm.Perm())
	}
	if err != nil {
		f.Close()
		_ = r.c.Remove(p)
		return nil, err
	}
	return f, nil
}

func (r *root) Mkdir(name string, perm fs.FileMode) error {
	p, err := r.at(name)
	if err != nil {
		return err
	}
	if err := r.c.Mkdir(p); err != nil {
		if _, lerr := r.c.Lstat(p); lerr == nil {
			err = fs.ErrExist
		}
		return &fs.PathError{Op: "mkdir", Path: name, Err: err}
	}
	return r.c.Chmod(p, perm.Perm())
}

func (r *root) Readlink(name string) (string, error) {
	p, err := r.at(name)
	if err != nil {
		return "", err
	}
	return r.c.ReadLink(p)
}

func (r *root) Symlink(target, name string) error {
	p, err := r.at(name)
	if err != nil {
		return err
	}
	if !host.LinkInside(r.path, name, target) {
		return fmt.Errorf("linking %s to %s: %w", name, target, host.ErrEscapes)
	}
	return r.c.Symlink(target, p)
}

// move gives the absolute paths of two names, with their directories known to
// be inside; the second's is looked at anew.
func (r *root) move(from, to string) (a, b string, err error) {
	if a, err = r.at(from); err != nil {
		return
	}
	if b, err = r.at(to); err != nil {
		return
	}
	return a, b, r.checkDir(path.Dir(b), true)
}

func (r *root) Rename(from, to string) error {
	a, b, err := r.move(from, to)
	if err != nil {
		return err
	}
	if _, ok := r.c.HasExtension("posix-rename@openssh.com"); ok {
		return r.c.PosixRename(a, b)
	}
	return r.c.Rename(a, b)
}

func (r *root) Remove(name string) error {
	p, err := r.at(name)
	if err != nil {
		return err
	}
	fi, err := r.c.Lstat(p)
	if err != nil {
		return err
	}
	if fi.IsDir() {
		return r.c.RemoveDirectory(p)
	}
	return r.c.Remove(p)
}

func (r *root) RemoveAll(name string) error { return host.RemoveAll(r, name) }

// noLink refuses a name that is a link: its attributes are another file's.
func (r *root) noLink(name string) (string, error) {
	p, err := r.at(name)
	if err != nil {
		return "", err
	}
	fi, err := r.c.Lstat(p)
	if err != nil {
		return "", err
	}
	if fi.Mode()&fs.ModeSymlink != 0 {
		return "", fmt.Errorf("%s is a link: %w", name, host.ErrEscapes)
	}
	return p, nil
}

func (r *root) Chmod(name string, perm fs.FileMode) error {
	p, err := r.noLink(name)
	if err != nil {
		return err
	}
	return r.c.Chmod(p, perm&(fs.ModePerm|fs.ModeSetuid|fs.ModeSetgid|fs.ModeSticky))
}

func (r *root) Chtimes(name string, mtime time.Time) error {
	p, err := r.noLink(name)
	if err != nil {
		return err
	}
	return r.c.Chtimes(p, mtime, mtime)
}
