package tui

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/evidence"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// accountsPane lists those under which one signs in.
type accountsPane struct {
	scroll
	fetched[[]stack.Account]
	s *site.Site
}

func (p *accountsPane) name() string { return "accounts" }

func (p *accountsPane) load(a *app) tea.Cmd {
	if p.got || time.Since(p.last) < again {
		return nil
	}
	p.last = time.Now()
	return reads(p, func() (any, error) { return a.desk.Hands.Accounts(a.ctx, p.s.ID) })
}

func (p *accountsPane) take(_ *app, msg tea.Msg) bool { return p.took(p, msg) }

func (p *accountsPane) key(a *app, key string) (tea.Cmd, bool) {
	if by, ok := step(key, len(p.list), a.h-10); ok {
		p.move(by, len(p.list), max(1, a.h-10))
		return nil, true
	}
	if key == "i" {
		p.got, p.last = false, time.Time{}
		return p.load(a), true
	}
	if p.s.Role != site.Copy {
		if slices.Contains([]string{"n", "o", "S", "P", "enter"}, key) {
			a.say("accounts are used and changed on copies only; c on the board makes one", true)
			return nil, true
		}
		return nil, false
	}
	switch key {
	case "n":
		return openAccount(a, *p.s, "", nil), true
	case "S":
		return openScrub(a, *p.s), true
	case "P":
		a.say("searching the copy for people of its origin ...", false)
		return provePeople(a, *p.s), true
	}
	if len(p.list) == 0 {
		return nil, false
	}
	x := p.list[max(0, min(p.cursor, len(p.list)-1))]
	switch key {
	case "o":
		return a.doThen(func() (string, func(*app) tea.Cmd, error) {
			key, err := a.desk.Copies.Latchkey(a.ctx, p.s.ID, x.Login)
			return "", func(a *app) tea.Cmd {
				a.asking = &question{title: "Signed in as " + plain(x.Login),
					lines: []string{"Once, within a minute:", "  " + key}, yes: func(*app) tea.Cmd { return nil }}
				return nil
			}, err
		}), true
	case "enter":
		return openAccount(a, *p.s, x.Login, x.Roles), true
	}
	return nil, false
}

func (p *accountsPane) hints(*app) []hint {
	if p.s.Role != site.Copy {
		return []hint{{"i", "read anew"}}
	}
	return []hint{{"o", "sign in as"}, {"Enter", "change"}, {"n", "add"}, {"S", "make people up"},
		{"P", "prove that none is left"}, {"i", "read anew"}}
}

func (p *accountsPane) words() []hint {
	return []hint{{"sign in as", "an address that signs in once, without a password"},
		{"roles", "what the account may do"},
		{
			"make people up", "names, mail addresses, accounts, phones, places and passwords become made-up ones, " +
				"the same in every table",
		}, {"prove", "every value of the copy is searched for what the origin has of people"}}
}

func (p *accountsPane) view(a *app, w, h int) []string {
	t := a.theme
	people := "the people of this site"
	if p.s.Role == site.Copy {
		people = site.Either(p.s.Scrubbed, "its people are made up", "its people are its origin's")
	}
	out := []string{t.soft.Render("   " + people), "",
		t.head.Render("   " + t.fit("ACCOUNT", 26) + t.fit("ROLES", 26) + t.fit("NAME", 30) + "MAIL")}
	switch {
	case p.err != nil:
		return append(out, t.wrong.Render("   "+plain(p.err.Error())))
	case !p.got:
		return append(out, t.soft.Render("   reading ..."))
	case len(p.list) == 0:
		return append(out, t.soft.Render("   of this kind of site Alibi knows no accounts"))
	}
	p.see(len(p.list), h-len(out))
	for i := p.top; i < min(len(p.list), p.top+h-3); i++ {
		x := p.list[i]
		look := site.Either(slices.Contains(x.Roles, "administrator"), t.ink.Bold(true), t.ink)
		out = append(out, t.pointer(i == p.cursor)+look.Render(t.fit(plain(x.Login), 26))+
			t.soft.Render(t.fit(plain(strings.Join(x.Roles, ", ")), 26))+t.ink.Render(t.fit(plain(x.Name), 30))+
			t.soft.Render(plain(x.Mail)))
	}
	return out
}

// openAccount opens the plan of adding an account, or of changing one.
func openAccount(a *app, s site.Site, login string, has []string) tea.Cmd {
	roles := []string{"administrator", "editor", "author", "contributor", "subscriber"}
	role, mail, password := "editor", "", ""
	if login != "" {
		roles = append([]string{""}, roles...)
		role = ""
	}
	x := &stateScreen{name: site.Either(login == "", "a new account", "account "+login), site: s}
	x.make = func() (plan.Plan, error) {
		if login == "" {
			return plan.Plan{}, errors.New("say what the account is to be called")
		}
		return a.desk.Hands.PlanAccount(a.ctx, s.ID, login, role, mail, password)
	}
	if login == "" {
		x.choices = append(x.choices, stateChoice{label: "called", help: "The name under which one signs in.",
			text: func() string { return login }, typed: func(v string) { login = v }})
	}
	x.choices = append(x.choices,
		stateChoice{
			label: "role", help: "What it may do." + site.Either(len(has) > 0, " Now: "+strings.Join(has, ", ")+".",
				""),
			text: func() string { return site.Either(role == "", "as it is", role) },
			turn: func(by int) { role = turned(roles, role, by) },
		},
		stateChoice{label: "password", help: "At least 8 characters. It is kept as a digest and shown nowhere.",
			text: func() string { return strings.Repeat("*", len([]rune(password))) }, typed: func(v string) {
				if n := len([]rune(password)); len([]rune(v)) > n {
					password += string([]rune(v)[n:])
				} else {
					password = string([]rune(password)[:len([]rune(v))])
				}
			}},
		stateChoice{label: "mail", help: "Its mail address, if it is to have another.",
			text: func() string { return mail }, typed: func(v string) { mail = v }})
	a.push(x)
	return x.ask()
}

