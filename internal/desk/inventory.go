package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"alibi/internal/catalogue"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// Part is one component of a site, with what is known of it.
type Part struct {
	Kind site.ComponentKind `json:"kind"`
	site.Component
	Newest  string   `json:"newest,omitempty"`
	Remarks []string `json:"remarks,omitempty"`
}

// Parts are all components of a site.
type Parts struct {
	Site  site.Site `json:"-"`
	Core  string    `json:"core"`
	PHP   string    `json:"php"`
	All   []Part    `json:"all"`
	Notes []string  `json:"notes,omitempty"`
}

// Components lists what a site runs now; ask has the catalogue asked for newer
// versions.
func (d *Components) Components(ctx context.Context, id site.ID, ask bool) (Parts, error) {
	s, err := d.fleet.Inspect(ctx, id)
	if err != nil {
		return Parts{}, err
	}
	f := s.Facts
	out := Parts{Site: s, Core: f.Core, PHP: cmp.Or(s.Runtime.PHP, f.PHP)}
	origin := map[string]string{}
	if o, err := d.record.Site(ctx, s.Origin); err == nil && o.Facts != nil {
		for _, c := range slices.Concat(o.Facts.Plugins, o.Facts.Themes) {
			origin[c.Slug] = cmp.Or(c.Version, "without a version")
		}
		origin["wordpress"] = o.Facts.Core
	}
	add := func(kind site.ComponentKind, c site.Component) {
		p := Part{Kind: kind, Component: c, Newest: c.Update}
		if was, has := origin[c.Slug]; len(origin) > 0 && c.State != "must-use" &&
			(!has || was != cmp.Or(c.Version, "without a version")) {
			p.Remarks = append(p.Remarks, "the origin has "+cmp.Or(was, "none"))
		}
		for _, o := range f.Plugins {
			if on(o) && slices.Contains(o.Requires, c.Slug) {
				p.Remarks = append(p.Remarks, "needed by "+o.Slug)
			}
		}
		p.Remarks = append(p.Remarks, Unmet(withOthers(c, kind, f), nil, f.Core, out.PHP)...)
		out.All = append(out.All, p)
	}
	if f.Core != "" {
		add(site.Core, site.Component{Slug: "wordpress", Name: "WordPress", Version: f.Core, State: "active"})
	}
	for _, c := range f.Plugins {
		add(site.Plugin, c)
	}
	for _, c := range f.Themes {
		add(site.Theme, c)
	}
	if ask {
		d.askNewest(ctx, &out)
	}
	return out, nil
}

// withOthers is a component with the plugins that it may ask for.
func withOthers(c site.Component, kind site.ComponentKind, f *site.Facts) []site.Component {
	list := []site.Component{c}
	if kind != site.Plugin {
		return list
	}
	for _, o := range f.Plugins {
		if o.Slug != c.Slug {
			o.RequiresCore, o.RequiresPHP, o.Requires = "", "", nil
			list = append(list, o)
		}
	}
	return list
}

// askNewest asks the catalogue for the newest version of each component.
func (d *core) askNewest(ctx context.Context, out *Parts) {
	d.catalogue().Forget()
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	failed := make([]error, len(out.All))
	for i := range out.All {
		g.Go(func() error {
			p := &out.All[i]
			if p.State == "must-use" {
				return nil
			}
			var newest string
			if p.Kind == site.Core {
				list, err := d.catalogue().Cores(ctx)
				if err != nil || len(list) == 0 {
					failed[i] = err
					return nil
				}
				newest = list[0].Version
				for _, c := range list {
					if c.Version == p.Version && c.State == "insecure" {
						p.Remarks = append(p.Remarks, "this version is known to be unsafe")
					}
				}
			} else {
				info, err := d.catalogue().Info(ctx, p.Kind, p.Slug)
				if errors.Is(err, catalogue.ErrUnknown) {
					p.Remarks = append(p.Remarks, "not in the catalogue")
					return nil
				}
				if err != nil {
					failed[i] = err
					return nil
				}
				newest = info.Newest
			}
			p.Newest = ""
			if site.CompareVersions(newest, p.Version) > 0 {
				p.Newest = newest
			}
			return nil
		})
	}
	_ = g.Wait() // what failed is told below
	if err := errors.Join(failed...); err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		out.Notes = append(out.Notes, first)
	}
}

// Fetch brings components into the cache and tells what they are.
func (d *Components) Fetch(ctx context.Context, list []site.Source) ([]site.Source, error) {
	packages, err := d.fetchAll(ctx, list, nil)
	out := make([]site.Source, len(packages))
	for i, p := range packages {
		out[i] = p.Source
	}
	return out, err
}

