package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"alibi/internal/desk"
	"alibi/internal/site"
)

// boardScreen is the home: every live site with its copies beneath it, and a
// time axis on which each lease is a bar.
type boardScreen struct {
	scroll
	find    string
	finding bool
	due     bool // copies only, by what ends next
	rows    []row
	made    string // what rows were made from
}

// row is a line of the board.
type row struct {
	s     site.Site
	below int // 0 a live site, 1 a copy
}

func (b *boardScreen) title(a *app) string {
	switch {
	case a.board.Client != "":
		return a.board.Client
	case a.loaded && a.board.Live == 0:
		return "no sites yet"
	}
	return a.board.Machine
}

// fill makes the rows anew if the board or the filter changed.
func (b *boardScreen) fill(a *app) {
	made := fmt.Sprint(a.version, b.find, b.due, a.loaded)
	if made == b.made {
		return
	}
	b.made = made
	var was site.ID
	if b.cursor < len(b.rows) {
		was = b.rows[b.cursor].s.ID
	}
	brd := a.board
	if b.find != "" {
		brd = brd.Matching(b.find)
	}
	families := brd.Families
	if b.due {
		families = brd.Due()
	}
	b.rows = b.rows[:0]
	for _, f := range families {
		if f.Live.ID != "" {
			b.rows = append(b.rows, row{s: f.Live})
		}
		for _, c := range f.Copies {
			// one whose origin was forgotten stands beneath no other
			below := site.Either(f.Live.ID != "" || b.due, 1, 0)
			b.rows = append(b.rows, row{s: c, below: below})
		}
	}
	for i, r := range b.rows {
		if r.s.ID == was {
			b.cursor = i
		}
	}
}

func (b *boardScreen) current(a *app) (site.Site, bool) {
	b.fill(a)
	if b.cursor < len(b.rows) {
		return b.rows[b.cursor].s, true
	}
	return site.Site{}, false
}

func (b *boardScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	k, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return nil, false
	}
	if b.finding {
		return nil, b.findKey(a, k)
	}
	b.fill(a)
	page := max(1, a.h-12)
	if by, ok := step(k.String(), len(b.rows), page); ok {
		b.move(by, len(b.rows), page)
		return nil, true
	}
	switch k.String() {
	case "/":
		b.finding = true
		return nil, true
	case "esc":
		b.find, a.marked = "", nil
		return nil, true
	case "s":
		b.due = !b.due
		return nil, true
	case "n":
		a.push(newAdd(a))
		return nil, true
	case "u":
		a.push(&runsScreen{})
		return nil, true
	case "l":
		return openLeftovers(a), true
	case "e":
		a.push(&endsScreen{})
		return nil, true
	case "N":
		return openBlank(a), true
	case "K":
		a.push(&keptScreen{})
		return nil, true
	case "H":
		a.push(&hostsScreen{})
		return nil, true
	case "M":
		s, _ := b.current(a)
		a.push(&movesScreen{of: s})
		return nil, true
	case "V":
		p := &pinsScreen{}
		a.push(p)
		return p.load(a), true
	case "space":
		if s, ok := b.current(a); ok {
			a.toggleMark(s.ID)
			b.move(1, len(b.rows), page)
		}
		return nil, true
	case "B":
		return askBulk(a), true
	}
	if s, ok := b.current(a); ok {
		return siteKey(a, s, k.String())
	}
	return nil, false
}

func (b *boardScreen) findKey(a *app, k tea.KeyPressMsg) bool {
	switch k.String() {
	case "esc":
		b.finding, b.find = false, ""
	case "enter", "down", "up":
		b.finding = false
	case "backspace":
		if r := []rune(b.find); len(r) > 0 {
			b.find = string(r[:len(r)-1])
		}
	default:
		b.find += k.Text
	}
	b.fill(a)
	b.cursor = b.found()
	return true
}

