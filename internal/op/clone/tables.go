package clone

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"time"

	"github.com/zeebo/blake3"

	"alibi/internal/baseline"
	"alibi/internal/host"
	"alibi/internal/plan"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tables/sqlite"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// tables brings the origin's rows, changed on their way, and notes in the
// baseline what each was and became.
func (x *runner) tables(ctx context.Context, t *work.Task) error {
	if x.p.Target.Database.Engine == "" {
		return nil
	}
	h, err := x.env.Hosts(ctx, x.p.Origin.Host)
	if err != nil {
		return err
	}
	db, err := stack.OpenDatabase(ctx, h, x.p.Origin.Database, x.env.Temp())
	if err != nil {
		return err
	}
	if err := x.sameOrigin(ctx, t, db); err != nil {
		return err
	}
	b, err := baseline.Open(x.at("next", "baseline.db"))
	if err != nil {
		return err
	}
	defer b.Close()
	if same, err := x.sameTables(ctx, t, b); err != nil || same {
		return err
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return fmt.Errorf("reading the origin's database: %w", err)
	}
	defer snap.Close()
	if err := x.load(ctx, t, snap, b); err != nil {
		return err
	}
	return b.PutMeta(ctx, baseline.Meta{At: x.env.Now(), Stamp: x.mem.Stamp})
}

