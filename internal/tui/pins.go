package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// pinsScreen lays out what the sites run side by side: components down, sites
// across, so that what differs stands out.
type pinsScreen struct {
	row, col  int
	top, left int
	wide      int // of a column
	grid      desk.PinGrid
	sheets    []desk.PinSheet
	got       bool
	differing bool // only components that need a look
}

type pinsMsg struct {
	grid   desk.PinGrid
	sheets []desk.PinSheet
	err    error
}

func (p *pinsScreen) title(*app) string { return "versions" }

func (p *pinsScreen) load(a *app) tea.Cmd {
	return func() tea.Msg {
		g, err := a.desk.Pins.PinGrid(a.ctx)
		if err != nil {
			return pinsMsg{err: err}
		}
		s, err := a.desk.Pins.PinSheets()
		return pinsMsg{g, s, err}
	}
}

func (p *pinsScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		return p.load(a), true
	case pinsMsg:
		if msg.err != nil {
			a.say(msg.err.Error(), true)
		} else {
			p.grid, p.sheets = msg.grid, msg.sheets
		}
		p.got = true
		return nil, true
	case tea.KeyPressMsg:
		return p.key(a, msg.String())
	}
	return nil, false
}

// rows are the components that are shown.
func (p *pinsScreen) rows() []desk.PinRow {
	if !p.differing {
		return p.grid.Rows
	}
	return slices.DeleteFunc(slices.Clone(p.grid.Rows), func(r desk.PinRow) bool {
		return !slices.ContainsFunc(r.Cells, func(c desk.PinCell) bool { return needsLook(c) })
	})
}

// needsLook tells whether something about a cell is to be decided.
func needsLook(c desk.PinCell) bool {
	return slices.ContainsFunc(c.Marks, func(m string) bool { return m != desk.MarkPinned && m != desk.MarkFloating })
}

func (p *pinsScreen) key(a *app, key string) (tea.Cmd, bool) {
	rows, cols := len(p.rows()), len(p.grid.Sites)
	switch key {
	case "left", "h":
		p.col = max(0, p.col-1)
		return nil, true
	case "right", "l":
		p.col = min(max(0, cols-1), p.col+1)
		return nil, true
	case "d":
		p.differing = !p.differing
		p.row, p.top = 0, 0
		return nil, true
	}
	if by, ok := step(key, rows, 10); ok {
		p.row = max(0, min(rows-1, p.row+by))
		return nil, true
	}
	if cols == 0 {
		return nil, false
	}
	s := p.grid.Sites[min(p.col, cols-1)]
	switch key {
	case "enter":
		return openComponents(a, s), true
	case "P":
		return askPin(a, s), true
	case "a":
		return p.apply(a, s), true
	case "e":
		return p.edit(a, s), true
	case "L":
		return p.lock(a, s), true
	}
	return nil, false
}

// askPin stores a sheet of what a site runs.
func askPin(a *app, s site.Site) tea.Cmd {
	a.asking = &question{title: "Pin " + s.Name + " as it is: what is the sheet to be called?",
		lines: []string{"Every version exactly, and what is on and off. It is a TOML file that can be edited:",
			"alibi pins edit NAME"}, input: true, text: site.Slug(s.Name),
		typed: func(a *app, text string) (tea.Cmd, error) {
			return a.do(func() (string, error) {
				src, err := a.desk.Pins.PinsOf(a.ctx, s.ID)
				if err != nil {
					return "", err
				}
				sheet, err := a.desk.Pins.SavePins(strings.TrimSpace(text), src, false)
				return "pin sheet " + sheet.Name + ": " + sheet.Means, err
			}), nil
		}}
	return nil
}

// sheetOf is the pin sheet that is meant for a site.
func (p *pinsScreen) sheetOf(a *app, s site.Site) (desk.PinSheet, bool) {
	for _, x := range p.sheets {
		if x.Name == s.Pins || s.Pins == "" && x.Default {
			return x, true
		}
	}
	a.say("no pin sheet is meant for "+s.Name+": P makes one of it, a applies one", true)
	return desk.PinSheet{}, false
}

