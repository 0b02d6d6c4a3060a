package trial

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"

	"alibi/internal/catalogue"
	"alibi/internal/host/local"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// Variant is what a cell runs. A nil core is the copy's own.
type Variant struct {
	Core *catalogue.Package
	PHP  string
	Set  Set
	// Known is how the copy as it is answers, where parts of it are left out to find a cause: a page that
	// is there on the copy and not here has a kind that was left out, and measures nothing.
	Known *Answers
}

// cell is the variant without a verdict.
func (v Variant) cell(s site.Site) Cell {
	c := Cell{Core: s.Facts.Core, PHP: v.PHP, Set: v.Set.Name, State: Waiting}
	if v.Core != nil {
		c.Core = v.Core.Source.Version
	}
	c.Name = strings.TrimSpace("core " + c.Core + ", PHP " + c.PHP + ", " + c.Set)
	c.Name = strings.TrimSuffix(c.Name, ",")
	return c
}

// bench is where cells are made: the files of the copy, once, and all that is
// needed to know of it.
type bench struct {
	env   *op.Env
	site  site.Site
	st    stack.Stack
	owner site.ID
	dir   string
	run   string // begins the names of the folders of sockets
	srv   tables.Server
	pages []stack.Page
	admin string // who signs in for the pages of the administration
	files []tree.Entry
	php   []php.PHP

	next  atomic.Int64
	mu    sync.Mutex // over the stores of shared files
	cores map[string]bool
}

func newBench(
	ctx context.Context,
	env *op.Env,
	s site.Site,
	owner site.ID,
	dir, id string,
	tell func(int64, int),
) (*bench, error) {
	b := &bench{
		env:   env,
		site:  s,
		owner: owner,
		dir:   dir,
		run:   filepath.Join(env.Run, "t"+id),
		php:   env.PHP(),
		cores: map[string]bool{},
	}
	var err error
	if b.st, err = env.Stack(s.Stack); err != nil {
		return nil, err
	}
	srv, err := env.Server(ctx, s.Host)
	if err != nil {
		return nil, err
	}
	b.srv = srv
	if err := env.Record.AddMade(ctx, inventory.Made{Site: owner, Kind: "folder", Host: env.Local, Path: dir,
		At: env.Now()}); err != nil {
		return nil, err
	}
	if err := b.store(ctx, tell); err != nil {
		return nil, err
	}
	return b, b.learn(ctx)
}

// store copies the files of the copy once; cells have hard links to these, so
// that nothing that a cell does can reach the copy itself.
func (b *bench) store(ctx context.Context, tell func(int64, int)) error {
	p, err := b.env.Place(ctx, b.site.Host, b.site.Root)
	if err != nil {
		return err
	}
	defer p.Root.Close()
	list, err := tree.Scan(ctx, p.Root, stack.DatabaseFilter(b.site.Root, b.site.Database))
	if err != nil {
		return fmt.Errorf("listing the copy's files: %w", err)
	}
	to := filepath.Join(b.dir, "shared")
	if err := os.MkdirAll(to, 0o700); err != nil {
		return fmt.Errorf("making room for the trial: %w", err)
	}
	dst, err := local.New(b.env.Local).Write(ctx, to)
	if err != nil {
		return err
	}
	defer dst.Close()
	if _, problems, err := tree.Copy(ctx, p.Root, dst, list.Entries, tell); err != nil {
		return fmt.Errorf("laying out the files: %w", err)
	} else if len(problems) > 0 {
		return fmt.Errorf("laying out the files: %s: %s", problems[0].Path, problems[0].What)
	}
	b.files = list.Entries
	return nil
}

