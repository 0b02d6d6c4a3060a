package reset

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"alibi/internal/host"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// The folder in which a run keeps new files until they are put in place, and old
// ones until the run is over. It is in the site's own folder, so that a file
// changes its place in one step; nobody but the site's account may look into it,
// and nothing that reads the site sees it.
func (x *runner) dir(parts ...string) string {
	return path.Join(append([]string{host.TempPrefix + x.id}, parts...)...)
}

// changes are the entries of a site that are not as they are to be.
type changes struct {
	make   []tree.Entry // folders
	put    []tree.Entry // files and links
	remove []tree.Entry // what is not to be there, the deepest first

	there map[string]tree.Entry // what is there, by path
	plain bool                  // no file has extended attributes, nor is one to have any
}

// differ compares the site's files with what they are to be. Files of the same
// size and time are the same, if the same may use them.
func (x *runner) differ(ctx context.Context, e *ends) (changes, error) {
	var c changes
	if e.want.inScope == nil {
		return c, nil
	}
	list, err := tree.Scan(ctx, e.place.Root, filter(e.s))
	if err != nil {
		return c, fmt.Errorf("listing the site's files: %w", err)
	}
	there := make(map[string]tree.Entry, len(list.Entries))
	for _, is := range list.Entries {
		there[is.Path] = relative(e.place.Root, is)
	}
	top, err := e.place.Root.Lstat(".")
	if err != nil {
		return c, fmt.Errorf("looking at the site's folder: %w", err)
	}
	there["."] = tree.Entry{Path: ".", Mode: top.Mode(), Owner: host.OwnerOf(top)}
	e.want.access(there)
	c.there, c.plain = there, plain(list.Entries, e.want.entries)
	forged, ungiven := set(x.mem.Forged), set(x.mem.Ungiven)
	wanted := make(map[string]bool, len(e.want.entries))
	for _, w := range e.want.entries {
		wanted[w.Path] = true
		is, has := there[w.Path]
		if ungiven[w.Path] {
			is.Owner = nil
		}
		switch {
		case has && is.Same(relative(e.want.from, w)) && !forged[w.Path] && is.SameAccess(w):
		case w.Mode.IsDir():
			c.make = append(c.make, w)
		default:
			c.put = append(c.put, w)
		}
		if has && is.Mode.Type() != w.Mode.Type() {
			c.remove = append(c.remove, is)
		}
	}
	for _, is := range list.Entries {
		if !wanted[is.Path] && e.want.inScope(is.Path) {
			c.remove = append(c.remove, is)
		}
	}
	slices.Reverse(c.remove) // what is in a folder before the folder
	return c, nil
}

func set(names []string) map[string]bool {
	m := make(map[string]bool, len(names))
	for _, n := range names {
		m[n] = true
	}
	return m
}

// relative gives an entry with its link as it is when it is brought: by a
// relative path, whatever the folder is called that it was in.
func relative(root host.Tree, e tree.Entry) tree.Entry {
	if e.Link != "" {
		e.Link = tree.RelativeLink(root.Path(), e.Path, e.Link)
	}
	return e
}

// forged finds the files that look as they are to be and hold something else.
func (x *runner) forged(ctx context.Context, e *ends) (out []string, err error) {
	if e.want.hash == nil {
		return nil, nil
	}
	var list []tree.Entry
	for _, w := range tree.OnlyFiles(e.want.entries) {
		if fi, err := e.place.Root.Lstat(w.Path); err == nil && w.Regular() && fi.Mode().IsRegular() &&
			fi.Size() == w.Size {
			list = append(list, w)
		}
	}
	if err := tree.Digest(ctx, e.place.Root, list, nil, func(int64, int) {}); err != nil {
		return nil, fmt.Errorf("reading the site's files: %w", err)
	}
	for _, is := range list {
		if is.Hash != e.want.hash(is.Path) {
			out = append(out, is.Path)
		}
	}
	return out, nil
}

