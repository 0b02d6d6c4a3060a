package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"alibi/internal/op/move"
	"alibi/internal/panel"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// hasPanel tells whether the configuration says where that of a host is.
func (d *core) hasPanel(host string) bool {
	return slices.ContainsFunc(d.config.Panels, func(p HostPanel) bool { return p.Host == host })
}

// panel gives that of a host.
func (d *core) panel(host string) (panel.Panel, error) {
	i := slices.IndexFunc(d.config.Panels, func(p HostPanel) bool { return p.Host == host })
	if i < 0 {
		return nil, fmt.Errorf("nobody tells any more where the panel of %s is: write it into config.toml, under [[panels]]",
			host)
	}
	p := d.config.Panels[i]
	if err := panel.Check(p.Address); err != nil {
		return nil, fmt.Errorf("config.toml, [[panels]] of %s: %w", host, err)
	}
	token, err := d.safe().Read(p.TokenFile)
	if err != nil {
		return nil, fmt.Errorf("reading the token of the panel of %s: %w", host, err)
	}
	return panel.Client{Host: host, Address: p.Address, Token: strings.TrimSpace(token)}, nil
}

// findPanel says which names are to be attached at the new place: those of the old one, with the same primary one.
func (d *Moves) findPanel(ctx context.Context, m plan.Move, s site.Site) (*plan.Panel, error) {
	p := &plan.Panel{Old: d.hasPanel(m.From.Host), New: d.hasPanel(m.To.Host)}
	if !p.Old && !p.New || m.From.Host == m.To.Host {
		return nil, nil
	}
	if move.Redirects(m) {
		p.Want = []string{m.To.Address.Host}
		return p, nil
	}
	if p.Old {
		from, err := d.panel(m.From.Host)
		if err != nil {
			return nil, err
		}
		is, err := from.Names(ctx, m.From.Root)
		if err != nil {
			return nil, err
		}
		slices.SortStableFunc(is, func(a, b site.AttachedName) int { return site.Either(a.Primary && !b.Primary, -1, 0) })
		for _, a := range is {
			p.Want = append(p.Want, a.Name)
		}
	}
	if len(p.Want) == 0 {
		p.Want = certifiable(m, s)
	}
	if len(p.Want) == 0 { // it is reached by a number
		return nil, nil
	}
	return p, nil
}

// aboutPanel says what is to be known of panels before a site is moved.
func (d *Moves) aboutPanel(m plan.Move) []site.Finding {
	if m.From.Host == m.To.Host {
		if d.hasPanel(m.To.Host) {
			return []site.Finding{{Severity: site.Warn, Code: "panel", Text: "both places are on " + m.To.Host +
				", whose panel lets a name lead to one site only", Remedy: "have its names lead to " + m.To.Root +
				" in the panel when you switch over, and back if you go back"}}
		}
		return nil
	}
	if m.Panel == nil || !m.Panel.New {
		return nil
	}
	return []site.Finding{{Severity: site.Note, Code: "panel", Text: "visitors come in on " + m.To.Host + " by names " +
		"that are attached in its panel only: " + strings.Join(m.Panel.Want, ", "), Remedy: "the gate of names " +
		"attaches them"}}
}

// attach attaches a site's names at its new place, as far as its host is, and notes how far that is.
func (d *Moves) attach(ctx context.Context, m plan.Move) (plan.Move, error) {
	to, err := d.panel(m.To.Host)
	if err != nil {
		return m, err
	}
	is, err := to.Names(ctx, m.To.Root)
	if err != nil {
		return m, err
	}
	p, first := *m.Panel, m.Panel.At.IsZero()
	// noted first: what was attached is found again whatever happens
	if m, err = d.seen(ctx, m, is, missing(p.Want, is)); err != nil {
		return m, err
	}
	for _, name := range p.Want {
		i := slices.IndexFunc(is, func(a site.AttachedName) bool { return a.Name == name })
		if i >= 0 && is[i].State != site.AttachRefused {
			continue
		}
		if err := to.Attach(ctx, m.To.Root, name); err != nil {
			return m, err
		}
	}
	if is, err = to.Names(ctx, m.To.Root); err != nil {
		return m, err
	}
	if p.Awaits(is) == p.Want[0]+" is not the primary name" {
		if err := to.MakePrimary(ctx, m.To.Root, p.Want[0]); err != nil {
			return m, err
		}
		if is, err = to.Names(ctx, m.To.Root); err != nil {
			return m, err
		}
	}
	if first {
		if err := d.log(ctx, m.Site, "move", "its names are being attached on %s: %s", m.To.Host,
			strings.Join(p.Want, ", ")); err != nil {
			return m, err
		}
	}
	return d.seen(ctx, m, is, nil)
}

// missing are names that are not attached.
func missing(want []string, is []site.AttachedName) []string {
	return slices.DeleteFunc(slices.Clone(want), func(name string) bool {
		return slices.ContainsFunc(is, func(a site.AttachedName) bool { return a.Name == name })
	})
}

// seen notes how names are attached, and which of them are a move's own.
func (d *Moves) seen(ctx context.Context, m plan.Move, is []site.AttachedName, ours []string) (plan.Move, error) {
	return d.record.ChangeMove(ctx, m.Name, func(m *plan.Move) error {
		p := m.Panel
		for _, a := range is {
			if p.At.IsZero() && a.Primary && a.Name != p.Want[0] {
				p.Was = a.Name
			}
		}
		p.At, p.Names = d.now(), is
		for _, name := range ours {
			if !slices.Contains(p.Ours, name) {
				p.Ours = append(p.Ours, name)
			}
		}
		return nil
	})
}

// unattached says by which names visitors would not come in at the place to which a site is switched over. At an
// address that only the new place has, they came in at the old one by another name.
func (d *Moves) unattached(ctx context.Context, m plan.Move) []site.Finding {
	at := m.There()
	if m.Panel == nil || !site.Either(m.Moved, m.Panel.Old && !move.Redirects(m), m.Panel.New) {
		return nil
	}
	block := func(text, remedy string) []site.Finding {
		return []site.Finding{{Severity: site.Block, Code: "panel", Text: text, Remedy: remedy}}
	}
	p, err := d.panel(at.Host)
	var is []site.AttachedName
	if err == nil {
		is, err = p.Names(ctx, at.Root)
	}
	if err != nil {
		return block("whether its names are attached on "+at.Host+" can't be seen: "+err.Error(),
			"see that its panel answers")
	}
	if why := m.Panel.Awaits(is); why != "" {
		return block("on "+at.Host+" "+why, site.Either(m.Moved, "attach it in the panel of "+at.Host+" again",
			"alibi move "+m.Name+" names"))
	}
	return nil
}
