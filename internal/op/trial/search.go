package trial

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"alibi/internal/catalogue"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/work"
)

// Search says among what a cause is searched for.
type Search struct {
	Bare     string   `json:"bare,omitempty"`     // theme for cells without the site's own
	Runtimes []string `json:"runtimes,omitempty"` // series of PHP, besides the copy's own
	// other versions of plugins, newest first, by slug
	Versions map[string][]catalogue.Package `json:"versions,omitempty"`
}

// Found is the cause.
type Found struct {
	Plugins []string `json:"plugins,omitempty"` // that are needed for it to fail, by slug
	Theme   string   `json:"theme,omitempty"`
	PHP     string   `json:"php,omitempty"`     // series from which on it fails
	Version string   `json:"version,omitempty"` // of the one plugin from which on it fails
	Silent  bool     `json:"silent,omitempty"`  // some of what was tried says nothing
	Makers  []string `json:"makers,omitempty"`  // of Plugins, without which some of the pages are not there
	Reason  string   `json:"reason"`
	Text    string   `json:"text"` // in a sentence
}

// ErrPasses says that there is nothing to search for.
var ErrPasses = errors.New("the check passes on the copy as it is: there is no cause to search for")

// search finds the cause of a failing check.
func (x *runner) search(ctx context.Context, t *work.Task) error {
	b, err := x.open(ctx, func(int64, int) {})
	if err != nil {
		return err
	}
	if x.mem.AsItIs.State == Passes {
		return ErrPasses
	}
	f := &finding{x: x, b: b, t: t}
	found, err := f.find(ctx)
	if err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Found = found })
	t.Result("%s", found.Text)
	return t.Remember()
}

// finding is a search under way.
type finding struct {
	x *runner
	b *bench
	t *work.Task
}

// variant is the copy with only some plugins on.
func (f *finding) variant(name string, on []string, theme, runtime string) Variant {
	v := Variant{
		PHP:   runtime,
		Known: f.x.mem.Reference,
		Set:   Set{Name: name, Switch: stack.Switches{AllOff: true, Except: on, Theme: theme}},
	}
	for _, c := range f.b.site.Facts.Themes {
		if c.Slug == v.Set.Switch.Theme {
			v.Set.Switch.Parent = c.Parent
		}
	}
	return v
}

// plugins are those of the copy that are on.
func (f *finding) plugins() (out []string) {
	for _, p := range f.b.site.Facts.Plugins {
		if p.State == "active" || p.State == "network" {
			out = append(out, p.Slug)
		}
	}
	return out
}

func (f *finding) theme() string {
	for _, c := range f.b.site.Facts.Themes {
		if c.State == "active" {
			return c.Slug
		}
	}
	return ""
}

// try gives the verdicts of variants, two at once; what was tried before is known.
func (f *finding) try(ctx context.Context, list []Variant) ([]Cell, error) {
	out := make([]Cell, len(list))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(max(1, f.x.c.AtOnce))
	for i, v := range list {
		c := v.cell(f.b.site)
		id := fmt.Sprintf("%s/%s/%v/%s", c.Core, c.PHP, v.Set.Switch.Except, v.Set.Switch.Theme+"/"+v.Set.Name)
		if k, ok := f.x.mem.Known[id]; ok && f.x.mem.Tries[k].State.Over() {
			out[i] = f.x.mem.Tries[k]
			continue
		}
		var at int
		f.t.Memorize(func() {
			if f.x.mem.Known == nil {
				f.x.mem.Known = map[string]int{}
			}
			at = len(f.x.mem.Tries)
			f.x.mem.Known[id] = at
			f.x.mem.Tries = append(f.x.mem.Tries, c)
		})
		g.Go(func() error {
			tell := func() {
				f.t.Memorize(func() { f.x.mem.Tries[at] = c })
				_ = f.t.Remember() // it is told again
			}
			if _, err := f.b.try(ctx, v, f.x.c.Check, nil, &c, tell); err != nil {
				return fmt.Errorf("%s: %w", c.Name, err)
			}
			tell()
			f.t.Add(1, 1)
			out[i] = c
			return nil
		})
	}
	return out, g.Wait()
}

