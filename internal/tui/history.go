package tui

import (
	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/op/remove"
	"alibi/internal/site"
)

// historyScreen tells who did what, newest first.
type historyScreen struct {
	scroll
	id   site.ID
	name string
	list []desk.Happening
	got  bool
}

// mostHistory is how much of it a screen shows; alibi history shows all.
const mostHistory = 5000

type historyMsg struct {
	list []desk.Happening
	err  error
}

func newHistory(a *app, id site.ID) *historyScreen {
	h := &historyScreen{id: id}
	if s, ok := a.find(id); ok {
		h.name = s.Name
	}
	return h
}

func (h *historyScreen) title(*app) string {
	return "history" + site.Either(h.name != "", " of "+h.name, "")
}

func (h *historyScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		return func() tea.Msg {
			list, err := a.desk.Fleet.History(a.ctx, h.id, mostHistory)
			return historyMsg{list, err}
		}, true
	case historyMsg:
		if msg.err != nil {
			a.say(msg.err.Error(), true)
		}
		h.list, h.got = msg.list, true
		return nil, true
	case tea.KeyPressMsg:
		if by, ok := step(msg.String(), len(h.list), a.h-6); ok {
			h.move(by, len(h.list), a.h-5)
			return nil, true
		}
		if msg.String() == "y" {
			return nil, true
		}
	}
	return nil, false
}

func (h *historyScreen) keys(*app) []hint { return []hint{{"Esc", "back"}} }
func (h *historyScreen) words() []hint {
	return []hint{{"keeper", "done by itself, on time"}, {"ending", "a warning ahead of a lease's end"}}
}

func (h *historyScreen) view(a *app, w, rows int) []string {
	t := a.theme
	if !h.got {
		return []string{"", t.soft.Render("   reading the record ...")}
	}
	if len(h.list) == 0 {
		return []string{"", t.soft.Render("   nothing has happened yet")}
	}
	c := squeeze(w-3, column{20, 13}, column{12, 8}, column{32, 18}, column{12, 10}, column{40, 28})
	when := site.Either(c[0] < 20, "2 Jan 15:04", "Mon 2 Jan 15:04:05")
	out := []string{
		t.head.Render("   " + t.fit("WHEN", c[0]) + t.fit("WHO", c[1]) + t.fit("SITE", c[2]) + t.fit("WHAT", c[3])),
	}
	rows -= 3 // the chosen one in full below
	h.see(len(h.list), rows-1)
	for i := h.top; i < min(len(h.list), h.top+rows-1); i++ {
		e := h.list[i]
		name := t.ink.Render(t.fit(plain(e.Name), c[2]-4) + " ")
		if e.Site != "" {
			name = t.mark(site.MarkOf(e.Name)) + " " + name
		} else {
			name = "   " + name
		}
		out = append(out, site.Either(i == h.cursor, t.key.Render(t.glyph("▶", ">")), " ")+"  "+
			t.soft.Render(t.fit(e.At.Format(when), c[0]))+t.ink.Render(t.fit(plain(e.Who), c[1]))+name+
			t.ink.Render(t.fit(e.Kind, c[3]))+t.soft.Render(plain(e.Text)))
	}
	for len(out) < rows {
		out = append(out, "")
	}
	out = append(out, t.line(w))
	for _, l := range wrap(plain(h.list[max(0, h.cursor)].Text), w-6) {
		out = append(out, "   "+t.ink.Render(l))
	}
	return out[:min(len(out), rows+3)]
}

// leftoversScreen lists what Alibi made and nothing needs any more.
type leftoversScreen struct {
	list []remove.Leftover
}

func openLeftovers(a *app) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		list, err := a.desk.Fleet.Leftovers(a.ctx)
		return "", func(a *app) tea.Cmd { a.push(&leftoversScreen{list}); return nil }, err
	})
}

func (l *leftoversScreen) title(*app) string { return "leftovers" }

func (l *leftoversScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	if k, ok := msg.(tea.KeyPressMsg); ok && k.String() == "D" && len(l.list) > 0 {
		a.asking = &question{title: "Remove all of these?",
			lines: []string{site.Plural(len(l.list), "thing is", "things are") + " removed. No site needs them."},
			yes: func(a *app) tea.Cmd {
				return a.doThen(func() (string, func(*app) tea.Cmd, error) {
					err := a.desk.Fleet.ClearLeftovers(a.ctx, l.list)
					return "removed", func(*app) tea.Cmd { l.list = nil; return nil }, err
				})
			}}
		return nil, true
	}
	return nil, false
}

func (l *leftoversScreen) keys(*app) []hint {
	if len(l.list) == 0 {
		return []hint{{"Esc", "back"}}
	}
	return []hint{{"D", "remove all"}, {"Esc", "back"}}
}

func (l *leftoversScreen) words() []hint {
	return []hint{{"leftover", "made by Alibi, and needed by no site in the record"}}
}

func (l *leftoversScreen) view(a *app, w, h int) []string {
	t := a.theme
	if len(l.list) == 0 {
		return []string{
			"", t.good.Render(t.glyph("   ✓ ", "   * ")) +
				t.ink.Render("Nothing is left over: all that Alibi made belongs to a site."),
		}
	}
	out := []string{t.head.Render("   " + t.fit("ON", 12) + t.right("SIZE", 9) + "   WHAT")}
	for _, x := range l.list {
		out = append(out, "   "+t.soft.Render(t.fit(x.Host, 12))+t.right(site.Size(x.Bytes), 9)+"   "+
			t.ink.Render(plain(x.Path))+t.soft.Render("   "+x.Why))
	}
	return out
}
