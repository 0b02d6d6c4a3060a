package tui

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// stateScreen is a plan of bringing a site to another state where it stands:
// choices at the left, what goes and what stays at the right. A plan reads the
// site, so it is made anew a moment after a choice changed, beside the screen.
type stateScreen struct {
	scroll
	name    string
	site    site.Site
	choices []stateChoice
	make    func() (plan.Plan, error)
	gentler []string
	started func(a *app, r plan.Run) tea.Cmd // where to go on; nil: to the run
	more    func(a *app, key string) (tea.Cmd, bool)
	// listHead stands above gentler where that is something else.
	listHead string

	at      int
	plan    plan.Plan
	wrong   error
	asked   int // how often a plan was asked for
	reading bool
	busy    bool
}

// stateChoice is one line of the left side.
type stateChoice struct {
	label, help string
	text        func() string
	turn        func(by int)
	typed       func(string)
}

// planMade is a plan that was asked for.
type planMade struct {
	of   *stateScreen
	n    int
	plan plan.Plan
	err  error
}

// ask has the plan made anew.
func (s *stateScreen) ask() tea.Cmd {
	s.asked++
	s.reading = true
	n := s.asked
	return func() tea.Msg {
		p, err := s.make()
		return planMade{s, n, p, err}
	}
}

func (s *stateScreen) title(*app) string { return s.name }

func (s *stateScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case planMade:
		if msg.of == s && msg.n == s.asked {
			s.plan, s.wrong, s.reading = msg.plan, msg.err, false
		}
		return nil, true
	case tea.PasteMsg:
		if c := s.choices[s.at]; c.typed != nil {
			c.typed(c.text() + strings.TrimSpace(msg.Content))
			return s.ask(), true
		}
	case tea.KeyPressMsg:
		return s.key(a, msg)
	}
	return nil, false
}

func (s *stateScreen) key(a *app, k tea.KeyPressMsg) (tea.Cmd, bool) {
	c := s.choices[s.at]
	switch key := k.String(); {
	case key == "enter":
		return s.run(a), true
	case key == "down" || key == "tab":
		s.at = (s.at + 1) % len(s.choices)
		return nil, true
	case key == "up" || key == "shift+tab":
		s.at = (s.at + len(s.choices) - 1) % len(s.choices)
		return nil, true
	case key == "pgdown" || key == "pgup":
		s.top += site.Either(key == "pgdown", 8, -8)
		return nil, true
	case c.typed != nil && key == "backspace":
		if r := []rune(c.text()); len(r) > 0 {
			c.typed(string(r[:len(r)-1]))
		}
	case c.typed != nil && k.Text != "" && k.Text != "?":
		c.typed(c.text() + k.Text)
	case c.turn != nil && (key == "left" || key == "h"):
		c.turn(-1)
	case c.turn != nil && (key == "right" || key == "l" || key == "space"):
		c.turn(1)
	case s.more != nil && c.typed == nil:
		return s.more(a, key)
	default:
		return nil, false
	}
	return s.ask(), true
}

// run carries the plan out, once; where it says so a name has to be typed.
func (s *stateScreen) run(a *app) tea.Cmd {
	switch {
	case s.busy:
		return nil
	case s.reading:
		a.say("the plan is still being made", true)
		return nil
	case s.wrong != nil:
		a.say(s.wrong.Error(), true)
		return nil
	case s.plan.Blocked():
		a.say(s.plan.Findings[0].Text+"; "+s.plan.Findings[0].Remedy, true)
		return nil
	}
	p := s.plan
	if s.started != nil {
		s.busy = true
		return a.doThen(func() (string, func(*app) tea.Cmd, error) {
			r, err := a.desk.Runs.Start(a.ctx, p)
			return "", func(a *app) tea.Cmd {
				if a.top() == screen(s) {
					a.pop()
				}
				return s.started(a, r)
			}, err
		})
	}
	if p.Confirm == "" {
		s.busy = true
		return start(a, p)
	}
	why := "a restore point is taken first, which brings it back"
	target := strings.ToUpper(string(s.site.Role)) + " " + p.Target.Name
	title := "Bring " + target + " to " + p.Words + "?"
	if p.Kind == plan.Sync {
		title, why = "Carry "+p.Words+" to "+target+"?", why+", and alibi sync --undo takes back what it wrote alone"
	}
	a.asking = &question{title: title, lines: []string{"What goes is listed on the plan; " + why + ".", "",
		"Type its name to go on:"},
		input: true, must: p.Confirm,
		yes: func(a *app) tea.Cmd { s.busy = true; return start(a, p) }}
	return nil
}

