package web

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"alibi/internal/host"
)

var (
	_ host.Root    = (*root)(nil)
	_ host.Bounded = (*root)(nil)
	_ host.Writer  = (*root)(nil)
)

// root is a folder. That nothing leads out of it is seen to by the relay.
type root struct {
	h    *Host
	path string
}

func (r *root) Path() string { return r.path }
func (r *root) Close() error { return nil } // the relay is the host's

// AtOnce keeps to what a site's own PHP does beside its visitors.
func (r *root) AtOnce(usual int) int { return min(usual, 3) }

// Patience is not needed: the host's load is not known.
func (r *root) Patience(context.Context) error { return nil }

// ask asks for something of a name below.
func (r *root) ask(give func(row []string) error, what, name string, more ...string) error {
	c, err := host.Clean(name)
	if err != nil {
		return err
	}
	return r.h.ask(context.Background(), give, append([]string{what, r.path, c}, more...)...)
}

// info is what there is to know of a file.
type info struct {
	name   string
	size   int64
	mode   fs.FileMode
	mtime  time.Time
	owner  host.Owner
	target string // of a link
}

func (i *info) Name() string       { return i.name }
func (i *info) Size() int64        { return i.size }
func (i *info) Mode() fs.FileMode  { return i.mode }
func (i *info) ModTime() time.Time { return i.mtime }
func (i *info) IsDir() bool        { return i.mode.IsDir() }

// Sys gives the owner, as host.OwnerOf asks for it.
func (i *info) Sys() any { return &i.owner }

// read takes what the relay says of a file.
func read(row []string) (*info, error) {
	if len(row) != 7 {
		return nil, errors.New("the relay says something else of a file than it should")
	}
	var n [6]int64
	for i, text := range row[1:6] {
		var err error
		if n[i+1], err = strconv.ParseInt(text, 10, 64); err != nil {
			return nil, err
		}
	}
	return &info{name: row[0], size: n[2], mode: mode(uint32(n[1])), mtime: time.Unix(n[3], 0),
		owner: host.Owner{User: int(n[4]), Group: int(n[5])}, target: row[6]}, nil
}

// kinds are the kinds of files of stat(2).
var kinds = map[uint32]fs.FileMode{0o040000: fs.ModeDir, 0o120000: fs.ModeSymlink, 0o060000: fs.ModeDevice,
	0o020000: fs.ModeDevice | fs.ModeCharDevice, 0o010000: fs.ModeNamedPipe, 0o140000: fs.ModeSocket}

// bits are those of modes beside what everybody may.
var bits = map[uint32]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky}

func mode(st uint32) fs.FileMode {
	m := kinds[st&0o170000] | fs.FileMode(st&0o777)
	for bit, is := range bits {
		if st&bit != 0 {
			m |= is
		}
	}
	return m
}

// number is a mode as chmod(2) takes it.
func number(m fs.FileMode) string {
	n := uint32(m.Perm())
	for bit, is := range bits {
		if m&is != 0 {
			n |= bit
		}
	}
	return strconv.FormatUint(uint64(n), 10)
}

func (r *root) about(name string) (i *info, err error) {
	err = r.ask(func(row []string) (err error) {
		i, err = read(row)
		return err
	}, "about", name)
	return i, err
}

func (r *root) Lstat(name string) (fs.FileInfo, error) {
	i, err := r.about(name)
	if err != nil {
		return nil, err
	}
	return i, nil
}

func (r *root) ReadDir(name string) (out []fs.FileInfo, err error) {
	err = r.ask(func(row []string) error {
		i, err := read(row)
		out = append(out, i)
		return err
	}, "list", name)
	slices.SortFunc(out, func(a, b fs.FileInfo) int { return strings.Compare(a.Name(), b.Name()) })
	return out, err
}

func (r *root) Readlink(name string) (string, error) {
	i, err := r.about(name)
	if err != nil {
		return "", err
	}
	if i.mode&fs.ModeSymlink == 0 {
		return "", &fs.PathError{Op: "readlink", Path: name, Err: fs.ErrInvalid}
	}
	return i.target, nil
}

// Open opens a file, and sees that it can be read.
func (r *root) Open(name string) (host.File, error) {
	f := &file{r: r, name: name}
	var err error
	if f.info, err = r.about(name); err != nil {
		return nil, err
	}
	if f.info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("it is a folder")}
	}
	if err := r.ask(nil, "read", name, "0", "0"); err != nil {
		return nil, err
	}
	return f, nil
}