// found is the row of what was found: of that name, or else known by that text. The
// live site that it stands beneath is shown, and not meant.
func (b *boardScreen) found() int {
	name := func(s site.Site) bool { return strings.Contains(strings.ToLower(s.Name), strings.ToLower(b.find)) }
	for _, fits := range []func(site.Site) bool{name, func(s site.Site) bool { return desk.Fits(s, b.find) }} {
		if i := slices.IndexFunc(b.rows, func(r row) bool { return fits(r.s) }); i >= 0 && b.find != "" {
			return i
		}
	}
	return 0
}

func (b *boardScreen) keys(a *app) []hint {
	if b.finding {
		return []hint{{"Enter", "keep"}, {"Esc", "all sites"}}
	}
	s, ok := b.current(a)
	if !ok {
		return []hint{{"n", "add a site or host"}, {"q", "close"}}
	}
	if len(a.marked) > 0 {
		return []hint{{"B", "do to all that are marked"}, {"Space", "mark"}, {"Esc", "no marks"}}
	}
	return append(siteHints(s), hint{"/", "find"}, hint{"n", "add"}, hint{"N", "blank site"}, hint{"e", "ends"},
		hint{"K", "kept"}, hint{"V", "versions"}, hint{"H", "hosts"}, hint{"M", "moves"}, hint{"Space", "mark"},
		hint{"q", "close"})
}

func (b *boardScreen) words() []hint {
	return []hint{
		{"LIVE", "visitors depend on it; written to only where a plan says so"},
		{"copy", "made by Alibi, to be tried on and thrown away"},
		{
			"APART", "changes since copy and origin parted: + on the copy, - on the origin, ! on both; no count: " +
				"nobody counted yet",
		},
		{"the axis", "from now to a month ahead; a copy's bar ends when its lease does"},
		{"held", "kept without an end, for the reason that stands there"},
		{"e, K", "what ends and what was deleted; the depot's size and the archives"},
		{"Space, B", "mark sites, and do one thing to all of them"},
		{"expired", "off the air; b brings it back until it is removed"},
		{"evidence", "the checks that the copy equals its origin; v looks at them"},
		{"no wall", "it holds, but only rules in PHP keep the copy's code in"},
	}
}

// columns are the widths of the board's columns.
type columns struct{ name, host, runs, size, apart, proof, axis int }

func layout(w int) columns {
	c := columns{name: 37, host: 9, size: 9, apart: 11, proof: 3}
	if w >= 118 {
		c.runs = 15
	}
	if w >= 140 {
		c.proof = 12
	}
	if w < 100 {
		c.name, c.host, c.size, c.apart = 29, 8, 0, 10
	}
	c.axis = w - 3 - c.name - c.host - c.runs - c.size - c.apart - c.proof - 1
	return c
}

// ticks of the axis, evenly spaced.
var ticks = []struct {
	at    time.Duration
	label string
}{{0, "now"}, {6 * time.Hour, "6h"}, {24 * time.Hour, "1d"}, {72 * time.Hour, "3d"}, {7 * 24 * time.Hour, "7d"},
	{14 * 24 * time.Hour, "14d"}, {30 * 24 * time.Hour, "30d"}}

func (b *boardScreen) view(a *app, w, h int) []string {
	t := a.theme
	b.fill(a)
	if !a.loaded {
		return []string{"", t.soft.Render("   reading the record ...")}
	}
	c := layout(w)
	foot := b.detail(a, w)
	rows := h - 2 - len(foot)
	first := t.head.Render(t.fit("SITE", c.name))
	if b.finding || b.find != "" {
		first = t.fit(t.key.Render("find: ")+t.ink.Render(plain(b.find)+site.Either(b.finding, "_", ""))+
			t.soft.Render(fmt.Sprintf("  %d found", len(b.rows))), c.name)
	}
	head := "   " + first + t.head.Render(t.fit("ON", c.host)+t.fit(site.Either(c.runs > 0, "CORE   PHP", ""), c.runs)+
		t.right(site.Either(c.size > 0, "SIZE", ""), c.size)+t.right("APART", c.apart)+
		t.fit(site.Either(c.proof > 3, "  EVIDENCE", ""), c.proof)+t.fit(axisHead(c.axis), c.axis))
	out := []string{head}
	b.see(len(b.rows), rows)
	if len(b.rows) == 0 {
		out = append(out, "")
		out = append(out, b.empty(a)...)
	}
	airy := len(b.rows)+a.board.Live <= rows && !b.due // room for a blank line between families
	for i := b.top; i < min(len(b.rows), b.top+rows); i++ {
		alone := b.rows[i].below > 0 && b.rows[i].s.Origin == "" && i > 0 &&
			(b.rows[i-1].below == 0 || b.rows[i-1].s.Origin != "")
		if airy && i > 0 && (b.rows[i].below == 0 || alone) {
			out = append(out, "")
		}
		out = append(out, b.line(a, b.rows[i], c, i == b.cursor))
	}
	for len(out) < rows+1 {
		out = append(out, "")
	}
	return append(out, foot...)
}

