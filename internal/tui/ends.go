package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/site"
)

// endsScreen is a calendar of what ends by itself, and the list of it; below
// that the copies that were deleted and can be brought back.
type endsScreen struct {
	scroll
	list  []desk.Ending
	costs desk.Costs
	got   bool
}

type endsMsg struct {
	list  []desk.Ending
	costs desk.Costs
	err   error
}

func (e *endsScreen) title(*app) string { return "what ends, and what was deleted" }

func (e *endsScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		return func() tea.Msg {
			list, err := a.desk.Fleet.Ends(a.ctx)
			if err != nil {
				return endsMsg{err: err}
			}
			costs, err := a.desk.Fleet.Costs(a.ctx)
			return endsMsg{list, costs, err}
		}, true
	case endsMsg:
		if msg.err != nil {
			a.say(msg.err.Error(), true)
		} else {
			e.list, e.costs = msg.list, msg.costs
		}
		e.got = true
		return nil, true
	case tea.KeyPressMsg:
		if by, ok := step(msg.String(), len(e.list), 8); ok {
			e.move(by, len(e.list), 8)
			return nil, true
		}
		if len(e.list) > 0 {
			return siteKey(a, e.list[max(0, min(e.cursor, len(e.list)-1))].Site, msg.String())
		}
	}
	return nil, false
}

func (e *endsScreen) keys(a *app) []hint {
	if len(e.list) == 0 {
		return []hint{{"Esc", "back"}}
	}
	return append(siteHints(e.list[max(0, min(e.cursor, len(e.list)-1))].Site), hint{"Esc", "back"})
}

func (e *endsScreen) words() []hint {
	return []hint{{"goes off the air", "its lease is over; it can be brought back for a while"},
		{"deleted", "off the air; b brings it back, D removes it for good at once"},
		{"nowhere else", "changes made on the copy that would be lost with it"}}
}

// weeks is how many the calendar shows.
const weeks = 3

func (e *endsScreen) view(a *app, w, h int) []string {
	t := a.theme
	switch {
	case !e.got:
		return []string{"", t.soft.Render("   reading the record ...")}
	case len(e.list) == 0:
		return []string{"", t.ink.Render("   Nothing ends by itself: there are no copies, or all are held.")}
	}
	out := e.calendar(t, a.desk.Now(), w, site.Either(h >= 30, weeks, 1))
	deleted := 0
	for _, x := range e.list {
		if x.Purge {
			deleted++
		}
	}
	c := squeeze(w-3-9-14, column{18, 13}, column{28, 18}, column{24, 12}, column{22, 17})
	when := site.Either(c[0] < 16, "2 Jan 15:04", "Mon 2 Jan 15:04")
	out = append(out, "", t.head.Render("   "+t.fit("WHEN", c[0])+t.fit("COPY", c[1])+t.fit("OF", c[2])+
		t.fit("WHAT", c[3])+t.right("SIZE", 9)+site.Either(c[0] < 16, "  APART", "  NOWHERE ELSE")))
	rows := max(1, h-len(out)-2)
	e.see(len(e.list), rows)
	now := a.desk.Now()
	for i := e.top; i < min(len(e.list), e.top+rows); i++ {
		x := e.list[i]
		what := t.ink.Render(t.fit("goes off the air", c[3]))
		if x.Purge {
			what = t.soon.Render(t.fit("deleted; purged then", c[3]))
		}
		lost := ""
		if n := x.Site.Apart.Copy; n > 0 {
			lost = t.soon.Render(site.Either(c[0] < 16, fmt.Sprintf("+%d", n), changes(n)))
		}
		style := t.ink
		if i == e.cursor {
			style = t.chosen
		}
		out = append(out, site.Either(i == e.cursor, t.key.Render(t.glyph("▶", ">")), " ")+"  "+
			t.ink.Render(t.fit(x.At.Local().Format(when), c[0]))+t.mark(x.Site.Mark())+" "+
			style.Render(t.fit(plain(x.Site.Name), c[1]-4))+" "+t.soft.Render(t.fit(plain(x.Of), c[2]-1))+" "+what+
			t.right(t.soft.Render(site.Size(x.Site.Bytes())), 9)+"  "+lost)
	}
	for len(out) < h-1 {
		out = append(out, "")
	}
	cost := ""
	if e.costs.Cost > 0 {
		cost = strings.TrimRight(fmt.Sprintf("   copies have cost %.2f %s", e.costs.Cost, e.costs.Currency), " ") +
			fmt.Sprintf(", ending them saved %.2f", e.costs.Saved)
	}
	return append(out, t.soft.Render(fmt.Sprintf("   %s ahead, the next in %s; %s deleted, and can be brought back",
		site.Plural(len(e.list), "end", "ends"), site.Span(max(0, e.list[0].At.Sub(now))),
		site.Plural(deleted, "copy is", "copies are"))+cost))
}

// calendar draws weeks of seven days, today in the first.
func (e *endsScreen) calendar(t *theme, now time.Time, w, n int) []string {
	const lines = 4
	cell := (w - 4) / 7
	day := now.Local()
	day = time.Date(day.Year(), day.Month(), day.Day(), 0, 0, 0, 0, day.Location())
	first := day.AddDate(0, 0, -(int(day.Weekday())+6)%7)
	var out []string
	head := "   "
	for i := range 7 {
		head += t.fit(first.AddDate(0, 0, i).Format("Mon"), cell)
	}
	out = append(out, t.head.Render(head))
	for week := range n {
		block := make([]string, lines)
		for i := range 7 {
			date := first.AddDate(0, 0, week*7+i)
			for k, l := range e.day(t, date, day, cell-1, lines) {
				block[k] += l + " "
			}
		}
		for _, l := range block {
			out = append(out, "   "+l)
		}
	}
	return out
}

// day draws one day: its date, and what ends on it.
func (e *endsScreen) day(t *theme, date, today time.Time, w, lines int) []string {
	var ends []desk.Ending
	for _, x := range e.list {
		if y, m, d := x.At.Local().Date(); y == date.Year() && m == date.Month() && d == date.Day() ||
			date.Equal(today) && x.At.Before(today) {
			ends = append(ends, x)
		}
	}
	label := t.fit(date.Format("2 Jan")+" "+strings.Repeat(t.glyph("─", "-"), max(0, w-8)), w)
	style := t.rule
	switch {
	case date.Equal(today):
		style = t.key
	case date.Before(today):
		label = t.fit(strings.Repeat(t.glyph("·", "."), w), w)
	}
	out := []string{style.Render(label)}
	for i, x := range ends {
		if i == lines-2 && len(ends) > lines-1 {
			out = append(out, t.soft.Render(t.fit(fmt.Sprintf("and %d more", len(ends)-i), w)))
			break
		}
		ink := t.ink
		if x.Purge {
			ink = t.soon
		}
		out = append(out, t.mark(x.Site.Mark())+ink.Render(t.fit(" "+plain(x.Site.Name), w-2)))
	}
	for i := range out {
		out[i] = t.fit(out[i], w)
	}
	for len(out) < lines {
		out = append(out, strings.Repeat(" ", w))
	}
	return out
}