// UpdateWish is what updating components comes to: those that are named, as
// SLUG or SLUG@VERSION, or all that have a newer version. core is a version,
// "newest", or "" to leave it.
func (d *Components) UpdateWish(ctx context.Context, id site.ID, names []string, all bool, core string) (ChangeWish,
	error) {
	var w ChangeWish
	parts, err := d.Components(ctx, id, all)
	if err != nil {
		return w, err
	}
	if all && len(parts.Notes) > 0 {
		return w, errors.New(parts.Notes[0])
	}
	for _, text := range names {
		slug, version, _ := strings.Cut(text, "@")
		i := slices.IndexFunc(parts.All, func(p Part) bool { return p.Slug == slug && p.Kind != site.Core })
		if i < 0 {
			return w, fmt.Errorf("%s has no plugin and no theme called %q; bring it with: alibi install %s %s",
				parts.Site.Name, slug, parts.Site.Name, slug)
		}
		w.Put = append(w.Put, site.Source{Kind: parts.All[i].Kind, Slug: slug, Version: version})
	}
	for _, p := range parts.All {
		if all && p.Newest != "" && p.Kind != site.Core && p.State != "must-use" {
			w.Put = append(w.Put, site.Source{Kind: p.Kind, Slug: p.Slug, Version: p.Newest})
		}
	}
	if core != "" {
		v, err := d.namedCore(ctx, core)
		if err != nil {
			return w, err
		}
		w.Put = append(w.Put, site.Source{Kind: site.Core, Version: v})
	}
	if len(w.Put) == 0 {
		return w, fmt.Errorf("%s: %w", parts.Site.Name, ErrNothingToChange)
	}
	return w, nil
}

// Complaints are the errors that a copy's code wrote into its log lately.
func (d *Components) Complaints(ctx context.Context, s site.Site) ([]string, error) {
	if s.Role != site.Copy {
		return nil, nil
	}
	if _, err := d.env.Probe(ctx, s); err != nil { // so that it says it now
		d.logger.Info("a copy does not answer", "site", s.Name, "err", err)
	}
	list, err := d.env.Complaints(ctx, s, max(0, d.env.Mark(ctx, s)-64<<10))
	slices.Reverse(list)
	return list, err
}

// Moved is a component that was brought, moved to another version, switched or
// removed.
type Moved struct {
	At   time.Time `json:"at"`
	Who  string    `json:"who"`
	Run  string    `json:"run"`
	What string    `json:"what"`
	How  string    `json:"how"`
}

// ComponentHistory lists what was done to what a site runs, newest first, as far
// as Alibi did it.
func (d *Components) ComponentHistory(ctx context.Context, id site.ID) ([]Moved, error) {
	runs, err := d.record.RunsOf(ctx, id)
	if err != nil {
		return nil, err
	}
	out := []Moved{}
	for _, r := range runs {
		if r.Plan.Kind != plan.Change || r.Plan.Target.ID != id || r.State != plan.Done {
			continue
		}
		for _, g := range r.Plan.Goes {
			if kind, _, _ := strings.Cut(g.What, " "); slices.Contains([]string{"plugin", "theme", "core", "PHP",
				"memory"}, kind) {
				out = append(out, Moved{At: r.Began, Who: r.Plan.By, Run: r.ID, What: g.What, How: g.Note})
			}
		}
	}
	return out, nil
}

// RescueWish is all plugins off and a theme of the core's own; it tells which
// plugins were on.
func (d *Components) RescueWish(ctx context.Context, id site.ID) (w ChangeWish, was []string, err error) {
	s, err := d.fleet.Inspect(ctx, id)
	if err != nil {
		return w, nil, err
	}
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return w, nil, err
	}
	for _, p := range s.Facts.Plugins {
		if on(p) && p.State != "must-use" {
			was = append(was, p.Slug)
		}
	}
	return ChangeWish{AllOff: true, Theme: stack.ContentsOf(st).BareTheme(*s.Facts), Anyway: true}, was, nil
}

// Again puts plugins of a copy on, one at a time; tell is told of each what came
// of it: "on again", or why it stays off. A keeper must be at work.
func (d *Components) Again(ctx context.Context, id site.ID, slugs []string, tell func(slug, why string)) error {
	for _, slug := range slugs {
		p, err := d.PlanChange(ctx, id, ChangeWish{On: []string{slug}}, nil)
		if err == nil && p.Blocked() {
			err = errors.New(p.Findings[0].Text)
		}
		if err == nil {
			var r plan.Run
			if r, err = d.runs.Start(ctx, p); err == nil {
				if r, err = d.runs.Await(ctx, r.ID, nil); err == nil && r.State != plan.Done {
					err = errors.New(r.Error)
				}
			}
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		why := "on again"
		if err != nil {
			why = err.Error()
		}
		tell(slug, why)
	}
	return nil
}
