package reset

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"alibi/internal/depot"
	"alibi/internal/depot/pointhost"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

func none(context.Context, func(tables.Row) error) error { return nil }

// wanted works out the state that was chosen.
func (x *runner) wanted(ctx context.Context, e *ends) (*state.Wanted, error) {
	if x.c.Clean != nil {
		return x.cleaned(ctx, e)
	}
	if x.c.Feed != nil {
		return x.fed(ctx, e)
	}
	if x.c.Change != nil {
		return x.changed(ctx, e)
	}
	h, err := x.point(ctx)
	if err != nil {
		return nil, err
	}
	w := &state.Wanted{}
	if x.c.Files {
		if err := x.wantFiles(ctx, e, h, w); err != nil {
			return nil, err
		}
	}
	if x.c.Database && e.s.Database.Engine != "" {
		if err := x.wantTables(ctx, e, h, w); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// point opens the restore point, once in this process: it does not change.
func (x *runner) point(ctx context.Context) (*pointhost.Host, error) {
	if x.opened != nil {
		return x.opened, nil
	}
	d, err := x.env.Depot(ctx)
	if err != nil {
		return nil, err
	}
	x.opened, err = pointhost.Open(ctx, d, x.c.Point)
	return x.opened, err
}

// wantFiles takes the files of a restore point, but for those that make a copy
// the one that it is.
func (x *runner) wantFiles(ctx context.Context, e *ends, h *pointhost.Host, w *state.Wanted) error {
	s := e.s
	own, err := x.own(ctx, s)
	if err != nil {
		return err
	}
	if w.From, err = h.Open(ctx, h.Point().Site.Root); err != nil {
		return err
	}
	w.Hash = h.Hash
	w.Exact = h.Point().Site.ID == s.ID && h.Point().Site.Host == s.Host
	chosen := inPaths(x.c.Paths)
	missing := h.Point().Missing // nobody knows what these were
	config := ""                 // of a live site that stands elsewhere now, it says where: it stays as it is
	if s.Role == site.Live && h.Point().Site.Host != s.Host {
		config = stack.LayoutOf(e.st).Config
	}
	w.InScope = func(p string) bool {
		return chosen(p) && !own[p] && !slices.Contains(missing, p) && (config == "" || p != config)
	}
	e.keepSecretFiles(h, w)
	w.Known = func(ctx context.Context) (map[string]tree.Entry, error) { return x.known(ctx, s) }
	list, err := tree.Scan(ctx, w.From, filter(h.Point().Site))
	if err != nil {
		return err
	}
	for _, e := range list.Entries {
		if w.InScope(e.Path) || e.Mode.IsDir() && len(x.c.Paths) > 0 && above(e.Path, x.c.Paths) {
			w.Entries = append(w.Entries, e)
		}
	}
	return nil
}

// known are the site's files as its newest restore point has them. A damaged one says nothing of them.
func (x *runner) known(ctx context.Context, s site.Site) (map[string]tree.Entry, error) {
	d, err := x.env.Depot(ctx)
	if err != nil {
		return nil, err
	}
	list, _, err := d.Points(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(p depot.Point) bool { return p.Site.ID == s.ID && p.Site.Host == s.Host })
	if i < 0 {
		return nil, nil
	}
	files, err := d.Settled(ctx, list[i])
	if errors.Is(err, depot.ErrDamaged) {
		return nil, nil
	}
	out := make(map[string]tree.Entry, len(files))
	for path, f := range files {
		out[path] = f.Entry
	}
	return out, err
}

// above tells whether a folder is above one of some paths.
func above(dir string, paths []string) bool {
	return slices.ContainsFunc(paths, inPaths([]string{dir}))
}

// wantTables takes the tables of a restore point.
func (x *runner) wantTables(ctx context.Context, e *ends, h *pointhost.Host, w *state.Wanted) error {
	db, err := h.Database(ctx, e.s.Database)
	if err != nil {
		return err
	}
	was, err := db.Snapshot(ctx)
	if err != nil {
		return err
	}
	now, err := e.snapshot(ctx)
	if err != nil {
		return err
	}
	if was.Schema().Engine != now.Schema().Engine {
		return fmt.Errorf("the restore point is of a %s database, and the site has a %s one: make a copy of the "+
			"point instead", was.Schema().Engine, now.Schema().Engine)
	}
	w.DB.Digest = was.Digest
	if len(x.c.Kinds)+len(x.c.Items) > 0 {
		return x.wantContent(ctx, e, h, was, now, w)
	}
	chosen := func(name string) bool { return len(x.c.Tables) == 0 || slices.Contains(x.c.Tables, name) }
	ownsThen, ownsNow := e.owns(was.Schema()), e.owns(now.Schema())
	for _, tab := range was.Schema().Tables {
		if ownsThen(tab.Name) && chosen(tab.Name) {
			w.DB.Tables = append(
				w.DB.Tables,
				tables.WantedTable{
					Name:  tab.Name,
					Table: &tab,
					Empty: h.Rows(tab.Name) == 0,
					Least: h.Rows(tab.Name),
					Fixed: !h.Point().Redacted(),
					Rows:  e.keepSecretRows(h, now, tab, state.Rows(was, tab.Name)),
				},
			)
		}
	}
	for _, tab := range now.Schema().Tables {
		if _, had := was.Schema().Table(tab.Name); !had && ownsNow(tab.Name) && len(x.c.Tables) == 0 {
			w.DB.Tables = append(w.DB.Tables, tables.WantedTable{Name: tab.Name})
		}
	}
	if x.c.Tables != nil {
		for _, name := range x.c.Tables {
			if _, ok := w.DB.Table(name); !ok {
				return fmt.Errorf("restore point %s has no table %s of this site", x.c.Point, name)
			}
		}
		return nil
	}
	w.DB.After, w.DB.Hangs = was.Schema().After, true
	return nil
}

// wantContent puts content of some kinds, or single pieces, back among what is
// there.
func (x *runner) wantContent(ctx context.Context, e *ends, h *pointhost.Host, was, now tables.Snapshot,
	w *state.Wanted) error {
	back, err := stack.ContentsOf(e.st).PutBack(ctx, was, now, e.s.Database.Prefix,
		stack.Content{Kinds: x.c.Kinds, Items: x.c.Items})
	if err != nil {
		return err
	}
	owns := e.owns(now.Schema())
	for _, tab := range now.Schema().Tables {
		drop, bring := back(tab.Name)
		then, had := was.Schema().Table(tab.Name)
		if bring == nil || !had || !owns(tab.Name) {
			continue
		}
		if !slices.Equal(columnNames(then), columnNames(tab)) {
			return fmt.Errorf(
				"table %s has other columns now than at restore point %s: restore the whole table, or make a copy "+
					"of the point",
				tab.Name,
				x.c.Point,
			)
		}
		w.DB.Tables = append(
			w.DB.Tables,
			tables.WantedTable{
				Name:  tab.Name,
				Table: &tab,
				Rows: func(ctx context.Context, give func(tables.Row) error) error {
					if err := state.Rows(now, tab.Name)(ctx, func(r tables.Row) error {
						if drop(tab, r) {
							return nil
						}
						return give(r)
					}); err != nil {
						return err
					}
					return e.keepSecretRows(h, now, then, state.Rows(was, tab.Name))(ctx, func(r tables.Row) error {
						if !bring(then, r) {
							return nil
						}
						return give(r)
					})
				},
			},
		)
	}
	return nil
}

func columnNames(t tables.Table) (out []string) {
	for _, c := range t.Columns {
		out = append(out, c.Name)
	}
	return out
}
