package tui

import (
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/site"
)

// handsScreen is where one works on a site with one's own hands: a few panes,
// of which one is shown.
type handsScreen struct {
	site  site.Site
	panes []pane
	at    int
}

// pane is one kind of thing that hands are laid on.
type pane interface {
	name() string
	// load reads what is shown; it is called when the pane is come to, and now and then.
	load(a *app) tea.Cmd
	take(a *app, msg tea.Msg) bool // a message that load gave
	key(a *app, key string) (tea.Cmd, bool)
	hints(a *app) []hint
	words() []hint
	view(a *app, w, h int) []string
	forget() // what was read: the site is another now
}

func openHands(a *app, s site.Site) tea.Cmd {
	h := &handsScreen{site: s}
	h.panes = []pane{&filesPane{s: &h.site}, &tablesPane{s: &h.site}, &logsPane{s: &h.site, which: "errors"},
		&accountsPane{s: &h.site}, &safetyPane{s: &h.site}}
	if s.Role == site.Copy {
		h.panes = append(h.panes, &deedsPane{s: &h.site})
	}
	a.push(h)
	return h.panes[0].load(a)
}

func (h *handsScreen) pane() pane { return h.panes[h.at] }

func (h *handsScreen) title(*app) string { return "hands on" }

func (h *handsScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		if s, ok := a.find(h.site.ID); ok {
			if !s.PlacedAt.Equal(h.site.PlacedAt) {
				for _, p := range h.panes {
					p.forget()
				}
			}
			h.site = s
		}
		return h.pane().load(a), true
	case tea.KeyPressMsg:
		switch key := msg.String(); key {
		case "tab", "shift+tab":
			n := len(h.panes)
			h.at = (h.at + map[string]int{"tab": 1, "shift+tab": n - 1}[key]) % n
			return h.pane().load(a), true
		default:
			return h.pane().key(a, key)
		}
	}
	for _, p := range h.panes {
		if p.take(a, msg) {
			return nil, true
		}
	}
	return nil, false
}

func (h *handsScreen) keys(a *app) []hint {
	return append(append([]hint{{"Tab", "next"}}, h.pane().hints(a)...), hint{"Esc", "back"})
}

func (h *handsScreen) words() []hint { return h.pane().words() }

func (h *handsScreen) view(a *app, w, height int) []string {
	t := a.theme
	s := h.site
	head := " " + t.badge(s.Role) + " " + t.mark(s.Mark()) + " " + t.ink.Bold(true).Render(plain(s.Name)) + "  "
	var names []string
	for i, p := range h.panes {
		if i == h.at {
			names = append(names, t.chosen.Render(" "+p.name()+" "))
		} else {
			names = append(names, t.soft.Render(" "+p.name()+" "))
		}
	}
	out := []string{t.fit(head+strings.Join(names, " "), w), ""}
	return append(out, h.pane().view(a, w, height-2)...)
}

// pointer is the mark before the row under the cursor.
func (t *theme) pointer(here bool) string {
	return site.Either(here, t.key.Render(t.glyph("▶", ">")), " ") + "  "
}

// loaded is what a pane read.
type loaded struct {
	of  pane
	any any
	err error
}

// reads makes a command that reads for a pane.
func reads(of pane, read func() (any, error)) tea.Cmd {
	return func() tea.Msg {
		v, err := read()
		return loaded{of, v, err}
	}
}

// fetched is what a pane shows, as it was read last.
type fetched[T any] struct {
	list T
	got  bool
	err  error
	last time.Time // when it was asked for
}

// took takes what was read for a pane.
func (f *fetched[T]) took(of pane, msg tea.Msg) bool {
	m, ok := msg.(loaded)
	if !ok || m.of != of {
		return false
	}
	f.list, _ = m.any.(T) // nothing with an error
	f.err, f.got = m.err, true
	return true
}

func (f *fetched[T]) forget() { f.got, f.last = false, time.Time{} }
