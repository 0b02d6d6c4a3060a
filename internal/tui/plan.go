package tui

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// planScreen shows choices at the left and what follows from them at the
// right, worked out anew at each change, without any I/O.
type planScreen struct {
	in      clone.Input
	choices clone.Choices
	plan    plan.Plan
	at      int // the choice under the cursor
	skip    string
	point   time.Time // of the restore point that it is read from; zero: the site as it is
	busy    bool
}

// choice is one line of the left side.
type choice struct {
	label, help string
	text        func(p *planScreen) string
	typed       func(p *planScreen, s string) // a text that is typed
	raw         func(p *planScreen) string
	turn        func(p *planScreen, by int) // one of several values
}

var lives = []time.Duration{6 * time.Hour, 24 * time.Hour, 3 * 24 * time.Hour, 7 * 24 * time.Hour, 14 * 24 * time.Hour,
	30 * 24 * time.Hour, 0}
var limits = []int64{0, 64 << 20, 10 << 20, 1 << 20}

// turned gives the value that is by steps from v in list.
func turned[T comparable](list []T, v T, by int) T {
	i := max(0, slices.Index(list, v))
	return list[((i+by)%len(list)+len(list))%len(list)]
}

// choicesFor lists the choices; a refresh has no name, lifetime or purpose to choose.
func (p *planScreen) choicesFor() []choice {
	all := []choice{
		{label: "what to call it", help: "part of its address: a-z, 0-9 and -, at most 50",
			raw:   func(p *planScreen) string { return p.choices.Name },
			typed: func(p *planScreen, s string) { p.choices.Name = s }},
		{label: "what it is for", help: "stands on the board and on the copy's pages",
			raw:   func(p *planScreen) string { return p.choices.Purpose },
			typed: func(p *planScreen, s string) { p.choices.Purpose = s }},
		{label: "lives for", help: "then it expires, and can be brought back for a while",
			text: func(p *planScreen) string {
				if p.choices.Lease == 0 {
					return "held, no end"
				}
				return site.Span(p.choices.Lease)
			}, turn: func(p *planScreen, by int) {
				p.choices.Lease = turned(lives, p.choices.Lease, by)
				if p.choices.Lease == 0 && p.choices.Hold == "" {
					p.choices.Hold = "kept for " + site.Either(p.choices.Purpose != "", p.choices.Purpose, "now")
				}
			}},
		{label: "bring", help: "caches, logs and archives are made anew or not needed",
			text: func(p *planScreen) string {
				return site.Either(p.choices.Spare, "everything", "all but caches, logs, archives")
			}, turn: func(p *planScreen, _ int) { p.choices.Spare = !p.choices.Spare }},
		{label: "leave out folders", help: "paths below the document root, with blanks between them",
			raw:   func(p *planScreen) string { return p.skip },
			typed: func(p *planScreen, s string) { p.skip, p.choices.Skip = s, strings.Fields(s) }},
		{label: "leave out files", help: "large originals that the pages do not need",
			text: func(p *planScreen) string {
				if p.choices.Larger == 0 {
					return "none by size"
				}
				return "larger than " + site.Size(p.choices.Larger)
			}, turn: func(p *planScreen, by int) { p.choices.Larger = turned(limits, p.choices.Larger, by) }},
		{label: "title", help: "so that nobody takes the copy for the live site", text: func(p *planScreen) string {
			return site.Either(p.choices.Title, "says that it is a copy", "as the origin's")
		}, turn: func(p *planScreen, _ int) { p.choices.Title = !p.choices.Title }},
	}
	if len(p.series()) > 1 {
		all = append(all, choice{label: "runs under",
			help: "the PHP versions that this machine has; the origin's tells most", text: func(p *planScreen) string {
				return site.Either(p.choices.Runtime.PHP == "", "the origin's PHP", "PHP "+p.choices.Runtime.PHP)
			},
			turn: func(p *planScreen, by int) {
				p.choices.Runtime.PHP = turned(p.series(), p.choices.Runtime.PHP, by)
			}})
	}
	if p.in.Origin.Facts.Database.Served() && p.choices.Host == p.in.Origin.Host {
		all = append(all, choice{label: "database",
			help: "beside the origin's only where the copy can have none of its own", text: func(p *planScreen) string {
				return site.Either(p.choices.Beside, "the origin's, under another prefix", "one of its own")
			}, turn: func(p *planScreen, _ int) { p.choices.Beside = !p.choices.Beside }})
	}
	if p.in.Media != "" && p.in.Over == nil && p.choices.Host == p.in.Local && p.in.Origin.Host != p.in.Local {
		all = append(all, choice{label: "media", help: "what is asked for earlier is brought at once",
			text: func(p *planScreen) string {
				return site.Either(p.plan.Target.Behind, "come while it answers", "are there when it answers")
			}, turn: func(p *planScreen, _ int) {
				p.choices.Media = site.Either(p.plan.Target.Behind, clone.MediaFirst, clone.MediaBehind)
			}})
	}
	all = append(all, p.peopleAndPins()...)
	for _, k := range site.Kinds {
		if p.in.Origin.Facts.Has(k) == 0 {
			continue
		}
		all = append(all, choice{label: "content: " + string(k), help: k.Explain() + p.absent(),
			text: func(p *planScreen) string {
				n := site.Number(p.in.Origin.Facts.Has(k))
				return site.Either(p.choices.Only == nil || slices.Contains(p.choices.Only, k), n+" brought",
					"stay, but for what others need")
			}, turn: func(p *planScreen, _ int) { p.choices.Only = toggledKind(p.choices.Only, k, p.in.Origin.Facts) }})
	}
	for _, r := range site.QuietRules {
		all = append(all, choice{label: "quiet: " + string(r), help: r.Explain(), text: func(p *planScreen) string {
			return site.Either(slices.Contains(p.choices.Quiet, r), "kept", "OFF")
		}, turn: func(p *planScreen, _ int) { p.choices.Quiet = toggled(p.choices.Quiet, r) }})
	}
	if p.in.Over != nil {
		return all[3:]
	}
	if hosts := p.hosts(); len(hosts) > 1 {
		all = slices.Insert(all, 3, choice{label: "made on", help: "hosts on which a folder for copies is set",
			text: func(p *planScreen) string { return p.choices.Host },
			turn: func(p *planScreen, by int) { p.choices.Host = turned(hosts, p.choices.Host, by) }})
	}
	return all
}

