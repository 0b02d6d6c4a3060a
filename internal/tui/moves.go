package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/plan"
	"alibi/internal/site"
)

// movesScreen shows the live sites that are on their way to other places, and the route of the one that is chosen.
type movesScreen struct {
	scroll
	list []plan.Move
	want string    // the one to be chosen, by its name
	of   site.Site // a live one of which a move can begin
	got  bool
	busy string // what is being done
}

type movesMsg struct {
	list []plan.Move
	err  error
}

// openMoves opens the routes, with the one of a site chosen; a site that is on no way begins one.
func openMoves(a *app, s site.Site) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		list, err := a.desk.Moves.All(a.ctx)
		i := slices.IndexFunc(list, func(m plan.Move) bool { return m.Site == s.ID })
		return "", func(a *app) tea.Cmd {
			if i < 0 {
				a.push(newMoveForm(s))
				return nil
			}
			a.push(&movesScreen{want: list[i].Name})
			return nil
		}, err
	})
}

func (s *movesScreen) title(*app) string { return "moves" }

func (s *movesScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		return func() tea.Msg {
			list, err := a.desk.Moves.All(a.ctx)
			return movesMsg{list, err}
		}, true
	case movesMsg:
		s.got = true
		if msg.err != nil {
			a.say(msg.err.Error(), true)
			return nil, true
		}
		s.list = msg.list
		if i := slices.IndexFunc(s.list, func(m plan.Move) bool { return m.Name == s.want }); i >= 0 {
			s.cursor, s.want = i, ""
		}
		return nil, true
	case doneMsg:
		s.busy = ""
		return nil, false
	case tea.KeyPressMsg:
		return s.key(a, msg.String())
	}
	return nil, false
}

func (s *movesScreen) current() (plan.Move, bool) {
	if len(s.list) == 0 {
		return plan.Move{}, false
	}
	return s.list[max(0, min(s.cursor, len(s.list)-1))], true
}

func (s *movesScreen) key(a *app, key string) (tea.Cmd, bool) {
	if by, ok := step(key, len(s.list), 4); ok {
		s.move(by, len(s.list), 4)
		return nil, true
	}
	if key == "n" && s.begins() {
		a.push(newMoveForm(s.of))
		return nil, true
	}
	m, ok := s.current()
	if !ok || s.busy != "" {
		return nil, false
	}
	leg, has := map[string]string{"y": plan.LegSurvey, "c": plan.LegCarry, "v": plan.LegCheck, "t": plan.LegNames,
		"s": plan.LegSwitch, "b": plan.LegBack, "w": plan.LegWatch, "x": plan.LegClear}[key]
	switch key {
	case "enter":
		l, more := m.Next(a.desk.Now())
		if !more {
			return s.forget(a, m), true
		}
		leg, has = l.Name, true
	case "o":
		if !m.Moved {
			is, _ := a.find(m.Site)
			a.push(newCertForm(m, is))
			return nil, true
		}
	case "D":
		return s.forget(a, m), true
	}
	if !has {
		return nil, false
	}
	return s.through(a, m, leg), true
}

// begins tells whether the live site that was under the cursor is on no way yet.
func (s *movesScreen) begins() bool {
	return s.of.Role == site.Live && !slices.ContainsFunc(s.list, func(m plan.Move) bool { return m.Site == s.of.ID })
}

// through goes through a gate.
func (s *movesScreen) through(a *app, m plan.Move, leg string) tea.Cmd {
	at := func(text string, act func() (plan.Move, error)) tea.Cmd {
		s.busy = text
		return a.do(func() (string, error) {
			_, err := act()
			return "", err
		})
	}
	switch leg {
	case plan.LegSurvey:
		return at("both places are looked at ...", func() (plan.Move, error) { return a.desk.Moves.Survey(a.ctx, m.Name) })
	case plan.LegWatch:
		return at("servers are asked ...", func() (plan.Move, error) { return a.desk.Moves.Watch(a.ctx, m.Name) })
	case plan.LegNames:
		return s.lower(a, m)
	}
	s.busy = "the plan is being made ..."
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		p, err := a.desk.Moves.Plan(a.ctx, m, leg)
		return "", func(a *app) tea.Cmd { return askMove(a, p) }, err
	})
}

// lower asks for the site's name, and shortens how long its names are kept.
func (s *movesScreen) lower(a *app, m plan.Move) tea.Cmd {
	is, _ := a.find(m.Site)
	act := func(a *app) tea.Cmd {
		s.busy = "its names are being made ready ..."
		return a.do(func() (string, error) {
			m, err := a.desk.Moves.Lower(a.ctx, m.Name, is.Name)
			legs := m.Legs(a.desk.Now())
			i := slices.IndexFunc(legs, func(l plan.Leg) bool { return l.Name == plan.LegNames })
			return "its names: " + legs[i].Why, err
		})
	}
	if !m.Asks() {
		return act(a)
	}
	var lines []string
	if n := m.Names; n != nil && len(n.Old) > 0 && n.Lowered.IsZero() {
		lines = append(lines, fmt.Sprintf("Others keep its addresses for up to %s now. With %s, all see a switch that "+
			"soon.", site.Seconds(n.Longest()), site.Seconds(n.Short)))
	}
	if p := m.Panel; p != nil && p.New {
		lines = append(lines, "They are attached in the panel of "+plain(m.To.Host)+": "+
			plain(strings.Join(p.Want, ", "))+".")
	}
	lines = append(lines, "Where they lead stays as it is.", "", "Type its name to go on:")
	a.asking = &question{title: "Change the names of LIVE " + is.Name + "?", lines: lines, input: true, must: is.Name,
		yes: act}
	return nil
}