// openScrub opens the plan of making a copy's people up.
func openScrub(a *app, s site.Site) tea.Cmd {
	x := &stateScreen{name: "make people up on " + s.Name, site: s}
	x.make = func() (plan.Plan, error) { return a.desk.Hands.PlanScrub(a.ctx, s.ID) }
	x.choices = []stateChoice{
		{
			label: "people", help: "Names, mail addresses, accounts, phones, places, network addresses and passwords " +
				"become made-up ones: the same person the same one in every table and in every text. Nobody's " +
				"password signs in afterwards; keys do (o).", text: func() string { return "are made up" },
		},
	}
	a.push(x)
	return x.ask()
}

// provePeople searches a copy for people of its origin.
func provePeople(a *app, s site.Site) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		k, err := a.desk.Hands.PeopleLeft(a.ctx, s.ID)
		if err != nil {
			return "", nil, err
		}
		return "", func(a *app) tea.Cmd {
			if k.Verdict != evidence.Broken {
				a.say(fmt.Sprintf("none of %s stands anywhere on %s", k.Origin, s.Name), false)
				return nil
			}
			x := &textScreen{head: "people of its origin on " + s.Name,
				lines: append([]string{fmt.Sprintf("looked for %s: %s places", k.Origin, site.Number(k.Number)), ""},
					k.Where...)}
			a.push(x)
			return nil
		}, nil
	})
}

// deedsPane is the work list of a copy.
type deedsPane struct {
	scroll
	fetched[[]desk.Deed]
	s *site.Site
}

func (p *deedsPane) name() string { return "work list" }

func (p *deedsPane) load(a *app) tea.Cmd {
	if time.Since(p.last) < again {
		return nil
	}
	p.last = time.Now()
	return reads(p, func() (any, error) { return a.desk.Hands.WorkList(a.ctx, p.s.ID) })
}

func (p *deedsPane) take(_ *app, msg tea.Msg) bool { return p.took(p, msg) }

func (p *deedsPane) key(a *app, key string) (tea.Cmd, bool) {
	if by, ok := step(key, len(p.list), a.h-10); ok {
		p.move(by, len(p.list), max(1, (a.h-10)/2))
		return nil, true
	}
	switch key {
	case "n":
		a.asking = &question{title: "What was done on " + p.s.Name + "?",
			lines: []string{"So that it is not forgotten when the same is done on the live site."}, input: true,
			typed: func(a *app, text string) (tea.Cmd, error) {
				p.last = time.Time{}
				return a.do(func() (string, error) { return "noted", a.desk.Hands.NoteDeed(a.ctx, p.s.ID, text) }), nil
			}}
		return nil, true
	case "space":
		if len(p.list) > 0 {
			x := p.list[max(0, min(p.cursor, len(p.list)-1))]
			p.last = time.Time{}
			return a.do(func() (string, error) { return "", a.desk.Hands.Repeated(a.ctx, p.s.ID, x.ID, !x.Repeated) }),
				true
		}
		return nil, true
	}
	return nil, false
}

func (p *deedsPane) hints(*app) []hint {
	return []hint{{"Space", "repeated on the live site"}, {"n", "note something"}}
}

func (p *deedsPane) words() []hint {
	return []hint{
		{"work list", "what was done on the copy, to be repeated on its origin; alibi worklist --markdown hands it on"},
		{"taken back", "the copy was brought to what it was before"},
	}
}

func (p *deedsPane) view(a *app, w, h int) []string {
	t := a.theme
	out := []string{t.soft.Render("   what was done here, and how the same is done on the live site"), ""}
	switch {
	case p.err != nil:
		return append(out, t.wrong.Render("   "+plain(p.err.Error())))
	case !p.got:
		return append(out, t.soft.Render("   reading ..."))
	case len(p.list) == 0:
		return append(out, t.soft.Render("   nothing was done on this copy yet"))
	}
	p.see(len(p.list), max(1, (h-3)/3))
	for i := p.top; i < len(p.list) && len(out) < h; i++ {
		x := p.list[i]
		box, look := t.glyph("□", "[ ]"), t.ink
		switch {
		case x.Undone, x.Settled:
			box, look = t.glyph("–", "-"), t.soft
		case x.Repeated:
			box, look = t.glyph("■", "[x]"), t.soft
		}
		out = append(out, t.pointer(i == p.cursor)+
			look.Render(
				box+" "+t.fit(plain(x.Text)+site.Either(x.Undone, "  (taken back)",
					site.Either(x.Settled, "  (settled)", "")), w-40),
			)+t.soft.Render(t.right(x.At.Local().Format("2 Jan 15:04")+"  "+plain(x.Who), 30)))
		for _, c := range x.Commands {
			out = append(out, t.soft.Render("       "+plain(c)))
		}
	}
	return out[:min(len(out), h)]
}
