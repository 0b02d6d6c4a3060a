package tui

import (
	"fmt"
	"os"
	"os/exec"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/plan"
	"alibi/internal/site"
)

// safetyPane is a look at a site's safety, and what is done to look after it.
type safetyPane struct {
	scroll
	fetched[[]site.Finding]
	s     *site.Site
	asked bool
}

func (p *safetyPane) name() string { return "safety" }

func (p *safetyPane) forget() { p.fetched.forget(); p.asked = false }

func (p *safetyPane) load(a *app) tea.Cmd {
	if p.asked {
		return nil // it asks the catalogue: i looks anew
	}
	p.asked = true
	id := p.s.ID
	return reads(p, func() (any, error) { return a.desk.Hands.Security(a.ctx, id) })
}

func (p *safetyPane) take(_ *app, msg tea.Msg) bool { return p.took(p, msg) }

func (p *safetyPane) key(a *app, key string) (tea.Cmd, bool) {
	if by, ok := step(key, len(p.list), a.h-10); ok {
		p.move(by, len(p.list), max(1, (a.h-8)/2))
		return nil, true
	}
	s := *p.s
	switch key {
	case "i":
		p.forget()
		return p.load(a), true
	case "x":
		x := &stateScreen{name: "empty caches of " + s.Name, site: s}
		object := ""
		x.make = func() (plan.Plan, error) { return a.desk.Hands.PlanCaches(a.ctx, s.ID, object) }
		x.choices = []stateChoice{
			{
				label: "cache of objects",
				help: "The one that is installed in the site, if there is one; it is switched besides emptying " +
					"what is kept.", text: func() string { return site.Either(object == "", "as it is", object) },
				turn: func(by int) { object = turned([]string{"", "on", "off"}, object, by) },
			},
		}
		a.push(x)
		return x.ask(), true
	case "t":
		if s.Role != site.Copy {
			break
		}
		a.say("asking for pages ...", false)
		return showTimings(a, s), true
	case "!":
		if s.Role != site.Copy {
			break
		}
		return openShell(a, s), true
	}
	return nil, false
}

// showTimings shows how long a copy's pages take.
func showTimings(a *app, s site.Site) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		list, err := a.desk.Hands.Timings(a.ctx, s.ID, false)
		if err != nil {
			return "", nil, err
		}
		x := &textScreen{
			head: "how long pages of " + s.Name + " take, in the middle of three tries; alibi timing " + s.Name +
				" --live asks its origin too",
		}
		for _, t := range list {
			x.lines = append(x.lines, fmt.Sprintf("%6d ms  %3d  %10s  %-24s %s", t.Took.Milliseconds(), t.Status,
				site.Size(int64(t.Bytes)), t.Kind, t.Path))
		}
		return "", func(a *app) tea.Cmd { a.push(x); return nil }, nil
	})
}

// openShell gives the terminal to a shell where a copy is, until it ends.
func openShell(a *app, s site.Site) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		x, err := a.desk.Hands.ShellOf(a.ctx, s.ID, false)
		if err != nil {
			return "", nil, err
		}
		cmd := exec.Command(x.Command[0], x.Command[1:]...)
		cmd.Env = os.Environ()
		for k, v := range x.Env {
			cmd.Env = append(cmd.Env, k+"="+v)
		}
		if x.Command[0] != "ssh" {
			cmd.Dir = x.Dir
		}
		closed := "the shell was closed"
		if x.Open != "" {
			closed += "; it was not behind the copy's wall: " + x.Open
		}
		return "", func(*app) tea.Cmd {
			return tea.ExecProcess(cmd, func(error) tea.Msg { return doneMsg{text: closed} })
		}, nil
	})
}

func (p *safetyPane) hints(*app) []hint {
	out := []hint{{"x", "empty caches"}}
	if p.s.Role == site.Copy {
		out = append(out, hint{"t", "time pages"}, hint{"!", "shell"})
	}
	return append(out, hint{"i", "look anew"})
}

func (p *safetyPane) words() []hint {
	return []hint{{"warning", "worth doing something about"}, {"note", "worth knowing"},
		{"caches", "what a site keeps only to be faster: folders, and results in tables"},
		{"shell", "in the copy's folder; exit comes back here"}}
}

func (p *safetyPane) view(a *app, w, h int) []string {
	t := a.theme
	switch {
	case p.err != nil:
		return []string{t.soft.Render("   " + plain(p.err.Error()))}
	case !p.got:
		return []string{t.soft.Render("   looking at accounts, versions, uploads and rules ...")}
	}
	var out []string
	rows := max(1, (h-1)/2)
	p.see(len(p.list), rows)
	for i := p.top; i < min(len(p.list), p.top+rows); i++ {
		f := p.list[i]
		look, mark := t.soft, t.glyph("·", ".")
		if f.Severity > site.Note {
			look, mark = t.wrong, "!"
		}
		out = append(out, t.pointer(i == p.cursor)+look.Render(t.fit(mark+" "+f.Severity.String(), 11))+
			t.ink.Render(t.fit(plain(f.Text), w-15)))
		out = append(out, t.soft.Render(t.fit("              "+plain(f.Remedy), w)))
	}
	return out
}
