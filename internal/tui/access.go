package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/access"
	"alibi/internal/site"
)

// accessScreen is an access sheet that is filled in: how a host, and a site on it, are reached.
type accessScreen struct {
	form
	name string // "": it is typed first
	seen []access.Seen
	busy bool
	made string // the public half of a key that was made
}

// sheetMsg is a sheet as it is kept, and how it is with each field.
type sheetMsg struct {
	name  string
	sheet access.Sheet
	seen  []access.Seen
	made  string
	tried bool
	err   error
}

func newAccess(name string) *accessScreen {
	return &accessScreen{form: form{values: map[string]string{"name": name}}, name: name}
}

func (s *accessScreen) title(*app) string {
	return "access sheet" + site.Either(s.name != "", " "+s.name, "")
}

func (s *accessScreen) fields() (out []field) {
	if s.name == "" {
		out = append(out, field{"name", "name", "what the host is to be called here: a-z, 0-9 and -"})
	}
	for _, f := range access.Fields {
		out = append(out, field{f.Name, f.Title, f.Where})
	}
	return out
}

func (s *accessScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		if s.seen == nil && s.name != "" && !s.busy {
			return s.look(a, s.name, nil), true
		}
	case sheetMsg:
		s.busy = false
		if msg.err != nil {
			a.say(msg.err.Error(), true)
			return nil, true
		}
		s.took(msg)
		if msg.tried {
			a.say(site.Either(access.Ready(msg.seen), "the sheet is kept, and right", "the sheet is kept; it is not right yet"),
				!access.Ready(msg.seen))
		}
		return nil, true
	case doneMsg:
		s.busy = false
	case tea.KeyPressMsg:
		switch k := msg.String(); {
		case s.busy:
			return nil, k != "esc" && k != "ctrl+c"
		case k == "enter":
			return s.keep(a, nil), true
		case k == "ctrl+k":
			return s.keep(a, func(name string) (string, error) { return a.desk.Fleet.MakeKey(name) }), true
		case k == "ctrl+s":
			return s.use(a), true
		}
	}
	return nil, s.typed(s.fields(), msg)
}

// took shows a sheet as it is kept.
func (s *accessScreen) took(msg sheetMsg) {
	if s.name == "" { // the first field is gone
		s.at = max(0, s.at-1)
	}
	s.name, s.seen, s.made = msg.name, msg.seen, msg.made
	for _, f := range access.Fields {
		s.values[f.Name] = f.Get(msg.sheet)
	}
}

// look reads a sheet, after something was done with it, and tries it where that was.
func (s *accessScreen) look(a *app, name string, first func() (string, error)) tea.Cmd {
	s.busy = true
	return func() tea.Msg {
		out := sheetMsg{name: name}
		if first != nil {
			out.tried = true
			if out.made, out.err = first(); out.err != nil {
				return out
			}
		}
		if out.sheet, out.err = a.desk.Fleet.Sheet(name); out.err != nil {
			return out
		}
		if out.seen = out.sheet.Look(); first != nil && access.Ready(out.seen) {
			out.seen, out.err = a.desk.Fleet.TrySheet(a.ctx, name)
		}
		return out
	}
}

// keep keeps what was typed, and tries it; then comes first, where it is wanted.
func (s *accessScreen) keep(a *app, then func(name string) (string, error)) tea.Cmd {
	name, values := s.values["name"], map[string]string{}
	for _, f := range access.Fields {
		values[f.Name] = s.values[f.Name]
	}
	a.say("the sheet is kept, and tried ...", false)
	return s.look(a, name, func() (string, error) {
		for _, f := range access.Fields {
			if err := a.desk.Fleet.SetField(name, f.Name, values[f.Name], true); err != nil {
				return "", err
			}
		}
		if then == nil {
			return "", nil
		}
		return then(name)
	})
}

// use brings what the sheet tells into the record.
func (s *accessScreen) use(a *app) tea.Cmd {
	if s.seen == nil || !access.Ready(s.seen) {
		a.say("the sheet is not right yet: Enter keeps and tries it", true)
		return nil
	}
	bring := func(plainly bool) tea.Cmd {
		s.busy = true
		return a.do(func() (string, error) {
			u, err := a.desk.Fleet.UseSheet(a.ctx, s.name, plainly)
			text := "host " + u.Host.Name + " is in the record"
			if u.Site != nil {
				text += ", and " + u.Site.Name + " on it"
			}
			return text, err
		})
	}
	way, plainly := s.values["way"], strings.HasPrefix(s.values["address"], "http://")
	if way == access.FTP || way == access.Site && plainly {
		a.asking = &question{title: "Reach it where nothing is encrypted?",
			lines: []string{"Everybody on the way can read the password, and what is brought."},
			yes:   func(*app) tea.Cmd { return bring(true) }}
		return nil
	}
	return bring(false)
}

func (s *accessScreen) keys(*app) []hint {
	return []hint{{"Enter", "keep and try it"}, {"Tab", "next"}, {"Ctrl+K", "make a key"},
		{"Ctrl+S", "bring it into the record"}, {"Esc", "back"}}
}

func (s *accessScreen) words() []hint {
	return []hint{{"right", "it was tried"}, {"given", "it has the right form, and was not tried"},
		{"missing", "it is needed"}, {"password", "is put among the secrets when it is kept; the sheet only names it"}}
}

func (s *accessScreen) view(a *app, w, _ int) []string {
	t := a.theme
	out := []string{"", t.soft.Render("  What is known of how a host, and a site on it, are reached. Trying it writes " +
		"nothing there."), ""}
	fields := s.fields()
	for i, x := range fields {
		out = append(out, s.line(t, i, x, w))
	}
	out = append(out, "")
	for _, line := range wrap(fields[min(s.at, len(fields)-1)].help, w-4) {
		out = append(out, t.soft.Render("  "+line))
	}
	if s.made != "" {
		out = append(out, "", t.ink.Render("  the host's keeper adds this line to authorized_keys of the account:"))
		for _, line := range chunks(plain(s.made), w-4) {
			out = append(out, t.ink.Render("  "+line))
		}
	}
	return out
}

// line is one field: its value, how it is with it, and why.
func (s *accessScreen) line(t *theme, i int, x field, w int) string {
	const label, wide = 18, 44
	value := plain(s.values[x.name])
	if f, err := access.Find(x.name); err == nil && f.Secret && value != "" && !access.Names(value) {
		value = strings.Repeat("*", len([]rune(value)))
	}
	row := t.soft.Render(t.fit("  "+x.label, label)) + " " +
		t.ink.Render(t.fit(site.Either(value != "", " "+value, " -"), wide))
	if i == s.at {
		row = t.key.Render(t.glyph("▶", ">")) + t.ink.Bold(true).Render(t.fit(" "+x.label, label)) +
			t.chosen.Render(t.fit(" "+value+"_", wide))
	}
	for _, seen := range s.seen {
		if seen.Field != x.name || seen.State == access.Empty {
			continue
		}
		style := map[access.State]func(...string) string{access.Right: t.good.Render, access.Wrong: t.wrong.Render,
			access.Missing: t.soon.Render, access.Given: t.soft.Render}[seen.State]
		text := site.Either(seen.State == access.Missing, "", seen.Text)
		row += "  " + style(t.fit(string(seen.State), 8)) + t.soft.Render(t.fit(plain(text), max(0, w-label-wide-14)))
	}
	return row
}

// chunks cuts a text that has no blanks to break at.
func chunks(s string, w int) (out []string) {
	for len(s) > w {
		out, s = append(out, s[:w]), s[w:]
	}
	return append(out, s)
}
