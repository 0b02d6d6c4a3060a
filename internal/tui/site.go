package tui

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"alibi/internal/desk"
	"alibi/internal/site"
)

// siteScreen shows one site's facts; a copy's stand beside its origin's.
type siteScreen struct {
	id  site.ID
	top int
}

func newSite(id site.ID) *siteScreen { return &siteScreen{id: id} }

func (s *siteScreen) title(a *app) string {
	if x, ok := a.find(s.id); ok {
		return x.Name
	}
	return "site"
}

func (s *siteScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	k, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return nil, false
	}
	if by, ok := step(k.String(), 1000, a.h-6); ok {
		s.top = max(0, s.top+by)
		return nil, true
	}
	if k.String() == "y" {
		a.push(newHistory(a, s.id))
		return nil, true
	}
	if x, ok := a.find(s.id); ok && k.String() != "enter" {
		return siteKey(a, x, k.String())
	}
	return nil, false
}

func (s *siteScreen) keys(a *app) []hint {
	x, ok := a.find(s.id)
	if !ok {
		return []hint{{"Esc", "back"}}
	}
	return append(siteHints(x)[1:], hint{"y", "history"}, hint{"Esc", "back"})
}

func (s *siteScreen) words() []hint {
	return []hint{{"core, php", "the version of the CMS, and of PHP that runs it: two numbers, never mixed up"},
		{"differs", "the copy's value is not the origin's"},
		{"size", "each bar against the largest of its list"}, {"spare", "what a copy can do without"},
		{"quiet rules", "what the copy must not do to the outside"},
		{"reaches outward", "settings with an address of somebody else's, and the rule that stops them on a copy"}}
}

func (s *siteScreen) view(a *app, w, h int) []string {
	t := a.theme
	x, ok := a.find(s.id)
	if !ok {
		return []string{"", t.soft.Render("   this site is gone; its history stays (y)")}
	}
	if x.Facts == nil {
		return []string{"", t.ink.Render("   nothing is known of it yet: i reads it")}
	}
	origin, hasOrigin := a.find(x.Origin)
	var o *site.Site
	if hasOrigin && origin.Facts != nil {
		o = &origin
	}
	head := " " + t.badge(x.Role) + " " + t.mark(x.Mark()) + " " + t.ink.Bold(true).Render(plain(x.Name)) +
		t.soft.Render("   "+x.Address().String()) +
		site.Either(x.StateText() != "", t.soon.Render("   "+x.StateText()), "")
	if o != nil {
		head += t.soft.Render("   beside ") + t.badge(o.Role) + " " + t.mark(o.Mark()) +
			t.soft.Render(" "+plain(o.Name))
	}
	out := []string{head, ""}
	var body []string
	if w >= 110 {
		wa := w * 54 / 100
		body = t.beside(s.facts(a, x, o, wa), s.sizes(a, x, w-wa-3), wa, w-wa-3)
	} else {
		body = append(s.facts(a, x, o, w), s.sizes(a, x, w)...)
	}
	room := h - len(out)
	s.top = max(0, min(s.top, len(body)-room))
	return append(out, body[s.top:min(len(body), s.top+room)]...)
}

// sheet is the lines at the left: what a site is and holds, and for a copy the
// same of its origin beside it.
type sheet struct {
	t      *theme
	x      site.Site
	o      *site.Site // nil: nothing to stand beside
	w      int
	labels int // width of the labels
	values int // width of one value of two
	out    []string
}

func (s *siteScreen) facts(a *app, x site.Site, o *site.Site, w int) []string {
	f := &sheet{t: a.theme, x: x, o: o, w: w, labels: 17}
	f.values = (w - f.labels - 12) / 2
	if o != nil {
		f.out = append(f.out, f.t.head.Render(f.t.fit("", f.labels)+f.t.fit("THIS COPY", f.values)+" "+
			f.t.fit("ITS ORIGIN", f.values)))
	}
	f.identity()
	f.gap()
	if x.Facts.Network != nil {
		f.line("of its main site", "")
	}
	for _, c := range x.Facts.Contents {
		f.both(c.Kind, func(s site.Site) string { return site.Number(count(s.Facts.Contents, c.Kind)) })
	}
	for _, c := range x.Facts.Users {
		f.both(c.Kind+"s", func(s site.Site) string { return site.Number(count(s.Facts.Users, c.Kind)) })
	}
	f.gap()
	f.standing(a)
	f.gap()
	return append(f.out, findingLines(f.t, x.Facts.Findings, w)...)
}

func (f *sheet) gap() { f.out = append(f.out, "") }

