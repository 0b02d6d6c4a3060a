package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/runtime/outbox"
	"alibi/internal/site"
)

// askLiveName has the live site's names lead to a copy, or ends that.
func askLiveName(a *app, s site.Site) tea.Cmd {
	if s.Pointed != nil {
		return a.do(func() (string, error) {
			_, err := a.desk.Copies.PointBack(a.ctx, s.ID)
			return "no name leads to " + s.Name + " any more", err
		})
	}
	l, _, err := a.desk.Copies.Live(a.ctx, s.ID)
	if err != nil {
		a.say(err.Error(), true)
		return nil
	}
	a.asking = &question{title: "See " + s.Name + " under the live name?", lines: []string{
		"On this machine only, these names will lead to the copy:", "  " + strings.Join(l.Hosts(), ", "), "",
		"Lines of Alibi's are added to the hosts file; no other line is touched.",
		"It stands on the board until p ends it, or the copy ends.", "",
		"Without the right to write that file: alibi proxy " + s.Name},
		yes: func(a *app) tea.Cmd {
			return a.do(func() (string, error) {
				list, err := a.desk.Copies.PointHere(a.ctx, s.ID)
				return pointed(list, a.desk), err
			})
		}}
	return nil
}

func pointed(list []desk.Leads, d services) string {
	if len(list) == 0 {
		return ""
	}
	return fmt.Sprintf("http://%s:%s/ answers %s; p ends it", list[0].Name, d.Port(), list[0].Answers)
}

// caughtScreen lists what a copy wanted to send to the outside.
type caughtScreen struct {
	scroll
	s    site.Site
	list []outbox.Item
}

func openCaught(a *app, s site.Site) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		list, err := a.desk.Copies.Caught(a.ctx, s.ID)
		return "", func(a *app) tea.Cmd { a.push(&caughtScreen{s: s, list: list}); return nil }, err
	})
}

func (c *caughtScreen) title(*app) string { return "caught on " + c.s.Name }

func (c *caughtScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	if k, ok := msg.(tea.KeyPressMsg); ok {
		if by, ok := step(k.String(), len(c.list), a.h/2); ok {
			c.move(by, len(c.list), a.h/2)
			return nil, true
		}
		if k.String() == "w" && c.target() != "" {
			a.asking = c.letThrough(c.target())
			return nil, true
		}
	}
	return nil, false
}

// target is what was refused and could be let through, of the thing that is chosen.
func (c *caughtScreen) target() string {
	if c.cursor < 0 || c.cursor >= len(c.list) || c.list[c.cursor].Kind != "refused" {
		return ""
	}
	return c.list[c.cursor].Target
}

// letThrough asks for how long the copy may reach something.
func (c *caughtScreen) letThrough(target string) *question {
	return &question{
		title: "Let " + c.s.Name + " reach " + target + "?",
		lines: []string{"Its code can then send what it wants there: a copy can hold what is the live site's.", "",
			"1h for an hour, 7d for a week; nothing for the copy's life:"},
		input: true,
		typed: func(a *app, text string) (tea.Cmd, error) {
			lasts, err := time.Duration(0), error(nil)
			if text != "" {
				if lasts, err = site.ParseSpan(text); err != nil {
					return nil, err
				}
			}
			return a.do(func() (string, error) {
				_, err := a.desk.Copies.Allow(a.ctx, c.s.ID, target, lasts)
				return c.s.Name + " may reach " + target + " with its next page", err
			}), nil
		},
	}
}

func (c *caughtScreen) keys(*app) []hint {
	if c.target() != "" {
		return []hint{{"↑↓", "choose"}, {"w", "let it through"}, {"Esc", "back"}}
	}
	return []hint{{"↑↓", "choose"}, {"Esc", "back"}}
}

func (c *caughtScreen) words() []hint {
	return []hint{{"mail", "the copy's code sent it, and it was caught"},
		{"call", "the copy's code called another machine, and its quiet rules kept it back"},
		{"refused", "the copy's wall let nothing out there: a machine, a port, another account of the database"},
		{"reached", "the wall let it through, as it was allowed to"},
		{"bound", "its programs came up against what they may use of the machine"}}
}

func (c *caughtScreen) view(a *app, w, h int) []string {
	t := a.theme
	if len(c.list) == 0 {
		return []string{
			"", t.good.Render(t.glyph("   ✓ ", "   * ")) +
				t.ink.Render("Nothing was caught: the copy tried to send nothing."),
		}
	}
	out := []string{t.head.Render("   " + t.fit("WHEN", 18) + t.fit("WHAT", 9) + t.fit("TO", 44) + "SUBJECT")}
	rows := min(len(c.list), max(4, h/2-2))
	c.see(len(c.list), rows)
	for i := c.top; i < min(len(c.list), c.top+rows); i++ {
		it := c.list[i]
		out = append(out, site.Either(i == c.cursor, t.key.Render(t.glyph("▶", ">")), " ")+"  "+
			t.soft.Render(t.fit(it.At.Local().Format("2 Jan 15:04:05"), 18))+
			t.soon.Render(t.fit(it.Kind, 9))+t.ink.Render(t.fit(plain(it.To), 43)+" ")+
			t.ink.Render(t.fit(plain(it.About()), max(8, w-75))))
	}
	it := c.list[max(0, c.cursor)]
	out = append(out, t.line(w), "   "+t.soft.Render("to       ")+t.ink.Render(plain(it.To)))
	if about := it.About(); about != "" {
		out = append(out, "   "+t.soft.Render("subject  ")+t.ink.Bold(true).Render(plain(about)))
	}
	out = append(out, "")
	for line := range strings.Lines(it.Text) {
		for _, l := range wrap(plain(strings.TrimRight(line, "\r\n")), w-6) {
			out = append(out, "   "+t.ink.Render(l))
		}
	}
	return out[:min(len(out), h)]
}
