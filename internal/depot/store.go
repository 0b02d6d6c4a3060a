package depot

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// Store is where a depot's files are: a folder, or a bucket. Names are slash
// paths. A file is there whole or not at all; only a proof is ever replaced.
type Store interface {
	// Put writes a file and makes it last.
	Put(ctx context.Context, name string, data []byte) error
	// Get reads n bytes from at on; n < 0 reads to the end. What is not there is
	// fs.ErrNotExist.
	Get(ctx context.Context, name string, at, n int64) ([]byte, error)
	// List gives the files whose names begin with prefix, and their sizes.
	List(ctx context.Context, prefix string) ([]Stored, error)
	Remove(ctx context.Context, name string) error
	// Lock keeps others from removing anything, or, alone, from doing anything at
	// all, until the function is called or the process ends. It waits for nobody:
	// ErrBusy.
	Lock(ctx context.Context, alone bool) (unlock func(), err error)
}

// Stored is a file of a store.
type Stored struct {
	Name string
	Size int64
}

// ErrBusy is given where somebody else is at work on the depot.
var ErrBusy = errors.New("the depot is in use by another run; wait for it")

// Folder is a store in a folder of this machine.
type Folder string

func (f Folder) at(name string) string { return filepath.Join(string(f), filepath.FromSlash(name)) }

// partial ends the names of files that are being written.
const partial = ".part"

// Put writes to a file beside it and renames that.
func (f Folder) Put(_ context.Context, name string, data []byte) error {
	to := f.at(name)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return fmt.Errorf("writing to the depot: %w", err)
	}
	t, err := os.CreateTemp(filepath.Dir(to), "*"+partial)
	if err != nil {
		return fmt.Errorf("writing to the depot: %w", err)
	}
	defer os.Remove(t.Name())
	_, err = io.Copy(t, bytes.NewReader(data))
	if err == nil {
		err = t.Sync()
	}
	if cerr := t.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(t.Name(), to)
	}
	if err == nil {
		err = syncFolder(filepath.Dir(to))
	}
	if err != nil {
		return fmt.Errorf("writing to the depot: %w", err)
	}
	return nil
}

// syncFolder makes the names in a folder last.
func syncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Get reads a part of a file.
func (f Folder) Get(_ context.Context, name string, at, n int64) ([]byte, error) {
	in, err := os.Open(f.at(name))
	if err != nil {
		return nil, fmt.Errorf("reading the depot: %w", err)
	}
	defer in.Close()
	if n < 0 {
		fi, err := in.Stat()
		if err != nil {
			return nil, fmt.Errorf("reading the depot: %w", err)
		}
		n = max(0, fi.Size()-at)
	}
	out := make([]byte, n)
	if _, err := in.ReadAt(out, at); err != nil {
		return nil, fmt.Errorf("reading the depot: %s: %w", name, err)
	}
	return out, nil
}

// List walks the folder.
func (f Folder) List(_ context.Context, prefix string) (out []Stored, err error) {
	err = filepath.WalkDir(f.at(path.Dir(prefix+"x")), func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		rel, err := filepath.Rel(string(f), p)
		if name := filepath.ToSlash(rel); err == nil && !d.IsDir() && strings.HasPrefix(name, prefix) &&
			!strings.HasSuffix(name, partial) {
			fi, err := d.Info()
			if err != nil {
				return nil // it went away
			}
			out = append(out, Stored{name, fi.Size()})
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("listing the depot: %w", err)
	}
	return out, nil
}

// Remove removes a file; one that is not there is removed already.
func (f Folder) Remove(_ context.Context, name string) error {
	if err := os.Remove(f.at(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("removing from the depot: %w", err)
	}
	return nil
}

// Lock holds a lock of the system, which ends with the process.
func (f Folder) Lock(_ context.Context, alone bool) (func(), error) {
	if err := os.MkdirAll(string(f), 0o700); err != nil {
		return nil, fmt.Errorf("opening the depot: %w", err)
	}
	file, err := os.OpenFile(f.at("lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the depot: %w", err)
	}
	how := unix.LOCK_SH
	if alone {
		how = unix.LOCK_EX
	}
	if err := unix.Flock(int(file.Fd()), how|unix.LOCK_NB); err != nil {
		file.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			return nil, ErrBusy
		}
		return nil, fmt.Errorf("opening the depot: %w", err)
	}
	return func() { file.Close() }, nil
}