// line is one value of the site's own.
func (f *sheet) line(label, value string) {
	f.out = append(f.out, f.t.soft.Render(f.t.fit(" "+label, f.labels))+
		f.t.ink.Render(f.t.fit(plain(value), f.w-f.labels)))
}

// both is a value beside the origin's, and whether they differ.
func (f *sheet) both(label string, value func(site.Site) string) {
	mine := value(f.x)
	if f.o == nil {
		f.line(label, mine)
		return
	}
	his := value(*f.o)
	l := f.t.soft.Render(f.t.fit(" "+label, f.labels)) + f.t.ink.Render(f.t.fit(plain(mine), f.values)) + " " +
		f.t.soft.Render(f.t.fit(plain(his), f.values))
	if his != mine {
		l += f.t.soon.Render(" differs")
	}
	f.out = append(f.out, l)
}

func (f *sheet) identity() {
	f.both("title", func(s site.Site) string { return s.Facts.Title })
	f.both("core", func(s site.Site) string { return site.Either(s.Facts.Core != "", s.Facts.Core, "none") })
	f.both("php", func(s site.Site) string { return site.Either(s.Facts.PHP != "", s.Facts.PHP, "not known") })
	if !f.x.Facts.PHPAsked && f.x.Facts.PHP != "" {
		f.line("", site.Either(f.x.Role == site.Copy, "php as its origin's: its own code did not run yet",
			"php of this host: the site does not say"))
	}
	f.both("on", func(s site.Site) string { return s.Host })
	f.line("in", f.x.Root)
	n := f.x.Facts.Network
	for i, ad := range f.x.Addresses {
		if i == 0 || n == nil || !slices.ContainsFunc(n.Sites, func(b site.SubSite) bool { return b.Address == ad }) {
			f.line(site.Either(i == 0, "address", "also"), ad.String())
		}
	}
	if n != nil {
		f.line("network", n.Text())
		for _, b := range n.Sites {
			f.line("", b.Title+"  "+b.Address.Short())
		}
	}
	f.both("files", func(s site.Site) string { return site.Number(s.Facts.Files) + ", " + site.Size(s.Facts.Bytes) })
	f.both("tables", func(s site.Site) string {
		return fmt.Sprintf("%d, %s rows, %s", len(s.Facts.Tables), site.Number(s.Facts.Rows),
			site.Size(s.Facts.TableBytes))
	})
}

// standing is how a copy, or a live site, stands today.
func (f *sheet) standing(a *app) {
	x, now := f.x, a.desk.Now()
	defer func() { f.line("kept", keptText(a.board.Kept[x.ID], now)) }()
	if x.Role == site.Copy {
		f.line("made for", site.Either(x.Purpose != "", x.Purpose, "-"))
		f.line("lease", x.LeaseText(now))
		f.line("apart", x.ApartText()+"  ("+changes(x.Apart.Copy)+" here, "+fmt.Sprint(x.Apart.Origin)+" there)")
		if p := x.Pointed; p != nil {
			f.out = append(f.out, f.t.soft.Render(f.t.fit(" live name", f.labels))+
				f.t.soon.Render(f.t.fit("leads here since "+p.At.Local().Format("15:04")+": "+
					plain(strings.Join(p.Names, ", ")), f.w-f.labels)))
		}
		f.line("evidence", x.ProofText()+site.Either(!x.Proof.At.IsZero(), ", "+site.Ago(now.Sub(x.Proof.At)), ""))
		if x.Proof.Wall != "" {
			f.line("wall", site.Either(x.Proof.Open() == "", "keeps its code in", "none: "+x.Proof.Open()))
		}
		return
	}
	f.line("owner", site.Either(x.Owner != "", x.Owner, "nobody is named"))
	f.line("client", site.Either(x.Client != "", x.Client, "-"))
	f.line("read", site.Ago(now.Sub(x.Facts.At))+" in "+site.Seconds(x.Facts.Took))
	f.line("copies", site.Number(copiesOf(a, x.ID)))
}

// keptText says what restore points there are of a site.
func keptText(k desk.Kept, now time.Time) string {
	if k.Points == 0 {
		return "no restore point; R takes one"
	}
	text := site.Plural(k.Points, "restore point", "restore points") + ", the newest " + site.Span(now.Sub(k.Newest)) +
		" old, "
	if k.Proven.IsZero() {
		return text + "none proven"
	}
	return text + "proven " + site.Ago(now.Sub(k.Proven))
}

func copiesOf(a *app, id site.ID) int {
	n := 0
	for _, f := range a.board.Families {
		for _, c := range f.Copies {
			if c.Origin == id {
				n++
			}
		}
	}
	return n
}

