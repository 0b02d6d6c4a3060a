package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// openBlank opens the plan of a site that is a copy of nothing, with the cores
// that the catalogue has and the stored pin sheets to choose from.
func openBlank(a *app) tea.Cmd {
	a.say("asking the catalogue for cores ...", false)
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		cores := []string{""}
		list, err := a.desk.Components.Catalogue().Cores(a.ctx)
		if err != nil {
			return "", nil, err
		}
		for _, c := range list {
			cores = append(cores, c.Version)
		}
		sheets, err := a.desk.Pins.PinSheets()
		names := []string{""}
		for _, p := range sheets {
			names = append(names, p.Name)
		}
		return "", func(a *app) tea.Cmd {
			a.note = ""
			x := blankPlan(a, cores, names)
			a.push(x)
			return x.ask()
		}, err
	})
}

func blankPlan(a *app, cores, sheets []string) *stateScreen {
	w := desk.BlankWish{Name: "blank", Lease: a.desk.Lease(), Pins: a.desk.Pins.UsualPins()}
	series := []string{""}
	for _, p := range a.desk.PHP() {
		if !slices.Contains(series, p.Series()) {
			series = append(series, p.Series())
		}
	}
	x := &stateScreen{name: "a blank site", site: site.Site{Role: site.Copy, Name: w.Name}}
	x.make = func() (plan.Plan, error) { return a.desk.Copies.PlanBlank(a.ctx, w, nil) }
	newest := func(v string) string {
		return site.Either(v == "", site.Either(w.Pins == "", "the newest", "as the sheet says"), v)
	}
	x.choices = []stateChoice{
		{label: "what to call it", help: "Part of its address: a-z, 0-9 and -, at most 50.",
			text:  func() string { return w.Name },
			typed: func(v string) { w.Name = strings.TrimSpace(v); x.site.Name = w.Name }},
		{label: "what it is for", help: "Stands on the board and on its pages.",
			text: func() string { return w.Purpose }, typed: func(v string) { w.Purpose = v }},
		{label: "core", help: "Versions that the catalogue has.", text: func() string { return newest(w.Core) },
			turn: func(by int) { w.Core = turned(cores, w.Core, by) }},
		{label: "runs under", help: "The PHP versions that this machine has.",
			text: func() string { return newest(w.PHP) }, turn: func(by int) { w.PHP = turned(series, w.PHP, by) }},
		{
			label: "pin sheet", help: "Its core, PHP, settings, components and ballast; the components come when the " +
				"site stands.", text: func() string { return site.Either(w.Pins == "", "none", w.Pins) },
			turn: func(by int) { w.Pins = turned(sheets, w.Pins, by) },
		},
		{label: "title", help: "What the site calls itself; its name, if nothing is said.",
			text: func() string { return w.Title }, typed: func(v string) { w.Title = v }},
		{label: "lives for", help: "Then it expires, and can be brought back for a while.",
			text: func() string { return site.Either(w.Lease == 0, "held, no end", site.Span(w.Lease)) },
			turn: func(by int) {
				w.Lease = turned(lives, w.Lease, by)
				w.Hold = site.Either(w.Lease == 0, "kept for "+site.Either(w.Purpose == "", "now", w.Purpose), "")
			}},
	}
	return x
}