// peopleAndPins are the choices of whether people are made up, and of a pin sheet.
func (p *planScreen) peopleAndPins() (all []choice) {
	if p.in.Origin.Facts.Database.Engine != "" {
		all = append(all,
			choice{label: "people", help: "made-up names, mail addresses and the like; usual where the copy leaves " +
				"this machine", text: func(p *planScreen) string {
				return site.Either(p.plan.Target.Scrubbed, "made up", "as they are")
			}, turn: func(p *planScreen, _ int) { p.choices.Scrub = site.Either(p.plan.Target.Scrubbed, "off", "on") }})
	}
	if len(p.in.Pins) > 0 && p.in.Over == nil {
		names := append([]string{""}, slices.Sorted(maps.Keys(p.in.Pins))...)
		all = append(all, choice{label: "pin sheet", help: "the versions and settings that the copy is to have",
			text: func(p *planScreen) string {
				return site.Either(p.choices.Pins == "", "none: as the origin", p.choices.Pins)
			}, turn: func(p *planScreen, by int) { p.choices.Pins = turned(names, p.choices.Pins, by) }})
	}
	return all
}

// source says what the origin is read from.
func (p *planScreen) source() string {
	if !p.point.IsZero() {
		return "as it was at the restore point of " + p.point.Local().Format("Mon 2 Jan 15:04")
	}
	return "nothing is written to it"
}

// hosts are those on which copies may be made, this machine first.
func (p *planScreen) hosts() []string {
	out := []string{p.in.Local}
	for _, h := range slices.Sorted(maps.Keys(p.in.Places)) {
		if h != p.in.Local && p.in.Places[h].Folder != "" {
			out = append(out, h)
		}
	}
	return out
}

// series are the PHP versions to choose from; "" is the origin's. There are
// none for a site whose code is not run.
func (p *planScreen) series() []string {
	if !p.in.Origin.Facts.Database.Served() {
		return nil
	}
	return append([]string{""}, p.in.Places[p.in.Local].PHP...)
}