func (s *stateScreen) keys(*app) []hint {
	return []hint{{"Enter", "run it"}, {"Tab", "next choice"}, {"←→", "change"}, {"PgDn", "more of the lists"},
		{"Esc", "back, nothing is done"}}
}

func (s *stateScreen) words() []hint {
	return []hint{{"goes", "what is there now and will not be; a restore point is taken first"},
		{"stays", "what is not touched"}, {"notice", "what visitors see while it is done"},
		{"undo", "restore the point that was taken first"}}
}

func (s *stateScreen) view(a *app, w, h int) []string {
	t := a.theme
	narrow := w < 100
	wa := w * 42 / 100
	wb := w - wa - 4
	if narrow {
		wa, wb = w-2, w-3
	}
	note := " " + t.badge(s.site.Role) + " " + t.mark(s.site.Mark()) + " " +
		t.ink.Bold(true).Render(plain(s.site.Name)) +
		t.soft.Render("   "+s.site.Address().Short()+
			site.Either(s.plan.Words != "",
				site.Either(slices.Contains([]plan.Kind{plan.Change, plan.Trial, plan.Blank, plan.Sync},
					s.plan.Kind), "   ", "   to ")+plain(s.plan.Words), ""))
	out := []string{note, ""}
	var left []string
	for i, c := range s.choices {
		left = append(left, t.choiceLine(c.label, plain(c.text()), c.typed != nil, c.turn != nil, i == s.at, wa))
	}
	left = append(left, "")
	for _, l := range wrap(s.choices[s.at].help, wa-4) {
		left = append(left, t.soft.Render("  "+l))
	}
	if len(s.gentler) > 0 {
		left = append(left, "", t.head.Render("  "+cmp.Or(s.listHead, "GENTLER")))
		for _, g := range s.gentler {
			for _, l := range wrap(g, wa-4) {
				left = append(left, t.soft.Render("  "+l))
			}
		}
	}
	right := s.lists(t, wb)
	findings := findingLines(t, s.plan.Findings, w)
	rows := max(5, h-len(out)-1-min(len(findings), 5))
	s.top = max(0, min(s.top, len(right)-rows))
	if narrow { // the lists stand below the choices
		left = append(left[:len(s.choices)], "")
		rows = max(3, rows-len(left))
		s.top = max(0, min(s.top, len(right)-rows))
		out = append(out, left...)
		for _, l := range right[s.top:min(len(right), s.top+rows)] {
			out = append(out, "  "+l)
		}
	} else {
		right = right[s.top:min(len(right), s.top+rows)]
		out = append(out, t.beside(left[:min(len(left), rows)], right, wa, wb)...)
	}
	for len(out) < h-len(findings)-1 {
		out = append(out, "")
	}
	return append(out, findings[:min(len(findings), max(0, h-len(out)))]...)
}

// lists are what goes and what stays.
func (s *stateScreen) lists(t *theme, w int) []string {
	switch {
	case s.wrong != nil:
		var out []string
		for _, l := range wrap(plain(s.wrong.Error()), w-2) {
			out = append(out, t.wrong.Render(l))
		}
		return out
	case s.reading && s.plan.Kind == "":
		return []string{t.soft.Render("reading the site ...")}
	}
	var out []string
	for _, l := range []struct {
		head  string
		style func(...string) string
		list  []plan.Part
	}{
		{cmp.Or(map[plan.Kind]string{plan.Change: "CHANGES", plan.Trial: "TRIES", plan.Blank: "COMES",
			plan.Sync: "CARRIES"}[s.plan.Kind],
			"GOES"), t.soon.Render, s.plan.Goes}, {"STAYS", t.good.Render, s.plan.Stays},
	} {
		out = append(out, l.style(l.head)+t.soft.Render(site.Either(s.reading, "   reading ...", "")))
		for _, p := range l.list {
			out = append(out, t.ends(t.ink.Render("  "+plain(p.What))+
				t.soft.Render(site.Either(p.Note != "", "  "+plain(p.Note), "")), t.ink.Render(" "+p.Amount()), w))
		}
		if len(l.list) == 0 {
			out = append(out, t.soft.Render("  nothing"))
		}
		out = append(out, "")
	}
	out = append(out, t.head.Render("WRITES"))
	for _, x := range s.plan.Writes {
		out = append(out, t.soft.Render("  "+plain(x)))
	}
	return append(out, "", t.soft.Render(fmt.Sprintf("takes %s to %s (%s)", site.Seconds(s.plan.Estimate.Low),
		site.Seconds(s.plan.Estimate.High), s.plan.Estimate.Basis)))
}