func (b *boardScreen) empty(a *app) []string {
	t := a.theme
	if b.find != "" {
		return []string{t.soft.Render("   nothing fits; Esc shows all sites again")}
	}
	return []string{"   " + t.ink.Render("There are no sites yet."), "",
		"   " + t.soft.Render("n adds a live site on this machine or on a host."),
		"   " +
			t.soft.Render("Adding one writes nothing to it. To look around first, close this and start: alibi demo")}
}

func (b *boardScreen) line(a *app, r row, c columns, chosen bool) string {
	t := a.theme
	s := r.s
	lead := site.Either(chosen, t.key.Render(t.glyph("▶", ">")), " ")
	mark := site.Either(a.marked[s.ID], t.key.Render(t.glyph("•", "*")), " ")
	name := t.badge(s.Role) + " " + t.mark(s.Mark()) + " "
	if r.below > 0 {
		name = "   " + t.copy.Render(site.Either(s.Origin == "", "blank", " copy")) + " " + t.mark(s.Mark()) + " "
	}
	style := t.ink
	if chosen {
		style = t.chosen
	} else if s.Role == site.Live {
		style = t.ink.Bold(true)
	}
	used := lipgloss.Width(name)
	name += style.Render(t.fit(plain(s.Name), c.name-used-1)) + " "
	apart := ""
	if s.Role == site.Copy && s.Origin != "" && s.State != site.Making && s.State != site.Failed {
		apart = s.ApartText()
		if s.Apart.Clashes > 0 {
			apart = t.wrong.Render(apart)
		} else if apart != "same" {
			apart = t.ink.Render(apart)
		} else {
			apart = t.soft.Render(apart)
		}
	}
	size := ""
	if c.size > 0 && s.Facts != nil {
		size = t.soft.Render(site.Size(s.Bytes()))
	}
	return lead + mark + name + t.soft.Render(t.fit(s.Host, c.host)) +
		t.soft.Render(t.fit(site.Either(c.runs > 0, versions(t, s), ""), c.runs)) + t.right(size, c.size) +
		t.right(apart, c.apart) + t.fit(b.proof(a, s, c.proof > 3), c.proof) + t.fit(b.axis(a, s, c.axis), c.axis)
}

// versions are the two numbers that a site runs under, each in its column.
func versions(t *theme, s site.Site) string {
	if s.Facts == nil {
		return ""
	}
	return t.fit(site.Either(s.Facts.Core != "", s.Facts.Core, "-"), 7) +
		site.Either(s.Facts.PHP != "", s.Facts.PHP, "-")
}

// proof says whether the last evidence holds, in a glyph or with a word.
func (b *boardScreen) proof(a *app, s site.Site, word bool) string {
	t := a.theme
	switch {
	case s.Unproven():
		return t.soon.Render(site.Either(word, "  ", " ") + t.glyph("…", ".") + site.Either(word, " "+s.Yet(), ""))
	case s.Role == site.Live || s.Proof.At.IsZero():
		return ""
	case s.Proof.Holds && s.Proof.Open() != "":
		return t.soon.Render(site.Either(word, "  ", " ") + t.glyph("✓", "v") + site.Either(word, " no wall", ""))
	case s.Proof.Holds:
		return t.good.Render(site.Either(word, "  ", " ") + t.glyph("✓", "v") + site.Either(word, " holds", ""))
	}
	return t.wrong.Render(site.Either(word, "  ! broken", " !"))
}

