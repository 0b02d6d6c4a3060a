package clone

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/work"
)

// Pinned is what a pin sheet asks for that a copy gets when it is made; the
// components come when it is finished.
type Pinned struct {
	Runtime  site.Runtime
	Quiet    []site.Rule // nil: nothing is asked for
	Settings site.Settings
	Means    string
	Wrong    string
	Network  *bool
}

// withPins takes from the chosen pin sheet what was not chosen otherwise.
func withPins(in Input, p *plan.Plan, note func(site.Severity, string, string, string)) Choices {
	c := in.Choices
	if c.Pins == "" {
		return c
	}
	s, ok := in.Pins[c.Pins]
	switch {
	case !ok:
		note(site.Block, "pins", "there is no pin sheet "+c.Pins,
			"there are: "+cmp.Or(strings.Join(slices.Sorted(maps.Keys(in.Pins)), ", "),
				"none; make one: alibi pins make SITE"))
		return c
	case s.Wrong != "":
		note(site.Block, "pins", "the pin sheet "+c.Pins+" is not right: "+s.Wrong,
			"correct it: alibi pins edit "+c.Pins)
		return c
	case in.Origin.Stack != "wordpress":
		note(site.Block, "pins", in.Origin.Name+" has no CMS whose components could be pinned", "leave the sheet out")
		return c
	}
	if n := s.Network; n != nil && *n != (in.Origin.Facts.Network != nil) {
		note(
			site.Warn,
			"pins",
			"the sheet is for "+site.Either(*n, "a network", "a single site")+", and "+in.Origin.Name+
				" is not one",
			"that is not changed",
		)
	}
	c.Runtime = c.Runtime.Or(s.Runtime)
	if s.Quiet != nil && slices.Equal(c.Quiet, site.QuietRules) {
		c.Quiet = s.Quiet
	}
	c.Settings = s.Settings
	note(site.Note, "pins", "pin sheet "+c.Pins+": "+s.Means,
		"its components come when the copy stands, as a run of their own")
	p.Steps = append(p.Steps, plan.Step{Name: "pins", Title: "have it brought to its pin sheet"})
	return c
}

// pin has the finished copy brought to its pin sheet, by a run of its own.
func (x *runner) pin(ctx context.Context, t *work.Task) error {
	s, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	return x.env.Pinned(ctx, t, s, x.d.Choices.Pins)
}
