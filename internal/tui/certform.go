package tui

import (
	tea "charm.land/bubbletea/v2"

	"alibi/internal/plan"
	"alibi/internal/site"
)

// certForm has a certificate issued for the new place of a site.
type certForm struct {
	form
	move plan.Move
	site site.Site
	busy bool
}

func newCertForm(m plan.Move, s site.Site) *certForm {
	f := &certForm{form: form{values: map[string]string{}}, move: m, site: s}
	if c := m.Certificate; c != nil {
		f.values["into"], f.values["reload"], f.values["by"] = c.Dir, c.Reload, c.By
	}
	return f
}

func (f *certForm) fields() []field {
	return []field{
		{"into", "folder there", "where its web server looks for certificates, an absolute path outside of the site"},
		{"reload", "command there", "by which its web server takes it; empty: you see to that"},
		{"by", "shown by", "dns: a record for a moment; http: a file of the site for a moment; empty: dns, if that can be"},
	}
}

func (f *certForm) title(*app) string { return "certificate for " + f.site.Name }

func (f *certForm) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	if _, done := msg.(doneMsg); done {
		f.busy = false
		return nil, false
	}
	if k, ok := msg.(tea.KeyPressMsg); ok && k.String() == "enter" && !f.busy {
		f.busy = true
		c := plan.Certificate{Dir: f.values["into"], Reload: f.values["reload"], By: f.values["by"]}
		return a.doThen(func() (string, func(*app) tea.Cmd, error) {
			p, err := a.desk.Moves.PlanCertificate(a.ctx, f.move, c)
			return "", func(a *app) tea.Cmd {
				a.pop()
				return askMove(a, p)
			}, err
		}), true
	}
	return nil, f.typed(f.fields(), msg)
}

func (f *certForm) keys(*app) []hint {
	return []hint{{"Enter", "see what it writes"}, {"Tab", "next"}, {"Esc", "back"}}
}

func (f *certForm) words() []hint {
	return []hint{{"certificate", "issued by the authority that config.toml names, for each name that leads there then"},
		{"key", "is made at the new place and nowhere else"}}
}

func (f *certForm) view(a *app, w, _ int) []string {
	t := a.theme
	out := []string{"", " " + t.badge(site.Live) + " " + t.mark(f.site.Mark()) + " " +
		t.ink.Bold(true).Render(plain(f.site.Name)) + t.soft.Render("   goes to "+plain(f.move.To.String())), ""}
	for _, line := range wrap("An authority is shown that the site's names are ours, and issues a certificate for them, "+
		"before they lead to the new place. What shows it is there for a moment only.", w-4) {
		out = append(out, t.soft.Render("  "+line))
	}
	return append(append(out, ""), f.lines(t, f.fields(), w)...)
}
