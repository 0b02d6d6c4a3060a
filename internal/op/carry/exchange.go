package carry

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/op"
	"alibi/internal/site"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// manyFiles is from how many files on visitors of the site that is written to see a notice while they are exchanged:
// code of which one half is new may not run.
const manyFiles = 20

// was is where what files of the target were before is kept, for the run to be undone.
func was(env *op.Env, run string) string { return filepath.Join(env.Home, "sync", run+".files") }

// source opens where a run takes its files from.
func (x *runner) source(ctx context.Context) (host.Tree, error) {
	if x.c.Undo != "" {
		dir := was(x.env, x.c.Undo)
		if err := os.MkdirAll(dir, 0o700); err != nil { // a run that only brought some kept none
			return nil, err
		}
		return local.New("kept").Open(ctx, dir)
	}
	s, err := x.env.Record.Site(ctx, x.p.Origin.ID)
	if err != nil {
		return nil, err
	}
	place, err := x.env.Place(ctx, s.Host, s.Root)
	return place.Root, err
}

// maker exchanges the files of a record on the target.
func (x *runner) maker(target site.Site, list []File) *state.Maker {
	return &state.Maker{
		ID:     x.run,
		Memory: &x.mem.Memory,
		Open: func(ctx context.Context) (*state.Ends, error) {
			from, err := x.source(ctx)
			if err != nil {
				return nil, err
			}
			from = withTexts(from, list)
			place, err := x.env.Place(ctx, target.Host, target.Root)
			if err != nil {
				from.Close()
				return nil, err
			}
			want, err := x.wantFiles(from, place.Root, list)
			if err != nil {
				return nil, errors.Join(err, from.Close(), place.Root.Close())
			}
			return &state.Ends{Root: tree.Only(place.Root, pathsOf(list)), Want: want,
				Close: func() { from.Close(); place.Root.Close() }}, nil
		},
		Write: func(ctx context.Context, dir string) (host.Root, error) {
			return x.env.Write(ctx, x.run, target, path.Join(target.Root, dir))
		},
		Look: func(ctx context.Context, dir string) (host.Tree, error) {
			h, err := x.env.Host(ctx, target.Host)
			if err != nil {
				return nil, err
			}
			return h.Open(ctx, path.Join(target.Root, dir))
		},
		Edit: func(context.Context, string) (tables.Edit, error) { return nil, errors.ErrUnsupported },
	}
}

