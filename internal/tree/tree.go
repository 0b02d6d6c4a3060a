// Package tree works on file trees: it lists them, digests them, copies them
// between hosts and compares them.
//
// Links are copied as links, and only if they stay inside the tree; a link
// that leads out, a device, a pipe or a folder that may not be read is a
// Problem, listed and never followed.
package tree

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"alibi/internal/host"
)

// Entry is one thing in a tree. Paths are slash paths below its root.
type Entry struct {
	Path  string      `json:"path"`
	Mode  fs.FileMode `json:"mode"`
	Size  int64       `json:"size"` // of regular files
	MTime time.Time   `json:"mtime"`
	Link  string      `json:"link,omitempty"` // target of a symbolic link
	Hash  Hash        `json:"hash"`           // of a regular file's bytes, where it was computed

	Owner *host.Owner `json:"owner,omitempty"` // nil: not known
	// Changed is when bytes, mode or owner were changed last, whatever MTime says; zero: not known.
	Changed time.Time  `json:"changed,omitzero"`
	Attrs   host.Attrs `json:"attrs,omitempty"` // where they were asked for
}

// Access is who may use the entry.
func (e Entry) Access() host.Access { return host.Access{Mode: e.Mode, Owner: e.Owner, Attrs: e.Attrs} }

// SameAccess tells whether the same may use two entries: their owners, as far as
// both are known, their modes and their extended attributes. Of links only the
// owner counts.
func (e Entry) SameAccess(o Entry) bool {
	known := e.Owner != nil && o.Owner != nil
	if known && *e.Owner != *o.Owner {
		return false
	}
	if e.Mode&fs.ModeSymlink != 0 {
		return true
	}
	return e.Mode == o.Mode && (!known || e.Attrs.Equal(o.Attrs))
}

// Regular tells whether the entry is a file with bytes in it.
func (e Entry) Regular() bool { return e.Mode.IsRegular() }

// Same tells whether two entries look alike from outside: no bytes are read.
func (e Entry) Same(o Entry) bool {
	return e.Mode.Type() == o.Mode.Type() && e.Size == o.Size && e.Link == o.Link &&
		(!e.Regular() || e.MTime.Truncate(time.Second).Equal(o.MTime.Truncate(time.Second)))
}

// Untouched tells whether an entry is as it was before in the same place: it looks alike, and where
// the host tells when it was changed, that is the same.
func (e Entry) Untouched(before Entry) bool {
	return e.Same(before) && (e.Changed.IsZero() || before.Changed.IsZero() || e.Changed.Equal(before.Changed))
}

// Seen is the entry as it was when it was looked at again.
func (e Entry) Seen(fi fs.FileInfo) Entry {
	e.Mode, e.MTime, e.Changed, e.Owner = fi.Mode(), fi.ModTime(), host.ChangedOf(fi), host.OwnerOf(fi)
	e.Size = 0
	if e.Regular() {
		e.Size = fi.Size()
	}
	return e
}

// Problem is something in a tree that is not copied, and why.
type Problem struct {
	Path string `json:"path"`
	What string `json:"what"`
	Kind string `json:"kind"` // "link-out", "unreadable", "special", "gone"
}

// ErrVanish says that files vanish from a tree while it is read: what is left is
// no state of it.
var ErrVanish = errors.New("files vanish while they are read")

// Vanished tells whether so many of a tree's files were gone when they were to be
// read that it is being removed or moved, rather than used.
func Vanished(gone, of int) bool { return gone > 10 && gone > of/50 }

// Listing is a whole tree, sorted by path: folders before what is in them.
type Listing struct {
	Entries  []Entry
	Problems []Problem
	TooLarge []Entry  // files that the filter passed by for their size
	Halves   []string // files of ours which are still written, or whose writing was broken off
}

// Sweep removes the files of ours whose writing was broken off: a line was cut, or we were killed. Nobody may be
// writing there.
func (l *Listing) Sweep(root host.Root) error {
	for _, name := range l.Halves {
		if err := root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("removing %s, whose writing was broken off: %w", name, err)
		}
	}
	return nil
}

// Sweep is the same for a folder that is looked through for them.
func Sweep(ctx context.Context, root host.Root, dir string) error {
	list, err := Scan(ctx, Below(root, dir), Filter{})
	if err != nil {
		return fmt.Errorf("looking for files whose writing was broken off: %w", err)
	}
	for i, name := range list.Halves {
		list.Halves[i] = path.Join(dir, name)
	}
	return list.Sweep(root)
}

// Totals counts the files and adds up their bytes.
func (l *Listing) Totals() (files int, bytes int64) {
	for _, e := range l.Entries {
		if !e.Mode.IsDir() {
			files++
			bytes += e.Size
		}
	}
	return
}

// OnlyFiles leaves the folders out.
func OnlyFiles(entries []Entry) (out []Entry) {
	for _, e := range entries {
		if !e.Mode.IsDir() {
			out = append(out, e)
		}
	}
	return
}

