package reset

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"

	"alibi/internal/host"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tables/sqlite"
	"alibi/internal/work"
)

// logs are what an SQLite database may have beside its file; a log that is not
// of the file beside it would damage that.
var logs = []string{"-wal", "-shm", "-journal"}

// beside is what an image of a database is called, in the folder of the one in
// use, while it is not in place.
func (x *runner) beside(s site.Site, what string) string {
	return x.dir() + "-" + what + "-" + path.Base(s.Database.Path)
}

// image makes a whole new database file and gives it the place of the one in use.
func (x *runner) image(ctx context.Context, t *work.Task, e *ends, now tables.Snapshot) error {
	made := filepath.Join(e.place.Temp, "reset-"+x.id+".db")
	defer os.Remove(made)
	if err := e.build(ctx, t, now, made); err != nil {
		return fmt.Errorf("making the new database: %w", err)
	}
	dir, err := x.databaseDir(ctx, e.s)
	if err != nil {
		return err
	}
	defer dir.Close()
	file := path.Base(e.s.Database.Path)
	fi, err := dir.Lstat(file)
	if err != nil {
		return fmt.Errorf("the database of %s: %w", e.s.Name, err)
	}
	in, err := os.Open(made)
	if err != nil {
		return err
	}
	defer in.Close()
	if _, err := host.Put(dir, x.beside(e.s, "new"), fi.Mode().Perm(), e.s.PlacedAt, in); err != nil {
		return fmt.Errorf("bringing the new database: %w", err)
	}
	for _, l := range logs {
		if err := dir.Rename(file+l, x.beside(e.s, "old")+l); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("putting the database aside: %w", err)
		}
	}
	if err := dir.Rename(file, x.beside(e.s, "old")); err != nil {
		return fmt.Errorf("putting the database aside: %w", err)
	}
	if err := dir.Rename(x.beside(e.s, "new"), file); err != nil {
		return fmt.Errorf("putting the new database in place: %w", err)
	}
	return nil
}

func (x *runner) databaseDir(ctx context.Context, s site.Site) (host.Root, error) {
	h, err := x.env.Hosts(ctx, s.Host)
	if err != nil {
		return nil, err
	}
	return h.Open(ctx, path.Dir(s.Database.Path))
}

// build fills a new file with the tables as they are to be, and with those that
// stay as they are.
func (e *ends) build(ctx context.Context, t *work.Task, now tables.Snapshot, to string) error {
	schema := now.Schema()
	schema.Tables = nil
	rows := map[string]func(context.Context, func(tables.Row) error) error{}
	for _, tab := range now.Schema().Tables {
		if !slices.ContainsFunc(e.want.tables, func(w table) bool { return w.name == tab.Name }) {
			schema.Tables = append(schema.Tables, tab)
			rows[tab.Name] = reader(now, tab.Name)
		}
	}
	for _, w := range e.want.tables {
		if w.table != nil {
			schema.Tables = append(schema.Tables, *w.table)
			rows[w.name] = w.rows
		}
	}
	if e.want.hangs {
		schema.After = e.want.after
	}
	target := sqlite.NewTarget(to)
	defer target.Close()
	if _, err := target.Begin(ctx, schema); err != nil {
		return err
	}
	for _, tab := range schema.Tables {
		if err := target.Load(ctx, tab.Name, func(put func(tables.Row) error) error { return rows[tab.Name](ctx, put) }); err != nil {
			return err
		}
		t.Add(tab.Rows, 1)
	}
	return target.Finish(ctx)
}

// imageBack gives a site its database back, if it was put aside.
func (x *runner) imageBack(ctx context.Context, s site.Site) error {
	dir, err := x.databaseDir(ctx, s)
	if err != nil {
		return err
	}
	defer dir.Close()
	file, old := path.Base(s.Database.Path), x.beside(s, "old")
	if _, err := dir.Lstat(old); err == nil {
		for _, l := range logs { // they are of the new one
			if err := dir.Remove(file + l); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("putting the database back: %w", err)
			}
		}
		if err := dir.Rename(old, file); err != nil {
			return fmt.Errorf("putting the database back: %w", err)
		}
	}
	for _, l := range logs {
		if err := dir.Rename(old+l, file+l); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("putting the database back: %w", err)
		}
	}
	return x.dropImages(ctx, s)
}

// dropImages removes what of the run is still in the folder of the database.
func (x *runner) dropImages(ctx context.Context, s site.Site) error {
	dir, err := x.databaseDir(ctx, s)
	if err != nil {
		return err
	}
	defer dir.Close()
	for _, what := range []string{"new", "old"} {
		for _, l := range append([]string{""}, logs...) {
			if err := dir.Remove(x.beside(s, what) + l); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("clearing up: %w", err)
			}
		}
	}
	return nil
}