// edit opens the site's pin sheet in the person's editor; it is stored once it is
// right.
func (p *pinsScreen) edit(a *app, s site.Site) tea.Cmd {
	x, ok := p.sheetOf(a, s)
	if !ok {
		return nil
	}
	return inEditorOf(a, x.Name+".toml", x.Src, func(text []byte) tea.Msg {
		sheet, err := a.desk.Pins.SavePins(x.Name, text, true)
		return doneMsg{text: "pin sheet " + sheet.Name + ": " + sheet.Means, err: err, then: p.load}
	})
}

// lock writes into the site's pin sheet what its ranges mean now.
func (p *pinsScreen) lock(a *app, s site.Site) tea.Cmd {
	x, ok := p.sheetOf(a, s)
	if !ok {
		return nil
	}
	a.say("fetching what "+x.Name+" asks for ...", false)
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		sheet, err := a.desk.Pins.LockPins(a.ctx, x.Name)
		return "pin sheet " + sheet.Name + ": " + sheet.Means, p.load, err
	})
}

// apply opens the plan of bringing a copy to a sheet.
func (p *pinsScreen) apply(a *app, s site.Site) tea.Cmd {
	if len(p.sheets) == 0 {
		a.say("there is no pin sheet yet: P pins the site under the cursor as it is", true)
		return nil
	}
	var names []string
	for _, x := range p.sheets {
		names = append(names, x.Name)
	}
	name := names[0]
	for _, x := range p.sheets {
		if x.Default || x.Name == s.Pins {
			name = x.Name
		}
	}
	x := &stateScreen{name: "pin " + s.Name, site: s}
	x.make = func() (plan.Plan, error) { return a.desk.Pins.PlanPins(a.ctx, s.ID, name, nil) }
	means := func() string {
		for _, y := range p.sheets {
			if y.Name == name {
				return site.Either(y.Wrong == "", y.Means, "it is not right: "+y.Wrong)
			}
		}
		return ""
	}
	x.choices = []stateChoice{{label: "pin sheet", text: func() string { return name }, turn: func(by int) {
		name = turned(names, name, by)
		x.choices[0].help = means()
	}}}
	x.choices[0].help = means()
	a.push(x)
	return x.ask()
}

func (p *pinsScreen) keys(*app) []hint {
	return []hint{{"←→↑↓", "move"}, {"Enter", "what it runs"}, {"a", "bring it to a sheet"}, {"P", "pin it as it is"},
		{"e", "edit its sheet"}, {"L", "lock it"}, {"d", site.Either(p.differing, "all", "only what differs")},
		{"Esc", "back"}}
}

func (p *pinsScreen) words() []hint {
	out := make([]hint, 0, len(desk.PinMarks)+1)
	for _, m := range desk.PinMarks {
		out = append(out, hint{m[0], m[1]})
	}
	return append(out, hint{"pin sheet", "a TOML file with what a copy has to run"})
}

// narrowest is the width of one site's column, unless there is more room.
const narrowest = 14

func (p *pinsScreen) view(a *app, w, h int) []string {
	t := a.theme
	rows := p.rows()
	switch {
	case !p.got:
		return []string{"", t.soft.Render("   laying it out ...")}
	case len(p.grid.Sites) == 0:
		return []string{"", t.soft.Render("   no site with a CMS is in the record yet; n on the board adds one")}
	}
	p.row, p.col = max(0, min(p.row, len(rows)-1)), max(0, min(p.col, len(p.grid.Sites)-1))
	p.wide = max(narrowest, min(26, (w-30)/len(p.grid.Sites)))
	fits := max(1, (w-30)/p.wide)
	p.left = max(min(p.left, p.col), p.col-fits+1)
	p.left = max(0, min(p.left, len(p.grid.Sites)-fits))
	shown := p.grid.Sites[p.left:min(len(p.grid.Sites), p.left+fits)]
	head, under := t.fit("", 30), t.head.Render(t.fit("   COMPONENT", 30))
	for i, s := range shown {
		name := t.ink.Render(t.fit(plain(s.Name), p.wide-4))
		if p.left+i == p.col {
			name = t.chosen.Render(t.fit(plain(s.Name), p.wide-4))
		}
		head += t.mark(s.Mark()) + " " + name + " "
		under += t.fit(site.Either(s.Role == site.Live, t.live.Render(" LIVE ")+" ", t.copy.Render("copy")), p.wide)
	}
	out := []string{head, under}
	n := max(1, h-len(out)-6)
	p.top = max(min(p.top, p.row), p.row-n+1)
	p.top = max(0, min(p.top, len(rows)-n))
	for i := p.top; i < min(len(rows), p.top+n); i++ {
		out = append(out, p.line(t, rows[i], i == p.row, len(shown)))
	}
	if len(rows) == 0 {
		out = append(out, t.good.Render("   nothing is off its pin, outdated, unlike its origin or not met"))
	}
	for len(out) < h-4 {
		out = append(out, "")
	}
	return append(out, p.detail(a, rows, w)...)
}

