package trial

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"alibi/internal/host/local"
	"alibi/internal/op"
	"alibi/internal/runtime/outbox"
	"alibi/internal/runtime/php"
	"alibi/internal/runtime/pool"
	"alibi/internal/runtime/process"
	"alibi/internal/runtime/wall"
	"alibi/internal/runtime/web"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// switches puts plugins on and off in the cell's own tables.
func (f *fork) switches(ctx context.Context) error {
	if !f.v.Set.Switch.Any() {
		return nil
	}
	name := f.site.Database.Name
	edit, can := f.b.srv.Edit(name).(tables.Patcher)
	if !can {
		return fmt.Errorf("rows of the database %s can't be changed: %w", name, tables.ErrRefused)
	}
	defer edit.Close()
	snap, err := f.b.srv.Open(name, tables.Prefix{}).Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snap.Close()
	of, err := stack.ComponentsOf(f.b.st).Switch(ctx, snap, f.site.Database.Prefix, f.v.Set.Switch)
	if err != nil {
		return err
	}
	for _, t := range snap.Schema().Tables {
		k := of(t)
		if k.Row == nil {
			continue
		}
		var keys [][]tables.Value
		var rows []tables.Row
		if err := snap.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
			was := slices.Clone(r.Values)
			to, _ := k.Row(r)
			if !slices.EqualFunc(was, to.Values, func(a, b tables.Value) bool { return a.String() == b.String() }) {
				keys = append(keys, tables.Keep(r.Key))
				rows = append(rows, tables.Row{Key: tables.Keep(to.Key), Values: tables.Keep(to.Values)})
			}
			return nil
		}); err != nil {
			return err
		}
		if len(rows) == 0 {
			continue
		}
		if err := edit.Patch(ctx, []tables.Table{t}, func(p tables.Patch) error {
			return p.Rows(t, keys, func(put func(tables.Row) error) error {
				for _, r := range rows {
					if err := put(r); err != nil {
						return err
					}
				}
				return nil
			})
		}); err != nil {
			return err
		}
		if err := edit.Commit(ctx); err != nil {
			return err
		}
	}
	return nil
}

// errNoStart says that the runtime of a cell does not start.
var errNoStart = errors.New("its runtime does not start")

// start runs the cell's code.
func (f *fork) start(ctx context.Context) error {
	i := slices.IndexFunc(f.b.php, func(p php.PHP) bool { return p.Series() == php.Series(f.v.PHP) })
	if i < 0 {
		return fmt.Errorf("%w: PHP %s is not on this machine", errNoStart, f.v.PHP)
	}
	r := f.b.site.Runtime
	now := filepath.Dir(f.site.Root)
	s := web.Spec{
		Run:     f.run,
		Root:    f.site.Root,
		Logs:    filepath.Join(f.dir, "logs"),
		PHP:     f.b.php[i],
		Also:    []string{filepath.Join(now, "data"), filepath.Join(now, "caught")},
		Mail:    filepath.Join(now, "caught"),
		Memory:  r.Memory,
		RunTime: time.Duration(r.RunTime) * time.Second,
		Upload:  r.Upload,
		Workers: 2,
		SubDirs: f.b.site.Facts.Network != nil && !f.b.site.Facts.Network.SubDomains,
	}
	var err error
	if s.Load, err = s.PHP.Load(ctx, r.Extensions); err != nil {
		return fmt.Errorf("%w: %w", errNoStart, err)
	}
	if why := wall.Missing(); f.b.env.Sealed && why != "" {
		return fmt.Errorf("%w: %w: %s", errNoStart, pool.ErrUnsealed, why)
	}
	s.Sealed = pool.Sealed(local.New(f.b.env.Local), f.site, &outbox.Notes{Dir: s.Mail})
	started, err := web.Start(s)
	if err != nil {
		return fmt.Errorf("%w: %w", errNoStart, err)
	}
	f.web = started
	return nil
}

// drop removes a cell.
func (f *fork) drop(ctx context.Context) error {
	if f.web != nil {
		f.web.Stop()
	}
	err := os.RemoveAll(f.run)
	made, merr := f.b.env.Record.AllMade(ctx)
	if merr != nil {
		return errors.Join(err, merr)
	}
	for _, m := range made {
		if m.Site == f.b.owner && strings.HasSuffix(m.Path, ":"+f.site.Database.Name) {
			err = errors.Join(err, f.b.env.Unmake(ctx, m))
		}
	}
	return errors.Join(err, os.RemoveAll(f.dir))
}

// reap ends the programs of cells that a dead process left.
func reap(env *op.Env, id string) {
	list, _ := filepath.Glob(filepath.Join(env.Run, "t"+id+"-*")) // the pattern is a good one
	for _, dir := range list {
		process.Reap(dir)
		_ = os.RemoveAll(dir)
	}
}

// written tells which shared files somebody wrote to in place, and mends them.
func (b *bench) written() (n int, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, e := range b.files {
		if e.Mode.IsDir() || e.Link != "" {
			continue
		}
		name := filepath.Join(b.dir, "shared", e.Path)
		var st unix.Stat_t
		if err := unix.Lstat(name, &st); err == nil && st.Size == e.Size &&
			time.Unix(st.Mtim.Unix()).Truncate(time.Second).Equal(e.MTime.Truncate(time.Second)) {
			continue
		}
		n++
		if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return n, err
		}
		if _, err := local.CopyFile(filepath.Join(b.site.Root, e.Path), name, 0o644); err != nil {
			return n, err
		}
		if err := os.Chtimes(name, e.MTime, e.MTime); err != nil {
			return n, err
		}
	}
	return n, nil
}
