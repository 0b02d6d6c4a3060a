package reset

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"os"
	"path"
	"slices"
	"strings"

	"github.com/zeebo/blake3"

	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// Clean says how clean a site becomes.
type Clean struct {
	Wish   stack.Wish `json:"wish"`
	Tidy   []string   `json:"tidy,omitempty"`   // folders that are emptied: plugins, themes, uploads
	Except []string   `json:"except,omitempty"` // what stays in them, by name
}

func (c *Clean) words() string {
	var parts []string
	switch w := c.Wish; {
	case w.All:
		parts = append(parts, "a clean site")
	case len(w.Kinds) > 0:
		parts = append(parts, "a site without "+site.KindList(w.Kinds))
	case len(w.Trim) > 0:
		parts = append(parts, "a site without "+strings.Join(w.Trim, ", "))
	case w.Plugin != "":
		parts = append(parts, "a site without what "+w.Plugin+" keeps")
	}
	if len(c.Tidy) > 0 {
		parts = append(parts, site.Either(len(parts) == 0, "a site ", "")+"without "+strings.Join(c.Tidy, ", "))
	}
	return strings.Join(parts, ", ")
}

// Tables tells whether any table changes.
func (c *Clean) Tables() bool {
	return c.Wish.All || len(c.Wish.Kinds) > 0 || c.Wish.Plugin != "" || len(c.Wish.Trim) > 0
}

// Leftovers lists what a reset of a site may leave over.
func Leftovers(ctx context.Context, st stack.Stack, p stack.Place) (out []stack.Leftover, err error) {
	for _, s := range stack.ContentsOf(st).LeftFolders() {
		entries, err := p.Root.ReadDir(s.Path)
		if err != nil {
			continue // it has none
		}
		for _, fi := range entries {
			if slices.Contains(s.Stays, fi.Name()) {
				continue
			}
			x := stack.Leftover{
				Folder: s.Name,
				Name:   strings.TrimSuffix(fi.Name(), ".php"),
				Path:   path.Join(s.Path, fi.Name()),
			}
			if fi.IsDir() {
				h, err := p.Host.Open(ctx, path.Join(p.Root.Path(), x.Path))
				if err != nil {
					return nil, err
				}
				list, err := tree.Scan(ctx, h, tree.Filter{})
				h.Close()
				if err != nil {
					return nil, fmt.Errorf("looking into %s: %w", x.Path, err)
				}
				n, bytes := list.Totals()
				x.Files, x.Bytes = int64(n), bytes
			} else {
				x.Files, x.Bytes = 1, fi.Size()
			}
			out = append(out, x)
		}
	}
	return out, nil
}

// Goes tells whether it is taken out.
func (c *Clean) Goes(p stack.Leftover) bool {
	return slices.Contains(c.Tidy, p.Folder) && !slices.Contains(c.Except, p.Name) &&
		(p.Folder != "themes" || p.Name != c.Wish.Theme)
}

// cleaned works out the clean state from the one that the site is in.
func (x *runner) cleaned(ctx context.Context, e *ends) (*state.Wanted, error) {
	c := x.c.Clean
	w := &state.Wanted{}
	if x.c.Files {
		own, err := x.own(ctx, e.s)
		if err != nil {
			return nil, err
		}
		list, err := Leftovers(ctx, e.st, e.place)
		if err != nil {
			return nil, err
		}
		gone, err := x.trimmed(ctx, e)
		if err != nil {
			return nil, err
		}
		for _, p := range list {
			if c.Goes(p) {
				gone = append(gone, p.Path)
			}
		}
		in := inPaths(gone)
		w.InScope = func(p string) bool { return len(gone) > 0 && in(p) && !own[p] }
	}
	if !x.c.Database || !c.Tables() {
		return w, nil
	}
	now, err := e.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	of, err := stack.ContentsOf(e.st).Clean(ctx, now, e.s.Database.Prefix, c.Wish)
	if err != nil {
		return nil, err
	}
	e.change(w, now, of)
	return w, nil
}