// wantFiles is what files are to be, with the folders above those that come, and without those that go.
func (x *runner) wantFiles(from, to host.Tree, list []File) (*state.Wanted, error) {
	goes, err := x.goes(from)
	if err != nil {
		return nil, err
	}
	w := &state.Wanted{From: from}
	after, folders := map[string]tree.Entry{}, map[string]bool{}
	for _, f := range list {
		after[f.Path] = f.After
		if f.After.Path == "" {
			continue
		}
		w.Entries = append(w.Entries, f.After)
		for dir := path.Dir(f.Path); dir != "." && !folders[dir]; dir = path.Dir(dir) {
			folders[dir] = true
			fi, err := from.Lstat(dir)
			if errors.Is(err, fs.ErrNotExist) {
				fi, err = to.Lstat(dir)
			}
			if err != nil {
				return nil, err
			}
			w.Entries = append(w.Entries, tree.Entry{Path: dir}.Seen(fi))
		}
	}
	slices.SortFunc(w.Entries, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	w.InScope = func(p string) bool {
		is, chosen := after[p]
		return chosen && is.Path == "" || !chosen && goes(p)
	}
	w.Hash = func(p string) tree.Hash { return after[p].Hash }
	return w, nil
}

// goes tells which folders go with the files in them, once these are gone: those that the side which is read does not
// have, or that came with the run that is undone.
func (x *runner) goes(from host.Tree) (func(dir string) bool, error) {
	if x.c.Undo != "" {
		rec, err := Kept(x.env, x.c.Undo)
		return func(dir string) bool { return slices.Contains(rec.Folders, dir) }, err
	}
	return func(dir string) bool {
		_, err := from.Lstat(dir)
		return errors.Is(err, fs.ErrNotExist)
	}, nil
}

// absent are the folders above files that come which a site does not have.
func absent(root host.Tree, list []File) (out []string) {
	for _, f := range list {
		for dir := path.Dir(f.Path); f.After.Path != "" && dir != "."; dir = path.Dir(dir) {
			if _, err := root.Lstat(dir); errors.Is(err, fs.ErrNotExist) && !slices.Contains(out, dir) {
				out = append(out, dir)
			}
		}
	}
	return out
}

// stage brings the files beside those in use, and keeps what these were.
func (x *runner) stage(ctx context.Context, t *work.Task) error {
	rec, target, err := x.recorded(ctx)
	if err != nil || len(rec.Files) == 0 {
		return err
	}
	m := x.maker(target, rec.Files)
	e, err := m.Open(ctx)
	if err != nil {
		return err
	}
	defer e.Close()
	if err := x.unchanged(ctx, target, e.Root, rec.Files); err != nil {
		return err
	}
	if err := x.keepFiles(ctx, e.Root, rec.Files); err != nil {
		return err
	}
	if err := m.Stage(ctx, t); err != nil {
		return err
	}
	staged, err := m.Look(ctx, path.Join(host.TempPrefix+x.run, "new"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil // all that is to be done is to remove some
	}
	if err != nil {
		return err
	}
	defer staged.Close()
	for _, f := range rec.Files {
		if sum, err := tree.HashFile(ctx, staged, f.Path); f.After.Regular() && err == nil && sum != f.After.Hash {
			return fmt.Errorf("%s of %s was changed while it was read: nothing was written, start it again", f.Path,
				x.p.Origin.Name)
		}
	}
	return nil
}

// recorded gives the record of the run, and the site that is written to.
func (x *runner) recorded(ctx context.Context) (rec Record, target site.Site, err error) {
	if rec, err = Kept(x.env, x.kept); err != nil {
		return rec, target, err
	}
	target, err = x.env.Record.Site(ctx, x.p.Target.ID)
	return rec, target, err
}

// unchanged sees that files of the target are what they were when they were looked at.
func (x *runner) unchanged(ctx context.Context, target site.Site, root host.Tree, list []File) error {
	for _, f := range list {
		same, err := isEntry(ctx, root, f.Path, f.Before)
		if err != nil {
			return err
		}
		if !same {
			return fmt.Errorf("%s of %s was changed by others meanwhile; nothing was written, start it again", f.Path,
				target.Name)
		}
	}
	return nil
}

// isEntry tells whether a file or link is what it was, by what is in it.
func isEntry(ctx context.Context, root host.Tree, name string, was tree.Entry) (bool, error) {
	fi, err := root.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return was.Path == "", nil
	case err != nil:
		return false, err
	case was.Path == "" || fi.Mode().Type() != was.Mode.Type():
		return false, nil
	case was.Mode&fs.ModeSymlink != 0:
		to, err := root.Readlink(name)
		return tree.RelativeLink(root.Path(), name, to) == was.Link, err
	}
	sum, err := tree.HashFile(ctx, root, name)
	return sum == was.Hash, err
}

// keepFiles keeps what files of the target are before they are exchanged.
func (x *runner) keepFiles(ctx context.Context, root host.Tree, list []File) error {
	dir := was(x.env, x.kept)
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	var entries []tree.Entry
	for _, f := range list {
		if f.Before.Path != "" {
			entries = append(entries, f.Before)
		}
	}
	if len(entries) == 0 {
		return nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	to, err := local.New("kept").Write(ctx, dir)
	if err != nil {
		return err
	}
	defer to.Close()
	for _, e := range entries {
		if err := foldersLike(root, to, path.Dir(e.Path)); err != nil {
			return err
		}
	}
	_, problems, err := tree.Copy(ctx, root, to, entries, func(int64, int) {})
	if err == nil && len(problems) > 0 {
		err = fmt.Errorf("%s: %s", problems[0].Path, problems[0].What)
	}
	if err != nil {
		return fmt.Errorf("keeping the files that are there: %w", err)
	}
	return nil
}

// foldersLike makes a folder and those above it as they are elsewhere.
func foldersLike(like host.Tree, to host.Root, dir string) error {
	if _, err := to.Lstat(dir); dir == "." || err == nil {
		return nil
	}
	if err := foldersLike(like, to, path.Dir(dir)); err != nil {
		return err
	}
	fi, err := like.Lstat(dir)
	if err != nil {
		return err
	}
	return to.Mkdir(dir, fi.Mode().Perm()|0o700)
}

// exchange puts the files in their places.
func (x *runner) exchange(ctx context.Context, t *work.Task) error {
	rec, target, err := x.recorded(ctx)
	if err != nil || len(rec.Files) == 0 {
		return err
	}
	if len(rec.Files) >= manyFiles && target.Front == nil {
		t.Memorize(func() { x.mem.Shut = true })
		if err := t.Remember(); err != nil {
			return err
		}
		err := x.env.Shut(ctx, x.run, target, site.Front{Kind: site.FrontMaintenance, At: x.env.Now(), By: x.run})
		if err != nil && !errors.Is(err, op.ErrNoNotice) {
			return err
		}
	}
	m := x.maker(target, rec.Files)
	if err := m.Files(ctx, t); err != nil {
		return err
	}
	old, err := m.Look(ctx, path.Join(host.TempPrefix+x.run, "old"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer old.Close()
	for _, f := range rec.Files {
		if f.Before.Path == "" {
			continue
		}
		if same, err := isEntry(ctx, old, f.Path, f.Before); err != nil || !same {
			return errors.Join(err, fmt.Errorf("%s of %s was changed by others at the last moment: it stays as it is, "+
				"start it again", f.Path, target.Name))
		}
	}
	return nil
}

// dropFiles takes back the files of items that were dropped: all that are not to stay.
func (x *runner) dropFiles(ctx context.Context, all, stay []File) error {
	if len(all) == len(stay) {
		return nil
	}
	target, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	root, err := x.env.Write(ctx, x.run, target, target.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	for _, f := range all {
		if slices.ContainsFunc(stay, func(s File) bool { return s.Path == f.Path }) {
			continue
		}
		if f.Before.Path != "" {
			err = root.Rename(path.Join(host.TempPrefix+x.run, "old", f.Path), f.Path)
		} else {
			err = root.Remove(f.Path)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("putting %s back: %w", f.Path, err)
		}
	}
	return nil
}

// lift takes the notice away that the run put before visitors.
func (x *runner) lift(ctx context.Context) error {
	if !x.mem.Shut {
		return nil
	}
	target, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil || target.Front == nil || target.Front.By != x.run {
		return err
	}
	return x.env.Lift(ctx, x.run, target)
}

// filesBack gives the target the files back that it had before.
func (x *runner) filesBack(ctx context.Context, rec Record) error {
	if len(rec.Files) == 0 {
		return nil
	}
	target, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	return errors.Join(x.maker(target, rec.Files).RollBack(ctx), os.RemoveAll(was(x.env, x.kept)))
}

// proveFiles compares the files with what they should be, and gives how many are.
func (x *runner) proveFiles(ctx context.Context, target site.Site, list []File) (int, error) {
	if len(list) == 0 {
		return 0, nil
	}
	m := x.maker(target, list)
	e, err := m.Open(ctx)
	if err != nil {
		return 0, err
	}
	defer e.Close()
	for _, f := range list {
		same, err := isEntry(ctx, e.Root, f.Path, f.After)
		if err != nil {
			return 0, err
		}
		if !same {
			return 0, fmt.Errorf("%s is not what it should be", f.Path)
		}
	}
	return len(list), nil
}
