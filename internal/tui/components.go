package tui

import (
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
)

// componentsScreen is what a site runs now, and beside it what it will run: a
// change is put together row by row before anything is done.
type componentsScreen struct {
	scroll
	id     site.ID
	parts  desk.Parts
	err    error
	got    bool
	asking bool
	was    []string          // plugins that a rescue deactivated
	placed time.Time         // when the site's files were put in place; later they are others
	will   map[string]string // by row: "on", "off", "goes", "-> VERSION"
	put    []site.Source     // that come besides
}

type partsMsg struct {
	of    *componentsScreen
	parts desk.Parts
	err   error
}

func openComponents(a *app, s site.Site) tea.Cmd {
	if s.Facts != nil && s.Facts.Core == "" {
		a.say(s.Name+" has no CMS: it has no plugins, themes and core", true)
		return nil
	}
	c := &componentsScreen{id: s.ID, will: map[string]string{}, placed: s.PlacedAt}
	a.push(c)
	return c.read(a, false)
}

func (c *componentsScreen) read(a *app, ask bool) tea.Cmd {
	c.asking = ask
	return func() tea.Msg {
		p, err := a.desk.Components.Components(a.ctx, c.id, ask)
		return partsMsg{c, p, err}
	}
}

func (c *componentsScreen) title(*app) string { return "what it runs" }

func (c *componentsScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		if s, ok := a.find(c.id); ok && c.got && !s.PlacedAt.Equal(c.placed) {
			c.placed, c.will, c.put = s.PlacedAt, map[string]string{}, nil
			return c.read(a, false), true
		}
		return nil, true
	case partsMsg:
		if msg.of == c {
			c.parts, c.err, c.got, c.asking = msg.parts, msg.err, true, false
			if len(msg.parts.Notes) > 0 {
				a.say(msg.parts.Notes[0], true)
			}
		}
		return nil, true
	case tea.KeyPressMsg:
		return c.key(a, msg.String())
	}
	return nil, false
}

func rowKey(p desk.Part) string { return string(p.Kind) + "/" + p.Slug }

// set plans something for the row under the cursor, or takes it back.
func (c *componentsScreen) set(p desk.Part, what string) {
	if k := rowKey(p); c.will[k] == what {
		delete(c.will, k)
	} else {
		c.will[k] = what
	}
}

func (c *componentsScreen) key(a *app, key string) (tea.Cmd, bool) {
	n := len(c.parts.All)
	if by, ok := step(key, n, 10); ok {
		c.move(by, n, max(1, a.h-12))
		return nil, true
	}
	switch key {
	case "U":
		a.say("asking the catalogue ...", false)
		return c.read(a, true), true
	case "n":
		return c.askInstall(a), true
	case "X":
		return c.rescue(a), true
	case "O":
		return c.again(a), true
	case "enter":
		return c.open(a), true
	}
	if n == 0 {
		return nil, false
	}
	p := c.parts.All[max(0, min(c.cursor, n-1))]
	switch key {
	case "space":
		c.toggle(a, p)
	case "d":
		if p.Kind == site.Core || p.State == "must-use" {
			a.say(p.Slug+" is not removed from here", true)
		} else {
			c.set(p, "goes")
		}
	case "u":
		c.up(a, p)
	default:
		return nil, false
	}
	return nil, true
}

// toggle plans a switch.
func (c *componentsScreen) toggle(a *app, p desk.Part) {
	switch {
	case p.Kind == site.Core || p.State == "must-use":
		a.say(p.Slug+" can't be switched", true)
	case p.Kind == site.Theme:
		if p.State == "active" {
			a.say("it is on; put another theme on in its place", true)
			return
		}
		for _, o := range c.parts.All {
			if o.Kind == site.Theme && o.Slug != p.Slug {
				delete(c.will, rowKey(o))
			}
		}
		c.set(p, "on")
	case p.State == "active" || p.State == "network" || p.State == "missing":
		c.set(p, "off")
	default:
		c.set(p, "on")
	}
}

// up plans the newest version.
func (c *componentsScreen) up(a *app, p desk.Part) {
	if p.Newest == "" {
		a.say("no newer version is known; U asks the catalogue", true)
		return
	}
	c.set(p, "-> "+p.Newest)
}

// wish is what was put together.
func (c *componentsScreen) wish() desk.ChangeWish {
	w := desk.ChangeWish{Put: slices.Clone(c.put)}
	for _, p := range c.parts.All {
		switch to := c.will[rowKey(p)]; {
		case to == "on" && p.Kind == site.Theme:
			w.Theme = p.Slug
		case to == "on":
			w.On = append(w.On, p.Slug)
		case to == "off":
			w.PutOff = append(w.PutOff, p.Slug)
		case to == "goes":
			w.Delete = append(w.Delete, p.Slug)
		case strings.HasPrefix(to, "-> "):
			w.Put = append(w.Put, site.Source{Kind: p.Kind, Slug: site.Either(p.Kind == site.Core, "", p.Slug),
				Version: strings.TrimPrefix(to, "-> ")})
		}
	}
	return w
}

