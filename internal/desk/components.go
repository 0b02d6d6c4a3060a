package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"alibi/internal/ballast"
	"alibi/internal/catalogue"
	"alibi/internal/host/local"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tree"
)

// Catalogue is the one that the configuration names.
func (d *Components) Catalogue() *catalogue.Client { return d.catalogue() }

// ChangeWish is what a person wants a site to run.
type ChangeWish struct {
	Put     []site.Source // components to bring, in place of those of their names
	Off     bool          // what is brought is not activated; without it, plugins are, unless they were there and off
	On      []string      // plugins, by slug
	PutOff  []string      // plugins to be deactivated
	AllOff  bool
	Except  []string
	Delete  []string // plugins and themes whose files go
	Theme   string   // to be activated
	Runtime *site.Runtime
	Anyway  bool
	KeepOff []string // of what is brought, plugins that are not activated
	Pins    string   // the pin sheet that asks for this
	Ballast *ballast.Load
}

// fetched is a source with what came of it.
func (d *core) fetchAll(
	ctx context.Context,
	list []site.Source,
	tell func(what string, done, total int64),
) ([]catalogue.Package, error) {
	out := make([]catalogue.Package, len(list))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(3)
	for i, s := range list {
		g.Go(func() (err error) {
			out[i], err = d.fetch(ctx, s, func(done, total int64) {
				if tell != nil {
					tell(s.Text(), done, total)
				}
			})
			return err
		})
	}
	return out, g.Wait()
}

// fetch brings a component from wherever it is.
func (d *core) fetch(ctx context.Context, s site.Source, tell func(done, total int64)) (catalogue.Package, error) {
	name, ok := strings.CutPrefix(s.From, "site:")
	if !ok {
		return d.catalogue().Fetch(ctx, s, tell)
	}
	from, err := d.fresh2(ctx, name)
	if err != nil {
		return catalogue.Package{}, err
	}
	if s.Kind == "" {
		for kind, list := range map[site.ComponentKind][]site.Component{site.Plugin: from.Facts.Plugins,
			site.Theme: from.Facts.Themes} {
			if slices.ContainsFunc(list, func(c site.Component) bool {
				return c.Slug == s.Slug && c.State != "missing"
			}) {
				s.Kind = kind
			}
		}
	}
	st, err := d.env.Stack(from.Stack)
	if err != nil {
		return catalogue.Package{}, err
	}
	at := stack.ComponentsOf(st).Stands(s.Kind, s.Slug)
	if at == "" {
		return catalogue.Package{}, fmt.Errorf("%s has no plugin and no theme called %s", from.Name, s.Slug)
	}
	return d.catalogue().Take(ctx, s, func(to string) error { return d.bringFolder(ctx, from, at, to) })
}

// fresh2 finds a site by what a person calls it, with facts.
func (d *core) fresh2(ctx context.Context, name string) (site.Site, error) {
	s, err := d.fleet.Find(ctx, name)
	if err != nil {
		return s, err
	}
	return d.fresh(ctx, s.ID)
}

// bringFolder copies a folder of a site to this machine.
func (d *core) bringFolder(ctx context.Context, s site.Site, folder, to string) error {
	h, err := d.host(ctx, s.Host)
	if err != nil {
		return err
	}
	from, err := h.Open(ctx, path.Join(s.Root, folder))
	if err != nil {
		return fmt.Errorf("%s of %s: %w", folder, s.Name, err)
	}
	defer from.Close()
	list, err := tree.Scan(ctx, from, tree.Filter{})
	if err != nil {
		return err
	}
	dst, err := local.New(d.config.Machine).Write(ctx, to)
	if err != nil {
		return err
	}
	defer dst.Close()
	_, problems, err := tree.Copy(ctx, from, dst, list.Entries, func(int64, int) {})
	if err == nil && len(problems) > 0 {
		err = fmt.Errorf("%s: %s", problems[0].Path, problems[0].What)
	}
	return err
}

// PlanChange says what a change of what a site runs will do. What is to be
// brought is fetched into the cache for it.
func (d *Components) PlanChange(
	ctx context.Context,
	id site.ID,
	w ChangeWish,
	tell func(what string, done, total int64),
) (plan.Plan, error) {
	s, err := d.fleet.Inspect(ctx, id) // what is on may have been changed inside
	if err != nil {
		return plan.Plan{}, err
	}
	if s.Stack == "plain" {
		return plan.Plan{}, fmt.Errorf("%s has no CMS: it has no plugins, themes and core", s.Name)
	}
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return plan.Plan{}, err
	}
	packages, err := d.fetchAll(ctx, w.Put, tell)
	if err != nil {
		return plan.Plan{}, err
	}
	x := &changing{d: d.core, s: s, st: st, w: w, c: &reset.Change{Put: packages, Anyway: w.Anyway, Pins: w.Pins}}
	if err := x.gather(ctx); err != nil {
		return plan.Plan{}, err
	}
	in := reset.Input{
		Site:     s,
		Depot:    d.points.DepotPath(),
		Now:      d.now(),
		By:       d.who,
		Goes:     x.goes,
		Stays:    x.stays,
		Findings: x.findings,
		Choices:  reset.Choices{Change: x.c, Files: x.c.Files(), Database: x.c.Rows()},
	}
	in.Findings = append(in.Findings, x.conflicts(ctx)...)
	if list, _, err := d.points.Points(ctx, id); err == nil {
		in.First = len(list) == 0
	}
	return reset.Plan(in), nil
}

