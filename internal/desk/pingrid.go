package desk

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"alibi/internal/pins"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
)

// PinGrid is what sites run, side by side.
type PinGrid struct {
	Sites []site.Site `json:"-"`
	Names []string    `json:"sites"`
	Rows  []PinRow    `json:"rows"`
}

// PinRow is one component over all sites.
type PinRow struct {
	Kind  string    `json:"kind"` // "core", "php", "plugin", "theme"
	Slug  string    `json:"slug"`
	Cells []PinCell `json:"cells"` // one a site
}

// PinCell is one component on one site.
type PinCell struct {
	Version string   `json:"version,omitempty"` // "": it is not there
	State   string   `json:"state,omitempty"`
	Marks   []string `json:"marks,omitempty"` // of PinMarks
	Why     []string `json:"why,omitempty"`   // of each, in words
}

// The marks of a cell.
const (
	MarkPinned   = "pinned"   // as its sheet says, exactly
	MarkFloating = "floating" // no sheet says which version
	MarkUnpinned = "off its pin"
	MarkOutdated = "outdated"
	MarkUnlike   = "unlike its origin"
	MarkUnmet    = "not met"
)

// PinMarks are all marks, with what they mean.
var PinMarks = [][2]string{
	{MarkPinned, "as its pin sheet says"},
	{MarkFloating, "no pin sheet says which version"},
	{MarkUnpinned, "not what its pin sheet says"},
	{MarkOutdated, "a newer version waits"},
	{MarkUnlike, "another version than its origin's"},
	{MarkUnmet, "asks for something that is not there"},
}

// PinGrid lays out what sites run, as they were inspected last, and how that
// stands to their pin sheets and their origins. Without ids it is of all sites.
func (d *Sheets) PinGrid(ctx context.Context, ids ...site.ID) (PinGrid, error) {
	all, err := d.record.Sites(ctx)
	if err != nil {
		return PinGrid{}, err
	}
	byID := map[site.ID]site.Site{}
	var g PinGrid
	for _, s := range all {
		byID[s.ID] = s
		if s.Facts != nil && s.Facts.Core != "" && (len(ids) == 0 || slices.Contains(ids, s.ID)) {
			g.Sites = append(g.Sites, s)
		}
	}
	slices.SortStableFunc(g.Sites, func(a, b site.Site) int { // families together, live sites first
		return cmp.Or(cmp.Compare(root(byID, a).Name, root(byID, b).Name),
			cmp.Compare(generation(byID, a), generation(byID, b)), cmp.Compare(a.Name, b.Name))
	})
	rows := map[[2]string]*PinRow{}
	sheets := map[string]*pins.Sheet{}
	at := func(kind, slug string) *PinRow {
		k := [2]string{kind, slug}
		if rows[k] == nil {
			rows[k] = &PinRow{Kind: kind, Slug: slug, Cells: make([]PinCell, len(g.Sites))}
		}
		return rows[k]
	}
	for i, s := range g.Sites {
		g.Names = append(g.Names, s.Name)
		name := cmp.Or(s.Pins, d.config.Pins.Default)
		if _, read := sheets[name]; !read && name != "" {
			if p, err := d.PinSheet(name); err == nil {
				sheets[name] = p.Sheet
			}
		}
		x := &column{s: s, sheet: sheets[name], unmet: Unmet(s.Facts.Plugins, s.Facts.Themes, s.Facts.Core, phpOf(s))}
		if o, ok := byID[s.Origin]; ok && o.Facts != nil {
			x.origin = o.Facts
		}
		at("core", "core").Cells[i] = x.core()
		at("php", "PHP").Cells[i] = x.php()
		for _, c := range s.Facts.Plugins {
			if c.State == "must-use" {
				continue // it comes with the site, or is Alibi's own
			}
			at("plugin", c.Slug).Cells[i] = x.component("plugin", c)
		}
		for _, c := range s.Facts.Themes {
			at("theme", c.Slug).Cells[i] = x.component("theme", c)
		}
	}
	for _, r := range rows {
		g.Rows = append(g.Rows, *r)
	}
	order := map[string]int{"core": 0, "php": 1, "plugin": 2, "theme": 3}
	slices.SortFunc(g.Rows, func(a, b PinRow) int {
		return cmp.Or(order[a.Kind]-order[b.Kind], strings.Compare(a.Slug, b.Slug))
	})
	return g, nil
}