// open shows the plan of what was put together.
func (c *componentsScreen) open(a *app) tea.Cmd {
	if len(c.will)+len(c.put) == 0 {
		a.say("nothing is to change yet: Space switches on and off, u takes the newer version, d removes, n brings",
			true)
		return nil
	}
	return openChange(a, c.parts.Site, "change "+c.parts.Site.Name, c.wish())
}

// openChange opens the plan of a change.
func openChange(a *app, s site.Site, name string, w desk.ChangeWish) tea.Cmd {
	x := &stateScreen{name: name, site: s}
	x.make = func() (plan.Plan, error) { return a.desk.Components.PlanChange(a.ctx, s.ID, w, nil) }
	x.choices = []stateChoice{
		{
			label: "if it breaks", help: "If pages of the copy fail after the change, it is rolled back. It can " +
				"stay changed, to look at what is wrong.",
			text: func() string { return site.Either(w.Anyway, "it stays changed", "it is taken back") },
			turn: func(int) { w.Anyway = !w.Anyway },
		},
	}
	if s.Role == site.Copy {
		r, was := s.Runtime, s.Runtime
		series := []string{r.PHP}
		for _, p := range a.desk.PHP() {
			if !slices.Contains(series, p.Series()) {
				series = append(series, p.Series())
			}
		}
		extensions, wrong := r.Extensions, error(nil)
		x.make = func() (plan.Plan, error) {
			if wrong != nil {
				return plan.Plan{}, wrong
			}
			return a.desk.Components.PlanChange(a.ctx, s.ID, w, nil)
		}
		set := func() {
			if r.Extensions, wrong = php.ParseChoice([]string{extensions}); wrong != nil {
				return
			}
			if w.Runtime = nil; r != was {
				x := r
				w.Runtime = &x
			}
		}
		x.choices = append(x.choices,
			stateChoice{label: "runs under", help: "The PHP of the copy; the versions that this machine has.",
				text: func() string { return site.Either(r.PHP == "", "PHP as it is", "PHP "+r.PHP) },
				turn: func(by int) { r.PHP = turned(series, r.PHP, by); set() }},
			stateChoice{label: "memory", help: "Of one request, as PHP writes it: 256M. Empty: PHP's own.",
				text:  func() string { return r.Memory },
				typed: func(v string) { r.Memory = strings.TrimSpace(v); set() }},
			stateChoice{
				label: "extensions",
				help: "Of PHP, besides the usual ones (intl) and not to be there (-gd), with blanks between. Empty: " +
					"the usual ones.", text: func() string { return extensions },
				typed: func(v string) { extensions = v; set() },
			},
			stateChoice{
				label: "errors", help: "Whether PHP's errors are shown on its pages; they are in its log (L) anyway.",
				text: func() string { return site.Either(r.Show, "shown on pages", "hidden") },
				turn: func(int) { r.Show = !r.Show; set() },
			})
	}
	a.push(x)
	return x.ask()
}

func (c *componentsScreen) askInstall(a *app) tea.Cmd {
	a.asking = &question{title: "Which component is to come to " + c.parts.Site.Name + "?",
		lines: []string{"A name of the catalogue (tide-table, tide-table@2.5.0, theme:driftwood), the address of its",
			"page or of an archive, a local archive, a git repository with #BRANCH, or site:NAME/SLUG."}, input: true,
		typed: func(a *app, text string) (tea.Cmd, error) {
			kind := site.ComponentKind("")
			rest, isTheme := strings.CutPrefix(strings.TrimSpace(text), "theme:")
			if isTheme {
				kind = site.Theme
			}
			src, err := site.ParseSource(kind, rest)
			if err != nil {
				return nil, err
			}
			if src.Kind == "" && src.From == "" {
				src.Kind = site.Plugin
			}
			c.put = append(c.put, src)
			return nil, nil
		}}
	return nil
}

// rescue opens the plan of all plugins off, with what the site complains of.
func (c *componentsScreen) rescue(a *app) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		w, was, err := a.desk.Components.RescueWish(a.ctx, c.id)
		if err != nil {
			return "", nil, err
		}
		text := ""
		if why, err := a.desk.Components.Complaints(a.ctx, c.parts.Site); err == nil && len(why) > 0 {
			text = "it complains: " + why[0]
		}
		return text, func(a *app) tea.Cmd {
			c.was = was
			return openChange(a, c.parts.Site, "rescue "+c.parts.Site.Name, w)
		}, nil
	})
}

// again activates the plugins that a rescue deactivated, one at a time; those with which
// the copy breaks stay off.
func (c *componentsScreen) again(a *app) tea.Cmd {
	if len(c.was) == 0 || c.parts.Site.Role != site.Copy {
		a.say("no plugin was deactivated here by a rescue: X first", true)
		return nil
	}
	was := c.was
	c.was = nil
	a.say("putting "+site.Plural(len(was), "plugin", "plugins")+" on, one at a time ...", false)
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		var off []string
		err := a.desk.Components.Again(a.ctx, c.id, was, func(slug, why string) {
			if why != "on again" {
				off = append(off, slug+": "+why)
			}
		})
		return site.Either(len(off) == 0, "all are on again", "stays off: "+strings.Join(off, "; ")),
			func(a *app) tea.Cmd { return c.read(a, false) }, err
	})
}