// Filter says what to pass by. The zero value passes by nothing but files that
// Alibi itself is writing.
type Filter struct {
	Folders []string `json:"folders,omitempty"` // folders and files, as slash paths
	Larger  int64    `json:"larger,omitempty"`  // files of more bytes; 0: no limit
	Attrs   bool     `json:"-"`                 // extended attributes are read too
	// Whole tells which files Larger does not pass by; nil: none.
	Whole func(path string) bool `json:"-"`
}

// Omits tells whether the filter passes e by, and whether for its size.
func (f Filter) Omits(e Entry) (omit, size bool) {
	for _, p := range f.Folders {
		if e.Path == p || strings.HasPrefix(e.Path, p+"/") {
			return true, false
		}
	}
	size = f.Larger > 0 && e.Regular() && e.Size > f.Larger && (f.Whole == nil || !f.Whole(e.Path))
	return size, size
}

// readers is how many folders or files are read at once: enough to hide a
// line's delay, few enough not to be felt.
const readers = 4

// Scan lists root. Folders are read by several readers at once.
func Scan(ctx context.Context, root host.Tree, filter Filter) (*Listing, error) {
	s := scan{root: root, filter: filter, list: &Listing{}}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(host.AtOnce(readers, root))
	s.g = g
	if err := s.dir(gctx, "."); err != nil {
		_ = g.Wait()
		return nil, err
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	if filter.Attrs {
		if err := attributes(ctx, root, s.list.Entries); err != nil {
			return nil, fmt.Errorf("reading extended attributes: %w", err)
		}
	}
	slices.SortFunc(s.list.Entries, func(a, b Entry) int { return compare(a.Path, b.Path) })
	slices.SortFunc(s.list.TooLarge, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	slices.SortFunc(s.list.Problems, func(a, b Problem) int { return strings.Compare(a.Path, b.Path) })
	return s.list, nil
}

// attributes reads the extended attributes of files and folders, at once where
// the root can do that.
func attributes(ctx context.Context, root host.Tree, list []Entry) error {
	if all, ok := root.(host.AllAttributed); ok {
		found, err := all.AllAttrs(ctx)
		for i := range list {
			list[i].Attrs = found[list[i].Path]
		}
		return err
	}
	for i := range list {
		if list[i].Mode&fs.ModeSymlink != 0 {
			continue
		}
		a, err := host.AttrsOf(root, list[i].Path)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		list[i].Attrs = a
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

// compare orders paths so that a folder is directly before what is in it.
func compare(a, b string) int {
	i, n := 0, min(len(a), len(b))
	for i < n && a[i] == b[i] {
		i++
	}
	switch {
	case i == n:
		return cmp.Compare(len(a), len(b))
	case a[i] == '/':
		return -1
	case b[i] == '/':
		return 1
	}
	return cmp.Compare(a[i], b[i])
}

type scan struct {
	root   host.Tree
	filter Filter
	g      *errgroup.Group
	mu     sync.Mutex
	list   *Listing
}

func (s *scan) dir(ctx context.Context, dir string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	infos, err := s.root.ReadDir(dir)
	if err != nil {
		if dir != "." && errors.Is(err, fs.ErrNotExist) {
			return nil // went away since
		}
		if dir != "." && errors.Is(err, fs.ErrPermission) {
			s.problem(dir, "unreadable", "this folder may not be read by us")
			return nil
		}
		return err
	}
	for _, fi := range infos {
		if host.Passing(fi.Name()) {
			if host.Half(fi.Name()) && fi.Mode().IsRegular() {
				s.mu.Lock()
				s.list.Halves = append(s.list.Halves, path.Join(dir, fi.Name()))
				s.mu.Unlock()
			}
			continue
		}
		e := Entry{Path: path.Join(dir, fi.Name())}.Seen(fi)
		if omit, size := s.filter.Omits(e); omit {
			if size {
				s.mu.Lock()
				s.list.TooLarge = append(s.list.TooLarge, e)
				s.mu.Unlock()
			}
			continue
		}
		if !s.take(&e) {
			continue
		}
		s.mu.Lock()
		s.list.Entries = append(s.list.Entries, e)
		s.mu.Unlock()
		if e.Mode.IsDir() {
			if !s.g.TryGo(func() error { return s.dir(ctx, e.Path) }) {
				if err := s.dir(ctx, e.Path); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// take completes a link and tells whether the entry can be copied at all.
func (s *scan) take(e *Entry) bool {
	switch {
	case e.Mode.IsDir(), e.Regular():
		return true
	case e.Mode&fs.ModeSymlink != 0:
		target, err := s.root.Readlink(e.Path)
		if err != nil {
			s.problem(e.Path, "unreadable", "this link can't be read")
			return false
		}
		if !host.LinkInside(s.root.Path(), e.Path, target) {
			s.problem(e.Path, "link-out", "leads out of the site, to "+target)
			return false
		}
		e.Link = target
		return true
	}
	s.problem(e.Path, "special", "is a device, pipe or socket")
	return false
}

func (s *scan) problem(p, kind, what string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list.Problems = append(s.list.Problems, Problem{p, what, kind})
}
