package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/site"
)

// askFront asks what visitors of a site are to see, or takes away what stands
// before it.
func askFront(a *app, s site.Site) tea.Cmd {
	live := s.Role == site.Live
	typed := func(a *app, title string, lines []string, do func(typed string) (site.Site, error)) {
		act := func(a *app) tea.Cmd {
			name := a.typed()
			return a.do(func() (string, error) {
				s, err := do(name)
				return frontText(s), err
			})
		}
		q := &question{title: title, lines: lines, yes: act}
		if live {
			q.lines = append(q.lines, "", "It is live: visitors see it at once. Type its name to go on:")
			q.input, q.must = true, s.Name
		}
		a.asking = q
	}
	if s.Front != nil || s.State == site.Parked {
		typed(a, "Show visitors "+s.Name+" again?", nil,
			func(name string) (site.Site, error) { return a.desk.Copies.Lift(a.ctx, s.ID, name) })
		return nil
	}
	lines := []string{"park: a notice with a contact; nothing is deleted",
		"maintenance: a notice that it is being worked on"}
	if !live {
		lines = append(lines, "password: visitors are asked for one")
	}
	a.asking = &question{title: "What are visitors of " + s.Name + " to see instead?", lines: lines, input: true,
		text: "park", typed: func(a *app, text string) (tea.Cmd, error) {
			switch text = strings.TrimSpace(text); {
			case text == "park":
				return asking(func(a *app) {
					typed(a, "Park "+s.Name+"?", []string{
						"Visitors see: " + site.Front{Kind: site.FrontParked}.Sentence(),
					}, func(name string) (site.Site, error) { return a.desk.Copies.Park(a.ctx, s.ID, "", "", name) })
				}), nil
			case text == "maintenance":
				return asking(func(a *app) {
					typed(a, "Put "+s.Name+" into maintenance?", nil,
						func(name string) (site.Site, error) { return a.desk.Copies.Maintain(a.ctx, s.ID, "", name) })
				}), nil
			case text == "password" && !live:
				return asking(func(a *app) { askPassword(a, s) }), nil
			}
			return nil, fmt.Errorf("%q is none of these", text)
		}}
	return nil
}

// askPassword asks for the password with which a copy is hidden.
func askPassword(a *app, s site.Site) {
	a.asking = &question{title: "Which password are visitors of " + s.Name + " to be asked for?",
		lines: []string{"At least 4 characters; it is not shown, and can't be read again."}, input: true, secret: true,
		typed: func(a *app, text string) (tea.Cmd, error) {
			return a.do(func() (string, error) {
				s, err := a.desk.Copies.Hide(a.ctx, s.ID, text)
				return frontText(s), err
			}), nil
		}}
}

// asking asks the next question once the present one is over.
func asking(next func(*app)) tea.Cmd {
	return func() tea.Msg {
		return doneMsg{then: func(a *app) tea.Cmd { next(a); return nil }}
	}
}

func frontText(s site.Site) string {
	if s.Front == nil {
		return "visitors see " + s.Name + " again"
	}
	return "visitors of " + s.Name + " see: " + s.Front.Heading()
}