// learn finds out by which pages the copy is tried, and as whom.
func (b *bench) learn(ctx context.Context) error {
	p, err := b.env.Place(ctx, b.site.Host, b.site.Root)
	if err != nil {
		return err
	}
	defer p.Root.Close()
	db, err := stack.OpenDatabase(ctx, b.st, p, b.site.Database)
	if err != nil {
		return err
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snap.Close()
	if b.pages, err = b.st.Pages(ctx, snap, *b.site.Facts); err != nil {
		return err
	}
	accounts, err := stack.ReadAccounts(ctx, b.st, p, b.site.Database)
	if err == nil && len(accounts) > 0 {
		b.admin = accounts[0].Login
	}
	return err
}

// full is what a whole copy of the copy would take.
func (b *bench) full() int64 {
	var n int64
	for _, f := range tree.OnlyFiles(b.files) {
		n += f.Size
	}
	return n + b.site.Facts.TableBytes
}

// fork is one cell, made.
type fork struct {
	b     *bench
	v     Variant
	site  site.Site // as its own code is to be told
	dir   string
	run   string
	web   running
	bytes int64
}

// running is a cell's web server with its PHP.
type running interface {
	Dial(ctx context.Context) (net.Conn, error)
	Stop()
}

// make lays a cell out.
func (b *bench) make(ctx context.Context, v Variant) (_ *fork, err error) {
	n := b.next.Add(1)
	f := &fork{b: b, v: v, dir: filepath.Join(b.dir, fmt.Sprint(n)), run: fmt.Sprintf("%s-%d", b.run, n)}
	defer func() {
		if err != nil {
			err = errors.Join(err, f.drop(context.WithoutCancel(ctx)))
		}
	}()
	f.site = b.site
	f.site.ID, f.site.Host, f.site.Root = b.owner, b.env.Local, filepath.Join(f.dir, "now", "site")
	f.site.Database.Name = fmt.Sprintf("%st%s_%d", op.DatabasePrefix,
		strings.TrimPrefix(string(b.owner), op.TrialPrefix), n)
	f.site.Database.User = f.site.Database.Name
	if err := b.env.MakeDatabase(ctx, f.site, "utf8mb4", ""); err != nil {
		return f, err
	}
	if err := b.srv.Fork(ctx, b.site.Database.Name, f.site.Database.Name); err != nil {
		return f, err
	}
	if err := f.files(ctx); err != nil {
		return f, err
	}
	if err := f.configure(ctx); err != nil {
		return f, err
	}
	if err := f.switches(ctx); err != nil {
		return f, err
	}
	return f, nil
}

// alone are files that a cell may write to in place, and so has for itself.
func (f *fork) alone(name string) bool {
	base := filepath.Base(name)
	return strings.HasSuffix(base, ".log") || strings.HasPrefix(base, ".") ||
		strings.HasPrefix(name, stack.LayoutOf(f.b.st).Caches+"/") ||
		strings.HasSuffix(base, ".json") ||
		strings.HasSuffix(base, ".lock")
}

// files gives the cell its tree: hard links to shared files, and components of
// its own.
func (f *fork) files(ctx context.Context) error {
	replaced := map[string]bool{}
	for _, p := range f.v.Set.Put {
		replaced[stack.ComponentsOf(f.b.st).Stands(p.Source.Kind, p.Source.Slug)] = true
	}
	gone := func(name string) bool {
		if f.v.Core != nil && stack.ComponentsOf(f.b.st).CoreFile(name) {
			return true
		}
		for dir := name; dir != "."; dir = filepath.Dir(dir) {
			if replaced[dir] {
				return true
			}
		}
		return false
	}
	shared := filepath.Join(f.b.dir, "shared")
	if err := os.MkdirAll(f.site.Root, 0o755); err != nil {
		return err
	}
	for _, e := range f.b.files {
		if err := ctx.Err(); err != nil {
			return err
		}
		if gone(e.Path) {
			continue
		}
		to := filepath.Join(f.site.Root, e.Path)
		var err error
		switch {
		case e.Mode.IsDir():
			err = os.MkdirAll(to, 0o755)
		case e.Link != "":
			err = os.Symlink(tree.RelativeLink(f.b.site.Root, e.Path, e.Link), to)
		case f.alone(e.Path):
			err = f.take(filepath.Join(shared, e.Path), to)
		default:
			err = os.Link(filepath.Join(shared, e.Path), to)
		}
		if err != nil {
			return fmt.Errorf("laying out %s: %w", e.Path, err)
		}
	}
	if f.v.Core != nil {
		if err := f.core(); err != nil {
			return err
		}
	}
	for _, p := range f.v.Set.Put {
		if err := f.put(p, filepath.Join(f.site.Root, stack.ComponentsOf(f.b.st).Stands(p.Source.Kind, p.Source.Slug)),
			func(from, to string) error { return f.take(from, to) }, func(string) bool { return true }); err != nil {
			return fmt.Errorf("laying out %s: %w", p.Source.Text(), err)
		}
	}
	return nil
}

// take copies a file, and counts it as the cell's own.
func (f *fork) take(from, to string) error {
	n, err := local.CopyFile(from, to, 0o644)
	f.bytes += n
	return err
}

// put lays out the files of a component.
func (f *fork) put(
	p catalogue.Package,
	at string,
	bring func(from, to string) error,
	takes func(rel string) bool,
) error {
	return filepath.WalkDir(p.Dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(p.Dir, name)
		if err != nil {
			return err
		}
		if d.IsDir() {
			if rel != "." && !takes(filepath.ToSlash(rel)+"/x") {
				return filepath.SkipDir
			}
			return os.MkdirAll(filepath.Join(at, rel), 0o755)
		}
		if !takes(filepath.ToSlash(rel)) {
			return nil
		}
		return bring(name, filepath.Join(at, rel))
	})
}

// core gives the cell another core, by hard links to one that all cells with
// that version share.
func (f *fork) core() error {
	p := *f.v.Core
	store := filepath.Join(f.b.dir, "core-"+p.Source.Version)
	f.b.mu.Lock()
	if !f.b.cores[store] {
		if err := os.RemoveAll(store); err != nil { // what a broken-off try laid out
			f.b.mu.Unlock()
			return err
		}
		if err := f.put(p, store, func(from, to string) error { _, err := local.CopyFile(from, to, 0o644); return err },
			stack.ComponentsOf(f.b.st).CoreFile); err != nil {
			f.b.mu.Unlock()
			return fmt.Errorf("laying out core %s: %w", p.Source.Version, err)
		}
		f.b.cores[store] = true
	}
	f.b.mu.Unlock()
	p.Dir = store
	if err := f.put(p, f.site.Root, os.Link, stack.ComponentsOf(f.b.st).CoreFile); err != nil {
		return fmt.Errorf("laying out core %s: %w", p.Source.Version, err)
	}
	return nil
}

// configure writes the files that make the cell one.
func (f *fork) configure(ctx context.Context) error {
	p, err := f.b.env.Place(ctx, f.b.site.Host, f.b.site.Root)
	if err != nil {
		return err
	}
	defer p.Root.Close()
	own, err := stack.SettingsOf(f.b.st).Configure(ctx, p, stack.Change{Origin: *f.b.site.Facts, Copy: f.site,
		Password: f.b.env.Password(f.b.owner), Secret: f.secret()})
	if err != nil {
		return fmt.Errorf("setting up the cell: %w", err)
	}
	for name, text := range own {
		to := filepath.Join(f.site.Root, name)
		if err := os.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) { // a hard link to the copy's
			return err
		}
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(to, text, 0o600); err != nil {
			return err
		}
		f.bytes += int64(len(text))
	}
	return nil
}

func (f *fork) secret() string { return op.Derive(f.b.env.Secret, "words", f.b.owner) }
