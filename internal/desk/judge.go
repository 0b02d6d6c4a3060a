package desk

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"alibi/internal/host/local"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// runtime works out another runtime.
func (x *changing) runtime() {
	if x.w.Runtime == nil || *x.w.Runtime == x.s.Runtime {
		return
	}
	r, was := *x.w.Runtime, x.s.Runtime
	x.c.Runtime = &r
	for _, p := range []struct{ what, from, to string }{
		{"PHP", cmp.Or(was.PHP, x.s.Facts.PHP), r.PHP}, {"memory", was.Memory, r.Memory},
		{"longest request", seconds(was.RunTime), seconds(r.RunTime)}, {"largest upload", was.Upload, r.Upload},
		{"errors on pages", shown(was.Show), shown(r.Show)},
		{"extensions", cmp.Or(was.Extensions, "the usual ones"), cmp.Or(r.Extensions, "the usual ones")},
		{"bounds", cmp.Or(was.Bounds, "the usual ones"), cmp.Or(r.Bounds, "the usual ones")},
	} {
		if p.from != p.to && p.to != "" {
			x.say(p.what, 0, 0, cmp.Or(p.from, "PHP's own")+" -> "+p.to)
		}
	}
	x.extensions(r)
	if have := x.d.php(); x.s.Host == x.d.config.Machine && r.PHP != was.PHP && r.PHP != "" {
		ok := false
		var series []string
		for _, p := range have {
			ok = ok || p.Series() == r.PHP || p.Version == r.PHP
			series = append(series, p.Series())
		}
		if !ok {
			x.note(
				site.Block,
				"php",
				"PHP "+r.PHP+" is not on this machine",
				"it has "+cmp.Or(strings.Join(series, ", "), "none")+
					"; name folders with further ones in the configuration: runtime.php",
			)
		}
	}
}

// ballast is made up too, if it is not there.
func (x *changing) ballast(ctx context.Context) error {
	if x.w.Ballast == nil {
		return nil
	}
	n := 0
	err := x.d.database(ctx, x.s, func(st stack.Stack, snap tables.Snapshot) error {
		f := *x.s.Facts
		f.Prefix = x.s.Database.Prefix
		of, err := stack.FillerOf(st).Ballast(ctx, snap, f, *x.w.Ballast, x.d.now())
		if err != nil {
			return err
		}
		for _, t := range snap.Schema().Tables {
			n += len(of(t).Add)
		}
		return nil
	})
	if err == nil && n > 0 {
		x.c.Ballast = x.w.Ballast
		x.say(x.w.Ballast.Words(), 0, 0, "comes")
	}
	return err
}

// extensions sees whether PHP has what is asked for.
func (x *changing) extensions(r site.Runtime) {
	if r.Extensions == "" {
		return
	}
	if x.s.Host != x.d.config.Machine {
		x.note(site.Block, "extensions", "extensions are chosen for copies on this machine only", "leave them out")
		return
	}
	for _, p := range x.d.php() {
		if p.Series() != php.Series(cmp.Or(r.PHP, x.s.Facts.PHP)) {
			continue
		}
		if _, err := p.Load(context.Background(), r.Extensions); err != nil {
			x.note(site.Block, "extensions", err.Error(), "see what is there: alibi runtime "+x.s.Name)
		}
		x.note(site.Note, "ini", "with a choice of extensions PHP reads no further settings of this machine",
			"memory, time and uploads can be set for the copy")
	}
}

func seconds(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%d s", n)
}

func shown(b bool) string { return site.Either(b, "shown", "hidden") }

// judge tells what the change leaves unmet.
func (x *changing) judge(themes []site.Component) {
	core, php := x.s.Facts.Core, cmp.Or(x.s.Runtime.PHP, x.s.Facts.PHP)
	for _, p := range x.c.Put {
		if p.Source.Kind == site.Core {
			core = p.Source.Version
		}
	}
	if x.c.Runtime != nil && x.c.Runtime.PHP != "" {
		php = x.c.Runtime.PHP
	}
	for _, u := range Unmet(x.after, themes, core, php) {
		x.note(site.Warn, "unmet", u, "bring what it asks for, or deactivate it")
	}
}

// Unmet says what components that are on ask for and don't get.
func Unmet(plugins, themes []site.Component, core, php string) (out []string) {
	for _, c := range slices.Concat(plugins, themes) {
		if !on(c) {
			continue
		}
		if c.RequiresCore != "" && core != "" && site.CompareVersions(core, c.RequiresCore) < 0 {
			out = append(out, fmt.Sprintf("%s %s asks for core %s, and there is %s", c.Slug, c.Version, c.RequiresCore,
				core))
		}
		if c.RequiresPHP != "" && php != "" && site.CompareVersions(php, c.RequiresPHP) < 0 {
			out = append(out, fmt.Sprintf("%s %s asks for PHP %s, and there is %s", c.Slug, c.Version, c.RequiresPHP,
				php))
		}
		for _, r := range c.Requires {
			if p := find(plugins, r); p == nil || !on(*p) {
				out = append(out, fmt.Sprintf("%s asks for the plugin %s, which is not on", c.Slug, r))
			}
		}
	}
	return out
}

// conflicts looks, before anything is done, for names that a plugin that is activated
// declares and another one that is on declares too.
func (x *changing) conflicts(ctx context.Context) (out []site.Finding) {
	declared := stack.ComponentsOf(x.st).Declared
	if len(x.c.Switch.On) == 0 {
		return nil
	}
	h, err := x.d.host(ctx, x.s.Host)
	if err != nil {
		return nil // the plan's own steps will say so
	}
	names := map[string]map[string]bool{} // by plugin
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(4)
	for _, p := range x.after {
		if !on(p) || p.State == "must-use" {
			continue
		}
		g.Go(func() error {
			dir, from := path.Join(x.s.Root, stack.ComponentsOf(x.st).Stands(site.Plugin, p.Slug)), h
			for _, k := range x.c.Put {
				if k.Source.Kind == site.Plugin && k.Source.Slug == p.Slug {
					dir, from = k.Dir, local.New("cache")
				}
			}
			root, err := from.Open(ctx, dir)
			if err != nil {
				return nil // a plugin that is one file
			}
			defer root.Close()
			found := declared(root)
			mu.Lock()
			defer mu.Unlock()
			names[p.Slug] = found
			return nil
		})
	}
	_ = g.Wait()
	for _, file := range x.c.Switch.On {
		slug, _, _ := strings.Cut(file, "/")
		for _, p := range x.after {
			if p.Slug == slug {
				continue
			}
			for name := range names[slug] {
				if names[p.Slug][name] {
					out = append(
						out,
						site.Finding{
							Severity: site.Warn,
							Code:     "conflict",
							Text: fmt.Sprintf("%s and %s both declare %s: PHP ends a request in which that "+
								"happens twice", slug, p.Slug, name),
							Remedy: "put one of them off",
						},
					)
					break
				}
			}
		}
	}
	slices.SortFunc(out, func(a, b site.Finding) int { return strings.Compare(a.Text, b.Text) })
	return slices.CompactFunc(out, func(a, b site.Finding) bool { return a.Text == b.Text })
}