// one gives the verdict of one variant.
func (f *finding) one(ctx context.Context, v Variant) (Cell, error) {
	out, err := f.try(ctx, []Variant{v})
	if err != nil {
		return Cell{}, err
	}
	return out[0], nil
}

// find goes from the coarse to the fine.
func (f *finding) find(ctx context.Context) (*Found, error) {
	own, s := series(f.b.site), f.x.c.Search
	none, err := f.one(ctx, f.variant("no plugin, bare theme", nil, s.Bare, own))
	if err != nil {
		return nil, err
	}
	if none.State == Fails {
		return f.elsewhere(ctx, none)
	}
	themed, err := f.one(ctx, f.variant("no plugin, its own theme", nil, "", own))
	if err != nil {
		return nil, err
	}
	if themed.State == Fails {
		out := &Found{Theme: f.theme(), Reason: themed.Reason}
		return f.under(ctx, out, f.variant("only the theme "+out.Theme, nil, "", own))
	}
	set, last := f.plugins(), *f.x.mem.AsItIs
	if len(set) > 1 {
		set, err = Halve(set, func(sets [][]string) ([]bool, error) {
			list := make([]Variant, len(sets))
			for i, on := range sets {
				list[i] = f.variant("only "+strings.Join(on, ", "), on, "", own)
			}
			cells, err := f.try(ctx, list)
			bad := make([]bool, len(cells))
			for i, c := range cells {
				if bad[i] = c.State == Fails; bad[i] {
					last = c
				}
			}
			return bad, err
		})
	}
	if err != nil {
		return nil, err
	}
	alone, err := f.one(ctx, f.variant("only "+strings.Join(set, ", "), set, "", own))
	if err != nil {
		return nil, err
	}
	if alone.State == Fails {
		last = alone
	}
	out := &Found{Plugins: set, Reason: last.Reason}
	if len(set) == 1 {
		err = f.versions(ctx, out, own)
	} else {
		out.Makers, err = f.makers(ctx, set, alone, own)
	}
	if err != nil {
		return nil, err
	}
	return f.under(ctx, out, f.variant("only "+strings.Join(set, ", "), set, "", own))
}

// makers gives those of the plugins that fail together without which pages are not there: the others
// could not be measured on these without them.
func (f *finding) makers(ctx context.Context, set []string, together Cell, own string) (out []string, err error) {
	list := make([]Variant, len(set))
	for i := range set {
		rest := slices.Delete(slices.Clone(set), i, i+1)
		list[i] = f.variant("only "+strings.Join(rest, ", "), rest, "", own)
	}
	cells, err := f.try(ctx, list)
	for i, c := range cells {
		if c.Absent > together.Absent {
			out = append(out, set[i])
		}
	}
	return out, err
}

// elsewhere searches where no plugin and no theme is the cause.
func (f *finding) elsewhere(ctx context.Context, none Cell) (*Found, error) {
	return f.under(ctx, &Found{Reason: none.Reason}, f.variant("no plugin, bare theme", nil, f.x.c.Search.Bare,
		series(f.b.site)))
}