// runsUnder says what the copy's code will run on.
func (p *planScreen) runsUnder() string {
	was := site.Either(p.in.Origin.Facts.PHP != "", "; the origin runs php "+p.in.Origin.Facts.PHP, "")
	if php := p.plan.Target.Runtime.PHP; php != "" {
		return "php " + php + was
	}
	return "the preview" + was
}

// absent names the kinds of content that the site does not have.
func (p *planScreen) absent() string {
	var none []site.Kind
	for _, k := range site.Kinds {
		if p.in.Origin.Facts.Has(k) == 0 {
			none = append(none, k)
		}
	}
	return site.Either(len(none) > 0, " (not here: "+site.KindList(none)+")", "")
}

// toggledKind keeps the kinds in their order; nil is all of them.
func toggledKind(have []site.Kind, k site.Kind, f *site.Facts) []site.Kind {
	if have == nil {
		have = site.Kinds
	}
	out, missing := []site.Kind{}, false
	for _, q := range site.Kinds {
		switch {
		case slices.Contains(have, q) != (q == k):
			out = append(out, q)
		case f.Has(q) > 0:
			missing = true
		}
	}
	if !missing {
		return nil
	}
	return out
}

// toggled keeps the rules in their order.
func toggled(have []site.Rule, r site.Rule) []site.Rule {
	var out []site.Rule
	for _, q := range site.QuietRules {
		if slices.Contains(have, q) != (q == r) {
			out = append(out, q)
		}
	}
	return out
}

// openPlan gathers what a plan is made of and opens its screen.
func openPlan(a *app, s site.Site, refresh bool) tea.Cmd {
	return planned(a, s.Name, time.Time{}, func() (in clone.Input, c clone.Choices, err error) {
		if refresh {
			return a.desk.Copies.RefreshInput(a.ctx, s.ID)
		}
		if in, err = a.desk.Copies.CopyInput(a.ctx, s.ID); err == nil {
			c, err = a.desk.Copies.CopyDefaults(a.ctx, in.Origin, "")
			c.Pins = a.desk.Pins.UsualPins()
		}
		return in, c, err
	})
}

// planned opens the screen on what was gathered.
func planned(a *app, name string, point time.Time, gather func() (clone.Input, clone.Choices, error)) tea.Cmd {
	a.say("reading "+name+" ...", false)
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		p := &planScreen{point: point}
		var err error
		if p.in, p.choices, err = gather(); err != nil {
			return "", nil, err
		}
		p.skip = strings.Join(p.choices.Skip, " ")
		p.plan = a.desk.Copies.PlanFrom(p.in, p.choices)
		return "", func(a *app) tea.Cmd { a.note = ""; a.push(p); return nil }, nil
	})
}

func (p *planScreen) title(*app) string {
	if p.in.Over != nil {
		return "plan: bring " + p.in.Over.Name + " in line with " + p.in.Origin.Name
	}
	return "plan: copy of " + p.in.Origin.Name
}

func (p *planScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	list := p.choicesFor()
	c := list[p.at]
	if paste, ok := msg.(tea.PasteMsg); ok && c.typed != nil {
		c.typed(p, c.raw(p)+strings.TrimSpace(paste.Content))
		p.plan = a.desk.Copies.PlanFrom(p.in, p.choices)
		return nil, true
	}
	k, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return nil, false
	}
	switch key := k.String(); {
	case key == "esc":
		return nil, false
	case key == "enter":
		return p.run(a), true
	case key == "down" || key == "tab":
		p.at = (p.at + 1) % len(list)
	case key == "up" || key == "shift+tab":
		p.at = (p.at + len(list) - 1) % len(list)
	case c.typed != nil && key == "backspace":
		if r := []rune(c.raw(p)); len(r) > 0 {
			c.typed(p, string(r[:len(r)-1]))
		}
	case c.typed != nil && key == "ctrl+u":
		c.typed(p, "")
	case c.typed != nil && k.Text != "" && k.Text != "?":
		c.typed(p, c.raw(p)+k.Text)
	case c.turn != nil && (key == "left" || key == "h"):
		c.turn(p, -1)
	case c.turn != nil && (key == "right" || key == "l" || key == "space"):
		c.turn(p, 1)
	default:
		return nil, false
	}
	p.plan = a.desk.Copies.PlanFrom(p.in, p.choices)
	return nil, true
}