func phpOf(s site.Site) string { return php.Series(cmp.Or(s.Runtime.PHP, s.Facts.PHP)) }

// root is the live site that a copy comes from.
func root(all map[site.ID]site.Site, s site.Site) site.Site {
	for range 16 {
		o, ok := all[s.Origin]
		if !ok {
			break
		}
		s = o
	}
	return s
}

func generation(all map[site.ID]site.Site, s site.Site) (n int) {
	for ; n < 16; n++ {
		o, ok := all[s.Origin]
		if !ok {
			break
		}
		s = o
	}
	return n
}

// column is one site, with what it is held against.
type column struct {
	s      site.Site
	sheet  *pins.Sheet
	origin *site.Facts
	unmet  []string
}

func (c *PinCell) mark(m, why string) {
	c.Marks, c.Why = append(c.Marks, m), append(c.Why, why)
}

// held marks a version against a pin.
func (c *PinCell) held(r string, named bool) {
	switch {
	case !named || r == "":
		c.mark(MarkFloating, "no pin sheet says which version")
	case !pins.Fits(r, c.Version):
		c.mark(MarkUnpinned, "its pin sheet says "+r)
	case pins.Exact(r):
		c.mark(MarkPinned, "as its pin sheet says")
	default:
		c.mark(MarkFloating, "its pin sheet says "+r)
	}
}

func (x *column) core() PinCell {
	c := PinCell{Version: x.s.Facts.Core, State: "active"}
	r := ""
	if x.sheet != nil {
		r = pins.OfCore(x.sheet.Core.Version, c.Version)
	}
	c.held(r, x.sheet != nil)
	if x.origin != nil && x.origin.Core != c.Version {
		c.mark(MarkUnlike, "its origin has "+x.origin.Core)
	}
	return c
}

func (x *column) php() PinCell {
	c := PinCell{Version: phpOf(x.s), State: "active"}
	if c.Version == "" {
		return c
	}
	r := ""
	if x.sheet != nil {
		r = x.sheet.Runtime.PHP
	}
	c.held(r, x.sheet != nil)
	if x.origin != nil && x.origin.PHP != "" && php.Series(x.origin.PHP) != c.Version {
		c.mark(MarkUnlike, "its origin has "+php.Series(x.origin.PHP))
	}
	return c
}

func (x *column) component(kind string, comp site.Component) PinCell {
	c := PinCell{Version: cmp.Or(comp.Version, "?"), State: comp.State}
	r, named := "", false
	if x.sheet != nil {
		p, ok := x.sheet.Plugins[comp.Slug]
		if kind == "theme" {
			p, ok = x.sheet.Themes[comp.Slug]
		}
		r, named = p.Version, ok
	}
	c.held(r, named)
	if comp.Update != "" {
		c.mark(MarkOutdated, comp.Update+" waits")
	}
	if x.origin != nil {
		list := x.origin.Plugins
		if kind == "theme" {
			list = x.origin.Themes
		}
		o := find(list, comp.Slug)
		switch {
		case o == nil:
			c.mark(MarkUnlike, "its origin has none")
		case o.Version != comp.Version:
			c.mark(MarkUnlike, "its origin has "+cmp.Or(o.Version, "one without a version"))
		case on(*o) != on(comp):
			c.mark(MarkUnlike, "on its origin it is "+site.Either(on(*o), "on", "off"))
		}
	}
	for _, u := range x.unmet {
		if strings.HasPrefix(u, comp.Slug+" ") {
			c.mark(MarkUnmet, u)
		}
	}
	return c
}
