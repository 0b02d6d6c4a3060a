package clone

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"alibi/internal/baseline"
	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/tree"
)

// unchanged takes from the present copy the files that look unchanged on the
// origin and on the copy since they parted: they get a hard link, and the
// first goes with what is replaced. What must be fetched is given back.
func (x *runner) unchanged(
	ctx context.Context,
	dst host.Root,
	entries []tree.Entry,
	tell tree.Progress,
) (kept, fetch []tree.Entry, err error) {
	if x.p.Kind != plan.Refresh || x.d.Choices.Fresh {
		return nil, entries, nil
	}
	if s, err := x.env.Record.Site(ctx, x.p.Target.ID); err != nil || s.Origin != x.p.Origin.ID {
		return nil, entries, err // another site's files may look the same
	}
	b, err := baseline.Open(x.at("now", "baseline.db"))
	if err != nil {
		return nil, entries, nil // without one everything is brought
	}
	defer b.Close()
	base, err := b.Files(ctx)
	if err != nil {
		return nil, nil, err
	}
	now, err := x.env.Place(ctx, x.p.Target.Host, x.p.Target.Root)
	if err != nil {
		return nil, nil, err
	}
	defer now.Root.Close()
	list, err := tree.Scan(ctx, now.Root, tree.Filter{})
	if err != nil {
		return nil, nil, err
	}
	there := make(map[string]tree.Entry, len(list.Entries))
	for _, e := range list.Entries {
		there[e.Path] = e
	}
	var looked time.Time // zero where the site has no tables: then what can't be told is brought
	if m, err := b.Meta(ctx); err == nil {
		looked = m.Looked
	}
	forged, _, err := tree.Forged(ctx, now.Root, list.Entries, func(e tree.Entry) (tree.Entry, bool) {
		f, known := base[e.Path]
		return f.Copy, known
	})
	if err != nil {
		return nil, nil, fmt.Errorf("reading the copy's files: %w", err)
	}
	was := map[string]tree.Entry{}
	for _, e := range entries {
		f, known := base[e.Path]
		is, has := there[e.Path]
		same := known && has && e.Untouched(f.Origin) && !untold(e, looked) && is.Same(f.Copy) && !forged[e.Path]
		if !e.Regular() || !same || f.Origin.Hash != f.Copy.Hash || is.Mode.Perm() != tree.OnCopy(e.Mode) {
			fetch = append(fetch, e)
			continue
		}
		e.Hash, e.MTime = f.Origin.Hash, f.Origin.MTime
		kept, was[e.Path] = append(kept, e), is
	}
	if x.kept, err = x.link(ctx, dst, entries, kept, was, tell); err != nil {
		if ctx.Err() != nil {
			return nil, nil, err
		}
		x.kept = nil
		return nil, entries, nil // where files can't get a hard link they are brought again
	}
	return kept, fetch, nil
}

// untold tells whether a file may have been changed within the second in which it was read, so that its
// time does not tell whether it was.
func untold(e tree.Entry, looked time.Time) bool {
	return e.Changed.IsZero() && !e.MTime.Before(looked.Add(-2*time.Second))
}

// link gives files of the present copy their names in the next one. It gives the change times that they have then, of
// those that nobody touched since they were looked at, as far as the system tells: these need not be read again.
func (x *runner) link(ctx context.Context, dst host.Root, folders, files []tree.Entry, was map[string]tree.Entry,
	tell tree.Progress) (map[string]time.Time, error) {
	if _, _, err := tree.Copy(ctx, dst, dst, foldersOf(folders), tell); err != nil {
		return nil, err
	}
	up, err := x.env.Write(ctx, x.run, x.p.Target, op.Folder(x.p.Target))
	if err != nil {
		return nil, err
	}
	defer up.Close()
	linker, ok := up.(host.Linker)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	out := make(map[string]time.Time, len(files))
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for _, e := range files {
		g.Go(func() error {
			now, next := path.Join(x.part("now"), e.Path), path.Join(x.part("next"), e.Path)
			at, err := renamed(up, was[e.Path], now, next, func() error {
				err := linker.Link(now, next)
				if err != nil && exists(up, next) {
					return nil
				}
				return err
			})
			if err != nil {
				return err
			}
			if !at.IsZero() {
				mu.Lock()
				out[e.Path] = at
				mu.Unlock()
			}
			tell(e.Size, 1)
			return ctx.Err()
		})
	}
	return out, g.Wait()
}

