package desk

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"alibi/internal/op/clone"
	"alibi/internal/pins"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// pinned gives of each stored sheet what a copy gets when it is made.
func (d *core) pinned() (map[string]clone.Pinned, error) {
	list, err := d.pins.PinSheets()
	if err != nil {
		return nil, err
	}
	out := map[string]clone.Pinned{}
	for _, p := range list {
		x := clone.Pinned{Means: p.Means, Wrong: p.Wrong}
		if s := p.Sheet; s != nil {
			x.Network = s.Core.Network
			x.Runtime = s.Runtime.Wanted()
			x.Settings = site.Settings{Debug: s.Settings.Debug, Updates: s.Settings.Updates}
			if s.Settings.Quiet != nil {
				x.Quiet = []site.Rule{}
				for _, r := range *s.Settings.Quiet {
					x.Quiet = append(x.Quiet, site.Rule(r))
				}
			}
		}
		out[p.Name] = x
	}
	return out, nil
}

// pinCopy has a finished copy brought to a sheet.
func (d *core) pinCopy(ctx context.Context, s site.Site, sheet string) (string, error) {
	if run, err := d.pinning(ctx, s.ID); err != nil || run != "" {
		return run, err
	}
	p, err := d.pins.PlanPins(ctx, s.ID, sheet, nil)
	if errors.Is(err, ErrNothingToChange) {
		_, err := d.record.ChangeSite(ctx, s.ID, func(s *site.Site) error { s.Pins = sheet; return nil })
		return "", err
	}
	if err != nil {
		return "", err
	}
	claimed, err := d.record.Claimed(ctx, s.ID)
	if err != nil {
		return "", err
	}
	if len(claimed) == 1 { // the run that makes the copy hands it on
		p.After = claimed[0]
	}
	r, err := d.runs.Start(ctx, p)
	return r.ID, err
}

// pinning gives the run that waits to change a copy, or is at work on it.
func (d *core) pinning(ctx context.Context, id site.ID) (string, error) {
	list, err := d.record.Unfinished(ctx)
	for _, r := range list {
		if r.Plan.Kind == plan.Change && r.Plan.Target.ID == id {
			return r.ID, nil
		}
	}
	return "", err
}

// Pinning gives the run that is to bring a new copy to its pin sheet; "" if there
// is none.
func (d *Sheets) Pinning(ctx context.Context, id site.ID) (string, error) { return d.pinning(ctx, id) }

// notBrought says what of a sheet a change does not bring to a copy that is there.
func notBrought(sheet *pins.Sheet, s site.Site) (out []string) {
	if n := sheet.Core.Network; n != nil && *n != (s.Facts.Network != nil) {
		out = append(
			out,
			"the sheet is for "+site.Either(*n, "a network", "a single site")+
				", and this is not one: that is not changed",
		)
	}
	if sheet.Core.Language != "" {
		out = append(out, "the language is not changed: its files are no part of the core")
	}
	is := s.Settings
	if sheet.Settings.Updates != is.Updates ||
		sheet.Settings.Debug != nil && (is.Debug == nil || *is.Debug != *sheet.Settings.Debug) {
		out = append(out, "debug and updates are set when a copy is made: alibi copy --pins")
	}
	return out
}

// LockPins writes into a sheet what its versions mean now, with the digests of
// all files.
func (d *Sheets) LockPins(ctx context.Context, name string) (PinSheet, error) {
	p, err := d.PinSheet(name)
	if err != nil {
		return p, err
	}
	s := p.Sheet
	was := s.Lock
	s.Lock = pins.Lock{} // it is found out anew
	l := pins.Lock{At: d.now(), Plugins: map[string]pins.Locked{}, Themes: map[string]pins.Locked{}}
	if s.Core.Version != "" {
		src, err := d.chooseCore(ctx, s)
		if err != nil {
			return p, err
		}
		l.Core = src.Version
	}
	for _, x := range []struct {
		kind site.ComponentKind
		pins map[string]pins.Pin
		to   map[string]pins.Locked
		was  map[string]pins.Locked
	}{{site.Plugin, s.Plugins, l.Plugins, was.Plugins}, {site.Theme, s.Themes, l.Themes, was.Themes}} {
		for _, slug := range slices.Sorted(maps.Keys(x.pins)) {
			src, err := d.choose(ctx, x.kind, slug, x.pins[slug], pins.Locked{})
			if err == nil {
				var list []site.Source
				if list, err = d.components.Fetch(ctx, []site.Source{src}); err == nil {
					x.to[slug] = pins.Locked{Version: list[0].Version, Digest: list[0].Digest}
					continue
				}
			}
			return p, fmt.Errorf("%s %s can't be locked: %w", x.kind, slug, err)
		}
	}
	return d.SavePins(p.Name, pins.WithLock(p.Src, l), true)
}