// askMove shows what a plan of a move writes, and carries it out; where it says so a name has to be typed.
func askMove(a *app, p plan.Plan) tea.Cmd {
	if p.Blocked() {
		a.say(p.Findings[0].Text+"; "+p.Findings[0].Remedy, true)
		return nil
	}
	if p.Confirm == "" {
		return start(a, p)
	}
	var lines []string
	for i, w := range p.Writes {
		lines = append(lines, site.Either(i == 0, "writes  ", "        ")+w)
	}
	for _, f := range p.Findings {
		lines = append(lines, f.Text+"; "+f.Remedy+".")
	}
	title := "Switch LIVE " + p.Origin.Name + " over to " + p.Words + "?"
	if p.Kind == plan.Certify {
		title = "Order " + p.Words + "?"
	}
	if p.Kind == plan.Clear {
		title = site.Either(p.Words == "", "", strings.ToUpper(p.Words[:1])+p.Words[1:]) + "?"
	}
	a.asking = &question{title: title, lines: append(lines, "", "Type its name to go on:"), input: true, must: p.Confirm,
		yes: func(a *app) tea.Cmd { return start(a, p) }}
	return nil
}

// forget takes a move out of the record.
func (s *movesScreen) forget(a *app, m plan.Move) tea.Cmd {
	a.asking = &question{title: "Take " + m.Name + " out of the record?",
		lines: []string{"The site stays where it stands. It can be moved again."},
		yes: func(a *app) tea.Cmd {
			return a.do(func() (string, error) {
				return m.Name + " is not in the record any more", a.desk.Moves.Forget(a.ctx, m.Name)
			})
		}}
	return nil
}

func (s *movesScreen) keys(a *app) []hint {
	m, ok := s.current()
	var out []hint
	if s.begins() {
		out = append(out, hint{"n", "begin with " + plain(s.of.Name)})
	}
	if !ok {
		return append(out, hint{"Esc", "back"})
	}
	out = append(out, hint{"Enter", "the next gate"})
	if m.Moved {
		out = append(out, hint{"w", "watch"}, hint{"b", "go back"}, hint{"x", "clear the old place"})
	} else {
		out = append(out, hint{"y", "survey"}, hint{"c", "carry"}, hint{"v", "check"}, hint{"t", "names"},
			hint{"o", "order a certificate"}, hint{"s", "switch over"}, hint{"x", "give up, clear the new place"})
	}
	return append(out, hint{"D", "out of the record"}, hint{"Esc", "back"})
}

func (s *movesScreen) words() []hint {
	return []hint{{"survey", "what the new place lacks of what will arrive"},
		{"carry", "bring what differs, while the site goes on; each pass is less than the one before"},
		{"check", "files, rows and pages of both places, compared"},
		{"names", "others keep its addresses for less long, so that a switch is seen soon, and they are attached there"},
		{"switch", "visitors are held, the last is brought, names are changed; all of it is taken back if it fails"},
		{"watch", "what servers say of its names, and whether anything was written at the old place"},
		{"clear", "the place where it does not stand is emptied; a restore point is taken first if somebody wrote there"},
		{"way back", "what going back would do now"}}
}

func (s *movesScreen) view(a *app, w, h int) []string {
	t := a.theme
	if !s.got {
		return []string{"", t.soft.Render("   reading the record ...")}
	}
	if len(s.list) == 0 {
		how := "put the cursor of the board on a live site, and come back to begin a move of it"
		if s.begins() {
			how = "n begins a move of " + plain(s.of.Name) + "; nothing is written by that"
		}
		return []string{"", t.soft.Render("   no site is on its way"), "", t.soft.Render("   " + how)}
	}
	c := squeeze(w-5, column{30, 16}, column{22, 14}, column{70, 20})
	out := []string{"", t.head.Render("   " + t.fit("MOVE", c[0]) + t.fit("FROM, TO", c[1]) + "NEXT")}
	rows := max(1, min(len(s.list), h/6))
	s.see(len(s.list), rows)
	for i := s.top; i < min(len(s.list), s.top+rows); i++ {
		m := s.list[i]
		style, mark := t.ink, " "
		if i == s.cursor {
			style, mark = t.chosen, t.key.Render(t.glyph("▶", ">"))
		}
		next := "all gates are passed"
		if l, more := m.Next(a.desk.Now()); more {
			next = l.Title
		}
		arrow := t.glyph(" → ", " > ")
		out = append(out, mark+"  "+style.Render(t.fit(plain(m.Name), c[0]-1))+" "+
			t.soft.Render(t.fit(plain(m.From.Host)+arrow+plain(m.To.Host), c[1]))+t.ink.Render(t.fit(next, c[2])))
	}
	m, _ := s.current()
	return append(out, s.route(a, m, w, h-len(out))...)
}