func (c *componentsScreen) keys(a *app) []hint {
	out := []hint{{"Space", "on, off"}, {"u", "newer version"}, {"d", "remove"}, {"n", "bring one"},
		{"U", "ask the catalogue"}, {"X", "rescue"}}
	if len(c.was) > 0 {
		out = append(out, hint{"O", "on again, one at a time"})
	}
	if n := len(c.will) + len(c.put); n > 0 {
		out = append([]hint{{"Enter", "plan " + site.Plural(n, "change", "changes")}}, out...)
	}
	return append(out, hint{"Esc", "back"})
}

func (c *componentsScreen) words() []hint {
	return []hint{{"now", "what the site runs, read from its files and tables a moment ago"},
		{"will be", "what is planned here; nothing is done before Enter and its plan"},
		{"origin", "the version that the copy's origin has"},
		{"must-use", "a plugin that is on as long as its file is there"},
		{"missing", "it is switched on, and its files are not there"},
		{"rescue", "all plugins off and a theme of the core's own, so that a broken site answers again"}}
}

func (c *componentsScreen) view(a *app, w, h int) []string {
	t := a.theme
	switch {
	case c.err != nil:
		return []string{"", t.wrong.Render("   " + plain(c.err.Error()))}
	case !c.got:
		return []string{"", t.soft.Render("   reading what it runs ...")}
	}
	s := c.parts.Site
	out := []string{" " + t.badge(s.Role) + " " + t.mark(s.Mark()) + " " + t.ink.Bold(true).Render(plain(s.Name)) +
		t.soft.Render("   core ") + t.ink.Render(c.parts.Core) + t.soft.Render("   PHP ") +
		t.ink.Render(site.Either(c.parts.PHP == "", "unknown", c.parts.PHP)) +
		t.soft.Render(site.Either(s.Pins != "", "   pin sheet "+s.Pins, "")+
			site.Either(c.asking, "   asking the catalogue ...", "")),
		""}
	cols := squeeze(w-3, column{8, 7}, column{28, 16}, column{14, 9}, column{12, 11}, column{12, 8}, column{16, 10},
		column{max(30, w-3-8-28-14-12-12-16), 12})
	out = append(out, t.head.Render("   "+t.fit("", cols[0])+t.fit("NAME", cols[1])+t.fit("NOW", cols[2])+
		t.fit("", cols[3])+t.fit("NEWEST", cols[4])+t.fit("WILL BE", cols[5])+"TO KNOW"))
	rows := max(1, h-len(out)-len(c.put)-3)
	c.see(len(c.parts.All), rows)
	for i := c.top; i < min(len(c.parts.All), c.top+rows); i++ {
		out = append(out, c.row(t, c.parts.All[i], i == c.cursor, cols))
	}
	for _, p := range c.put {
		out = append(out, "   "+t.good.Render(t.fit("comes", 8)+plain(p.Text())))
	}
	out = append(out, "")
	if n := len(c.parts.All); n > 0 {
		for _, l := range wrap(plain(strings.Join(c.parts.All[max(0, min(c.cursor, n-1))].Remarks, "; ")), w-6) {
			out = append(out, t.soft.Render("   "+l))
		}
	}
	return out[:min(len(out), h)]
}

// row is one component: as it is, and as it will be.
func (c *componentsScreen) row(t *theme, p desk.Part, here bool, cols []int) string {
	style, state := t.ink, p.State
	switch p.State {
	case "active", "network", "must-use":
		state = t.glyph("● ", "* ") + site.Either(p.State == "active", "on", p.State)
	case "off", "parent":
		style, state = t.soft, t.glyph("○ ", "o ")+p.State
	case "missing":
		style, state = t.wrong, "! missing"
	}
	will := c.will[rowKey(p)]
	wst := t.key
	if will == "goes" || will == "off" {
		wst = t.soon
	}
	name := site.Either(p.Kind == site.Core, p.Name, p.Slug)
	remark := strings.Join(p.Remarks, "; ")
	return site.Either(here, t.key.Render(t.glyph("▶", ">")), " ") + "  " +
		t.soft.Render(t.fit(string(p.Kind), cols[0])) +
		style.Render(t.fit(plain(name), cols[1])+t.fit(plain(p.Version), cols[2])+t.fit(state, cols[3])) +
		t.copy.Render(t.fit(p.Newest, cols[4])) +
		wst.Render(t.fit(site.Either(will == "", "", t.glyph("→ ", "> ")+strings.TrimPrefix(will, "-> ")), cols[5])) +
		t.soft.Render(t.fit(plain(remark), cols[6]))
}
