package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"alibi/internal/ballast"
	"alibi/internal/catalogue"
	"alibi/internal/pins"
	"alibi/internal/plan"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
)

// PinSheet is a stored pin sheet.
type PinSheet struct {
	Name    string      `json:"name"`
	Default bool        `json:"default,omitempty"`
	Text    string      `json:"text,omitempty"`
	Means   string      `json:"means"` // in one sentence
	Wrong   string      `json:"wrong,omitempty"`
	Sheet   *pins.Sheet `json:"-"`
	Src     []byte      `json:"-"`
}

// ErrNoPinSheet is given for a name that no stored sheet has.
var ErrNoPinSheet = errors.New("no pin sheet has that name")

func (d *core) pinsDir() string { return filepath.Join(d.home(), "pins") }

func (d *core) pinsFile(name string) (string, error) {
	if !site.GoodSlug(name) {
		return "", fmt.Errorf("%q can't be the name of a pin sheet: letters, digits, - and _", name)
	}
	return filepath.Join(d.pinsDir(), name+".toml"), nil
}

// PinSheets lists the stored sheets.
func (d *Sheets) PinSheets() ([]PinSheet, error) {
	list, err := os.ReadDir(d.pinsDir())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("listing the pin sheets: %w", err)
	}
	out := []PinSheet{}
	for _, e := range list {
		if name, ok := strings.CutSuffix(e.Name(), ".toml"); ok {
			p, err := d.PinSheet(name)
			if err != nil && p.Wrong == "" {
				return nil, err
			}
			out = append(out, p)
		}
	}
	return out, nil
}

// PinSheet reads a stored sheet; "" is the default one. One that is not right is
// given too, with the error.
func (d *Sheets) PinSheet(name string) (PinSheet, error) {
	if name = cmp.Or(name, d.config.Pins.Default); name == "" {
		return PinSheet{}, fmt.Errorf("%w: name one, or choose a default: alibi pins name NAME --default",
			ErrNoPinSheet)
	}
	p := PinSheet{Name: name, Default: name == d.config.Pins.Default}
	file, err := d.pinsFile(name)
	if err != nil {
		return p, err
	}
	if p.Src, err = os.ReadFile(file); errors.Is(err, fs.ErrNotExist) {
		return p, fmt.Errorf("%q: %w; see: alibi pins list", name, ErrNoPinSheet)
	} else if err != nil {
		return p, fmt.Errorf("reading the pin sheet: %w", err)
	}
	p.Text = string(p.Src)
	if p.Sheet, err = pins.Parse(file, p.Src); err != nil {
		p.Wrong = err.Error()
		return p, err
	}
	p.Means = p.Sheet.Explain()
	return p, nil
}

// SavePins stores a sheet under a name; one that is there is only replaced if
// over says so. A text that is no sheet is refused with its lines.
func (d *Sheets) SavePins(name string, src []byte, over bool) (PinSheet, error) {
	file, err := d.pinsFile(name)
	if err != nil {
		return PinSheet{}, err
	}
	if _, err := pins.Parse(name, src); err != nil {
		return PinSheet{}, err
	}
	if _, err := os.Lstat(file); err == nil && !over {
		return PinSheet{}, fmt.Errorf("there is a pin sheet %q already: say --over to save over it, or choose "+
			"another name", name)
	}
	if err := os.MkdirAll(d.pinsDir(), 0o700); err != nil {
		return PinSheet{}, err
	}
	if err := os.WriteFile(file+".new", src, 0o600); err != nil {
		return PinSheet{}, fmt.Errorf("saving the pin sheet: %w", err)
	}
	if err := os.Rename(file+".new", file); err != nil {
		return PinSheet{}, fmt.Errorf("saving the pin sheet: %w", err)
	}
	return d.PinSheet(name)
}

// RenamePins gives a sheet another name; "" removes it.
func (d *Sheets) RenamePins(name, to string) error {
	file, err := d.pinsFile(name)
	if err != nil {
		return err
	}
	if _, err := os.Lstat(file); err != nil {
		return fmt.Errorf("%q: %w; see: alibi pins list", name, ErrNoPinSheet)
	}
	if to == "" {
		return os.Remove(file)
	}
	next, err := d.pinsFile(to)
	if err != nil {
		return err
	}
	if _, err := os.Lstat(next); err == nil {
		return fmt.Errorf("there is a pin sheet %q already", to)
	}
	if err := os.Rename(file, next); err != nil {
		return err
	}
	if d.config.Pins.Default == name {
		return d.DefaultPins(to)
	}
	return nil
}