// sameOrigin throws away what an earlier try loaded if the origin's database
// has changed since: a copy is of one state.
func (x *runner) sameOrigin(ctx context.Context, t *work.Task, db tables.Database) error {
	stamp, err := db.Stamp(ctx)
	if err != nil {
		return err
	}
	if x.mem.Stamp != stamp {
		if err := os.Remove(x.next(x.p.Target.Database.Path)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	x.mem.Stamp = stamp
	return t.Remember()
}

// sameTables takes the tables of the copy as it stands, if neither they nor the
// origin's changed since the two parted. The evidence compares them all the same.
func (x *runner) sameTables(ctx context.Context, t *work.Task, next *baseline.Baseline) (bool, error) {
	if x.p.Kind != plan.Refresh {
		return false, nil
	}
	now, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil || now.Title != x.p.Target.Title || now.Address() != x.p.Target.Address() || !slices.Equal(now.Quiet, x.p.Target.Quiet) {
		return false, err // other choices make other rows
	}
	was, err := baseline.Open(x.at("now", "baseline.db"))
	if err != nil {
		return false, nil // without one the tables are brought
	}
	defer was.Close()
	if m, err := was.Meta(ctx); err != nil || m.Stamp != x.mem.Stamp {
		return false, nil
	}
	h, err := x.env.Hosts(ctx, x.env.Local)
	if err != nil {
		return false, err
	}
	db, err := stack.OpenDatabase(ctx, h, x.p.Target.Database, x.env.Temp())
	if err != nil {
		return false, nil
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return false, ctx.Err() // what can't be read is brought anew
	}
	defer snap.Close()
	for _, tab := range snap.Schema().Tables {
		if same, err := sameRows(ctx, snap, tab, was, next); err != nil || !same {
			return false, err
		}
		t.Add(tab.Rows, 1)
	}
	if err := copyFile(x.p.Target.Database.Path, x.next(x.p.Target.Database.Path)); err != nil {
		return false, err
	}
	t.Note("the tables did not change on either side; nothing was read from the origin")
	return true, next.PutMeta(ctx, baseline.Meta{At: x.env.Now(), Stamp: x.mem.Stamp})
}

// sameRows tells whether a table of the copy is as it was made, and notes its
// rows in the next baseline.
func sameRows(ctx context.Context, snap tables.Snapshot, tab tables.Table, was, next *baseline.Baseline) (bool, error) {
	base, err := was.Table(ctx, tab.Name)
	if err != nil || int64(len(base)) != tab.Rows {
		return false, err
	}
	w, err := next.Rows(ctx, tab.Name)
	if err != nil {
		return false, err
	}
	same := true
	var buf []byte
	var d tables.Digest
	err = snap.Read(ctx, tab.Name, tables.Range{}, func(r tables.Row) error {
		key := baseline.Key(tab, r)
		d, buf = r.Digest(buf)
		b, known := base[key]
		if same = same && known && b.Copy == d[0]; !same {
			return nil
		}
		return w.Put(ctx, key, b)
	})
	if err != nil || !same {
		return false, err
	}
	return true, w.Close(ctx)
}

// copyFile copies a file of this machine that is nobody's yet.
func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	if _, err := io.Copy(out, in); err != nil {
		return fmt.Errorf("copying %s: %w", from, err)
	}
	return out.Sync()
}

func (x *runner) load(ctx context.Context, t *work.Task, snap tables.Snapshot, b *baseline.Baseline) error {
	schema := snap.Schema()
	target := sqlite.NewTarget(x.next(x.p.Target.Database.Path))
	defer target.Close()
	loaded, err := target.Begin(ctx, schema)
	if err != nil {
		return fmt.Errorf("making the copy's tables: %w", err)
	}
	tr, err := x.transform()
	if err != nil {
		return err
	}
	total := int64(0)
	for _, tab := range schema.Tables {
		total += tab.Rows
	}
	t.Expect(total)
	var changed stack.Changed
	for _, tab := range schema.Tables {
		whole, err := b.Table(ctx, tab.Name)
		if err != nil {
			return err
		}
		if slices.Contains(loaded, tab.Name) && int64(len(whole)) == tab.Rows {
			t.Add(tab.Rows, 1)
			continue
		}
		err = target.Load(ctx, tab.Name, func(put func(tables.Row) error) error {
			return x.pour(ctx, t, snap, tab, tr, b, &changed, put)
		})
		if err != nil {
			return err
		}
		t.Add(0, 1)
	}
	t.Note("%d addresses rewritten, %d settings adjusted", changed.Addresses, changed.Adjusted)
	return target.Finish(ctx)
}

// pour sends the rows of one table through the transform.
func (x *runner) pour(ctx context.Context, t *work.Task, snap tables.Snapshot, tab tables.Table, tr *stack.Transform, b *baseline.Baseline, changed *stack.Changed, put func(tables.Row) error) error {
	w, err := b.Rows(ctx, tab.Name)
	if err != nil {
		return err
	}
	var buf []byte
	var before, after tables.Digest
	pending := int64(0)
	err = snap.Read(ctx, tab.Name, tables.Range{}, func(r tables.Row) error {
		if pending++; pending == 256 {
			t.Add(pending, 0)
			pending = 0
			if err := ctx.Err(); err != nil {
				return err
			}
		}
		before, buf = r.Digest(buf)
		tr.Row(tab, r, changed)
		after, buf = r.Digest(buf)
		if err := w.Put(ctx, baseline.Key(tab, r), baseline.Pair{Origin: before[0], Copy: after[0]}); err != nil {
			return err
		}
		return put(r)
	})
	if err != nil {
		return err
	}
	t.Add(pending, 0)
	return w.Close(ctx)
}

// writeOwn writes the files that are the copy's own and gives their digests.
func writeOwn(ctx context.Context, dst stack.Place, own map[string][]byte) (map[string]tree.Hash, error) {
	out := map[string]tree.Hash{}
	for name, text := range own {
		if err := host.MkdirAll(dst.Root, path.Dir(name), 0o755); err != nil {
			return nil, err
		}
		if _, err := host.Put(dst.Root, name, 0o600, time.Time{}, bytes.NewReader(text)); err != nil {
			return nil, fmt.Errorf("writing %s: %w", name, err)
		}
		out[name] = tree.Hash(blake3.Sum256(text))
	}
	return out, ctx.Err()
}

// noteOwn puts the copy's own files into the baseline.
func (x *runner) noteOwn(ctx context.Context, dst stack.Place, own map[string][]byte) error {
	b, err := baseline.Open(x.at("next", "baseline.db"))
	if err != nil {
		return err
	}
	defer b.Close()
	files, err := b.Files(ctx)
	if err != nil {
		return err
	}
	for name := range own {
		fi, err := dst.Root.Lstat(name)
		if err != nil {
			return err
		}
		f := files[name]
		f.Own = true
		f.Copy = tree.Entry{Path: name, Mode: fi.Mode(), Size: fi.Size(), MTime: fi.ModTime(), Hash: x.mem.Configured[name]}
		files[name] = f
	}
	list := make([]baseline.File, 0, len(files))
	for _, f := range files {
		list = append(list, f)
	}
	return b.PutFiles(ctx, list)
}
