package state

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"alibi/internal/host"
	"alibi/internal/tree"
)

// Who may use a file (its owner, group, mode and extended attributes) belongs to
// a site's state. A restore point of the same site on the same host says it
// exactly. Anything else says only what is in a file: one that is there keeps
// its access, and a new one gets the owner of the folder that it comes into.

// access sets who may use the entries that are to be there, from what is there.
func (w *Wanted) access(there map[string]tree.Entry) {
	for i := range w.Entries {
		e := &w.Entries[i]
		is, has := there[e.Path]
		has = has && is.Mode.Type() == e.Mode.Type()
		switch {
		case w.Exact && e.Owner != nil:
		case w.Exact && has: // a point of an older Alibi knows only the mode
			e.Owner, e.Attrs = is.Owner, is.Attrs
		case has:
			e.Mode, e.Owner, e.Attrs = is.Mode, is.Owner, is.Attrs
		default:
			e.Owner = ownerAbove(there, e.Path)
			if !w.Exact {
				e.Attrs = nil
			}
		}
	}
}

// ownerAbove is the owner of the nearest folder above a path.
func ownerAbove(there map[string]tree.Entry, name string) *host.Owner {
	for d := path.Dir(name); ; d = path.Dir(d) {
		if is, ok := there[d]; ok && is.Owner != nil {
			return is.Owner
		}
		if d == "." {
			return nil
		}
	}
}

// grant gives staged files the access that they are to have where they will
// stand. What our account may not give is remembered.
func (m *Maker) grant(ctx context.Context, t Task, root host.Root, list []tree.Entry, plain bool) error {
	var not []string
	for _, e := range list {
		if err := ctx.Err(); err != nil {
			return err
		}
		want := e.Access()
		want.Plain = plain
		given, err := host.Grant(root, m.dir("new", e.Path), want)
		if errors.Is(err, host.ErrUnreadable) {
			return fmt.Errorf("%w: nothing of the site was changed; run Alibi as an account that may do this, or "+
				"leave %s out", err, e.Path)
		}
		if err != nil {
			return err
		}
		if e.Owner != nil && given.Owner != nil && *given.Owner != *e.Owner {
			not = append(not, e.Path)
		}
	}
	t.Memorize(func() { m.Memory.Ungiven = not })
	return nil
}

// grantFolders gives folders that are in their places the access that they are
// to have, and remembers what those had that were there.
func (m *Maker) grantFolders(
	t Task,
	root host.Root,
	list []tree.Entry,
	there map[string]tree.Entry,
	plain bool,
) error {
	t.Memorize(func() {
		for _, e := range list {
			is, has := there[e.Path]
			if has && is.Mode.IsDir() &&
				!slices.ContainsFunc(m.Memory.Folders, func(f tree.Entry) bool { return f.Path == e.Path }) {
				m.Memory.Folders = append(m.Memory.Folders, is)
			}
		}
	})
	if err := t.Remember(); err != nil {
		return err
	}
	for _, e := range slices.Backward(list) { // one that is closed to us last
		want := e.Access()
		want.Plain = plain
		given, err := host.Grant(root, e.Path, want)
		if err != nil && !errors.Is(err, host.ErrUnreadable) {
			return fmt.Errorf("the folder %s: %w", e.Path, err)
		}
		if e.Owner != nil && given.Owner != nil && *given.Owner != *e.Owner {
			t.Memorize(func() { m.Memory.Ungiven = append(m.Memory.Ungiven, e.Path) })
		}
	}
	return nil
}

// foldersBack gives folders the access back that they had.
func (m *Maker) foldersBack(root host.Root) error {
	for _, e := range slices.Backward(m.Memory.Folders) {
		_, err := host.Grant(root, e.Path, e.Access())
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, host.ErrUnreadable) {
			return fmt.Errorf("the folder %s: %w", e.Path, err)
		}
	}
	return nil
}

// plain tells whether no entry of two lists has extended attributes, so that
// none need be set or removed.
func plain(lists ...[]tree.Entry) bool {
	for _, list := range lists {
		if slices.ContainsFunc(list, func(e tree.Entry) bool { return len(e.Attrs) > 0 }) {
			return false
		}
	}
	return true
}