// ErrNothingToChange is given where a site is already as it is wanted.
var ErrNothingToChange = errors.New("it is so already: nothing need be done")

// changing works out a change from what a site has and what is wanted.
type changing struct {
	d        *core
	s        site.Site
	st       stack.Stack
	w        ChangeWish
	c        *reset.Change
	after    []site.Component // plugins as they will be
	words    []string
	goes     []plan.Part
	stays    []plan.Part
	findings []site.Finding
	theme    string // that will be on
}

func (x *changing) note(sev site.Severity, code, text, remedy string) {
	x.findings = append(x.findings, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
}

func (x *changing) say(what string, files int, bytes int64, note string) {
	x.words = append(x.words, what+" "+note)
	x.goes = append(x.goes, plan.Part{What: what, Files: int64(files), Bytes: bytes, Note: note})
}

func find(list []site.Component, slug string) *site.Component {
	if i := slices.IndexFunc(list, func(c site.Component) bool { return c.Slug == slug }); i >= 0 {
		return &list[i]
	}
	return nil
}

// on tells whether a plugin's code is run.
func on(c site.Component) bool {
	return c.State == "active" || c.State == "network" || c.State == "must-use"
}

func (x *changing) gather(ctx context.Context) error {
	f := x.s.Facts
	x.after = slices.Clone(f.Plugins)
	themes := slices.Clone(f.Themes)
	for _, t := range themes {
		if t.State == "active" || t.State == "missing" {
			x.theme = t.Slug
		}
	}
	for _, p := range x.c.Put {
		if err := x.put(p, &themes); err != nil {
			return err
		}
	}
	if err := x.switches(); err != nil {
		return err
	}
	if err := x.chooseTheme(themes); err != nil {
		return err
	}
	if err := x.remove(themes); err != nil {
		return err
	}
	x.runtime()
	if err := x.ballast(ctx); err != nil {
		return err
	}
	if len(x.goes) == 0 {
		return fmt.Errorf("%s: %w", x.s.Name, ErrNothingToChange)
	}
	x.judge(themes)
	for _, p := range x.after {
		if on(p) && p.State != "must-use" {
			x.stays = append(x.stays, plan.Part{What: "plugin " + p.Slug, Note: p.Version + ", on"})
		}
	}
	x.stays = append(x.stays, plan.Part{What: "all content, accounts, settings and other files"})
	x.c.Words = strings.Join(x.words[:min(3, len(x.words))], "; ")
	if n := len(x.words) - 3; n > 0 {
		x.c.Words += fmt.Sprintf("; and %d more", n)
	}
	return nil
}

// fromTo says from which version to which something goes.
func fromTo(from, to string) string {
	switch c := site.CompareVersions(from, to); {
	case from == "":
		return "comes as " + to
	case c < 0:
		return from + " -> " + to + ", up"
	case c > 0:
		return from + " -> " + to + ", down"
	}
	return to + " anew"
}

func (x *changing) put(p catalogue.Package, themes *[]site.Component) error {
	s := p.Source
	was := site.Component{}
	switch s.Kind {
	case site.Core:
		x.say("core", p.Files, p.Bytes, fromTo(x.s.Facts.Core, s.Version))
		if x.s.Facts.Core != "" && site.CompareVersions(s.Version, x.s.Facts.Core) < 0 {
			x.note(site.Warn, "core-down", "the CMS does not bring its data back to an older version: newer data stay",
				"try it on a copy, and look at its pages")
		}
		return nil
	case site.Theme:
		comp := p.Component
		comp.State = "off"
		if c := find(*themes, s.Slug); c != nil {
			was, comp.State = *c, c.State
			*c = comp
		} else {
			*themes = append(*themes, comp)
		}
	case site.Plugin:
		comp := p.Component
		comp.State = "off"
		c := find(x.after, s.Slug)
		switch {
		case c != nil && c.State == "must-use":
			return fmt.Errorf("%s is a must-use plugin of %s: it stands in a folder of its own and is not "+
				"exchanged from here", s.Slug, x.s.Name)
		case c != nil:
			was, comp.State = *c, c.State
			if comp.State == "missing" {
				comp.State = "active"
			}
			if on(comp) && c.File != "" && c.File != comp.File {
				x.c.Switch.Off = append(x.c.Switch.Off, s.Slug) // under its former main file
				x.c.Switch.On = append(x.c.Switch.On, comp.File)
			}
			*c = comp
		default:
			x.after = append(x.after, comp)
		}
		if c == nil && !x.w.Off && !slices.Contains(x.w.KeepOff, s.Slug) && !slices.Contains(x.w.On, s.Slug) {
			x.w.On = append(x.w.On, s.Slug)
		}
	}
	x.say(string(s.Kind)+" "+s.Slug, p.Files, p.Bytes, fromTo(was.Version, cmp.Or(s.Version, "without a version")))
	return nil
}

// switches works out which plugins are activated and deactivated.
func (x *changing) switches() error {
	off := slices.Clone(x.w.PutOff)
	if x.w.AllOff {
		for _, p := range x.after {
			if on(p) && p.State != "must-use" && !slices.Contains(x.w.Except, p.Slug) || p.State == "missing" {
				off = append(off, p.Slug)
			}
		}
	}
	for _, slug := range slices.Concat(off, x.w.Delete) {
		p := find(x.after, slug)
		switch {
		case p == nil:
			continue // a theme, or refused below
		case p.State == "must-use":
			return fmt.Errorf("%s is a must-use plugin: it is on as long as its file is there", slug)
		case on(*p) || p.State == "missing":
			p.State = "off"
			x.c.Switch.Off = append(x.c.Switch.Off, slug)
			x.say("plugin "+slug, 0, 0, "off")
		}
	}
	for _, slug := range x.w.PutOff {
		if find(x.after, slug) == nil {
			return x.unknown("plugin", slug, x.after)
		}
	}
	for _, slug := range x.w.On {
		p := find(x.after, slug)
		switch {
		case p == nil:
			return x.unknown("plugin", slug, x.after)
		case p.State == "missing":
			return fmt.Errorf("the files of %s are missing: bring them first: alibi install %s %s", slug, x.s.Name,
				slug)
		case !on(*p):
			p.State = "active"
			x.c.Switch.On = append(x.c.Switch.On, p.File)
			x.say("plugin "+slug, 0, 0, "on")
		}
	}
	return nil
}

func (x *changing) unknown(kind, slug string, list []site.Component) error {
	var names []string
	for _, c := range list {
		names = append(names, c.Slug)
	}
	slices.Sort(names)
	return fmt.Errorf("%s has no %s called %q; it has %s", x.s.Name, kind, slug,
		cmp.Or(strings.Join(names, ", "), "none"))
}

func (x *changing) chooseTheme(themes []site.Component) error {
	if x.w.Theme == "" {
		return nil
	}
	t := find(themes, x.w.Theme)
	switch {
	case t == nil || t.State == "missing":
		return x.unknown("theme", x.w.Theme, themes)
	case x.theme == t.Slug:
		return nil
	}
	if t.Parent != "" && find(themes, t.Parent) == nil {
		return fmt.Errorf("the theme %s builds on %s, which %s does not have: bring it too", t.Slug, t.Parent, x.s.Name)
	}
	x.say("theme "+t.Slug, 0, 0, "on, in place of "+cmp.Or(x.theme, "none"))
	x.theme = t.Slug
	x.c.Switch.Theme, x.c.Switch.Parent = t.Slug, t.Parent
	return nil
}

func (x *changing) remove(themes []site.Component) error {
	for _, slug := range x.w.Delete {
		if p := find(x.after, slug); p != nil {
			at := stack.ComponentsOf(x.st).Stands(site.Plugin, slug)
			if p.File != "" && !strings.Contains(p.File, "/") {
				at = stack.ComponentsOf(x.st).Stands(site.Plugin, p.File)
			}
			x.c.Remove = append(x.c.Remove, at)
			x.say("plugin "+slug, 0, 0, p.Version+" goes")
			x.after = slices.DeleteFunc(x.after, func(c site.Component) bool { return c.Slug == slug })
			continue
		}
		t := find(themes, slug)
		switch {
		case t == nil:
			return x.unknown("plugin or theme", slug, append(slices.Clone(x.after), themes...))
		case slug == x.theme:
			return fmt.Errorf("the theme %s is on: put another one on with it: --theme", slug)
		}
		if on := find(themes, x.theme); on != nil && on.Parent == slug {
			return fmt.Errorf("the theme %s, which is on, builds on %s", x.theme, slug)
		}
		x.c.Remove = append(x.c.Remove, stack.ComponentsOf(x.st).Stands(site.Theme, slug))
		x.say("theme "+slug, 0, 0, t.Version+" goes")
	}
	return nil
}
