// Package pointhost shows a restore point as a site on a host of its own, which can
// only be read: what reads sites reads points.
package pointhost

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"strings"
	"time"

	"alibi/internal/depot"
	"alibi/internal/host"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// Prefix begins the names of such hosts; the point's follows.
const Prefix = plan.PointHost

// Name is that of the host of a point.
func Name(id string) string { return Prefix + id }

// ErrReadOnly is given for whatever would change a point.
var ErrReadOnly = errors.New("a restore point can't be changed")

// Host has the site of one restore point.
type Host struct {
	d     *depot.Depot
	p     depot.Point
	files map[string]*depot.File // by path; "." is the site's folder
	below map[string][]string    // names in a folder, sorted
}

// Open reads what a point holds.
func Open(ctx context.Context, d *depot.Depot, id string) (*Host, error) {
	p, err := d.Point(ctx, id)
	if err != nil {
		return nil, err
	}
	list, err := d.Files(ctx, p)
	if err != nil {
		return nil, err
	}
	h := &Host{d: d, p: p, files: map[string]*depot.File{}, below: map[string][]string{}}
	root := depot.File{}
	root.Path, root.Mode, root.MTime = ".", fs.ModeDir|0o755, p.Taken
	h.files["."] = &root
	for i := range list {
		f := &list[i]
		h.files[f.Path] = f
		dir := path.Dir(f.Path)
		h.below[dir] = append(h.below[dir], f.Path)
	}
	return h, nil
}

// Point is the one that it shows.
func (h *Host) Point() depot.Point { return h.p }

// Rows is how many rows the point has of a table.
func (h *Host) Rows(table string) int64 {
	for _, k := range h.p.Tables {
		if k.Name == table {
			return k.Rows
		}
	}
	return 0
}

// Hash is the digest of a file of the point; zero where it has no such file.
func (h *Host) Hash(name string) tree.Hash {
	if f := h.files[name]; f != nil {
		return f.Hash
	}
	return tree.Hash{}
}

func (h *Host) Name() string { return Name(h.p.ID) }
func (h *Host) Close() error { return nil }

// Open gives the site's folder.
func (h *Host) Open(_ context.Context, dir string) (host.Tree, error) {
	if path.Clean(dir) != path.Clean(h.p.Site.Root) {
		return nil, fmt.Errorf("%s in the %s: %w", dir, h.Name(), fs.ErrNotExist)
	}
	return root{h}, nil
}

func (h *Host) refuse(what string) error {
	return fmt.Errorf("%s in the %s: %w", what, h.Name(), ErrReadOnly)
}

// Write refuses.
func (h *Host) Write(context.Context, string) (host.Root, error) {
	return nil, h.refuse("writing to a folder")
}

// Make refuses.
func (h *Host) Make(context.Context, string) (host.Root, error) {
	return nil, h.refuse("making a folder")
}

// Free is not known.
func (h *Host) Free(context.Context, string) (int64, error) { return 0, nil }

// Command refuses.
func (h *Host) Command(context.Context, string, ...string) ([]byte, error) {
	return nil, host.ErrNoCommands
}

// Pipe refuses.
func (h *Host) Pipe(context.Context, io.Reader, io.Writer, string, ...string) error {
	return host.ErrNoCommands
}

// Dial refuses.
func (h *Host) Dial(context.Context, string, string) (net.Conn, error) {
	return nil, host.ErrNoForward
}

// Database gives the point's rows.
func (h *Host) Database(_ context.Context, db site.Database) (tables.Database, error) {
	if len(h.p.Schema) == 0 {
		return nil, fmt.Errorf("the %s has no tables: %w", h.Name(), tables.ErrRefused)
	}
	return &database{h}, nil
}

var (
	_ host.Tree       = root{}
	_ host.Attributed = root{}
	_ host.Arranged   = root{}
)

// root is the site's folder.
type root struct{ h *Host }

func (r root) Path() string { return r.h.p.Site.Root }
func (r root) Close() error { return nil }

func (r root) find(name string) (*depot.File, error) {
	c, err := host.Clean(name)
	if err != nil {
		return nil, err
	}
	f, ok := r.h.files[c]
	if !ok {
		return nil, fmt.Errorf("%s in the %s: %w", name, r.h.Name(), fs.ErrNotExist)
	}
	return f, nil
}

func (r root) Lstat(name string) (fs.FileInfo, error) {
	f, err := r.find(name)
	if err != nil {
		return nil, err
	}
	return info{f}, nil
}

func (r root) ReadDir(name string) ([]fs.FileInfo, error) {
	f, err := r.find(name)
	if err != nil {
		return nil, err
	}
	if !f.Mode.IsDir() {
		return nil, fmt.Errorf("%s is no folder", name)
	}
	var out []fs.FileInfo
	for _, n := range r.h.below[f.Path] {
		out = append(out, info{r.h.files[n]})
	}
	return out, nil
}

// Open opens a regular file. Links stay links: what they lead to is there too.
func (r root) Open(name string) (host.File, error) {
	f, err := r.find(name)
	if err != nil {
		return nil, err
	}
	if !f.Regular() {
		return nil, fmt.Errorf("%s in the %s is no file: %w", name, r.h.Name(), fs.ErrInvalid)
	}
	return &file{h: r.h, f: f, r: r.h.bytes(f)}, nil
}

func (r root) Readlink(name string) (string, error) {
	f, err := r.find(name)
	if err != nil {
		return "", err
	}
	if f.Link == "" {
		return "", fmt.Errorf("%s is no link: %w", name, fs.ErrInvalid)
	}
	return f.Link, nil
}

// Attrs gives a file's extended attributes, as they were kept.
func (r root) Attrs(name string) (host.Attrs, error) {
	f, err := r.find(name)
	if err != nil {
		return nil, err
	}
	return f.Attrs, nil
}

// Arrange orders files by where they lie in the depot, so that what was packed together is unpacked once.
func (r root) Arrange(ctx context.Context, names []string) ([]int64, error) {
	out := make([]int64, len(names))
	for i, n := range names {
		f, ok := r.h.files[n]
		if !ok || len(f.Chunks) == 0 {
			continue
		}
		var err error
		if out[i], err = r.h.d.Place(ctx, f.Chunks[0]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

type info struct{ f *depot.File }

func (i info) Name() string       { return path.Base(i.f.Path) }
func (i info) Size() int64        { return i.f.Size }
func (i info) Mode() fs.FileMode  { return i.f.Mode }
func (i info) ModTime() time.Time { return i.f.MTime }
func (i info) IsDir() bool        { return i.f.Mode.IsDir() }
func (i info) Sys() any           { return i.f.Owner }

// file is one that is being read.
type file struct {
	h *Host
	f *depot.File
	r io.Reader
}

func (h *Host) bytes(f *depot.File) io.Reader { return h.d.Bytes(context.Background(), f.Chunks) }

func (f *file) Stat() (fs.FileInfo, error) { return info{f.f}, nil }
func (f *file) Close() error               { return nil }

func (f *file) Read(p []byte) (int, error) {
	n, err := f.r.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		err = fmt.Errorf("%s in the %s: %w", f.f.Path, f.h.Name(), err)
	}
	return n, err
}

// ReadAt reads from the beginning on: only small files are read so.
func (f *file) ReadAt(p []byte, off int64) (int, error) {
	whole, err := io.ReadAll(f.h.bytes(f.f))
	if err != nil {
		return 0, err
	}
	return bytes.NewReader(whole).ReadAt(p, off)
}

// IsHost tells whether a host's name is that of a point, and which.
func IsHost(name string) (id string, ok bool) { return strings.CutPrefix(name, Prefix) }