// detail tells about the chosen site below the list.
func (b *boardScreen) detail(a *app, w int) []string {
	t := a.theme
	s, ok := b.current(a)
	if !ok || a.h < 20 {
		return nil
	}
	now := a.desk.Now()
	head := " " + t.badge(s.Role) + " " + t.mark(s.Mark()) + " " + t.ink.Bold(true).Render(plain(s.Name))
	var l2, l3, l4 string
	if s.Role == site.Live {
		head += t.soft.Render("   "+s.Address().String()) +
			site.Either(s.StateText() != "", t.soon.Render("   "+s.StateText()), "")
		l2 = fmt.Sprintf("  on %s at %s, %s", s.Host, plain(s.Root), s.Runs())
		if f := s.Facts; f != nil {
			l3 = fmt.Sprintf("  %s files, %s; %s rows in %d tables, %s", site.Number(f.Files), site.Size(f.Bytes),
				site.Number(f.Rows), len(f.Tables), site.Size(f.TableBytes))
			l4 = "  " + worst(f.Findings)
		}
	} else {
		if o, ok := a.find(s.Origin); ok {
			head += t.soft.Render("   copy of ") + t.badge(o.Role) +
				t.soft.Render(" "+plain(o.Name)+", from "+site.Ago(now.Sub(s.CheckedAt))) +
				site.Either(s.Purpose != "", t.soft.Render(": "+plain(s.Purpose)), "")
		}
		if s.Origin == "" {
			head += t.soft.Render("   made without an origin, " + site.Ago(now.Sub(s.MadeAt)) +
				site.Either(s.Purpose != "", ": "+plain(s.Purpose), ""))
		}
		l2 = "  " + site.Either(s.State == site.Ready, "answers at ", "would answer at ") + s.Address().String()
		if s.State != site.Ready {
			l2 += t.soon.Render("   " + string(s.State) + ": " + s.LeaseText(now))
		}
		l3 = "  " + b.proven(s, now)
		if s.Apart.Copy > 0 {
			l4 = "  " + changes(s.Apart.Copy) + " here " + site.Either(s.Apart.Copy == 1, "is", "are") + " nowhere else"
		} else if len(s.Quiet) > 0 {
			l4 = "  quiet: " + quietText(s)
		}
	}
	return []string{t.line(w), head, t.ink.Render(t.fit(l2, w)), t.ink.Render(t.fit(l3, w)),
		t.soft.Render(t.fit(l4, w))}
}

func (b *boardScreen) proven(s site.Site, now time.Time) string {
	switch {
	case s.Origin == "":
		return "nothing to compare it with"
	case s.Outdated():
		return "its evidence is older than the last change: v gathers it anew"
	case s.Unproven():
		return s.Awaits()
	case s.Proof.At.IsZero():
		return "no evidence yet"
	case s.Proof.Holds:
		return fmt.Sprintf("evidence holds: %d checks, %s", s.Proof.Checks, site.Ago(now.Sub(s.Proof.At)))
	}
	return fmt.Sprintf("evidence does not hold: %d of %d checks, %s", s.Proof.Broken, s.Proof.Checks,
		site.Ago(now.Sub(s.Proof.At)))
}

func changes(n int) string { return site.Plural(n, "change", "changes") }

func quietText(s site.Site) string {
	var w []string
	for _, r := range s.Quiet {
		w = append(w, string(r))
	}
	return strings.Join(w, ", ")
}

func worst(list []site.Finding) string {
	if len(list) == 0 {
		return "nothing stands out"
	}
	best := list[0]
	for _, f := range list {
		if f.Severity > best.Severity {
			best = f
		}
	}
	return best.Severity.String() + ": " + best.Text
}