// stage brings the files that differ beside those in use.
func (x *runner) stage(ctx context.Context, t *work.Task) error {
	e, err := x.ends(ctx)
	if err != nil {
		return err
	}
	defer e.close()
	forged, err := x.forged(ctx, e)
	if err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Forged = forged })
	c, err := x.differ(ctx, e)
	if err != nil || len(c.put)+len(c.remove)+len(c.make) == 0 {
		return err
	}
	root, err := x.env.Write(ctx, x.run, e.s, e.s.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := host.MkdirAll(root, x.dir("new"), 0o700); err != nil {
		return fmt.Errorf("making room for the new files: %w", err)
	}
	if len(c.put) == 0 {
		return nil
	}
	to, err := x.env.Write(ctx, x.run, e.s, path.Join(e.s.Root, x.dir("new")))
	if err != nil {
		return err
	}
	defer to.Close()
	_, total := (&tree.Listing{Entries: c.put}).Totals()
	t.Expect(total)
	entries := append(parents(c.put), c.put...)
	_, problems, err := tree.Copy(ctx, e.want.from, to, entries,
		func(bytes int64, files int) { t.Add(bytes, int64(files)) })
	if err != nil {
		return fmt.Errorf("bringing the files: %w", err)
	}
	if len(problems) > 0 {
		return fmt.Errorf("bringing the files: %s: %s", problems[0].Path, problems[0].What)
	}
	return x.grant(ctx, t, root, c.put, c.plain)
}

// parents are the folders above some entries.
func parents(list []tree.Entry) (out []tree.Entry) {
	seen := map[string]bool{".": true}
	for _, e := range list {
		for d := path.Dir(e.Path); !seen[d]; d = path.Dir(d) {
			seen[d] = true
			out = append(out, tree.Entry{Path: d, Mode: fs.ModeDir | 0o755})
		}
	}
	slices.SortFunc(out, func(a, b tree.Entry) int { return len(a.Path) - len(b.Path) })
	return out
}