// UsualPins is the pin sheet that new copies are brought to where nobody says otherwise; "" where none
// was chosen as that, or it is not there any more.
func (d *Sheets) UsualPins() string {
	if name := d.config.Pins.Default; name != "" {
		if _, err := d.PinSheet(name); err == nil {
			return name
		}
	}
	return ""
}

// NoPins is what people write where a new copy is to be brought to no pin sheet.
const NoPins = "none"

// DefaultPins chooses the sheet that is meant where none is named; "" chooses none.
func (d *Sheets) DefaultPins(name string) error {
	if name != "" {
		if _, err := d.PinSheet(name); err != nil {
			return err
		}
	}
	fresh := !d.stale()
	if err := setInConfig(d.home(), "pins", "default", name); err != nil {
		return err
	}
	d.config.Pins.Default = name
	if fresh {
		d.configDigest = digestOfConfig(d.home())
	}
	return nil
}

// PinsOf writes a sheet of what a site runs now.
func (d *Sheets) PinsOf(ctx context.Context, id site.ID) ([]byte, error) {
	s, err := d.fleet.Inspect(ctx, id)
	if err != nil {
		return nil, err
	}
	if s.Facts.Core == "" {
		return nil, fmt.Errorf("%s has no CMS: there is nothing to pin", s.Name)
	}
	return pins.FromSite(s, php.Series(cmp.Or(s.Runtime.PHP, s.Facts.PHP)), d.now()), nil
}

// choose gives the version that a pin means: the locked one, an exact one, or
// the newest of the catalogue's that fits.
func (d *core) choose(
	ctx context.Context,
	kind site.ComponentKind,
	slug string,
	p pins.Pin,
	locked pins.Locked,
) (site.Source, error) {
	src := site.Source{Kind: kind, Slug: slug, Version: p.Version, Digest: cmp.Or(p.Digest, locked.Digest)}
	if p.From != "" {
		out, err := site.ParseSource(kind, p.From)
		out.Slug, out.Ref, out.Digest = slug, cmp.Or(p.Ref, out.Ref), src.Digest
		return out, err
	}
	if locked.Version != "" && pins.Fits(p.Version, locked.Version) {
		src.Version = locked.Version
		return src, nil
	}
	if pins.Exact(p.Version) {
		return src, nil
	}
	src.Digest = p.Digest
	info, err := d.catalogue().Info(ctx, kind, slug)
	if err != nil {
		return src, err
	}
	v, ok := pins.Choose(p.Version, info.List())
	if !ok {
		return src, fmt.Errorf("%s %s: the catalogue has no version that fits %s; it has %s", kind, slug, p.Version,
			strings.Join(info.List(), ", "))
	}
	src.Version = v
	return src, nil
}

func (d *core) chooseCore(ctx context.Context, s *pins.Sheet) (site.Source, error) {
	r, src := s.Core.Version, site.Source{Kind: site.Core}
	switch {
	case s.Lock.Core != "" && pins.Fits(pins.OfCore(r, s.Lock.Core), s.Lock.Core):
		src.Version = s.Lock.Core
	case pins.Exact(r) && pins.OfCore(r, "") == r:
		src.Version = r
	default:
		v, err := d.chosenCore(ctx, r)
		if err != nil {
			return src, err
		}
		src.Version = v
	}
	return src, nil
}

// chosenCore gives the core of the catalogue that a sheet means: the release of that name, or the
// newest that fits.
func (d *core) chosenCore(ctx context.Context, r string) (string, error) {
	all, err := d.cores(ctx)
	if err != nil {
		return "", err
	}
	v, ok := releaseOr(r, pins.OfCore(r, ""), all)
	if !ok {
		return "", fmt.Errorf("the catalogue has no core that fits %s; it has %s", r, strings.Join(all, ", "))
	}
	return v, nil
}

// releaseOr gives the version of a name, or else the newest in a range.
func releaseOr(name, r string, all []string) (string, bool) {
	if slices.Contains(all, name) {
		return name, true
	}
	return pins.Choose(r, all)
}

func (d *core) cores(ctx context.Context) (out []string, err error) {
	list, err := d.catalogue().Cores(ctx)
	for _, c := range list {
		out = append(out, c.Version)
	}
	return out, err
}

// PlanPins says what bringing a site to a pin sheet will do.
func (d *Sheets) PlanPins(
	ctx context.Context,
	id site.ID,
	name string,
	tell func(what string, done, total int64),
) (plan.Plan, error) {
	p, err := d.PinSheet(name)
	if err != nil {
		return plan.Plan{}, err
	}
	s, err := d.fleet.Inspect(ctx, id)
	if err != nil {
		return plan.Plan{}, err
	}
	w, err := d.pinWish(ctx, s, p.Sheet)
	if err != nil {
		return plan.Plan{}, fmt.Errorf("pin sheet %s: %w", p.Name, err)
	}
	w.Pins = p.Name
	out, err := d.components.PlanChange(ctx, id, w, tell)
	if err != nil {
		return out, err
	}
	for _, text := range notBrought(p.Sheet, s) {
		out.Findings = append(out.Findings, site.Finding{Severity: site.Note, Code: "pins", Text: text})
	}
	return out, nil
}