// line is one component over the sites.
func (p *pinsScreen) line(t *theme, r desk.PinRow, here bool, fits int) string {
	name := site.Either(r.Kind == "plugin" || r.Kind == "theme", r.Slug, site.Either(r.Kind == "php", "PHP", r.Kind))
	kind := map[string]string{"theme": "theme "}[r.Kind]
	out := site.Either(here, t.key.Render(t.glyph("▶", ">")), " ") + "  " + t.soft.Render(kind) +
		t.ink.Render(t.fit(plain(name), 26-len(kind))) + " "
	for i := p.left; i < p.left+fits; i++ {
		c := r.Cells[i]
		glyph, style := cellLook(t, c)
		text := glyph + plain(c.Version) + site.Either(c.State == "off", " off", "")
		if here && i == p.col {
			style = t.chosen
		}
		out += style.Render(t.fit(text, p.wide-1)) + " "
	}
	return out
}

// cellLook says by a glyph and a colour how a cell stands.
func cellLook(t *theme, c desk.PinCell) (string, style) {
	has := func(m string) bool { return slices.Contains(c.Marks, m) }
	switch {
	case c.Version == "":
		return t.glyph("·", "."), t.rule
	case has(desk.MarkUnpinned) || has(desk.MarkUnmet):
		return "! ", t.wrong
	case has(desk.MarkUnlike):
		return t.glyph("≠ ", "# "), t.soon
	case has(desk.MarkOutdated):
		return t.glyph("↑ ", "^ "), t.copy
	case has(desk.MarkPinned):
		return "= ", t.good
	}
	return "  ", t.soft
}

// detail is the cell under the cursor in words, with the meaning of the glyphs.
func (p *pinsScreen) detail(a *app, rows []desk.PinRow, w int) []string {
	t := a.theme
	out := []string{t.line(w)}
	if len(rows) > 0 {
		r, s := rows[p.row], p.grid.Sites[p.col]
		c := r.Cells[p.col]
		text := plain(r.Slug) + " " + site.Either(c.Version == "", "is not there",
			plain(c.Version)+site.Either(c.State != "", ", "+c.State, ""))
		out = append(out, " "+t.mark(s.Mark())+" "+t.ink.Bold(true).Render(plain(s.Name))+t.ink.Render("   "+text)+
			t.soft.Render(site.Either(len(c.Why) > 0, "   "+plain(strings.Join(c.Why, "; ")), "")))
		sheet := "no pin sheet"
		for _, x := range p.sheets {
			if x.Name == s.Pins || s.Pins == "" && x.Default {
				sheet = "pin sheet " + x.Name + ": " + x.Means
			}
		}
		out = append(out, t.soft.Render(t.fit("   "+plain(sheet), w)))
	}
	return append(out, t.soft.Render("   ")+t.good.Render("= as pinned")+t.soft.Render("   ")+
		t.wrong.Render("! off its pin, or not met")+t.soft.Render("   ")+
		t.soon.Render(t.glyph("≠", "#")+" unlike its origin")+t.soft.Render("   ")+
		t.copy.Render(t.glyph("↑", "^")+" a newer one waits"))
}
