package move

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/work"
)

// empty removes what is left at the other place: first the tables, since the configuration says how they are reached,
// then the files. The names get the lifetimes back that they had.
func (x *runner) empty(ctx context.Context, t *work.Task) error {
	m, err := x.env.Record.Move(ctx, x.c.Move)
	if err != nil {
		return err
	}
	here, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	if err := x.apart(ctx, m, here, there); err != nil {
		return err
	}
	files := 0
	if len(m.Passes) > 0 { // else nothing was brought there
		if files, err = x.remove(ctx, t, there); err != nil {
			return err
		}
	}
	if err := x.detach(ctx, m); err != nil {
		return err
	}
	if n := m.Names; n != nil && m.Moved && !n.ByHand && len(n.Old) > 0 {
		was, want := n.Lengthened()
		if err := Rename(ctx, x.provider, *n, was, want); err != nil {
			return fmt.Errorf("giving the names their lifetimes back: %w", err)
		}
	}
	if !m.Moved && m.Server {
		made, err := x.env.Record.AllMade(ctx)
		if err != nil {
			return err
		}
		for _, one := range made {
			if one.Site == Made(m.Name) {
				if err := x.env.Unmake(ctx, one); err != nil {
					return err
				}
			}
		}
	}
	if _, err := x.env.Record.ChangeMove(ctx, m.Name, func(m *plan.Move) error {
		m.Cleared = x.env.Now()
		return nil
	}); err != nil {
		return err
	}
	if names := Detaches(m); len(names) > 0 {
		t.Entry("%s answers no more for %s", there.Host, strings.Join(names, ", "))
	}
	if len(m.Passes) == 0 {
		t.Result("nothing had been brought to %s on %s", there.Root, there.Host)
		return nil
	}
	t.Result("%s removed in %s on %s%s", site.Plural(int64(files), "entry", "entries"), there.Root, there.Host,
		site.Either(there.Database.Served(), ", and the tables in "+there.Database.Text(), ""))
	t.Entry("what was left in %s on %s was removed", there.Root, there.Host)
	return nil
}

// remove takes away the tables of a place, and its files.
func (x *runner) remove(ctx context.Context, t *work.Task, there site.Site) (files int, err error) {
	if there.Database.Served() && !x.mem.Final {
		if err := x.dropTables(ctx, t, there); err != nil {
			return 0, err
		}
	}
	if err := x.env.EndRelays(ctx, there.Host, there.Root); err != nil {
		return 0, err
	}
	only, err := x.env.ShowsOnly(ctx, there.Host, there.Root)
	if err != nil {
		return 0, err
	}
	if files, err = x.removeFiles(ctx, there); err != nil {
		return files, err
	}
	return files, x.env.Emptied(ctx, there.Host, there.Root, only)
}

// Detaches are the names that clearing up detaches where the site does not stand, the primary one last: all of them at
// its old place, and those that the move attached at its new one.
func Detaches(m plan.Move) (names []string) {
	switch p := m.Panel; {
	case p == nil:
	case m.Moved && p.Old && !Redirects(m):
		names = slices.Clone(p.Want)
	case !m.Moved && p.New:
		names = slices.Clone(p.Ours)
	}
	slices.Reverse(names)
	return names
}

// detach has the host where the site does not stand answer for its names no more.
func (x *runner) detach(ctx context.Context, m plan.Move) error {
	names := Detaches(m)
	if len(names) == 0 {
		return nil
	}
	at := m.There()
	p, err := x.panel(at.Host)
	if err != nil {
		return err
	}
	if was := m.Panel.Was; was != "" && !m.Moved {
		if err := p.MakePrimary(ctx, at.Root, was); err != nil {
			return err
		}
	}
	for _, name := range names {
		if err := p.Detach(ctx, at.Root, name); err != nil {
			return err
		}
	}
	return nil
}

// dropTables removes the site's own tables from a database.
func (x *runner) dropTables(ctx context.Context, t *work.Task, there site.Site) error {
	m := x.maker(there, nothing)
	m.Open = func(ctx context.Context) (*state.Ends, error) {
		place, err := x.env.Place(ctx, there.Host, there.Root)
		if err != nil {
			return nil, err
		}
		e := &ends{there: there, from: place, want: &state.Wanted{}}
		if e.st, err = x.env.Stack(there.Stack); err == nil {
			e.now, err = snapshot(ctx, e.st, place, there.Database)
		}
		if err != nil {
			e.close()
			return nil, err
		}
		owns := e.st.Owns(e.now.Schema(), there.Database.Prefix)
		e.want.DB.Hangs = true
		for _, tab := range e.now.Schema().Tables {
			if owns(tab.Name) {
				e.want.DB.Tables = append(e.want.DB.Tables, tables.WantedTable{Name: tab.Name})
			} else {
				e.want.DB.Hangs = false
			}
		}
		s := e.sides()
		s.Root = place.Root
		return s, nil
	}
	if err := m.Tables(ctx, t); err != nil {
		return fmt.Errorf("removing the tables in %s: %w", there.Database.Text(), err)
	}
	if err := m.Commit(ctx); err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Final = true })
	return t.Remember()
}

// removeFiles empties the folder, and leaves it.
func (x *runner) removeFiles(ctx context.Context, there site.Site) (n int, err error) {
	root, err := x.env.Write(ctx, x.run, there, there.Root)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	defer root.Close()
	list, err := root.ReadDir(".")
	if err != nil {
		return 0, err
	}
	st, err := x.env.Stack(there.Stack)
	if err != nil {
		return 0, err
	}
	config := stack.LayoutOf(st).Config
	for _, last := range []bool{false, true} { // what says how the database is reached goes last
		for _, fi := range list {
			if (fi.Name() == config) != last {
				continue
			}
			if err := ctx.Err(); err != nil {
				return n, err
			}
			if err := root.RemoveAll(fi.Name()); err != nil {
				return n, fmt.Errorf("removing %s in %s on %s: %w", fi.Name(), there.Root, there.Host, err)
			}
			n++
		}
	}
	return n, nil
}
