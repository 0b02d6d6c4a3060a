package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/site"
)

// moveForm begins a move: where to.
type moveForm struct {
	form
	site site.Site
	busy bool
}

func newMoveForm(s site.Site) *moveForm {
	return &moveForm{form: form{values: map[string]string{"root": s.Root}}, site: s}
}

func (f *moveForm) fields() []field {
	all := []field{{"host", "to which host", "a host that was added, or this machine"},
		{"root", "document root", "the absolute path of the folder there; it is empty, or has a site that is written over"},
		{"web", "web addresses", "at which visitors reach the web server there, such as 192.0.2.7; empty: its names are " +
			"not changed"},
		{"address", "address there", "where the site is to answer there; empty: it keeps its address"}}
	if f.site.Database.Served() {
		all = append(all, field{"database", "database", "one there that is empty; empty: one is made on the host's server"},
			field{"user", "its account", "that owns the database; empty: it is called as that"},
			field{"server", "its server", "as the site is to name it; empty: localhost"},
			field{"password", "password file", "a file of this machine with that account's password"},
			field{"relay", "relay", "the address at which the folder there answers, where a database is reached by that only"})
	}
	return all
}

func (f *moveForm) title(*app) string { return "move " + f.site.Name }

func (f *moveForm) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	if _, done := msg.(doneMsg); done {
		f.busy = false
		return nil, false
	}
	if k, ok := msg.(tea.KeyPressMsg); ok && k.String() == "enter" {
		return f.begin(a), true
	}
	return nil, f.typed(f.fields(), msg)
}

func (f *moveForm) begin(a *app) tea.Cmd {
	if f.busy {
		return nil
	}
	f.busy = true
	v := f.values
	n := desk.NewMove{Site: f.site.ID, Host: v["host"], Root: v["root"], PasswordFile: v["password"],
		Address: v["address"], Relay: v["relay"],
		Web:      strings.FieldsFunc(v["web"], func(r rune) bool { return r == ' ' || r == ',' }),
		Database: site.Database{Name: v["database"], User: v["user"], Server: v["server"]}}
	a.say("both places are looked at ...", false)
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		m, err := a.desk.Moves.Begin(a.ctx, n)
		return "the move is saved; nothing was written anywhere yet", func(a *app) tea.Cmd {
			a.pop()
			if all, is := a.top().(*movesScreen); is {
				all.want = m.Name
			} else {
				a.push(&movesScreen{want: m.Name, of: f.site})
			}
			return nil
		}, err
	})
}

func (f *moveForm) keys(*app) []hint {
	return []hint{{"Enter", "look at both places"}, {"Tab", "next"}, {"Esc", "back"}}
}

func (f *moveForm) words() []hint {
	return []hint{{"move", "bring the live site to another place in gates, while it goes on; and back"},
		{"document root", "the folder that the web server there shows"}}
}

func (f *moveForm) view(a *app, w, _ int) []string {
	t := a.theme
	out := []string{"", " " + t.badge(site.Live) + " " + t.mark(f.site.Mark()) + " " +
		t.ink.Bold(true).Render(plain(f.site.Name)) + t.soft.Render("   stands in "+plain(f.site.Root)+" on "+
		plain(f.site.Host)), ""}
	for _, line := range wrap("Both places are looked at, and the move is saved. Nothing is written to either before "+
		"you go through the gate that does.", w-4) {
		out = append(out, t.soft.Render("  "+line))
	}
	out = append(append(out, ""), f.lines(t, f.fields(), w)...)
	return append(out, t.soft.Render("  hosts: "+strings.Join(a.hostNames(), ", ")))
}
