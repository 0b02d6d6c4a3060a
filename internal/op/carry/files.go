package carry

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"alibi/internal/baseline"
	"alibi/internal/drift"
	"alibi/internal/host"
	"alibi/internal/site"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// File is a file that an item brings.
type File struct {
	Item string    `json:"item"`
	Path string    `json:"path"` // below the site's root
	Sum  tree.Hash `json:"sum"`
}

// files finds the files that an item brings: those that its rows name and that the side which is written to does not
// have. why says what keeps one from being brought.
func (c *carrying) files(ctx context.Context, it *drift.Item) (out []File, why string, err error) {
	of, prefix := c.Transform.Items(), c.Transform.Change.Origin.Prefix
	for _, r := range it.Rows {
		is, row := c.here(r)
		if is == drift.Same || row == nil {
			continue
		}
		for _, name := range of.Files(prefix, r.Table, *row) {
			f := File{Item: it.Name, Path: name}
			if slices.ContainsFunc(out, func(have File) bool { return have.Path == name }) {
				continue
			}
			f.Sum, err = tree.HashFile(ctx, c.roots[c.from()], name)
			if errors.Is(err, fs.ErrNotExist) {
				continue // the site does without it too
			}
			if err != nil {
				return nil, "", err
			}
			there, err := tree.HashFile(ctx, c.roots[c.to], name)
			switch {
			case errors.Is(err, fs.ErrNotExist):
				out = append(out, f)
			case err != nil:
				return nil, "", err
			case there != f.Sum:
				return nil, "the other side has another file at " + name, nil
			}
		}
	}
	return out, "", nil
}

// bring copies files to the side that is written to. One that is there is as it is to be, or is left alone.
func (x *runner) bring(ctx context.Context, t *work.Task) error {
	rec, err := Kept(x.env, x.run)
	if err != nil || len(rec.Files) == 0 || x.c.Undo != "" {
		return err
	}
	target, from, to, done, err := x.roots(ctx)
	if err != nil {
		return err
	}
	defer done()
	for _, f := range rec.Files {
		if is, err := tree.HashFile(ctx, to, f.Path); err == nil && is == f.Sum {
			continue
		} else if err == nil {
			return fmt.Errorf("%s has another file at %s by now; nothing was written, start it again", target.Name, f.Path)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := copyFile(ctx, from, to, f); err != nil {
			return fmt.Errorf("bringing %s to %s: %w", f.Path, target.Name, err)
		}
		t.Add(0, 1)
	}
	t.Note("%s brought", site.Plural(len(rec.Files), "file", "files"))
	return nil
}

// roots opens the files of both sites, those of the target to be written to.
func (x *runner) roots(ctx context.Context) (target site.Site, from host.Tree, to host.Root, done func(), err error) {
	source, err := x.env.Record.Site(ctx, x.p.Origin.ID)
	if err != nil {
		return target, nil, nil, nil, err
	}
	if target, err = x.env.Record.Site(ctx, x.p.Target.ID); err != nil {
		return target, nil, nil, nil, err
	}
	place, err := x.env.Place(ctx, source.Host, source.Root)
	if err != nil {
		return target, nil, nil, nil, err
	}
	if to, err = x.env.Write(ctx, x.run, target, target.Root); err != nil {
		place.Root.Close()
		return target, nil, nil, nil, err
	}
	return target, place.Root, to, func() { place.Root.Close(); to.Close() }, nil
}

// copyFile copies one file, and looks at what came.
func copyFile(ctx context.Context, from host.Tree, to host.Root, f File) error {
	fi, err := from.Lstat(f.Path)
	if err != nil {
		return err
	}
	in, err := from.Open(f.Path)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := host.MkdirAll(to, path.Dir(f.Path), 0o755); err != nil {
		return err
	}
	if _, err := host.Put(to, f.Path, fi.Mode().Perm(), fi.ModTime(), in); err != nil {
		return err
	}
	if is, err := tree.HashFile(ctx, to, f.Path); err != nil || is != f.Sum {
		return errors.Join(err, errors.New("it was changed while it was read"))
	}
	return nil
}

// settleFiles notes files that both sides have in common in the baseline, and the folders that they are in.
func (s *Sides) settleFiles(ctx context.Context, list []File) error {
	known, err := s.Base.Folders(ctx)
	if err != nil {
		return err
	}
	sums := map[string]tree.Hash{}
	for _, f := range list {
		sums[f.Path] = f.Sum
		for dir := path.Dir(f.Path); dir != "."; dir = path.Dir(dir) {
			if _, is := known[dir]; !is {
				sums[dir] = tree.Hash{}
			}
		}
	}
	var out []baseline.File
	for name, sum := range sums {
		var both [2]tree.Entry
		for i, side := range []Side{Live, Copy} {
			fi, err := s.roots[side].Lstat(name)
			if err != nil {
				return err
			}
			both[i] = tree.Entry{Path: name, Hash: sum}.Seen(fi)
		}
		out = append(out, baseline.File{Origin: both[0], Copy: both[1]})
	}
	return s.Base.ChangeFiles(ctx, out)
}

// takeFiles removes files that were brought, unless they are others now.
func (x *runner) takeFiles(ctx context.Context, list []File) error {
	if len(list) == 0 {
		return nil
	}
	_, _, to, done, err := x.roots(ctx)
	if err != nil {
		return err
	}
	defer done()
	for _, f := range list {
		is, err := tree.HashFile(ctx, to, f.Path)
		if errors.Is(err, fs.ErrNotExist) || err == nil && is != f.Sum {
			continue
		}
		if err == nil {
			err = to.Remove(f.Path)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