// piece is how much of a file one request writes, in bytes.
const piece = 256 << 10

// file is read as one stream from where somebody begins to.
type file struct {
	r    *root
	name string
	info *info

	mu     sync.Mutex
	stream *io.PipeReader
}

func (f *file) Stat() (fs.FileInfo, error) { return f.info, nil }

// all is more than any file has, in bytes.
const all = 1 << 62

func (f *file) Read(p []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.stream == nil {
		from, to := io.Pipe()
		f.stream = from
		go func() {
			err := f.r.ask(func(row []string) error {
				_, err := io.WriteString(to, row[0])
				return err
			}, "read", f.name, "0", strconv.FormatInt(all, 10))
			_ = to.CloseWithError(err)
		}()
	}
	return f.stream.Read(p)
}

func (f *file) ReadAt(p []byte, at int64) (n int, err error) {
	err = f.r.ask(func(row []string) error {
		n += copy(p[n:], row[0])
		return nil
	}, "read", f.name, strconv.FormatInt(at, 10), strconv.Itoa(len(p)))
	if err == nil && n < len(p) {
		err = io.EOF
	}
	return n, err
}

func (f *file) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.stream != nil {
		_ = f.stream.Close()
	}
	return nil
}

// Create makes a new file.
func (r *root) Create(name string, perm fs.FileMode) (io.WriteCloser, error) {
	if err := r.ask(nil, "make", name, number(perm), "", "", "new"); err != nil {
		return nil, err
	}
	return &writing{r: r, name: name}, nil
}

// writing gathers what is written to a file into pieces.
type writing struct {
	r    *root
	name string
	at   int64
	buf  bytes.Buffer
}

func (w *writing) Write(p []byte) (int, error) {
	w.buf.Write(p)
	for w.buf.Len() >= piece {
		if err := w.send(); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

func (w *writing) send() error {
	b := w.buf.Next(piece)
	if len(b) == 0 {
		return nil
	}
	err := w.r.ask(nil, "more", w.name, strconv.FormatInt(w.at, 10), string(b))
	w.at += int64(len(b))
	return err
}

func (w *writing) Close() error { return w.send() }

// Write writes a file in one go.
func (r *root) Write(name string, perm fs.FileMode, mtime time.Time, from io.Reader) (int64, error) {
	first := make([]byte, piece)
	n, err := io.ReadFull(from, first)
	more := err == nil
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return 0, err
	}
	when := ""
	if !mtime.IsZero() && !more {
		when = strconv.FormatInt(mtime.Unix(), 10)
	}
	if err := r.ask(nil, "make", name, number(perm|0o200), string(first[:n]), when, "over"); err != nil {
		return 0, err
	}
	w := &writing{r: r, name: name, at: int64(n)}
	if more {
		if _, err := io.Copy(w, from); err != nil {
			return w.at, err
		}
		if err := w.Close(); err != nil {
			return w.at, err
		}
		if !mtime.IsZero() {
			if err := r.Chtimes(name, mtime); err != nil {
				return w.at, err
			}
		}
	}
	if perm&0o200 == 0 {
		return w.at, r.Chmod(name, perm)
	}
	return w.at, nil
}

func (r *root) Mkdir(name string, perm fs.FileMode) error {
	return r.ask(nil, "mkdir", name, number(perm))
}

// Symlink makes a link that stays inside.
func (r *root) Symlink(target, name string) error {
	if !host.LinkInside(r.path, name, target) {
		return fmt.Errorf("linking %s to %s: %w", name, target, host.ErrEscapes)
	}
	return r.ask(nil, "symlink", name, target)
}

func (r *root) Rename(from, to string) error {
	c, err := host.Clean(to)
	if err != nil {
		return err
	}
	return r.ask(nil, "rename", from, c)
}

func (r *root) Remove(name string) error    { return r.ask(nil, "remove", name) }
func (r *root) RemoveAll(name string) error { return r.ask(nil, "all", name) }

func (r *root) Chmod(name string, perm fs.FileMode) error {
	return r.ask(nil, "mode", name, number(perm))
}

// Chtimes sets a time, to the second.
func (r *root) Chtimes(name string, mtime time.Time) error {
	return r.ask(nil, "time", name, strconv.FormatInt(mtime.Unix(), 10))
}
