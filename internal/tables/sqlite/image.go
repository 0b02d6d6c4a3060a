// Package sqlite is the tables engine for SQLite 3 database files
// (https://www.sqlite.org/fileformat2.html), on any host.
//
// A snapshot is a private image of the file and its write-ahead log. No lock is
// taken and the site's folder is never written to: the files are read, and read
// again if anything about them changed meanwhile. The image is then opened with
// SQLite itself, which recovers the log and checks the pages.
package sqlite

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"alibi/internal/host"
	"alibi/internal/tables"
)

var magic = []byte("SQLite format 3\x00")

// File is a database file under a host's root.
type File struct {
	root host.Tree
	name string
	temp string // where images go
}

// Open describes the database file name under root; nothing is read yet.
// Images are made in the folder temp.
func Open(root host.Tree, name, temp string) *File { return &File{root, name, temp} }

// Is tells whether the file under root is an SQLite database, by its first bytes.
func Is(root host.Tree, name string) bool {
	lock := lockOf(filepath.Join(root.Path(), name))
	lock.RLock()
	defer lock.RUnlock()
	f, err := root.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, len(magic))
	_, err = io.ReadFull(f, head)
	return err == nil && bytes.Equal(head, magic)
}

// Stamp is made of the sizes and times of the file and its logs and the
// change counter in its header.
func (f *File) Stamp(ctx context.Context) (string, error) {
	lock := f.lock()
	lock.RLock()
	defer lock.RUnlock()
	return f.stamp(ctx)
}

// lock keeps ourselves from opening the file while we change it.
func (f *File) lock() *sync.RWMutex { return lockOf(filepath.Join(f.root.Path(), f.name)) }

func (f *File) stamp(ctx context.Context) (string, error) {
	if err := ctx.Err(); err != nil {
		return "", err
	}
	var counter uint32
	file, err := f.root.Open(f.name)
	if err != nil {
		return "", f.refused(err)
	}
	defer file.Close()
	head := make([]byte, 100)
	n, err := file.ReadAt(head, 0)
	switch {
	case n == 0 && errors.Is(err, io.EOF): // empty is a database without tables
	case n < 100:
		return "", fmt.Errorf("%s is too short for a database: %w", f.name, tables.ErrRefused)
	case !bytes.Equal(head[:16], magic):
		return "", fmt.Errorf("%s is not an SQLite database, or is encrypted: %w", f.name, tables.ErrRefused)
	default:
		counter = binary.BigEndian.Uint32(head[24:])
	}
	stamp := fmt.Sprint(counter)
	for _, suffix := range []string{"", "-wal", "-journal"} {
		fi, err := f.root.Lstat(f.name + suffix)
		if err != nil {
			stamp += " -"
			continue
		}
		stamp += fmt.Sprintf(" %d@%d", fi.Size(), fi.ModTime().UnixNano())
	}
	return stamp, nil
}

func (f *File) refused(err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("the database file %s is not there: %w", f.name, err)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("the database file %s may not be read by us: %w", f.name, tables.ErrRefused)
	}
	return fmt.Errorf("reading the database file %s: %w", f.name, err)
}

// tries is how often an image is begun again because the site wrote meanwhile.
const tries = 8

// Snapshot makes an image and opens it.
func (f *File) Snapshot(ctx context.Context) (tables.Snapshot, error) {
	dir, err := os.MkdirTemp(f.temp, "image-")
	if err != nil {
		return nil, fmt.Errorf("making room for a snapshot: %w", err)
	}
	s, err := f.snapshot(ctx, dir)
	if err != nil {
		os.RemoveAll(dir)
		return nil, err
	}
	return s, nil
}

func (f *File) snapshot(ctx context.Context, dir string) (*snapshot, error) {
	image := filepath.Join(dir, "image.db")
	for try := range tries {
		if try > 0 {
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-time.After(time.Duration(try*try) * 20 * time.Millisecond):
			}
		}
		steady, err := f.image(ctx, image)
		if err != nil {
			return nil, err
		}
		if steady {
			return openImage(ctx, dir, image)
		}
	}
	return nil, fmt.Errorf("%s changed each of the %d times it was read: %w; try at a quieter hour", f.name, tries,
		tables.ErrBusy)
}

// image copies the file and its log and tells whether they stayed as they were.
func (f *File) image(ctx context.Context, to string) (bool, error) {
	lock := f.lock()
	lock.RLock()
	defer lock.RUnlock()
	before, err := f.stamp(ctx)
	if err != nil {
		return false, err
	}
	if f.hot() {
		return false, nil
	}
	for _, suffix := range []string{"", "-wal"} {
		if err := f.fetch(ctx, suffix, to+suffix); err != nil {
			return false, err
		}
	}
	after, err := f.stamp(ctx)
	return before == after, err
}

// hot tells whether a rollback journal says that a writer is at work.
func (f *File) hot() bool {
	j, err := f.root.Open(f.name + "-journal")
	if err != nil {
		return false
	}
	defer j.Close()
	head := make([]byte, 8)
	n, _ := j.ReadAt(head, 0)
	return n == 8 && !bytes.Equal(head, make([]byte, 8))
}

func (f *File) fetch(ctx context.Context, suffix, to string) error {
	os.Remove(to)
	in, err := f.root.Open(f.name + suffix)
	if errors.Is(err, fs.ErrNotExist) && suffix != "" {
		return nil
	}
	if err != nil {
		return f.refused(err)
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	stop := context.AfterFunc(ctx, func() { in.Close() })
	defer stop()
	if _, err = io.Copy(out, in); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("reading the database file %s: %w", f.name, err)
	}
	return out.Close()
}

// Exec runs one statement on the file itself, which must be on this machine.
func (f *File) Exec(ctx context.Context, sql string, args ...any) error {
	lock := f.lock()
	lock.Lock()
	defer lock.Unlock()
	db, err := connect(filepath.Join(f.root.Path(), f.name), "rw", "busy_timeout(5000)")
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, sql, args...); err != nil {
		return fmt.Errorf("writing to %s: %w", f.name, err)
	}
	return nil
}

// Query runs a statement: on the file itself if it may write, which must then be
// on this machine, else on a private image of it.
func (f *File) Query(
	ctx context.Context,
	statement string,
	write bool,
	give func([]string, []tables.Value) error,
) (int64, error) {
	if write && tables.OnlyReads(statement) != nil {
		lock := f.lock()
		lock.Lock()
		defer lock.Unlock()
		db, err := connect(filepath.Join(f.root.Path(), f.name), "rw", "busy_timeout(5000)")
		if err != nil {
			return 0, err
		}
		defer db.Close()
		r, err := db.ExecContext(ctx, statement)
		if err != nil {
			return 0, err
		}
		return r.RowsAffected()
	}
	if err := tables.OnlyReads(statement); err != nil {
		return 0, err
	}
	snap, err := f.Snapshot(ctx)
	if err != nil {
		return 0, err
	}
	defer snap.Close()
	c, err := snap.(*snapshot).db.Conn(ctx)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	if _, err := c.ExecContext(ctx, "PRAGMA query_only(1)"); err != nil {
		return 0, err
	}
	rows, err := c.QueryContext(ctx, statement)
	if err != nil {
		return 0, err
	}
	return 0, tables.Results(rows, give)
}