// run starts the plan, once; a refresh that loses work asks for the name.
func (p *planScreen) run(a *app) tea.Cmd {
	if p.busy {
		return nil
	}
	if p.plan.Blocked() {
		f := p.plan.Findings[0]
		a.say(f.Text+"; "+f.Remedy, true)
		return nil
	}
	if p.in.Over != nil && p.plan.Confirm != "" {
		why := "It is held: " + p.in.Over.Lease.Reason + "."
		if p.plan.Loses > 0 {
			why = changes(p.plan.Loses) + " made on the copy are nowhere else and will be lost."
		}
		a.asking = &question{title: "Lose what was done on " + p.in.Over.Name + "?",
			lines: []string{why, "Type its name to go on:"}, input: true, must: p.plan.Confirm,
			yes: func(a *app) tea.Cmd { p.busy = true; return start(a, p.plan) }}
		return nil
	}
	if p.choices.Beside && p.in.Over == nil {
		a.asking = &question{title: "Write into the database of " + p.in.Origin.Name + "?",
			lines: []string{"The copy's tables are made in the live site's own database,",
				"under the prefix " + p.plan.Target.Database.Prefix + "; none of its tables is touched.",
				"Type its name to go on:"}, input: true, must: p.plan.Confirm,
			yes: func(a *app) tea.Cmd { p.busy = true; return start(a, p.plan) }}
		return nil
	}
	p.busy = true
	return start(a, p.plan)
}

func (p *planScreen) keys(*app) []hint {
	return []hint{{"Enter", "run it"}, {"Tab", "next choice"}, {"←→", "change"}, {"Esc", "back, nothing is done"}}
}

func (p *planScreen) words() []hint {
	return []hint{{"brings", "what will be on the copy"}, {"leaves out", "what stays behind, and why"},
		{"rewrites", "addresses and paths that become the copy's own, wherever a value holds them"},
		{"writes", "each place that is written to; the origin is none of them"},
		{"quiet rules", "what the copy must not do to the outside"},
		{"obstacle", "the plan can't run before it is fixed"}, {"warning", "may surprise; the plan runs all the same"}}
}

func (p *planScreen) view(a *app, w, h int) []string {
	t := a.theme
	wide := w >= 100
	wa := w
	if wide {
		wa = w * 46 / 100
	}
	left := p.left(a, wa)
	right := p.right(a, site.Either(wide, w-wa-4, w-3))
	note := t.soft.Render(" origin ") + t.badge(p.in.Origin.Role) + " " + t.mark(p.in.Origin.Mark()) +
		t.ink.Bold(true).Render(" "+plain(p.in.Origin.Address().String())) + t.soft.Render("   "+p.source())
	out := []string{note, ""}
	findings := p.findings(a, w)
	if wide {
		rows := max(6, h-len(out)-1-min(len(findings), 4))
		if len(left) > rows {
			left = append(window(left[:len(left)-2], p.at, rows-1), left[len(left)-1]) // the help stays
		}
		out = append(out, t.beside(left, right[:min(len(right), rows)], wa, w-wa-3)...)
	} else {
		room := max(4, h-len(out)-min(len(findings), 5)-5)
		out = append(out, window(left, p.at, room)...)
		for _, l := range right[:min(4, len(right))] {
			out = append(out, "  "+l)
		}
	}
	out = append(out, "")
	for i, f := range findings {
		if len(out) >= h-1 && i < len(findings)-1 {
			out = append(out, t.soft.Render(fmt.Sprintf("   and %d lines more; a larger window shows them",
				len(findings)-i)))
			break
		}
		out = append(out, f)
	}
	return out
}

// window gives the lines around at that fit in n.
func window(lines []string, at, n int) []string {
	from := max(0, min(at-n/2, len(lines)-n))
	return lines[from:min(len(lines), from+n)]
}

