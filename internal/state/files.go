package state

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"syscall"

	"alibi/internal/host"
	"alibi/internal/tree"
)

// The folder in which a run keeps new files until they are put in place, and old
// ones until the run is over. It is in the site's own folder, so that a file
// changes its place in one step; nobody but the site's account may look into it,
// and nothing that reads the site sees it.
func (m *Maker) dir(parts ...string) string {
	return path.Join(append([]string{host.TempPrefix + m.ID}, parts...)...)
}

// changes are the entries of a site that are not as they are to be.
type changes struct {
	make   []tree.Entry // folders
	put    []tree.Entry // files and links
	remove []tree.Entry // what is not to be there, the deepest first

	list  *tree.Listing         // of what is there
	there map[string]tree.Entry // the same, by path
	plain bool                  // no file has extended attributes, nor is one to have any
}

// differ compares the site's files with what they are to be. Files of the same
// size and time are the same, if the same may use them.
func (m *Maker) differ(ctx context.Context, e *Ends) (changes, error) {
	var c changes
	if e.Want.InScope == nil {
		return c, nil
	}
	list, err := e.list(ctx)
	if err != nil {
		return c, fmt.Errorf("listing the site's files: %w", err)
	}
	there := make(map[string]tree.Entry, len(list.Entries))
	for _, is := range list.Entries {
		there[is.Path] = is.Relative(e.Root)
	}
	top, err := e.Root.Lstat(".")
	if err != nil {
		return c, fmt.Errorf("looking at the site's folder: %w", err)
	}
	there["."] = tree.Entry{Path: ".", Mode: top.Mode(), Owner: host.OwnerOf(top)}
	e.Want.access(there)
	c.list, c.there, c.plain = list, there, plain(list.Entries, e.Want.Entries)
	forged, ungiven := set(m.Memory.Forged), set(m.Memory.Ungiven)
	wanted := make(map[string]bool, len(e.Want.Entries))
	for _, w := range e.Want.Entries {
		wanted[w.Path] = true
		is, has := there[w.Path]
		if ungiven[w.Path] {
			is.Owner = nil
		}
		switch {
		case has && is.Same(w.Relative(e.Want.From)) && !forged[w.Path] && is.SameAccess(w):
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
		if !wanted[is.Path] && e.Want.InScope(is.Path) {
			c.remove = append(c.remove, is)
		}
	}
	slices.Reverse(c.remove) // what is in a folder before the folder
	return c, nil
}

func (e *Ends) list(ctx context.Context) (*tree.Listing, error) {
	if e.List != nil {
		return e.List(ctx)
	}
	return tree.Scan(ctx, e.Root, e.Filter)
}

func set(names []string) map[string]bool {
	m := make(map[string]bool, len(names))
	for _, n := range names {
		m[n] = true
	}
	return m
}

// forged finds the files that look as they are to be and hold something else.
func (m *Maker) forged(ctx context.Context, e *Ends) (out []string, err error) {
	if e.Want.Hash == nil {
		return nil, nil
	}
	var list []tree.Entry
	var digested map[string]tree.Entry
	if e.Want.Known != nil {
		if digested, err = e.Want.Known(ctx); err != nil {
			return nil, err
		}
	}
	for _, w := range tree.OnlyFiles(e.Want.Entries) {
		fi, err := e.Root.Lstat(w.Path)
		if err != nil || !w.Regular() || !fi.Mode().IsRegular() || fi.Size() != w.Size {
			continue
		}
		was, known := digested[w.Path]
		if known && !was.Changed.IsZero() && w.Seen(fi).Untouched(was) && was.Hash == e.Want.Hash(w.Path) {
			continue
		}
		list = append(list, w)
	}
	if err := tree.Digest(ctx, e.Root, list, nil, func(int64, int) {}); err != nil {
		return nil, fmt.Errorf("reading the site's files: %w", err)
	}
	for _, is := range list {
		if is.Hash != e.Want.Hash(is.Path) {
			out = append(out, is.Path)
		}
	}
	return out, nil
}

// Stage brings the files that differ beside those in use.
func (m *Maker) Stage(ctx context.Context, t Task) error {
	e, err := m.Open(ctx)
	if err != nil {
		return err
	}
	defer e.Close()
	forged, err := m.forged(ctx, e)
	if err != nil {
		return err
	}
	t.Memorize(func() { m.Memory.Forged = forged })
	c, err := m.differ(ctx, e)
	if err != nil {
		return err
	}
	alike := len(c.put)+len(c.remove)+len(c.make) == 0
	t.Memorize(func() { m.Memory.Alike = alike })
	if alike && (c.list == nil || len(c.list.Halves) == 0) {
		return nil
	}
	root, err := m.Write(ctx, ".")
	if err != nil {
		return err
	}
	defer root.Close()
	if c.list != nil {
		err = c.list.Sweep(root)
	}
	if err != nil || alike {
		return err
	}
	if err := host.MkdirAll(root, m.dir("new"), 0o700); err != nil {
		return fmt.Errorf("making room for the new files: %w", err)
	}
	if len(c.put) == 0 {
		return nil
	}
	to, err := m.Write(ctx, m.dir("new"))
	if err != nil {
		return err
	}
	defer to.Close()
	_, total := (&tree.Listing{Entries: c.put}).Totals()
	t.Expect(total)
	entries := append(parents(c.put), c.put...)
	_, problems, err := tree.Copy(ctx, e.Want.From, to, entries,
		func(bytes int64, files int) { t.Add(bytes, int64(files)) })
	if err != nil {
		return fmt.Errorf("bringing the files: %w", err)
	}
	if len(problems) > 0 {
		p := problems[0]
		err := fmt.Errorf("bringing the files: %s: %s", p.Path, p.What)
		if _, lerr := e.Want.From.Lstat(p.Path); errors.Is(lerr, fs.ErrNotExist) {
			err = fmt.Errorf("%w: %w", err, ErrGone)
		}
		return err
	}
	return m.grant(ctx, t, root, c.put, c.plain)
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

// Files puts the new files in place, each in one step, and the old ones aside.
// Broken off anywhere, it can be called again.
func (m *Maker) Files(ctx context.Context, t Task) error {
	e, err := m.Open(ctx)
	if err != nil {
		return err
	}
	defer e.Close()
	c, err := m.differ(ctx, e)
	if err != nil {
		return err
	}
	root, err := m.Write(ctx, ".")
	if err != nil {
		return err
	}
	defer root.Close()
	t.Memorize(func() { m.coming(root, c) })
	if err := t.Remember(); err != nil {
		return err
	}
	for _, old := range c.remove {
		if err := m.putAside(root, old); err != nil {
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
		if err := m.exchange(root, e); err != nil {
			return err
		}
		t.Add(1, 1)
	}
	if err := m.grantFolders(t, root, c.make, c.there, c.plain); err != nil {
		return err
	}
	t.Note("%d files put in place, %d removed", len(c.put), len(tree.OnlyFiles(c.remove)))
	return nil
}

// coming remembers what was not there before: new names, and folders that take a file's place or the
// other way round.
func (m *Maker) coming(root host.Tree, c changes) {
	known := set(m.Memory.Came)
	for _, new := range append(slices.Clone(c.make), c.put...) {
		is, has := c.there[new.Path]
		if has && is.Mode.IsDir() != new.Mode.IsDir() {
			if m.Memory.Turned == nil {
				m.Memory.Turned = map[string]bool{}
			}
			m.Memory.Turned[new.Path] = new.Mode.IsDir()
			continue
		}
		_, err := root.Lstat(new.Path)
		if !known[new.Path] && (errors.Is(err, fs.ErrNotExist) || !has && m.turnedAbove(new.Path)) {
			m.Memory.Came = append(m.Memory.Came, new.Path)
		}
	}
}

// turnedAbove tells whether a folder above a path was a file before.
func (m *Maker) turnedAbove(name string) bool {
	for d := path.Dir(name); d != "."; d = path.Dir(d) {
		if m.Memory.Turned[d] {
			return true
		}
	}
	return false
}

// takeAway removes what came. What is there still in place of what turned, or what something else came
// into, stays.
func (m *Maker) takeAway(root host.Root) error {
	came := slices.AppendSeq(slices.Clone(m.Memory.Came), maps.Keys(m.Memory.Turned))
	slices.SortFunc(came, func(a, b string) int { return len(b) - len(a) }) // what is in a folder before the folder
	for _, name := range came {
		fi, err := root.Lstat(name)
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
			continue
		}
		if err != nil {
			return fmt.Errorf("taking %s away again: %w", name, err)
		}
		if isDir, turned := m.Memory.Turned[name]; turned && fi.IsDir() != isDir {
			continue // it did not come yet
		}
		err = root.Remove(name)
		if in, rerr := root.ReadDir(name); err != nil && rerr == nil && len(in) > 0 {
			continue
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("taking %s away again: %w", name, err)
		}
	}
	return nil
}

// putAside takes a file or an empty folder out of the site.
func (m *Maker) putAside(root host.Root, old tree.Entry) error {
	if old.Mode.IsDir() {
		if err := host.MkdirAll(root, m.dir("old", old.Path), 0o755); err != nil {
			return fmt.Errorf("putting %s aside: %w", old.Path, err)
		}
		if _, err := host.Grant(root, m.dir("old", old.Path), old.Access()); err != nil &&
			!errors.Is(err, host.ErrUnreadable) {
			return fmt.Errorf("putting %s aside: %w", old.Path, err)
		}
		err := root.Remove(old.Path)
		if in, rerr := root.ReadDir(old.Path); err != nil && rerr == nil && len(in) > 0 {
			return nil // something is in it that is not to be touched
		}
		return err
	}
	return m.move(root, old.Path)
}

// move puts a file aside, unless that was done before.
func (m *Maker) move(root host.Root, name string) error {
	to := m.dir("old", name)
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
func (m *Maker) exchange(root host.Root, e tree.Entry) error {
	from := m.dir("new", e.Path)
	if _, err := root.Lstat(from); errors.Is(err, fs.ErrNotExist) {
		if _, err := root.Lstat(m.dir("old", e.Path)); err == nil || slices.Contains(m.Memory.Came, e.Path) {
			return nil // done before
		}
		return fmt.Errorf("%s changed after the new files were brought: start again", e.Path)
	}
	_, err := root.Lstat(e.Path)
	if err == nil {
		err = m.move(root, e.Path)
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
func (m *Maker) filesBack(ctx context.Context) error {
	root, err := m.Write(ctx, ".")
	if err != nil {
		return err
	}
	defer root.Close()
	if err := m.takeAway(root); err != nil {
		return err
	}
	old, err := m.aside(ctx, "old")
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
			err = root.Rename(m.dir("old", e.Path), e.Path)
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
	return m.foldersBack(root)
}

// aside lists a part of the run's folder.
func (m *Maker) aside(ctx context.Context, part string) ([]tree.Entry, error) {
	root, err := m.Look(ctx, m.dir(part))
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

// Clear removes the folder in which files were kept aside, once all is final or back.
func (m *Maker) Clear(ctx context.Context) error {
	root, err := m.Write(ctx, ".")
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.RemoveAll(m.dir()); err != nil {
		return fmt.Errorf("clearing up: %w", err)
	}
	return nil
}
