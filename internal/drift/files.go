package drift

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"alibi/internal/baseline"
	"alibi/internal/host"
	"alibi/internal/tree"
)

// File is a file or a link that is not what it was when the sides parted, on one of them or both.
type File struct {
	Path       string
	Live, Copy State
	LiveIs     tree.Entry // as it is there, with its digest; without a path: it is not
	CopyIs     tree.Entry
	Base       baseline.File // as the baseline knows it
	Known      bool          // it does
	Collides   bool          // the other side made another file of this name, for another thing
}

// Trees are the files of two sites that were one.
type Trees struct {
	Base       *baseline.Baseline
	Live, Copy host.Tree
	// What is passed by on either side: on the live site what was not copied, and the database.
	LiveFilter, CopyFilter tree.Filter
}

// Has tells where anything of an item of files is, or was when the sides parted.
type Has struct{ Was, Live, Copy bool }

// Files compares the files of both sides with what they were. What makes the copy the one that it is is passed by, and
// so is what can't be told. has says of each item where it is, by the item of a file.
func (x Trees) Files(ctx context.Context, itemOf func(path string) string) (
	out []*File, has map[string]Has, not []Uncovered, err error,
) {
	var base map[string]baseline.File
	live := &fileSide{root: x.Live, filter: x.LiveFilter, was: func(f baseline.File) tree.Entry { return f.Origin }}
	copied := &fileSide{root: x.Copy, filter: x.CopyFilter, was: func(f baseline.File) tree.Entry { return f.Copy }}
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() (err error) {
		base, err = x.Base.Files(gctx)
		return err
	})
	for _, side := range []*fileSide{live, copied} {
		g.Go(func() (err error) {
			side.list, err = tree.Scan(gctx, side.root, side.filter)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, nil, nil, fmt.Errorf("comparing the files: %w", err)
	}
	g, gctx = errgroup.WithContext(ctx)
	for _, side := range []*fileSide{live, copied} {
		g.Go(func() error { return side.see(gctx, base) })
	}
	if err := g.Wait(); err != nil {
		return nil, nil, nil, fmt.Errorf("comparing the files: %w", err)
	}
	if err := x.passedBy(ctx, live, copied); err != nil {
		return nil, nil, nil, fmt.Errorf("comparing the files: %w", err)
	}
	names, has := whereabouts(base, live, copied, itemOf)
	out, not, err = x.sort(ctx, names, base, live, copied)
	return out, has, not, err
}

// whereabouts gives all files, and says of each item of files where it is.
func whereabouts(base map[string]baseline.File, live, copied *fileSide, itemOf func(path string) string) (
	names map[string]bool, has map[string]Has,
) {
	names, has = make(map[string]bool, len(base)), map[string]Has{}
	add := func(name string) {
		if names[name] {
			return
		}
		names[name] = true
		f, known := base[name]
		item := itemOf(name)
		h := has[item]
		h.Was = h.Was || known && !f.Own && f.Copy.Path != ""
		h.Live = h.Live || live.is[name].Path != ""
		h.Copy = h.Copy || copied.is[name].Path != ""
		has[item] = h
	}
	for name, f := range base {
		if !f.Own && f.Copy.Path != "" {
			add(name)
		}
	}
	for _, side := range []*fileSide{live, copied} {
		for name := range side.is {
			add(name)
		}
	}
	return names, has
}

// passedBy looks on the live site for files that the copy has where nothing was copied from: these are passed by in its
// list.
func (x Trees) passedBy(ctx context.Context, live, copied *fileSide) error {
	for name, e := range copied.is {
		if omit, _ := x.LiveFilter.Omits(e); !omit {
			continue
		}
		fi, err := x.Live.Lstat(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		is := tree.Entry{Path: name}.Seen(fi)
		if is.Regular() {
			if is.Hash, err = tree.HashFile(ctx, x.Live, name); err != nil {
				return err
			}
		}
		live.is[name], live.touched[name] = is, true
	}
	return nil
}

// sort gives the files of which something became, and those of which it can't be told. What both sides have in common
// again is noted, so that it is not read again.
func (x Trees) sort(ctx context.Context, names map[string]bool, base map[string]baseline.File, live, copied *fileSide) (
	out []*File, not []Uncovered, err error,
) {
	var alike []baseline.File
	var gone []string
	for name := range names {
		f := x.file(name, base, live, copied)
		switch {
		case f == nil:
		case live.untold[name] != "" || copied.untold[name] != "":
			not = append(not, Uncovered{File: name, Why: cmp.Or(live.untold[name], copied.untold[name])})
		case !tree.Alike(f.LiveIs, f.CopyIs):
			if f.Live != Same || f.Copy != Same {
				out = append(out, f)
			}
		case f.LiveIs.Path == "":
			gone = append(gone, name)
		case f.LiveIs.Link == "":
			alike = append(alike, baseline.File{Origin: seen(f.Base.Origin, f.LiveIs), Copy: seen(f.Base.Copy, f.CopyIs)})
		}
	}
	slices.SortFunc(out, func(a, b *File) int { return strings.Compare(a.Path, b.Path) })
	slices.SortFunc(not, func(a, b Uncovered) int { return strings.Compare(a.File, b.File) })
	if err := x.Base.ForgetFiles(ctx, gone); err != nil {
		return nil, nil, err
	}
	if len(alike) > 0 {
		err = x.Base.ChangeFiles(ctx, alike)
	}
	return out, not, err
}

// file says what became of a file on both sides; nil: nothing.
func (x Trees) file(name string, base map[string]baseline.File, live, copied *fileSide) *File {
	f := &File{Path: name, LiveIs: live.is[name], CopyIs: copied.is[name]}
	f.Base, f.Known = base[name]
	if f.Base.Own || f.Known && f.Base.Copy.Path == "" {
		return nil
	}
	f.Live, f.Copy = live.became(name, f), copied.became(name, f)
	if f.Live == Same && f.Copy == Same && !live.touched[name] && !copied.touched[name] {
		return nil
	}
	return f
}

// seen is an entry as it is to be noted, with the mode and owner that were noted before: a change of these is still
// told.
func seen(was, is tree.Entry) tree.Entry {
	if was.Path != "" && was.Mode.Type() == is.Mode.Type() {
		is.Mode, is.Owner, is.Attrs = was.Mode, was.Owner, was.Attrs
	}
	return is
}

// fileSide is one side, as it is.
type fileSide struct {
	root    host.Tree
	filter  tree.Filter
	was     func(baseline.File) tree.Entry
	list    *tree.Listing
	is      map[string]tree.Entry
	touched map[string]bool   // what does not look as it did, or is new
	untold  map[string]string // of which it can't be told what is in it, and why
}

// see looks at the list of a side, and reads what does not look as it did.
func (l *fileSide) see(ctx context.Context, base map[string]baseline.File) error {
	list := l.list
	l.is, l.touched, l.untold = map[string]tree.Entry{}, map[string]bool{}, map[string]string{}
	for _, p := range list.Problems {
		l.untold[p.Path] = p.What
		for name := range base {
			if strings.HasPrefix(name, p.Path+"/") {
				l.untold[name] = "what is in " + p.Path + " can't be told: it " + p.What
			}
		}
	}
	for _, e := range list.TooLarge {
		l.untold[e.Path] = "it is larger than what is copied of this site"
	}
	var read []tree.Entry
	for _, e := range tree.OnlyFiles(list.Entries) {
		b, known := base[e.Path]
		if b.Own {
			continue
		}
		e = e.Relative(l.root)
		if known && l.was(b).Path != "" && e.Untouched(l.was(b)) {
			e.Hash = l.was(b).Hash
		} else {
			l.touched[e.Path] = true
			if e.Regular() {
				read = append(read, e)
			}
		}
		l.is[e.Path] = e
	}
	if len(read) == 0 {
		return nil // asking a host how it gives files takes as long as listing them
	}
	if err := tree.Digest(ctx, l.root, read, nil, func(int64, int) {}); err != nil {
		return err
	}
	for _, e := range read {
		if l.is[e.Path] = e; e.Regular() && e.Hash == (tree.Hash{}) {
			l.untold[e.Path] = "it can't be read"
		}
	}
	return nil
}

// became says what became of a file on this side.
func (l *fileSide) became(name string, f *File) State {
	was, is := l.was(f.Base).Relative(l.root), l.is[name]
	switch {
	case tree.Alike(was, is):
		return Same
	case was.Path == "":
		return Made
	case is.Path == "":
		return Gone
	}
	return Changed
}