func count(list []site.Count, kind string) int {
	for _, c := range list {
		if c.Kind == kind {
			return c.N
		}
	}
	return 0
}

// sizes are the lines at the right: bars, components, what reaches outward.
func (s *siteScreen) sizes(a *app, x site.Site, w int) []string {
	t := a.theme
	var out []string
	section := func(title string) { out = append(out, t.head.Render(strings.ToUpper(title))) }
	bw := max(6, min(18, w-48))
	bars := func(n int, item func(i int) (name string, bytes int64, note string)) {
		var most int64 = 1
		for i := range n {
			_, b, _ := item(i)
			most = max(most, b)
		}
		for i := range min(n, 7) {
			name, b, note := item(i)
			out = append(out, t.ink.Render(t.fit(plain(name), 32))+t.ink.Render(t.right(site.Size(b), 9))+" "+
				t.copy.Render(t.bar(float64(b)/float64(most), bw))+" "+t.soon.Render(note))
		}
		if n > 7 {
			out = append(out, t.soft.Render(fmt.Sprintf("and %d smaller", n-7)))
		}
		out = append(out, "")
	}
	if n := x.Facts.Network; n != nil {
		section("size of the sub-sites")
		list := slices.SortedStableFunc(slices.Values(n.Sites), func(a, b site.SubSite) int {
			return cmp.Compare(b.Own(), a.Own())
		})
		bars(len(list), func(i int) (string, int64, string) { return list[i].Title, list[i].Own(), list[i].State })
	}
	section("size of the files")
	bars(len(x.Facts.Folders), func(i int) (string, int64, string) {
		f := x.Facts.Folders[i]
		return site.Either(f.Path == ".", "at the top", f.Path), f.Bytes,
			site.Either(f.Spare != "", "spare: "+f.Spare, "")
	})
	if len(x.Facts.Tables) > 0 {
		list := heaviest(x.Facts.Tables)
		section("size of the tables")
		bars(len(list), func(i int) (string, int64, string) { return list[i].Name, list[i].Bytes, "" })
	}
	if n := len(x.Facts.Plugins) + len(x.Facts.Themes); n > 0 {
		section("plugins and themes")
		for _, c := range append(append([]site.Component(nil), x.Facts.Plugins...), x.Facts.Themes...) {
			out = append(out, component(t, c))
		}
		out = append(out, "")
	}
	if x.Role == site.Copy {
		section("quiet rules, as last tried")
		for _, r := range site.QuietRules {
			out = append(out, quietLine(t, x, r))
		}
		out = append(out, "")
	}
	if len(x.Facts.Outward) > 0 {
		section("reaches outward")
		for _, o := range x.Facts.Outward {
			out = append(out, t.ink.Render(t.fit(string(o.Rule), 12)+t.fit(plain(o.Host), 28))+
				t.soft.Render(plain(o.Where)))
		}
		out = append(out, "")
	}
	if len(x.Facts.Tasks) > 0 {
		section("does by itself")
		for _, k := range x.Facts.Tasks {
			out = append(out, t.ink.Render(t.fit(plain(k.Hook), 30))+
				t.soft.Render(t.fit(k.Every, 9)+"next "+k.Next.Local().Format("Mon 15:04")))
		}
	}
	return out
}

func heaviest(list []site.Table) []site.Table {
	return slices.SortedStableFunc(slices.Values(list),
		func(a, b site.Table) int { return cmp.Compare(b.Bytes, a.Bytes) })
}

func component(t *theme, c site.Component) string {
	var style lipgloss.Style
	switch c.State {
	case "active", "must-use", "network":
		style = t.good
	case "missing":
		style = t.wrong
	default:
		style = t.soft
	}
	l := t.ink.Render(t.fit(plain(c.Name), 23)+t.fit(c.Version, 9)) + style.Render(t.fit(c.State, 10))
	if c.Update != "" {
		l += t.soon.Render(c.Update + " waits")
	}
	return l
}

func quietLine(t *theme, x site.Site, r site.Rule) string {
	for _, q := range x.Quiet {
		if q == r && slices.Contains(x.Proof.Held, r) {
			return t.good.Render(t.glyph("✓ ", "v ")) + t.ink.Render(t.fit(string(r), 12)) +
				t.soft.Render(t.fit(r.Explain(), 32)) + t.good.Render("holds")
		}
		if q == r {
			return t.soft.Render(t.glyph("· ", ". ")) + t.ink.Render(t.fit(string(r), 12)) +
				t.soft.Render(t.fit(r.Explain(), 32)+"not tried")
		}
	}
	return t.wrong.Render("! ") + t.ink.Render(t.fit(string(r), 12)) + t.wrong.Render("off")
}