// files puts the new files in place, each in one step, and the old ones aside.
// Broken off anywhere, it can be called again.
func (x *runner) files(ctx context.Context, t *work.Task) error {
	e, err := x.ends(ctx)
	if err != nil {
		return err
	}
	defer e.close()
	c, err := x.differ(ctx, e)
	if err != nil {
		return err
	}
	root, err := x.env.Write(ctx, x.run, e.s, e.s.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	t.Memorize(func() {
		known := set(x.mem.Came)
		for _, new := range append(slices.Clone(c.make), c.put...) {
			if _, err := root.Lstat(new.Path); errors.Is(err, fs.ErrNotExist) && !known[new.Path] {
				x.mem.Came = append(x.mem.Came, new.Path)
			}
		}
	})
	if err := t.Remember(); err != nil {
		return err
	}
	for _, old := range c.remove {
		if err := x.putAside(root, old); err != nil {
			return err
		}
	}
	for _, dir := range c.make {
		if err := host.MkdirAll(root, dir.Path, dir.Mode.Perm()); err != nil {
			return fmt.Errorf("making the folder %s: %w", dir.Path, err)
		}
	}
	for _, e := range c.put {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := x.exchange(root, e); err != nil {
			return err
		}
		t.Add(1, 1)
	}
	if err := x.grantFolders(t, root, c.make, c.there, c.plain); err != nil {
		return err
	}
	t.Note("%d files put in place, %d removed", len(c.put), len(tree.OnlyFiles(c.remove)))
	return nil
}

// putAside takes a file or an empty folder out of the site.
func (x *runner) putAside(root host.Root, old tree.Entry) error {
	if old.Mode.IsDir() {
		if err := host.MkdirAll(root, x.dir("old", old.Path), 0o755); err != nil {
			return fmt.Errorf("putting %s aside: %w", old.Path, err)
		}
		if _, err := host.Grant(root, x.dir("old", old.Path), old.Access()); err != nil &&
			!errors.Is(err, host.ErrUnreadable) {
			return fmt.Errorf("putting %s aside: %w", old.Path, err)
		}
		err := root.Remove(old.Path)
		if in, rerr := root.ReadDir(old.Path); err != nil && rerr == nil && len(in) > 0 {
			return nil // something is in it that is not to be touched
		}
		return err
	}
	return x.move(root, old.Path)
}

// move puts a file aside, unless that was done before.
func (x *runner) move(root host.Root, name string) error {
	to := x.dir("old", name)
	if _, err := root.Lstat(to); err == nil {
		return root.Remove(name) // what is there now is new
	}
	if err := host.MkdirAll(root, path.Dir(to), 0o755); err != nil {
		return fmt.Errorf("putting %s aside: %w", name, err)
	}
	if err := root.Rename(name, to); err != nil {
		return fmt.Errorf("putting %s aside: %w", name, err)
	}
	return nil
}

// exchange puts a new file in the place of the one that is there.
func (x *runner) exchange(root host.Root, e tree.Entry) error {
	from := x.dir("new", e.Path)
	if _, err := root.Lstat(from); errors.Is(err, fs.ErrNotExist) {
		if _, err := root.Lstat(x.dir("old", e.Path)); err == nil || slices.Contains(x.mem.Came, e.Path) {
			return nil // done before
		}
		return fmt.Errorf("%s changed after the new files were brought: start again", e.Path)
	}
	_, err := root.Lstat(e.Path)
	if err == nil {
		err = x.move(root, e.Path)
	} else if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	if err == nil {
		err = host.MkdirAll(root, path.Dir(e.Path), 0o755)
	}
	if err == nil {
		err = root.Rename(from, e.Path)
	}
	if err != nil {
		return fmt.Errorf("putting %s in its place: %w", e.Path, err)
	}
	return nil
}

// filesBack gives the site the files back that it had before.
func (x *runner) filesBack(ctx context.Context, s site.Site) error {
	root, err := x.env.Write(ctx, x.run, s, s.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	came := slices.Clone(x.mem.Came)
	slices.SortFunc(came, func(a, b string) int { return len(b) - len(a) }) // what is in a folder before the folder
	for _, name := range came {
		err := root.Remove(name)
		if in, rerr := root.ReadDir(name); err != nil && rerr == nil && len(in) > 0 {
			continue // something else came into this folder
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("taking %s away again: %w", name, err)
		}
	}
	old, err := x.aside(ctx, s, "old")
	if err != nil {
		return err
	}
	var made []tree.Entry
	for _, e := range old {
		if e.Mode.IsDir() {
			if _, lerr := root.Lstat(e.Path); errors.Is(lerr, fs.ErrNotExist) {
				made = append(made, e)
			}
			err = host.MkdirAll(root, e.Path, 0o700|e.Mode.Perm())
		} else {
			err = root.Rename(x.dir("old", e.Path), e.Path)
		}
		if err != nil {
			return fmt.Errorf("putting %s back: %w", e.Path, err)
		}
	}
	for _, e := range slices.Backward(made) {
		if _, err := host.Grant(root, e.Path, e.Access()); err != nil && !errors.Is(err, host.ErrUnreadable) {
			return fmt.Errorf("putting %s back: %w", e.Path, err)
		}
	}
	return x.foldersBack(root)
}

// aside lists a part of the run's folder.
func (x *runner) aside(ctx context.Context, s site.Site, part string) ([]tree.Entry, error) {
	h, err := x.env.Hosts(ctx, s.Host)
	if err != nil {
		return nil, err
	}
	root, err := h.Open(ctx, path.Join(s.Root, x.dir(part)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer root.Close()
	list, err := tree.Scan(ctx, root, tree.Filter{Attrs: true})
	if err != nil {
		return nil, err
	}
	for _, p := range list.Problems { // a link that leads into the site leads out of this folder
		list.Entries = append(list.Entries, tree.Entry{Path: p.Path, Mode: fs.ModeSymlink})
	}
	return list.Entries, nil
}

// clearStage removes the run's folder.
func (x *runner) clearStage(ctx context.Context, s site.Site) error {
	root, err := x.env.Write(ctx, x.run, s, s.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.RemoveAll(x.dir()); err != nil {
		return fmt.Errorf("clearing up: %w", err)
	}
	return nil
}

// stepsOf are the steps for what a plan changes.
func stepsOf(files, database bool, bytes, rows int64) []plan.Step {
	out := []plan.Step{{Name: "reserve", Title: "take the site"}}
	if files {
		out = append(out, plan.Step{Name: "stage", Title: "bring the files", Work: bytes, Unit: plan.Bytes})
	}
	out = append(out, plan.Step{Name: "close", Title: "show a notice"},
		plan.Step{Name: "keep", Title: "take a restore point", Work: bytes, Unit: plan.Bytes})
	if database {
		out = append(out, plan.Step{Name: "tables", Title: "exchange the tables", Work: rows, Unit: plan.Rows})
	}
	if files {
		out = append(out, plan.Step{Name: "files", Title: "exchange the files"})
	}
	return append(out, plan.Step{Name: "prove", Title: "compare all of it", Work: rows, Unit: plan.Rows},
		plan.Step{Name: "open", Title: "show it again"})
}