func (p *planScreen) left(a *app, w int) []string {
	t := a.theme
	var out []string
	for i, c := range p.choicesFor() {
		if c.typed != nil {
			out = append(out, t.choiceLine(c.label, plain(c.raw(p)), true, false, i == p.at, w))
			continue
		}
		out = append(out, t.choiceLine(c.label, c.text(p), false, true, i == p.at, w))
	}
	return append(out, "", t.soft.Render("  "+p.choicesFor()[p.at].help))
}

// choiceLine draws a choice: a text that is typed, or one of several values.
func (t *theme) choiceLine(label, value string, typed, turns, here bool, w int) string {
	line := t.fit("  "+label, 20)
	switch {
	case typed && here:
		value += "_"
	case typed && value == "":
		value = "-"
	}
	if !here {
		return t.soft.Render(line) + " " + t.ink.Render(t.fit(value, w-22))
	}
	if turns {
		value = t.glyph("‹ ", "< ") + value + t.glyph(" ›", " >")
	}
	return t.key.Render(t.glyph("▶", ">")) + t.ink.Bold(true).Render(line[1:]) + t.chosen.Render(t.fit(" "+value, w-22))
}

// right tells what follows from the choices.
func (p *planScreen) right(a *app, w int) []string {
	t := a.theme
	pl := p.plan
	var out []string
	add := func(label, text, amount string) {
		out = append(out, t.soft.Render(t.fit(label, 12))+t.ink.Render(t.ends(plain(text), amount, w-12)))
	}
	add("brings", pl.RowsText(), site.Size(pl.Data))
	add("", fmt.Sprintf("%s files", site.Number(pl.Files)), site.Size(pl.Bytes))
	add("takes", fmt.Sprintf("%s to %s", site.Seconds(pl.Estimate.Low), site.Seconds(pl.Estimate.High)), "")
	add("", pl.Estimate.Basis, "")
	for i, l := range pl.LeftOut {
		if i == 5 {
			add("", fmt.Sprintf("and %d more", len(pl.LeftOut)-5), "")
			break
		}
		add(site.Either(i == 0, "leaves out", ""), l.What+" ("+l.Why+")", l.Amount())
	}
	for i, r := range pl.Rewrites {
		if i == 0 || i == len(pl.Rewrites)-1 {
			add(site.Either(i == 0, "rewrites", ""), r.From, "")
			add("", "  becomes "+r.To, "")
		}
	}
	add("where", site.Either(pl.Target.Host == p.in.Local, p.in.Local+" (this machine)", pl.Target.Host), "")
	if pl.FreeThen > 0 {
		add("disk after", site.Size(pl.FreeThen)+" free", "")
	}
	if q := p.in.Quota; q.Copies > 0 && p.in.Over == nil {
		add("quota", fmt.Sprintf("copy %d of %d; %d of this site already", p.in.Use.Copies+1, q.Copies,
			p.in.Use.OfOrigin), "")
	}
	for i, x := range pl.Writes {
		add(site.Either(i == 0, "writes", ""), x, "")
	}
	add("runs under", p.runsUnder(), "")
	if !pl.Target.Lease.Held {
		add("lives until", pl.Target.Lease.Ends.Format("Mon 2 Jan 15:04"), "")
	}
	return out
}

func (p *planScreen) findings(a *app, w int) []string {
	return findingLines(a.theme, p.plan.Findings, w)
}

// findingLines writes findings, each with its remedy, on as many lines as it takes.
func findingLines(t *theme, list []site.Finding, w int) []string {
	var out []string
	for _, f := range list {
		style, mark := t.soft, t.glyph(" · ", " . ")
		switch f.Severity {
		case site.Warn:
			style, mark = t.soon, " ! "
		case site.Block:
			style, mark = t.wrong, " X "
		}
		parts := []part{{f.Severity.String() + " ", style}, {plain(f.Text), t.ink}}
		if f.Remedy != "" {
			parts = append(parts, part{"; " + plain(f.Remedy), t.soft})
		}
		for i, l := range wrapped(parts, w-4) {
			out = append(out, t.fit(style.Render(site.Either(i == 0, mark, "   "))+l, w))
		}
	}
	return out
}