// openReset opens the plan of cleaning a site.
func openReset(a *app, s site.Site) tea.Cmd {
	c := reset.Clean{Wish: stack.Wish{All: true}}
	targets := []string{"all content and settings", "nothing in tables"}
	for _, k := range site.Kinds {
		if k != site.Users && s.Facts != nil && s.Facts.Has(k) > 0 {
			targets = append(targets, "only "+string(k))
		}
	}
	if s.Facts != nil {
		for _, p := range s.Facts.Plugins {
			targets = append(targets, "only what "+p.Slug+" keeps")
		}
	}
	goes := targets[0]
	except := ""
	x := &stateScreen{name: "reset " + s.Name, site: s}
	x.make = func() (plan.Plan, error) { return a.desk.Copies.PlanClean(a.ctx, s.ID, c, "") }
	x.choices = []stateChoice{{label: "goes",
		help: "All: content, plugins' tables and settings, and all accounts but one administrator. Or only a " +
			"part of it.", text: func() string { return goes }, turn: func(by int) {
			goes = turned(targets, goes, by)
			c.Wish = stack.Wish{All: goes == targets[0], Admin: c.Wish.Admin}
			if rest, only := strings.CutPrefix(goes, "only "); only {
				if slug, keeps := strings.CutSuffix(strings.TrimPrefix(rest, "what "), " keeps"); keeps {
					c.Wish.Plugin = slug
				} else {
					c.Wish.Kinds = []site.Kind{site.Kind(rest)}
				}
			}
		}}}
	for _, folder := range []string{"plugins", "themes", "uploads"} {
		x.choices = append(x.choices, stateChoice{label: folder,
			help: "Files that would be left over. The theme that is on stays.",
			text: func() string { return site.Either(slices.Contains(c.Tidy, folder), "taken out", "stay") },
			turn: func(int) {
				if i := slices.Index(c.Tidy, folder); i >= 0 {
					c.Tidy = slices.Delete(slices.Clone(c.Tidy), i, i+1)
				} else {
					c.Tidy = append(slices.Clone(c.Tidy), folder)
				}
			}})
	}
	x.choices = append(x.choices,
		stateChoice{label: "but not", help: "What stays of these, by name, with blanks between.",
			text: func() string { return except }, typed: func(v string) { except, c.Except = v, strings.Fields(v) }},
		stateChoice{
			label: "administrator",
			help: "The account that stays, with its password; empty: the first one. A new one with a password of " +
				"its own: alibi reset --admin", text: func() string { return c.Wish.Admin.Name },
			typed: func(v string) { c.Wish.Admin.Name = strings.TrimSpace(v) },
		})
	x.gentler = []string{"A copy can be brought in line with its origin (r), or to a restore point (R).",
		"A new copy (c) or parking (F) may do as well."}
	a.push(x)
	return x.ask()
}

// openRestore opens the plan of bringing a site back to one of its restore points.
func openRestore(a *app, p desk.Point) tea.Cmd {
	s, ok := a.find(p.Site.ID)
	if !ok {
		a.say("the site of this restore point is not in the record; make a copy of it", true)
		return nil
	}
	wholes := []string{"everything", "only files", "only the database"}
	for _, k := range site.Kinds {
		if s.Facts != nil && s.Facts.Has(k) > 0 {
			wholes = append(wholes, "only "+string(k))
		}
	}
	part, paths, tables := wholes[0], "", ""
	x := &stateScreen{name: "restore " + s.Name + " as of " + p.Taken.Local().Format("Mon 2 Jan 15:04"), site: s}
	x.make = func() (plan.Plan, error) {
		c := reset.Choices{Files: part == wholes[0] || part == wholes[1],
			Database: part == wholes[0] || part == wholes[2], Paths: strings.Fields(paths),
			Tables: strings.Fields(tables)}
		if k := site.Kind(strings.TrimPrefix(part, "only ")); k.Explain() != "" {
			c.Kinds, c.Database = []site.Kind{k}, true
		}
		if len(c.Kinds) > 0 {
			c.Tables = nil
		}
		return a.desk.Points.PlanRestore(a.ctx, p, c)
	}
	x.choices = []stateChoice{
		{label: "comes back", help: "Content of a kind is put back among what is there: what came since stays.",
			text: func() string { return part }, turn: func(by int) { part = turned(wholes, part, by) }},
		{label: "files", help: "Only these files and folders, as they are called below the site's root; empty: all.",
			text: func() string { return paths }, typed: func(v string) { paths = v }},
		{label: "tables", help: "Only these tables; empty: all.", text: func() string { return tables },
			typed: func(v string) { tables = v }},
	}
	x.gentler = []string{
		"A copy of the point (c) shows what it was without touching the site; single files can be had from it too (f).",
	}
	a.push(x)
	return x.ask()
}
