package keep

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"alibi/internal/depot/pointhost"
	"alibi/internal/diff"
	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
	"alibi/internal/tree"
)

// What became of a file or row since a restore point.
const (
	Added   = "added"
	Changed = "changed"
	Removed = "removed"
	Access  = "access" // only its owner, mode or extended attributes changed
)

// FileChange is a file that is not as the point has it.
type FileChange struct {
	Path string `json:"path"`
	What string `json:"what"`

	Was *host.Owner `json:"was,omitempty"` // whose it was at the point
}

// TableChange counts the rows of a table that are not as the point has them.
type TableChange struct {
	Name    string `json:"name"`
	Added   int64  `json:"added"`
	Changed int64  `json:"changed"`
	Removed int64  `json:"removed"`
	Shape   bool   `json:"shape,omitempty"` // its definition is another one
}

// Changes is what became of a site since a restore point.
type Changes struct {
	Files  []FileChange  `json:"files"`
	Tables []TableChange `json:"tables"`
	Same   struct {
		Files int64 `json:"files"`
		Rows  int64 `json:"rows"`
	} `json:"same"`
}

// Differ compares a site as it is with a restore point of it. Both are only
// read; files of the same size and time are taken for the same.
func Differ(ctx context.Context, env *op.Env, s site.Site, p *pointhost.Host) (*Changes, error) {
	now, err := env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return nil, err
	}
	defer now.Root.Close()
	was, err := p.Open(ctx, p.Point().Site.Root)
	if err != nil {
		return nil, err
	}
	d := &differing{}
	without := func(string) bool { return false }
	if st, err := env.Stack(s.Stack); err == nil && p.Point().Redacted() {
		without = stack.SecretsOf(st).Redact(s.Database.Prefix).Has
	}
	filter := stack.DatabaseFilter(s.Root, s.Database)
	filter.Attrs = true
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		return d.files(gctx, was, now.Root, filter, without)
	})
	if s.Database.Engine != "" && len(p.Point().Schema) > 0 {
		g.Go(func() error { return d.tables(gctx, env, now, s, p) })
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	slices.SortFunc(d.out.Tables, func(a, b TableChange) int { return cmp.Compare(a.Name, b.Name) })
	return &d.out, nil
}

type differing struct {
	mu  sync.Mutex
	out Changes
}

func (d *differing) files(
	ctx context.Context,
	was, now host.Tree,
	filter tree.Filter,
	without func(string) bool,
) error {
	before, err := tree.Scan(ctx, was, tree.Filter{Attrs: true})
	if err != nil {
		return err
	}
	after, err := tree.Scan(ctx, now, filter)
	if err != nil {
		return fmt.Errorf("listing the site's files: %w", err)
	}
	reported := map[string]bool{}
	for _, x := range tree.Compare(before.Entries, after.Entries) {
		change := FileChange{Path: x.Path(), What: Changed, Was: x.A.Owner}
		switch {
		case x.A.Path != "" && x.B.Path != "" && without(x.A.Path):
			continue // without its secrets
		case x.A.Path == "":
			change.What = Added
		case x.B.Path == "":
			change.What = Removed
		case x.A.Regular() && x.B.Regular() && x.A.Size == x.B.Size: // another time: its bytes tell
			a, err := tree.HashFile(ctx, was, x.A.Path)
			if err != nil {
				return err
			}
			if b, err := tree.HashFile(ctx, now, x.B.Path); err == nil && a == b {
				continue
			}
		}
		reported[change.Path] = true
		d.out.Files = append(d.out.Files, change)
	}
	there := make(map[string]tree.Entry, len(after.Entries))
	for _, e := range after.Entries {
		there[e.Path] = e
	}
	for _, e := range before.Entries {
		is, has := there[e.Path]
		if has && !reported[e.Path] && is.Mode.Type() == e.Mode.Type() && !is.SameAccess(e) {
			d.out.Files = append(d.out.Files, FileChange{Path: e.Path, What: Access, Was: e.Owner})
		}
	}
	files, _ := before.Totals()
	d.out.Same.Files = int64(files)
	for _, c := range d.out.Files {
		if c.What != Added {
			d.out.Same.Files--
		}
	}
	return ctx.Err()
}

func (d *differing) tables(ctx context.Context, env *op.Env, place stack.Place, s site.Site, p *pointhost.Host) error {
	st, err := env.Stack(s.Stack)
	if err != nil {
		return err
	}
	open := func(at stack.Place) (tables.Snapshot, error) {
		db, err := stack.OpenDatabase(ctx, st, at, s.Database)
		if err != nil {
			return nil, err
		}
		return db.Snapshot(ctx)
	}
	now, err := open(place)
	if err != nil {
		return fmt.Errorf("reading the site's database: %w", err)
	}
	defer now.Close()
	was, err := open(stack.Place{Host: p})
	if err != nil {
		return err
	}
	defer was.Close()
	if p.Point().Redacted() { // what was taken out is no difference
		now = stack.Redacted(now, stack.SecretsOf(st).Redact(s.Database.Prefix))
	}
	quiet, err := tables.Quiet(ctx, now)
	if err != nil {
		return err
	}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(now.Readers())
	for _, name := range names(was.Schema(), now.Schema()) {
		g.Go(func() error {
			a, had := was.Schema().Table(name)
			b, has := now.Schema().Table(name)
			c := TableChange{Name: name, Shape: had && has && !engines.SameShape(a, b)}
			at := p.Point().Quiet[name]
			switch {
			case !had:
				c.Added = b.Rows
			case !has:
				c.Removed = p.Rows(name)
			case tables.Same(at, quiet[name]) && b.Rows == p.Rows(name) && !c.Shape: // nobody wrote to it
				d.same(b.Rows)
				return nil
			default:
				if err := d.rows(gctx, was, now, a, b, &c); err != nil {
					return fmt.Errorf("table %s: %w", name, err)
				}
			}
			if c.Shape || c.Added+c.Changed+c.Removed > 0 || had != has {
				d.mu.Lock()
				defer d.mu.Unlock()
				d.out.Tables = append(d.out.Tables, c)
			}
			return nil
		})
	}
	return g.Wait()
}

// names lists the tables of both, each once.
func names(a, b tables.Schema) (out []string) {
	for _, s := range []tables.Schema{a, b} {
		for _, t := range s.Tables {
			if !slices.Contains(out, t.Name) {
				out = append(out, t.Name)
			}
		}
	}
	return out
}

func (d *differing) same(rows int64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.out.Same.Rows += rows
}

// rows compares a table row by row.
func (d *differing) rows(ctx context.Context, was, now tables.Snapshot, a, b tables.Table, c *TableChange) error {
	same := int64(0)
	err := diff.Tables(ctx, max(a.Rows, b.Rows), diff.Stored(was, a), diff.Stored(now, b),
		func(k diff.Kind, _ diff.Row) error {
			switch k {
			case diff.Added:
				c.Added++
			case diff.Removed:
				c.Removed++
			case diff.Changed:
				c.Changed++
			default:
				same++
			}
			return nil
		})
	d.same(same)
	return err
}
