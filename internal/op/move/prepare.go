package move

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// prepare makes room at the other place: the folder, the database, and the files that say where the site stands.
func (x *runner) prepare(ctx context.Context, t *work.Task) error {
	here, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	m, err := x.env.Record.Move(ctx, x.c.Move)
	if err != nil {
		return err
	}
	h, err := x.env.Host(ctx, there.Host)
	if err != nil {
		return err
	}
	if err := makeFolder(ctx, h, there, func() error { return x.apart(ctx, m, here, there) }); err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Began, x.mem.Fresh = x.env.Now(), len(m.Passes) == 0 && !m.Over })
	if err := t.Remember(); err != nil {
		return err
	}
	switch db := there.Database; {
	case db.InFile():
		if err := emptyFile(ctx, h, db.Path); err != nil {
			return err
		}
	case db.Served() && m.Server && !m.Moved:
		if err := x.makeDatabase(ctx, here, there); err != nil {
			return err
		}
	}
	if err := x.lay(ctx); err != nil || !there.Database.Served() {
		return err
	}
	if x.mem.Fresh {
		if err := x.seeEmpty(ctx, there); err != nil {
			return err
		}
	}
	if m.Server && !m.Moved {
		return nil
	}
	is, err := x.env.Abilities(ctx, there)
	if err != nil {
		return fmt.Errorf("the database at %s: %w", there.Host, err)
	}
	return x.collate(ctx, here, there, is)
}

// makeFolder makes the folder of a place, unless it is there, and takes it away again if it is not right.
func makeFolder(ctx context.Context, h host.Host, there site.Site, right func() error) error {
	root, err := h.Write(ctx, there.Root)
	made := errors.Is(err, fs.ErrNotExist)
	if made {
		root, err = h.Make(ctx, there.Root)
	}
	if err != nil {
		return fmt.Errorf("making %s on %s: %w", there.Root, there.Host, err)
	}
	root.Close()
	err = right()
	if err == nil || !made {
		return err
	}
	up, uerr := h.Write(ctx, path.Dir(there.Root))
	if uerr == nil {
		uerr = up.Remove(path.Base(there.Root))
		up.Close()
	}
	return errors.Join(err, uerr)
}

// seeEmpty sees whether a database has nothing in which nothing is to be.
func (x *runner) seeEmpty(ctx context.Context, there site.Site) error {
	return x.env.Tables(ctx, there, func(_ stack.Stack, snap tables.Snapshot) error {
		if all := snap.Schema().Tables; len(all) > 0 {
			return fmt.Errorf("%s. Nothing was written to it; empty it, or name another one: alibi move %s forget, and begin "+
				"again", notEmpty(there, all), x.c.Move)
		}
		return nil
	})
}

