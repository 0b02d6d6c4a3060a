package tui

import (
	"fmt"
	"strings"

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
	name string
	list []outbox.Item
}

func openCaught(a *app, s site.Site) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		list, err := a.desk.Copies.Caught(a.ctx, s.ID)
		return "", func(a *app) tea.Cmd { a.push(&caughtScreen{name: s.Name, list: list}); return nil }, err
	})
}

func (c *caughtScreen) title(*app) string { return "caught on " + c.name }

func (c *caughtScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	if k, ok := msg.(tea.KeyPressMsg); ok {
		if by, ok := step(k.String(), len(c.list), a.h/2); ok {
			c.move(by, len(c.list), a.h/2)
			return nil, true
		}
	}
	return nil, false
}

func (c *caughtScreen) keys(*app) []hint { return []hint{{"↑↓", "choose"}, {"Esc", "back"}} }

func (c *caughtScreen) words() []hint {
	return []hint{{"mail", "the copy's code sent it, and it was caught"},
		{"call", "the copy's code called another machine, and was not let out"}}
}

func (c *caughtScreen) view(a *app, w, h int) []string {
	t := a.theme
	if len(c.list) == 0 {
		return []string{
			"", t.good.Render(t.glyph("   ✓ ", "   * ")) +
				t.ink.Render("Nothing was caught: the copy tried to send nothing."),
		}
	}
	out := []string{t.head.Render("   " + t.fit("WHEN", 18) + t.fit("WHAT", 6) + t.fit("TO", 44) + "SUBJECT")}
	rows := min(len(c.list), max(4, h/2-2))
	c.see(len(c.list), rows)
	for i := c.top; i < min(len(c.list), c.top+rows); i++ {
		it := c.list[i]
		out = append(out, site.Either(i == c.cursor, t.key.Render(t.glyph("▶", ">")), " ")+"  "+
			t.soft.Render(t.fit(it.At.Local().Format("2 Jan 15:04:05"), 18))+
			t.soon.Render(t.fit(it.Kind, 6))+t.ink.Render(t.fit(plain(it.To), 43)+" ")+
			t.ink.Render(t.fit(plain(it.Subject), max(8, w-72))))
	}
	it := c.list[max(0, c.cursor)]
	out = append(out, t.line(w), "   "+t.soft.Render("to       ")+t.ink.Render(plain(it.To)))
	if it.Subject != "" {
		out = append(out, "   "+t.soft.Render("subject  ")+t.ink.Bold(true).Render(plain(it.Subject)))
	}
	out = append(out, "")
	for line := range strings.Lines(it.Text) {
		for _, l := range wrap(plain(strings.TrimRight(line, "\r\n")), w-6) {
			out = append(out, "   "+t.ink.Render(l))
		}
	}
	return out[:min(len(out), h)]
}