// fed works out the state with content added that is in a file.
func (x *runner) fed(ctx context.Context, e *ends) (*state.Wanted, error) {
	text, err := os.ReadFile(x.c.Feed.Path)
	if err != nil {
		return nil, fmt.Errorf("reading the content: %w", err)
	}
	if tree.Hash(blake3.Sum256(text)) != x.c.Feed.Sum {
		return nil, fmt.Errorf("%s is not what it was when the plan was made", x.c.Feed.Path)
	}
	now, err := e.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	of, _, err := stack.ContentsOf(e.st).Bring(ctx, now, e.s.Database.Prefix, bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	w := &state.Wanted{}
	e.change(w, now, of)
	return w, nil
}

// change wants the tables that something becomes of.
func (e *ends) change(w *state.Wanted, now tables.Snapshot, of func(tables.Table) stack.Cleanup) {
	w.DB.Digest = now.Digest
	owns := e.owns(now.Schema())
	gone := map[string]bool{}
	for _, tab := range now.Schema().Tables {
		if k := of(tab); k.Changes() && owns(tab.Name) {
			w.DB.Tables = append(w.DB.Tables, cleaning(now, tab, k))
			gone[tab.Name] = k.Goes
		}
	}
	w.DB.Hangs = true
	falls := falling(now.Schema(), gone)
	for _, o := range now.Schema().After {
		if _, goes := falls[o]; !goes {
			w.DB.After = append(w.DB.After, o)
		}
	}
}

// falling gives what cannot stay without some tables, and which of these, or which view, it is for:
// what hangs on them, and views and triggers that work with them.
func falling(schema tables.Schema, gone map[string]bool) map[tables.Object]string {
	out := map[tables.Object]string{}
	gone = maps.Clone(gone)
	for again := true; again; { // a view may read a view
		again = false
		for _, o := range schema.After {
			if _, had := out[o]; had {
				continue
			}
			for _, name := range slices.Sorted(maps.Keys(gone)) {
				if gone[name] && (o.Table == name || o.WorksWith(name)) {
					out[o], again = name, true
					gone[o.Name] = o.Kind == "view" || gone[o.Name]
					break
				}
			}
		}
	}
	return out
}

// cleaning is a table as it is to be.
func cleaning(now tables.Snapshot, tab tables.Table, k stack.Cleanup) tables.WantedTable {
	if k.Goes {
		return tables.WantedTable{Name: tab.Name}
	}
	to := tables.WantedTable{Name: tab.Name, Table: &tab, Empty: k.Empty, Rows: none}
	if k.Empty {
		return to
	}
	to.Rows = func(ctx context.Context, give func(tables.Row) error) error {
		err := state.Rows(now, tab.Name)(ctx, func(r tables.Row) error {
			if k.Row != nil {
				changed, stays := k.Row(r)
				if !stays {
					return nil
				}
				r = changed
			}
			return give(r)
		})
		for _, r := range k.Add {
			if err == nil {
				err = give(r)
			}
		}
		return err
	}
	return to
}

// Counted says what cleaning takes out of tables and what stays in those that
// it changes, row by row.
func Counted(
	ctx context.Context,
	st stack.Stack,
	snap tables.Snapshot,
	prefix string,
	w stack.Wish,
	owns func(string) bool,
) (goes, stays []plan.Part, err error) {
	of, err := stack.ContentsOf(st).Clean(ctx, snap, prefix, w)
	if err != nil {
		return nil, nil, err
	}
	same := plan.Part{What: "tables that do not change"}
	gone := map[string]bool{}
	for _, tab := range snap.Schema().Tables {
		k := of(tab)
		g := plan.Part{What: "table " + tab.Name}
		s := g
		switch {
		case !owns(tab.Name) || !k.Changes():
			same.Rows += tab.Rows
			same.Bytes += tab.Bytes
			continue
		case k.Goes:
			gone[tab.Name] = true
			g.Rows, g.Bytes, g.Note = tab.Rows, tab.Bytes, "with the table itself"
		case k.Empty:
			g.Rows, g.Bytes = tab.Rows, tab.Bytes
		default:
			if err := state.Rows(snap, tab.Name)(ctx, func(r tables.Row) error {
				if _, stay := k.Row(r); stay {
					s.Rows++
				} else {
					g.Rows++
				}
				return nil
			}); err != nil {
				return nil, nil, err
			}
			s.Rows += int64(len(k.Add))
		}
		if g.Rows > 0 || k.Goes {
			goes = append(goes, g)
		}
		if s.Rows > 0 {
			stays = append(stays, s)
		}
	}
	falls := falling(snap.Schema(), gone)
	for _, o := range snap.Schema().After {
		if name, goesToo := falls[o]; goesToo && o.Table != name {
			goes = append(goes, plan.Part{What: o.Kind + " " + o.Name, Note: "it works with " + name})
		}
	}
	if same.Rows > 0 {
		stays = append(stays, same)
	}
	return goes, stays, nil
}