// route draws the way of one site, its gates with their reasons, and what was found.
func (s *movesScreen) route(a *app, m plan.Move, w, h int) []string {
	t := a.theme
	is, _ := a.find(m.Site)
	legs := m.Legs(a.desk.Now())
	out := []string{t.line(w)}
	road := s.road(t, is, m, legs, w)
	if h < 30 { // every line counts
		road = slices.DeleteFunc(road, func(l string) bool { return l == "" })
	}
	out = append(append(out, road...), "")
	for _, l := range legs {
		style := map[plan.LegState]func(...string) string{plan.Passed: t.good.Render, plan.Open: t.key.Render,
			plan.Shut: t.soft.Render}[l.State]
		text := t.ink.Render(l.Title) + t.soft.Render(site.Either(l.Why == "", "", ": "+plain(l.Why)))
		if w < 100 && l.Why != "" {
			text = t.ink.Render(plain(l.Why))
		}
		out = append(out, "   "+style(t.fit(string(l.State), 9))+t.ink.Render(t.fit(l.Name, 9))+t.fit(text, w-22))
	}
	if c := m.Certificate; c != nil {
		text := "holds until " + c.Until.Local().Format("2 Jan 2006") + ", in " + c.Dir
		text += site.Either(len(c.Unseen) > 0, "; not in use yet", "")
		out = append(out, "", "   "+t.fit(t.soft.Render("certificate  ")+t.ink.Render(plain(text)), w-5))
	}
	if p := m.Panel; p != nil && len(p.Names) > 0 {
		var names []string
		for _, n := range p.Names {
			names = append(names, plain(n.Name)+" "+string(n.State)+site.Either(n.Primary, ", the primary one", ""))
		}
		text := t.soft.Render("attached     ") + t.ink.Render(strings.Join(names, "; "))
		out = append(out, "", "   "+t.fit(text, w-5))
	}
	out = append(out, "")
	if s.busy != "" {
		return append(out, t.soon.Render("   "+s.busy))
	}
	found := s.found(t, m, w)
	return append(out, found[:min(len(found), max(0, h-len(out)))]...)
}

// road draws both places and the gates between them. The badge stands where the site does.
func (s *movesScreen) road(t *theme, is site.Site, m plan.Move, legs []plan.Leg, w int) []string {
	live := t.badge(site.Live)
	end := func(st plan.Stand, stands bool) string {
		return site.Either(stands, live+" ", "") + t.ink.Bold(true).Render(plain(st.Host)) + " " +
			t.soft.Render(plain(st.Root))
	}
	out := []string{"   " + t.mark(is.Mark()) + " " + t.ink.Render(plain(is.Name)), "",
		t.ends("   "+end(m.From, !m.Moved), end(m.To, m.Moved)+"  ", w)}
	if to := m.To.Address; !to.IsZero() {
		out = append(out, t.ends(t.soft.Render("   "+plain(m.From.Address.String())),
			t.soft.Render(plain(to.String())+"  "), w))
	}
	span := max(6, (w-6)/len(legs))
	road, names := "   ", "   "
	for _, l := range legs {
		dot, line, style := t.glyph("○", "o"), t.glyph("╌", "."), t.soft
		switch l.State {
		case plan.Passed:
			dot, line, style = t.glyph("●", "*"), t.glyph("━", "="), t.good
		case plan.Open:
			dot, line, style = t.glyph("◉", "O"), t.glyph("─", "-"), t.key
		}
		half := (span - 1) / 2
		road += style.Render(strings.Repeat(line, half) + dot + strings.Repeat(line, span-1-half))
		names += t.soft.Render(t.fit(strings.Repeat(" ", max(0, half-len(l.Name)/2))+l.Name, span))
	}
	back := t.soft.Render("   " + t.glyph("◀╌╌", "<..") + " way back  ")
	for i, line := range wrap(plain(m.WayBack()), w-20) {
		names += site.Either(i == 0, "\n\n"+back, "\n"+strings.Repeat(" ", 17)) + t.ink.Render(line)
	}
	return append(out, append([]string{road}, strings.Split(names, "\n")...)...)
}

// found is what the last look at the places, or at servers, brought.
func (s *movesScreen) found(t *theme, m plan.Move, w int) (out []string) {
	if m.Watch == nil {
		return findingLines(t, m.Findings(), w)
	}
	for _, x := range m.Watch.Answers {
		style := site.Either(x.New, t.good, t.soon)
		keeps := site.Either(x.Keeps > 0, ", kept for "+site.Seconds(x.Keeps), "")
		out = append(out, "   "+style.Render(t.fit(site.Either(x.New, "new place", "not yet"), 11))+
			t.fit(t.ink.Render(plain(x.Name)+" is "+plain(x.Says))+t.soft.Render(keeps+", says "+plain(x.Server)), w-15))
	}
	return out
}