// pinWish works out by what a site differs from a sheet.
func (d *core) pinWish(ctx context.Context, s site.Site, sheet *pins.Sheet) (w ChangeWish, err error) {
	f := s.Facts
	if sheet.Core.Version != "" {
		src, err := d.chooseCore(ctx, sheet)
		if err != nil {
			return w, err
		}
		if src.Version != f.Core {
			w.Put = append(w.Put, src)
		}
	}
	for _, x := range []struct {
		kind   site.ComponentKind
		list   []site.Component
		pins   map[string]pins.Pin
		locked map[string]pins.Locked
	}{{site.Plugin, f.Plugins, sheet.Plugins, sheet.Lock.Plugins},
		{site.Theme, f.Themes, sheet.Themes, sheet.Lock.Themes}} {
		for _, slug := range slices.Sorted(maps.Keys(x.pins)) {
			if err := d.pinOne(ctx, s, &w, x.kind, slug, x.pins[slug], x.locked[slug], find(x.list, slug)); err != nil {
				return w, err
			}
		}
		for _, c := range x.list {
			if _, named := x.pins[c.Slug]; named || c.State == "must-use" || x.kind == site.Theme && c.State != "off" {
				continue
			}
			switch sheet.Others {
			case "off":
				if on(c) {
					w.PutOff = append(w.PutOff, c.Slug)
				}
			case "remove":
				w.Delete = append(w.Delete, c.Slug)
			}
		}
	}
	if len(sheet.Ballast) > 0 && s.Role == site.Copy {
		w.Ballast = &ballast.Load{Counts: sheet.Ballast, Seed: 1}
	}
	if s.Role == site.Copy {
		if r := sheet.Runtime.Wanted().Or(s.Runtime); r != s.Runtime {
			w.Runtime = &r
		}
	}
	return w, nil
}

// pinOne adds what one pin asks for.
func (d *core) pinOne(
	ctx context.Context,
	s site.Site,
	w *ChangeWish,
	kind site.ComponentKind,
	slug string,
	p pins.Pin,
	locked pins.Locked,
	is *site.Component,
) error {
	has := is != nil && is.State != "missing"
	floats := p.Version == "newest" || locked.Version == "" && p.From != "" && p.Version == ""
	if !has || floats || !pins.Fits(p.Version, is.Version) ||
		locked.Version != "" && pins.Fits(p.Version, locked.Version) && is.Version != locked.Version {
		src, err := d.choose(ctx, kind, slug, p, locked)
		if err == nil && src.From == "" {
			_, _, err = d.catalogue().Resolve(ctx, src)
		}
		if errors.Is(err, catalogue.ErrUnknown) {
			if from, ok := d.fromOrigin(ctx, s, kind, slug, p); ok {
				src, err = from, nil
			}
		}
		if err != nil {
			return err
		}
		if !has || src.Version == "" || src.Version != is.Version {
			w.Put = append(w.Put, src)
		}
	}
	switch {
	case kind == site.Theme && p.State == "on":
		w.Theme = slug
	case kind == site.Plugin && p.State == "off" && has && on(*is):
		w.PutOff = append(w.PutOff, slug)
	case kind == site.Plugin && p.State == "off" && !has:
		w.KeepOff = append(w.KeepOff, slug)
	case kind == site.Plugin && has && !on(*is) && p.State == "on":
		w.On = append(w.On, slug)
	}
	return nil
}

// fromOrigin gives the component from the site's origin, where no catalogue has
// it: what somebody wrote for one site alone.
func (d *core) fromOrigin(
	ctx context.Context,
	s site.Site,
	kind site.ComponentKind,
	slug string,
	p pins.Pin,
) (site.Source, bool) {
	o, err := d.record.Site(ctx, s.Origin)
	if err != nil || o.Facts == nil || o.State == site.Gone {
		return site.Source{}, false
	}
	list := o.Facts.Plugins
	if kind == site.Theme {
		list = o.Facts.Themes
	}
	c := find(list, slug)
	if c == nil || c.State == "missing" || !pins.Fits(p.Version, c.Version) {
		return site.Source{}, false
	}
	return site.Source{Kind: kind, Slug: slug, From: "site:" + o.Name, Digest: p.Digest}, true
}
