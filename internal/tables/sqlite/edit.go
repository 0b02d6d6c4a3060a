package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"alibi/internal/host"
	"alibi/internal/tables"
)

// logs are what a database may have beside its file; a log that is not of the file
// beside it would damage that.
var logs = []string{"-wal", "-shm", "-journal"}

// edit makes a whole new file beside the one in use, and exchanges them.
type edit struct {
	dir  host.Root // of the database
	file string    // its name there
	mark string    // begins the names of what is beside it
	temp string    // a folder of this machine, for the new file
	at   time.Time // that the new file is given
	far  Piper     // runs PHP where the file is, if that is not here
}

// NewEdit changes the database that is the file in dir, which is closed with it. What is
// made beside it gets names that begin with mark, and so does the new file in temp, a
// folder of this machine. at is when the file is said to have been written to. far is the
// machine that the file is on.
func NewEdit(dir host.Root, file, mark, temp string, at time.Time, far Piper) tables.Edit {
	return &edit{dir, file, mark, temp, at, far}
}

func (e *edit) Separate() bool                                                  { return false }
func (e *edit) Objects(context.Context, []tables.Object, []tables.Object) error { return nil }
func (e *edit) Close() error                                                    { return e.dir.Close() }

func (e *edit) beside(what string) string { return e.mark + "-" + what + "-" + e.file }

// Stage makes the new file.
func (e *edit) Stage(
	ctx context.Context,
	now tables.Snapshot,
	w tables.Wanted,
	tell func(rows, tables int64),
) (tables.Staged, error) {
	out := tables.Staged{Whole: len(w.Tables)}
	made := filepath.Join(e.temp, e.mark+".db")
	defer os.Remove(made)
	if err := build(ctx, now, w, made, tell); err != nil {
		return out, fmt.Errorf("making the new database: %w", err)
	}
	fi, err := e.dir.Lstat(e.file)
	if err != nil {
		return out, fmt.Errorf("the database %s: %w", e.file, err)
	}
	in, err := os.Open(made)
	if err != nil {
		return out, err
	}
	defer in.Close()
	if _, err := host.Put(e.dir, e.beside("new"), fi.Mode().Perm(), e.at, in); err != nil {
		return out, fmt.Errorf("bringing the new database: %w", err)
	}
	return out, nil
}

// build fills a new file with the tables as they are to be, and with those that stay as
// they are.
func build(ctx context.Context, now tables.Snapshot, w tables.Wanted, to string, tell func(rows, tables int64)) error {
	schema := now.Schema()
	schema.Tables = nil
	rows := map[string]func(context.Context, func(tables.Row) error) error{}
	for _, tab := range now.Schema().Tables {
		if _, changes := w.Table(tab.Name); !changes {
			schema.Tables = append(schema.Tables, tab)
			rows[tab.Name] = func(ctx context.Context, give func(tables.Row) error) error {
				return now.Read(ctx, tab.Name, tables.Range{}, give)
			}
		}
	}
	for _, want := range w.Tables {
		if want.Table != nil {
			schema.Tables = append(schema.Tables, *want.Table)
			rows[want.Name] = want.Rows
		}
	}
	if w.Hangs {
		schema.After = w.After
	}
	target := NewTarget(to)
	defer target.Close()
	if _, err := target.Begin(ctx, schema); err != nil {
		return err
	}
	for _, tab := range schema.Tables {
		fill := func(put func(tables.Row) error) error { return rows[tab.Name](ctx, put) }
		if err := target.Load(ctx, tab.Name, fill); err != nil {
			return err
		}
		tell(tab.Rows, 1)
	}
	return target.Finish(ctx)
}

// Exchange gives the new file the place of the one in use, whose logs go with it. Without
// a new file there is nothing to exchange.
func (e *edit) Exchange(context.Context) error {
	if _, err := e.dir.Lstat(e.beside("new")); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, l := range logs {
		if err := e.rename(e.file+l, e.beside("old")+l); err != nil {
			return fmt.Errorf("putting the database aside: %w", err)
		}
	}
	if err := e.rename(e.file, e.beside("old")); err != nil {
		return fmt.Errorf("putting the database aside: %w", err)
	}
	if err := e.dir.Rename(e.beside("new"), e.file); err != nil {
		return fmt.Errorf("putting the new database in place: %w", err)
	}
	return nil
}

// rename gives a file another name, if it is there.
func (e *edit) rename(from, to string) error {
	if err := e.dir.Rename(from, to); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Rollback gives the database its file back, if that was put aside.
func (e *edit) Rollback(ctx context.Context) error {
	old := e.beside("old")
	if _, err := e.dir.Lstat(old); err == nil {
		for _, l := range logs { // they are of the new one
			if err := e.dir.Remove(e.file + l); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("putting the database back: %w", err)
			}
		}
		if err := e.dir.Rename(old, e.file); err != nil {
			return fmt.Errorf("putting the database back: %w", err)
		}
	}
	for _, l := range logs {
		if err := e.rename(old+l, e.file+l); err != nil {
			return fmt.Errorf("putting the database back: %w", err)
		}
	}
	return e.Commit(ctx)
}

// Commit removes what is still beside the database.
func (e *edit) Commit(context.Context) error {
	for _, what := range []string{"new", "old"} {
		for _, l := range append([]string{""}, logs...) {
			if err := e.dir.Remove(e.beside(what) + l); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("clearing up: %w", err)
			}
		}
	}
	return nil
}