// part is the folder of the copy's files below its own folder, in one of its parts: "now", "next", "former".
func (x *runner) part(name string) string {
	return name + strings.TrimPrefix(x.p.Target.Root, path.Join(op.Folder(x.p.Target), "now"))
}

// renamed gives a file another name, or takes one away, which changes its change time. It gives the time that the file
// then has under the name to, if nobody touched it meanwhile: just before it was as it had been, and just after it
// looks so; zero where the system does not tell.
func renamed(root host.Tree, was tree.Entry, from, to string, do func() error) (at time.Time, err error) {
	if was.Changed.IsZero() {
		return at, do()
	}
	before, err := root.Lstat(from)
	still := err == nil && tree.Entry{}.Seen(before).Untouched(was)
	if err := do(); err != nil || !still {
		return at, err
	}
	after, err := root.Lstat(to)
	if err != nil || !(tree.Entry{}).Seen(after).Same(was) {
		return at, nil
	}
	return host.ChangedOf(after), nil
}

// give puts what was replaced out of the way, now that there is no way back to it.
func (x *runner) give(ctx context.Context) error {
	halves, done, err := x.env.Halves(ctx, x.run, x.p.Target)
	if err != nil {
		return err
	}
	defer done()
	for _, half := range halves {
		if !exists(half, "old") {
			continue
		}
		if err := half.RemoveAll("former"); err != nil {
			return err
		}
		if err := half.Rename("old", "former"); err != nil {
			return err
		}
	}
	return nil
}

// letGo removes what was replaced. Files that were kept have their names there too: it takes these away one by one, and
// notes what change times the files have then, so that they need not be read when changes are counted.
func (x *runner) letGo(ctx context.Context) error {
	if x.p.Kind != plan.Refresh {
		return nil
	}
	if err := x.noteKept(ctx); err != nil {
		return err
	}
	return x.clear(ctx, "former", x.p.Target.Database)
}

func (x *runner) noteKept(ctx context.Context) error {
	b, err := baseline.Open(x.at("now", "baseline.db"))
	if err != nil {
		return err
	}
	defer b.Close()
	files, err := b.Files(ctx)
	if err != nil {
		return err
	}
	up, err := x.env.Write(ctx, x.run, x.p.Target, op.Folder(x.p.Target))
	if err != nil {
		return err
	}
	defer up.Close()
	var mu sync.Mutex
	var noted []baseline.File
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for _, name := range slices.Sorted(maps.Keys(files)) { // folder by folder
		f := files[name]
		if !f.Copy.Regular() || f.Copy.Changed.IsZero() || f.Own {
			continue
		}
		g.Go(func() error {
			now, shared := path.Join(x.part("now"), name), true
			at, err := renamed(up, f.Copy, now, now, func() error {
				err := up.Remove(path.Join(x.part("former"), name))
				if shared = !errors.Is(err, fs.ErrNotExist); !shared {
					return nil
				}
				return err
			})
			if err != nil || at.IsZero() || !shared {
				return errors.Join(err, gctx.Err())
			}
			mu.Lock()
			defer mu.Unlock()
			f.Copy.Changed = at
			noted = append(noted, f)
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return b.ChangeFiles(ctx, noted)
}

func foldersOf(entries []tree.Entry) (out []tree.Entry) {
	for _, e := range entries {
		if e.Mode.IsDir() {
			out = append(out, e)
		}
	}
	return
}
