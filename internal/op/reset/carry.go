package reset

import (
	"context"
	"encoding/hex"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/zeebo/blake3"

	"alibi/internal/host/local"
	"alibi/internal/op"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// Carry is a file or a folder of another site that takes the place of the one of
// that name.
type Carry struct {
	From site.ID `json:"from"`
	Path string  `json:"path"`
	Sum  string  `json:"sum"` // of its files, when the plan was made
}

// Edit is a file with its new text.
type Edit struct {
	Path string `json:"path"`
	Text []byte `json:"text"`
}

// Carried lists what is carried from a site, and its sum. The files that make a
// copy the one that it is never leave it.
func Carried(ctx context.Context, env *op.Env, s site.Site, name string) (list []tree.Entry, sum string, err error) {
	p, err := env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return nil, "", err
	}
	defer p.Root.Close()
	list, err = carried(ctx, env, s, p, name)
	if err != nil {
		return nil, "", err
	}
	files := tree.OnlyFiles(list)
	if err := tree.Digest(ctx, p.Root, files, nil, func(int64, int) {}); err != nil {
		return nil, "", fmt.Errorf("reading %s of %s: %w", name, s.Name, err)
	}
	return list, sumOf(files), nil
}

func carried(ctx context.Context, env *op.Env, s site.Site, p stack.Place, name string) (list []tree.Entry, err error) {
	own, err := (&runner{env: env}).own(ctx, s)
	if err != nil {
		return nil, err
	}
	all, err := tree.Scan(ctx, p.Root, filter(s))
	if err != nil {
		return nil, err
	}
	in := inPaths([]string{name})
	for _, e := range all.Entries {
		if in(e.Path) && !own[e.Path] {
			list = append(list, e)
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%s has no file or folder %s that could be carried", s.Name, name)
	}
	return list, nil
}

func sumOf(files []tree.Entry) string {
	h := blake3.New()
	for _, f := range files {
		fmt.Fprintf(h, "%s\x00%d\x00", f.Path, f.Size)
		_, _ = h.Write(f.Hash[:]) // a digest takes everything
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// bring lays out what is carried and edited below dir, as it will stand below the
// site's root.
func (x *runner) bring(ctx context.Context, st stack.Stack, dir string) error {
	c := x.c.Change
	for _, k := range c.Carry {
		if err := x.carry(ctx, k, dir); err != nil {
			return err
		}
	}
	files := map[string][]byte{}
	for _, e := range c.Edit {
		files[e.Path] = e.Text
	}
	if c.Ballast != nil && !c.Ballast.Remove {
		for name, b := range stack.FillerOf(st).BallastFiles(*c.Ballast) {
			files[name] = b
		}
	}
	for name, text := range files {
		to := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(to, text, 0o644); err != nil {
			return fmt.Errorf("laying out %s: %w", name, err)
		}
		at := x.p.At // the same in every try
		if err := os.Chtimes(to, at, at); err != nil {
			return err
		}
	}
	return nil
}

// carry copies what is carried, and sees whether it is what the plan says.
func (x *runner) carry(ctx context.Context, k Carry, dir string) error {
	s, err := x.env.Record.Site(ctx, k.From)
	if err != nil {
		return err
	}
	p, err := x.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return err
	}
	defer p.Root.Close()
	list, err := carried(ctx, x.env, s, p, k.Path)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(dir, filepath.Dir(filepath.FromSlash(k.Path))), 0o755); err != nil {
		return err
	}
	dst, err := local.New("cache").Write(ctx, dir)
	if err != nil {
		return err
	}
	defer dst.Close()
	_, problems, err := tree.Copy(ctx, p.Root, dst, list, func(int64, int) {})
	switch {
	case err != nil:
		return fmt.Errorf("carrying %s from %s: %w", k.Path, s.Name, err)
	case len(problems) > 0:
		return fmt.Errorf("carrying %s from %s: %s: %s", k.Path, s.Name, problems[0].Path, problems[0].What)
	}
	files := tree.OnlyFiles(list)
	if err := tree.Digest(ctx, dst, files, nil, func(int64, int) {}); err != nil {
		return err
	}
	if sumOf(files) != k.Sum {
		return fmt.Errorf("%s of %s is not what it was when the plan was made: plan it again", k.Path, s.Name)
	}
	return nil
}

// places are the paths that a change puts something in place of, but for the
// core's.
func (c *Change) places(st stack.Stack) (out []string) {
	for _, p := range c.Put {
		if p.Source.Kind != site.Core {
			out = append(out, stack.ComponentsOf(st).Stands(p.Source.Kind, p.Source.Slug))
		}
	}
	for _, k := range c.Carry {
		out = append(out, k.Path)
	}
	for _, e := range c.Edit {
		out = append(out, e.Path)
	}
	if c.Ballast != nil && c.Ballast.Remove {
		out = append(out, stack.FillerOf(st).BallastFolder())
	} else if c.Ballast != nil {
		for name := range stack.FillerOf(st).BallastFiles(*c.Ballast) {
			out = append(out, name)
		}
	}
	return append(out, c.Remove...)
}

// rows is what becomes of each table by all that a change asks for.
func (x *runner) rows(ctx context.Context, e *ends, now tables.Snapshot) (func(tables.Table) stack.Cleanup, error) {
	c := x.c.Change
	prefix := e.s.Database.Prefix
	var parts []func(tables.Table) stack.Cleanup
	add := func(of func(tables.Table) stack.Cleanup, err error) error {
		parts = append(parts, of)
		return err
	}
	var err error
	if c.Switch.Any() {
		err = add(stack.ComponentsOf(e.st).Switch(ctx, now, prefix, c.Switch))
	}
	if c.Caches {
		parts = append(parts, func(t tables.Table) stack.Cleanup { return stack.CachesOf(e.st).EmptyCaches(prefix, t) })
	}
	if err == nil && c.Account != nil {
		err = add(stack.PeopleOf(e.st).Account(ctx, now, prefix, *c.Account))
	}
	if err == nil && c.Ballast != nil {
		f := site.Facts{Prefix: prefix}
		if e.s.Facts != nil {
			f.Contents = e.s.Facts.Contents
		}
		err = add(stack.FillerOf(e.st).Ballast(ctx, now, f, *c.Ballast, x.p.At))
	}
	if err == nil && c.Scrub {
		err = add(x.scrubbed(ctx, e, now))
	}
	if err != nil {
		return nil, err
	}
	return func(t tables.Table) (out stack.Cleanup) {
		for _, of := range parts {
			out = out.Then(of(t))
		}
		return out
	}, nil
}

// scrubbed has everything made up that is personal.
func (x *runner) scrubbed(ctx context.Context, e *ends, now tables.Snapshot) (func(tables.Table) stack.Cleanup, error) {
	s := x.env.Scrubber(e.st, e.s)
	if err := s.From(ctx, now); err != nil {
		return nil, err
	}
	return func(t tables.Table) stack.Cleanup {
		if strings.HasPrefix(path.Base(t.Name), "sqlite_") {
			return stack.Cleanup{}
		}
		return stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
			r = tables.Row{Key: r.Key, Values: append([]tables.Value(nil), r.Values...)}
			s.Row(t, r)
			return r, true
		}}
	}, nil
}