// versions tries other versions of the one plugin that is the cause.
func (f *finding) versions(ctx context.Context, out *Found, own string) error {
	var is string
	for _, p := range f.b.site.Facts.Plugins {
		if p.Slug == out.Plugins[0] {
			is = p.Version
		}
	}
	var list []Variant
	others := f.x.c.Search.Versions[out.Plugins[0]]
	for _, p := range others {
		v := f.variant("only "+p.Source.Slug+" in version "+p.Source.Version, out.Plugins, "", own)
		v.Set.Put = []catalogue.Package{p}
		list = append(list, v)
	}
	cells, err := f.try(ctx, list)
	if err != nil {
		return err
	}
	passed := ""
	for i, c := range cells { // newest first
		v := others[i].Source.Version
		if c.State == Passes && site.CompareVersions(v, is) < 0 && passed == "" {
			passed = v
		}
	}
	if passed != "" {
		out.Version = is
		for i, c := range cells {
			if v := others[i].Source.Version; c.State == Fails && site.CompareVersions(v, passed) > 0 &&
				site.CompareVersions(v, out.Version) < 0 {
				out.Version = v
			}
		}
	}
	return nil
}

// under tries the cause under the other runtimes, and puts it into a sentence.
func (f *finding) under(ctx context.Context, out *Found, v Variant) (*Found, error) {
	own := v.PHP
	runtimes := slices.DeleteFunc(slices.Clone(f.x.c.Search.Runtimes), func(r string) bool { return r == own })
	list := make([]Variant, len(runtimes))
	for i, r := range runtimes {
		list[i] = v
		list[i].PHP = r
	}
	cells, err := f.try(ctx, list)
	if err != nil {
		return nil, err
	}
	fails := map[string]bool{own: true}
	for i, c := range cells {
		fails[runtimes[i]] = c.State == Fails
	}
	all := append(runtimes, own)
	slices.SortFunc(all, php.Compare)
	// A boundary is told only where there is one: all before pass, all after fail.
	first := slices.IndexFunc(all, func(r string) bool { return fails[r] })
	if first > 0 && !slices.ContainsFunc(all[first:], func(r string) bool { return !fails[r] }) {
		out.PHP = all[first]
	}
	out.Silent = slices.ContainsFunc(f.x.mem.Tries, func(c Cell) bool { return c.State == Silent })
	out.Text = out.sentence(all, fails, f.b.site)
	return out, nil
}

// sentence says the cause.
func (out *Found) sentence(runtimes []string, fails map[string]bool, s site.Site) string {
	var text string
	switch {
	case len(out.Plugins) == 1:
		version := ""
		for _, p := range s.Facts.Plugins {
			if p.Slug == out.Plugins[0] {
				version = " " + p.Version
			}
		}
		text = "the plugin " + out.Plugins[0] + version
	case len(out.Plugins) == 2 && len(out.Makers) == 0:
		text = "the plugins " + strings.Join(out.Plugins, " and ") + " together, neither alone,"
	case len(out.Plugins) > 1:
		last := len(out.Plugins) - 1
		text = "the plugins " + strings.Join(out.Plugins[:last], ", ") + " and " + out.Plugins[last] + " together"
	case out.Theme != "":
		text = "the theme " + out.Theme
	case out.PHP != "":
		text = "PHP " + out.PHP + ", with no plugin and a theme of the core's own,"
	default:
		text = "neither a plugin nor the theme, but the core, its data or the check itself,"
	}
	text += site.Either(len(out.Plugins) > 1, " make", " makes") + " the check fail"
	if out.Version != "" {
		text += ", from version " + out.Version + " on"
	}
	var good []string
	for _, r := range runtimes {
		if !fails[r] {
			good = append(good, r)
		}
	}
	switch {
	case out.PHP != "" && (len(out.Plugins) > 0 || out.Theme != ""):
		text += ", from PHP " + out.PHP + " on; it passes under " + strings.Join(good, ", ")
	case len(good) > 0 && out.PHP == "":
		text += "; it passes under PHP " + strings.Join(good, ", ")
	}
	if out.Reason != "" {
		text += ": " + out.Reason
	}
	if len(out.Makers) > 0 {
		text += "; without " + strings.Join(out.Makers, " or ") +
			" some of the pages are not there, so that the others alone say nothing of these"
	}
	if out.Silent {
		text += "; where none of the pages was there a try says nothing, so that not all of this need be the cause"
	}
	return text
}
