package tui

import (
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/site"
)

// hostsScreen shows the machines where sites live: how each is reached, and what it answers now.
type hostsScreen struct {
	scroll
	list  []desk.HostState          // as the record has them
	asked map[string]desk.HostState // as they answered
	got   bool
}

type hostsMsg struct {
	list []desk.HostState
	err  error
}

// hostMsg is what became of asking one.
type hostMsg struct {
	name  string
	state desk.HostState
	err   error
}

func (s *hostsScreen) title(*app) string { return "hosts" }

func (s *hostsScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		return func() tea.Msg {
			list, err := a.desk.Fleet.KnownHosts(a.ctx)
			return hostsMsg{list, err}
		}, true
	case hostsMsg:
		s.got = true
		if msg.err != nil {
			a.say(msg.err.Error(), true)
			return nil, true
		}
		s.list = msg.list
		return s.askNew(a), true
	case hostMsg:
		if msg.err != nil {
			msg.state.Failure = msg.err.Error()
		}
		s.asked[msg.name] = msg.state
		return nil, true
	case tea.KeyPressMsg:
		return s.key(a, msg.String())
	}
	return nil, false
}

// askNew asks the hosts that were not asked yet.
func (s *hostsScreen) askNew(a *app) tea.Cmd {
	if s.asked == nil {
		s.asked = map[string]desk.HostState{}
	}
	var all []tea.Cmd
	for _, h := range s.list {
		if _, done := s.asked[h.Name]; !done {
			all = append(all, s.ask(a, h.Name))
		}
	}
	return tea.Batch(all...)
}

func (s *hostsScreen) ask(a *app, name string) tea.Cmd {
	s.asked[name] = desk.HostState{}
	return func() tea.Msg {
		state, err := a.desk.Fleet.HostState(a.ctx, name)
		return hostMsg{name, state, err}
	}
}

func (s *hostsScreen) current() (desk.HostState, bool) {
	if len(s.list) == 0 {
		return desk.HostState{}, false
	}
	return s.list[max(0, min(s.cursor, len(s.list)-1))], true
}

func (s *hostsScreen) key(a *app, key string) (tea.Cmd, bool) {
	if by, ok := step(key, len(s.list), 8); ok {
		s.move(by, len(s.list), 8)
		return nil, true
	}
	h, ok := s.current()
	switch key {
	case "n":
		add := newAdd(a)
		add.host = true
		a.push(add)
		return nil, true
	case "a", "A":
		name := ""
		if key == "a" && ok && !h.Local() {
			name = h.Name
		}
		a.push(newAccess(name))
		return nil, true
	case "enter":
		if ok {
			return s.ask(a, h.Name), true
		}
	case "D":
		if ok && h.Local() {
			a.say("this machine is always there", true)
			return nil, true
		}
		if ok {
			a.asking = &question{title: "Take " + h.Name + " out of the record?",
				lines: []string{"Nothing there is touched. It can be added again."},
				yes: func(a *app) tea.Cmd {
					return a.do(func() (string, error) {
						return "host " + h.Name + " is not in the record any more", a.desk.Fleet.RemoveHost(a.ctx, h.Name)
					})
				}}
			return nil, true
		}
	}
	return nil, false
}

func (s *hostsScreen) keys(*app) []hint {
	return []hint{{"Enter", "ask it again"}, {"n", "add a host"}, {"a", "its access sheet"},
		{"A", "a new sheet"}, {"D", "out of the record"}, {"Esc", "back"}}
}

func (s *hostsScreen) words() []hint {
	return []hint{{"commands", "whether the host runs programs for us; else files come one by one"},
		{"databases", "whether it connects to a database that listens there; else a relay reads it"},
		{"answer", "how long a question takes, once signed in"},
		{"free", "where copies are made, else at the top; FTP does not tell"}}
}

func (s *hostsScreen) view(a *app, w, h int) []string {
	t := a.theme
	if !s.got {
		return []string{"", t.soft.Render("   reading the record ...")}
	}
	c := squeeze(w-3-8-2-10-11-8-8, column{16, 9}, column{46, 14}, column{12, 7})
	out := []string{"", t.head.Render("   " + t.fit("HOST", c[0]) + t.fit("REACHED AT", c[1]) + t.right("SITES", 8) +
		"  " + t.fit("ANSWER", c[2]) + t.fit("COMMANDS", 10) + t.fit("DATABASES", 11) + t.fit("PHP", 8) + t.right("FREE", 8))}
	rows := max(1, h/2)
	s.see(len(s.list), rows)
	for i := s.top; i < min(len(s.list), s.top+rows); i++ {
		x := s.list[i]
		style, mark := t.ink, " "
		if i == s.cursor {
			style, mark = t.chosen, t.key.Render(t.glyph("▶", ">"))
		}
		where := site.Either(x.Local(), "this machine", plain(x.Where()))
		out = append(out, mark+"  "+style.Render(t.fit(plain(x.Name), c[0]-1))+" "+t.soft.Render(t.fit(where, c[1]))+
			t.right(t.ink.Render(site.Number(int64(len(x.Sites)))), 8)+"  "+s.answers(t, x.Name, c[2]))
	}
	return append(out, s.about(a, w)...)
}

// answers is what a host said when it was asked.
func (s *hostsScreen) answers(t *theme, name string, w int) string {
	x := s.asked[name]
	if x.Failure != "" {
		return t.wrong.Render(t.fit("no", w))
	}
	if x.Name == "" {
		return t.soft.Render(t.fit("asking ...", w))
	}
	yes := func(b bool) string { return site.Either(b, "yes", "no") }
	took := site.Either(x.Answer < time.Millisecond, "< 1 ms", x.Answer.Round(time.Millisecond).String())
	return t.ink.Render(t.fit(took, w)+t.fit(yes(x.Commands), 10)+
		t.fit(site.Either(x.Forwards, "reached", "by relay"), 11)+t.fit(site.Either(x.PHP != "", x.PHP, "-"), 8)) +
		t.right(t.soft.Render(site.Either(x.Free > 0, site.Size(x.Free), "?")), 8)
}

// about says more of the one that is chosen.
func (s *hostsScreen) about(a *app, w int) []string {
	t := a.theme
	h, ok := s.current()
	if !ok {
		return nil
	}
	out := []string{"", ""}
	row := func(label, text string) {
		for i, line := range wrap(text, w-20) {
			out = append(out, t.soft.Render("   "+t.fit(site.Either(i == 0, label, ""), 14))+t.ink.Render(line))
		}
	}
	if !h.Local() {
		row("reached at", plain(h.Where()))
		if h.At != "" {
			row("machine", plain(h.At)+", wherever its name leads")
		}
	}
	row("sites", site.Either(len(h.Sites) > 0, plain(strings.Join(h.Sites, ", ")), "none"))
	if h.Copies != "" {
		row("copies", plain(h.Copies)+", databases on "+site.Either(h.Server.Address != "", plain(h.Server.Address),
			"no server"))
	}
	if h.Client != "" {
		row("client", plain(h.Client))
	}
	if h.Pin != "" {
		row("its key", plain(h.Pin)+" was accepted")
	}
	x := s.asked[h.Name]
	if x.Failure != "" {
		row("no answer", plain(x.Failure))
	}
	for i, text := range x.About {
		row(site.Either(i == 0, "so", ""), plain(text))
	}
	return out
}