// emptyFile makes a database without tables: a file without a byte is one (https://sqlite.org/fileformat.html).
func emptyFile(ctx context.Context, h host.Host, name string) error {
	dir, err := h.Make(ctx, path.Dir(name))
	if err != nil {
		return fmt.Errorf("making the folder of the database: %w", err)
	}
	defer dir.Close()
	if _, err := dir.Lstat(path.Base(name)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	_, err = host.Put(dir, path.Base(name), 0o640, time.Time{}, bytes.NewReader(nil))
	return err
}

// Made is who has what is made for a move at its new place, in the list of what Alibi made, until the site stands
// there.
func Made(name string) site.ID { return site.ID(op.MovePrefix + name) }

// makeDatabase makes the database, of the character set of the site's, and its account.
func (x *runner) makeDatabase(ctx context.Context, here, there site.Site) error {
	is, err := x.env.AbilitiesOn(ctx, there.Host)
	if err != nil {
		return fmt.Errorf("the database server of %s: %w", there.Host, err)
	}
	if err := x.collate(ctx, here, there, is); err != nil {
		return err
	}
	var settings map[string]string
	err = x.env.Tables(ctx, here, func(_ stack.Stack, snap tables.Snapshot) error {
		settings = engines.Recollate(snap.Schema(), x.mem.Collations).Settings
		return nil
	})
	if err != nil {
		return fmt.Errorf("reading the site's database: %w", err)
	}
	return x.env.MakeDatabaseFor(ctx, Made(x.c.Move), there, settings["charset"], settings["collation"])
}

// lay writes the files that are to be others at the other place, where they are not so yet.
func (x *runner) lay(ctx context.Context) error {
	x.arrive = nil
	e, err := x.open(ctx, nothing)
	if err != nil {
		return err
	}
	defer e.close()
	arrive, err := x.arriving(ctx, e)
	if err != nil {
		return err
	}
	root, err := x.env.Write(ctx, x.run, e.there, e.there.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	for _, name := range slices.Sorted(maps.Keys(arrive)) {
		is, err := host.ReadFile(root, name, int64(len(arrive[name])))
		if err == nil && bytes.Equal(is, arrive[name]) {
			continue
		}
		perm := fs.FileMode(0o640)
		if fi, err := e.from.Root.Lstat(name); err == nil {
			perm = fi.Mode().Perm()
		}
		if err := host.MkdirAll(root, path.Dir(name), 0o755); err != nil {
			return fmt.Errorf("making the folder of %s: %w", name, err)
		}
		if _, err := host.Put(root, name, perm, time.Time{}, bytes.NewReader(arrive[name])); err != nil {
			return fmt.Errorf("writing %s at %s: %w", name, e.there.Host, err)
		}
	}
	return nil
}

// count notes what was brought.
func (x *runner) count(t *work.Task) {
	var rows, bytes int64
	for _, at := range x.mem.At {
		rows += at.Place.Rows
	}
	for _, s := range t.Run().Steps {
		if s.Name == "stage" {
			bytes = s.Done
		}
	}
	files := x.mem.Files
	if x.listing != nil {
		files = len(tree.OnlyFiles(x.listing.Entries))
	}
	t.Memorize(func() { x.mem.Rows, x.mem.Files, x.mem.Bytes = rows, files, bytes })
}

// compareTables sees whether the other place has what was brought.
func (x *runner) compareTables(ctx context.Context, t *work.Task) error {
	_, there, err := x.sides(ctx)
	if err != nil || there.Database.Engine == "" {
		return err
	}
	return x.env.Tables(ctx, there, func(_ stack.Stack, snap tables.Snapshot) error {
		now, err := tables.Quiet(ctx, snap)
		if err != nil {
			return err
		}
		wrong, err := differing(ctx, snap, x.mem.At, func(a plan.At) plan.Sum { return a.Place }, t,
			func(name string) bool { return x.mem.Equal[name] && tables.Same(x.mem.Quiet.Place[name], now[name]) })
		if err != nil || len(wrong) == 0 {
			return err
		}
		return fmt.Errorf("%w: %s", state.ErrDiffers, wrong[0])
	})
}

// differing names the tables that do not add up to what they are to. Those that are still are not read.
func differing(ctx context.Context, snap tables.Snapshot, all map[string]plan.At, of func(plan.At) plan.Sum,
	t *work.Task, still func(name string) bool) ([]string, error) {
	names := slices.Sorted(maps.Keys(all))
	wrong := make([]string, len(names))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(max(1, snap.Readers()))
	for i, name := range names {
		tab, has := snap.Schema().Table(name)
		want := of(all[name])
		if !has {
			wrong[i] = "table " + name + " is not there"
			continue
		}
		if still != nil && tab.Rows == want.Rows && still(name) {
			continue
		}
		g.Go(func() error {
			is, err := total(ctx, snap, tab)
			if err == nil && is != want {
				wrong[i] = "table " + name + state.HowMany(is.Rows, want.Rows)
			}
			if t != nil {
				t.Add(is.Rows, 1)
			}
			return err
		})
	}
	err := g.Wait()
	return slices.DeleteFunc(wrong, func(s string) bool { return s == "" }), err
}

// Written names what somebody wrote to at a site's other place since both were the same: tables, or its files.
func Written(ctx context.Context, env *op.Env, m plan.Move) (out []string, err error) {
	there, err := env.Record.Site(ctx, m.Place)
	if err != nil {
		return nil, err
	}
	err = env.Tables(ctx, there, func(_ stack.Stack, snap tables.Snapshot) error {
		out, err = differing(ctx, snap, m.Sums, func(a plan.At) plan.Sum { return a.Place }, nil, nil)
		return err
	})
	if err != nil || m.Files == "" {
		return out, err
	}
	now, err := listed(ctx, env, there)
	if err == nil && now != m.Files {
		out = append(out, "its files")
	}
	return out, err
}

// listed digests the list of a place's files: names, sizes and times.
func listed(ctx context.Context, env *op.Env, s site.Site) (string, error) {
	p, err := env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return "", err
	}
	defer p.Root.Close()
	list, err := tree.Scan(ctx, p.Root, filter(s))
	if err != nil {
		return "", fmt.Errorf("listing the files at %s: %w", s.Host, err)
	}
	h := sha256.New()
	for _, e := range tree.OnlyFiles(list.Entries) {
		fmt.Fprintf(h, "%q %d %d\n", e.Path, e.Size, e.MTime.Unix())
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// unmake forgets what was made for the move: it is the site's own now; and notes it again when the site leaves it.
func (x *runner) unmake(ctx context.Context, m plan.Move) error {
	if !m.Server {
		return nil
	}
	for _, made := range op.MadeDatabase(Made(m.Name), m.To.Host, m.To.Database, x.env.Now()) {
		var err error
		if m.Moved {
			err = x.env.Record.Unmade(ctx, made.Host, made.Path)
		} else {
			err = x.env.Record.AddMade(ctx, made)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// bring copies the files right into a place where nothing was: nobody sees them there yet. One that goes meanwhile is
// seen by the next pass.
func (x *runner) bring(ctx context.Context, t *work.Task) error {
	e, err := x.open(ctx, fileParts)
	if err != nil {
		return err
	}
	defer e.close()
	root, err := x.env.Write(ctx, x.run, e.there, e.there.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := e.list.Sweep(root); err != nil {
		return err
	}
	_, problems, err := tree.Duplicate(ctx, e.from.Root, root, e.want.Entries,
		func(bytes int64, files int) { t.Add(bytes, int64(files)) })
	if err != nil {
		return fmt.Errorf("bringing the files: %w", err)
	}
	for _, p := range problems {
		if _, err := e.from.Root.Lstat(p.Path); !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("bringing the files: %s: %s", p.Path, p.What)
		}
	}
	t.Memorize(func() { x.mem.Alike = true })
	return nil
}
