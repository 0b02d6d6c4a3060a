package tui

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/drift"
	"alibi/internal/op/carry"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// driftScreen shows what became of a copy and its origin since they parted: the live side at the left, the copy at the
// right, and between them each thing that is not the same, with an arrow for where it is to go.
type driftScreen struct {
	scroll
	s     site.Site
	with  site.Site // another copy of the same origin; the zero value: the origin itself
	got   carry.Drifted
	all   []*drift.Item
	find  string // what has this in its name is shown alone
	shown []*drift.Item
	goes  map[string]way               // by item
	hand  map[string]map[string]string // what was written where both sides changed one place, by item and place
	left  bool                         // for a plan, after which it is read again
}

// way is how an item is carried: to which side, and whose version stands of one that both changed; "": both changes
// come together.
type way struct{ to, stands carry.Side }

// written stands for what a person wrote, and both is where a thing goes of which each side gets the other's changes.
const (
	written carry.Side = "written"
	both               = carry.Both
)

type driftMsg struct {
	of  *driftScreen
	got carry.Drifted
	err error
}

func openDrift(a *app, s, with site.Site) tea.Cmd {
	d := &driftScreen{s: s, with: with, goes: map[string]way{}}
	a.say("comparing "+s.Name+" and "+cmp.Or(with.Name, "its origin")+" with what they were ...", false)
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		got, err := a.desk.Copies.DriftWith(a.ctx, s.ID, with.ID)
		return "", func(a *app) tea.Cmd { d.take(got); a.push(d); a.say("", false); return nil }, err
	})
}

// take takes what was found, and forgets what was chosen of what is not there any more.
func (d *driftScreen) take(got carry.Drifted) {
	before := map[string][]drift.Version{}
	for _, it := range d.all {
		before[it.Name] = it.Versions
	}
	d.got, d.all = got, nil
	goes, hand := map[string]way{}, d.hand
	d.hand = map[string]map[string]string{}
	for _, it := range got.Items {
		if it.Noise || it.Marks {
			continue
		}
		d.all = append(d.all, it)
		if hand[it.Name] != nil && reflect.DeepEqual(before[it.Name], it.Versions) {
			d.hand[it.Name] = hand[it.Name] // it was written of these versions
		}
		if is, ok := d.goes[it.Name]; ok && slices.Contains(d.ways(it), is) {
			goes[it.Name] = is
		}
	}
	d.goes = goes
	d.filter()
}

func (d *driftScreen) title(*app) string {
	return "drift of " + d.s.Name + site.Either(d.with.ID == "", "", " and "+d.with.Name)
}

func (d *driftScreen) read(a *app) tea.Cmd {
	return func() tea.Msg {
		got, err := a.desk.Copies.DriftWith(a.ctx, d.s.ID, d.with.ID)
		return driftMsg{d, got, err}
	}
}

func (d *driftScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case driftMsg:
		if msg.of == d && msg.err == nil {
			d.take(msg.got)
		} else if msg.of == d {
			a.say(msg.err.Error(), true)
		}
		return nil, true
	case tickMsg:
		if d.left {
			d.left = false
			return d.read(a), true
		}
	case tea.KeyPressMsg:
		return d.key(a, msg.String())
	}
	return nil, false
}

func (d *driftScreen) key(a *app, key string) (tea.Cmd, bool) {
	n := len(d.shown)
	switch {
	case key == "w" && d.with.ID == "":
		d.askWith(a)
		return nil, true
	case key == "/":
		d.askFind(a)
		return nil, true
	}
	if by, ok := step(key, n, 10); ok {
		d.move(by, n, d.rows(a.h))
		return nil, true
	}
	if n == 0 {
		return nil, false
	}
	it := d.shown[max(0, min(d.cursor, n-1))]
	switch key {
	case "space":
		d.turn(it)
	case "a":
		for _, it := range d.shown {
			if !it.Clashes() || it.Merges {
				d.goes[it.Name] = d.ways(it)[0]
			} else if it.Decided != "" {
				d.goes[it.Name] = decided(it)
			}
		}
	case "e":
		return d.write(a, it), true
	case "u":
		a.say("comparing again ...", false)
		return d.read(a), true
	case "enter":
		return d.plan(a), true
	default:
		return nil, false
	}
	return nil, true
}

// decided is how an item goes of which was decided before whose version stands.
func decided(it *drift.Item) way {
	if it.Decided == string(carry.Copy) {
		return way{carry.Live, carry.Copy}
	}
	return way{carry.Copy, carry.Live}
}

// ways are those in which an item can be carried.
func (d *driftScreen) ways(it *drift.Item) (out []way) {
	switch {
	case d.hand[it.Name] != nil:
		out = []way{{both, written}, {carry.Live, written}, {carry.Copy, written}}
		return append(out, way{carry.Live, carry.Copy}, way{carry.Copy, carry.Live})
	case it.Clashes() && it.Merges:
		out = []way{{to: both}, {to: carry.Live}, {to: carry.Copy}}
		fallthrough
	case it.Clashes():
		if out = append(out, way{carry.Live, carry.Copy}, way{carry.Copy, carry.Live}); it.KeepsBoth {
			out = append(out, way{both, carry.Both})
		}
		return out
	case it.Copy != drift.Same:
		return []way{{to: carry.Live}}
	}
	return []way{{to: carry.Copy}}
}

// turn sends an item the next way, or leaves it where it is.
func (d *driftScreen) turn(it *drift.Item) {
	list := d.ways(it)
	switch i := slices.Index(list, d.goes[it.Name]); {
	case i+1 < len(list):
		d.goes[it.Name] = list[i+1]
	default:
		delete(d.goes, it.Name)
	}
}

// wish is what is chosen to go to a side.
func (d *driftScreen) wish(to carry.Side) carry.Wish {
	w := carry.Wish{To: to, With: d.with.ID, Take: map[string]carry.Side{}, Hand: map[string]map[string]string{}}
	for _, it := range d.all {
		is, ok := d.goes[it.Name]
		if !ok || is.to != to && is.to != both {
			continue
		}
		switch is.stands {
		case written:
			w.Hand[it.Name] = d.hand[it.Name]
		case carry.Live, carry.Copy, carry.Both:
			w.Take[it.Name] = is.stands
		}
		w.Items = append(w.Items, it.Name)
	}
	return w
}

// plan opens the plan of what was chosen: to one side, or to both by one run.
func (d *driftScreen) plan(a *app) tea.Cmd {
	live, found := a.find(d.s.Origin)
	copied := d.s
	if d.with.ID != "" {
		live, copied = carry.InOrder(d.s, d.with)
	} else if !found {
		return nil
	}
	w, then, target := d.wish(carry.Live), []carry.Wish{d.wish(carry.Copy)}, live
	words := site.Plural(len(d.goes), "item", "items") + " both ways"
	switch {
	case len(d.goes) == 0:
		a.say("choose with Space what is to be carried, and to which side", true)
		return nil
	case len(w.Items) == 0:
		w, then, target = then[0], nil, copied
	case len(then[0].Items) == 0:
		then = nil
	}
	if then == nil {
		words = site.Plural(len(d.goes), "item", "items") + " to " + target.Name
	}
	x := &stateScreen{name: "carry " + words, site: target}
	x.make = func() (plan.Plan, error) { return a.desk.Copies.PlanSync(a.ctx, d.s.ID, w, then...) }
	x.choices = []stateChoice{{label: "note", help: "What it is for; stands in the history of the site.",
		text: func() string { return w.Note }, typed: func(v string) { w.Note = strings.TrimSpace(v) }}}
	d.left = true
	a.push(x)
	return x.ask()
}

func (d *driftScreen) keys(*app) []hint {
	list := []hint{{"↑↓", "choose"}, {"Space", "carry it, which way"}, {"a", "all"}, {"e", "by hand"}, {"Enter", "plan"},
		{"u", "again"}, {"/", "find"}}
	if d.with.ID == "" {
		list = append(list, hint{"w", "another copy"})
	}
	return append(list, hint{"Esc", "back"})
}

// sides are what stands above the two.
func (d *driftScreen) sides() (left, right string) {
	if d.with.ID == "" {
		return "ON THE LIVE SITE", "ON THE COPY"
	}
	return "ON " + d.got.Sides[0], "ON " + d.got.Sides[1]
}

func (d *driftScreen) words() []hint {
	return []hint{{"made", "it is on that side since they parted"}, {"changed", "something of it is not what it was"},
		{"gone", "it is not there any more"}, {"+", "both sides changed it, in different places: both changes come together"},
		{"!", "both sides changed one place of it: Space chooses whose is to stand"},
		{"by hand", "all versions in $EDITOR, with marks around them: leave the lines that are to stand"}}
}

// rows is how many items are shown at once.
func (d *driftScreen) rows(h int) int { return max(4, h/2-3) }

func (d *driftScreen) view(a *app, w, h int) []string {
	t := a.theme
	if len(d.all) == 0 {
		return append([]string{"", t.good.Render(t.glyph("   ✓ ", "   * ")) +
			t.ink.Render("Nothing drifted: both sides are as they were when they parted.")}, d.rest(t, w)...)
	}
	side := min(30, max(18, (w-34)/2))
	middle := w - 2*side - 13
	left, right := d.sides()
	head := " " + t.fit(left, min(len(left), side-1)) + " "
	style := site.Either(d.with.ID == "", t.live, t.copy)
	counts := t.soft.Render(t.fit(d.counts(), w-4))
	if d.find != "" {
		counts = t.fit(t.key.Render("find: ")+t.ink.Render(plain(d.find))+t.soft.Render(fmt.Sprintf("   %d of %d",
			len(d.shown), len(d.all))), w-4)
	}
	out := []string{"   " + counts,
		"  " + style.Render(head) + t.fit("", side+1-len(head)) + t.head.Render(t.fit("", 4)+
			t.fit("WHAT IS NOT THE SAME", middle)+t.fit("", 5)) + t.copy.Render(t.fit(right, side))}
	rows := min(len(d.shown), d.rows(h))
	d.see(len(d.shown), rows)
	for i := d.top; i < min(len(d.shown), d.top+rows); i++ {
		it := d.shown[i]
		left, right := d.arrows(t, it)
		name := plain(it.Kind + " " + it.Title)
		out = append(out, site.Either(i == d.cursor, t.key.Render(t.glyph("▶", ">")), " ")+"  "+
			d.fate(a, it.Live, it.LiveAt, side)+left+t.ink.Bold(i == d.cursor).Render(t.fit(name, middle))+right+" "+
			d.fate(a, it.Copy, it.CopyAt, side))
	}
	out = append(out, t.line(w))
	rest := d.rest(t, w)
	if len(d.shown) == 0 {
		return append(append(out, "   "+t.soft.Render("Nothing that differs has that in its name; / shows other things.")),
			rest...)
	}
	out = append(out, d.versions(t, d.shown[max(0, min(d.cursor, len(d.shown)-1))], w, h-len(out)-len(rest))...)
	return append(out, rest...)[:min(h, len(out)+len(rest))]
}

// counts says how many things there are of each kind.
func (d *driftScreen) counts() string {
	n, clash := map[string]int{}, 0
	for _, it := range d.all {
		n[it.Kind]++
		if it.Clashes() {
			clash++
		}
	}
	var kinds []string
	for _, kind := range slices.Sorted(maps.Keys(n)) {
		kinds = append(kinds, fmt.Sprintf("%s %d", kind, n[kind]))
	}
	text := strings.Join(kinds, "  ")
	if clash > 0 {
		text += fmt.Sprintf("  on both sides %d", clash)
	}
	return plain(text)
}

// fate says what became of an item on a side, and when.
func (d *driftScreen) fate(a *app, s drift.State, at time.Time, w int) string {
	t := a.theme
	if s == drift.Same {
		return t.soft.Render(t.fit("as it was", w))
	}
	text := string(s)
	if !at.IsZero() && s != drift.Gone {
		text += " " + site.Ago(a.desk.Now().Sub(at))
	}
	return t.ink.Render(t.fit(text, w))
}

// arrows point to the side to which an item goes; with a plus, both changes do.
func (d *driftScreen) arrows(t *theme, it *drift.Item) (left, right string) {
	is := d.goes[it.Name]
	all := it.Clashes() && (is.stands == "" || is.stands == written)
	switch {
	case is.to == both:
		return t.key.Render(t.glyph("◀─+ ", "<-+ ")), t.key.Render(t.glyph(" +─▶", " +->"))
	case is.to == carry.Live && all:
		return t.key.Render(t.glyph("◀─+ ", "<-+ ")), "    "
	case is.to == carry.Live:
		return t.key.Render(t.glyph("◀── ", "<-- ")), "    "
	case is.to == carry.Copy && all:
		return "    ", t.key.Render(t.glyph(" +─▶", " +->"))
	case is.to == carry.Copy:
		return "    ", t.key.Render(t.glyph(" ──▶", " -->"))
	case it.Merges:
		return t.key.Render(" +  "), t.key.Render("  + ")
	case it.Clashes():
		return t.wrong.Render(" !  "), t.wrong.Render("  ! ")
	}
	return "    ", "    "
}

// mostLines is how many lines of one place are shown.
const mostLines = 8

// versions shows what either side of an item has where they differ, in so many lines, and between them what both had,
// where both changed it and that is known.
func (d *driftScreen) versions(t *theme, it *drift.Item, w, lines int) []string {
	head := it.Name
	switch {
	case d.goes[it.Name].stands == written:
		head += "; what you wrote is to stand"
	case d.goes[it.Name].stands == carry.Both:
		head += "; " + d.got.Sides[0] + "'s is to stand, and " + d.got.Sides[1] + "'s is kept beside it as a draft"
	case d.goes[it.Name].stands == carry.Copy:
		head += "; " + d.got.Sides[1] + "'s is to stand"
	case d.goes[it.Name].stands == carry.Live:
		head += "; " + d.got.Sides[0] + "'s is to stand"
	case it.Status != "":
		head += "; " + it.Status
	case it.Decided != "":
		head += fmt.Sprintf("; decided on %s: %s's; a takes that, Space decides anew", it.DecidedAt.Format("2 Jan"),
			d.got.Sides[site.Either(it.Decided == string(carry.Copy), 1, 0)])
	case it.Merges:
		head += "; both sides changed it, in different places: both changes come together"
	case it.Clashes():
		head += "; both sides changed it: Space chooses whose is to stand, e writes it"
	}
	out := []string{"   " + t.ink.Bold(true).Render(plain(it.Kind+" "+it.Title)) + "  " + t.soft.Render(plain(head))}
	list := telling(it.Versions)
	three := slices.ContainsFunc(list, func(v drift.Version) bool { return v.Was != nil })
	part := (w - 26) / 2
	if three {
		part = (w - 28) / 3
	}
	bar := t.soft.Render(t.glyph("│ ", "| "))
	if three {
		left, right := d.sides()
		out = append(out, "   "+t.fit("", 20)+t.head.Render(t.fit(left, part))+bar+t.head.Render(t.fit("AS BOTH HAD IT",
			part))+bar+t.head.Render(t.fit(right, part)))
	}
	for i, v := range list {
		live, was, copied := around(v, part)
		n := max(1, min(max(len(live), len(was), len(copied)), mostLines, lines-len(out)-1))
		if i > 0 && len(out)+n >= lines && (i < len(list)-1 || len(out)+n > lines) {
			out = append(out, "   "+t.soft.Render(fmt.Sprintf("and %d more", len(list)-i)))
			break
		}
		for j := range n {
			line := "   " + t.soft.Render(t.fit(site.Either(j == 0, plain(v.Field), ""), 20)) +
				t.ink.Render(t.fit(at(live, j), part)) + bar
			if three {
				line += t.soft.Render(t.fit(at(was, j), part)) + bar
			}
			out = append(out, line+t.ink.Render(t.fit(at(copied, j), part)))
		}
	}
	return out
}

func at(lines []string, i int) string {
	if i < len(lines) {
		return lines[i]
	}
	return ""
}

// told are parts of columns' names that tell people most.
var told = []string{"title", "name", "content", "value", "excerpt", "status", "description"}

// telling puts what tells people most first, and leaves out what neither side has anything in.
func telling(list []drift.Version) []drift.Version {
	list = slices.DeleteFunc(slices.Clone(list), func(v drift.Version) bool {
		return (v.Live == nil || *v.Live == "") && (v.Copy == nil || *v.Copy == "")
	})
	rank := func(v drift.Version) int {
		i := slices.IndexFunc(told, func(word string) bool { return strings.Contains(v.Field, word) })
		return site.Either(i < 0, len(told), i)
	}
	slices.SortStableFunc(list, func(a, b drift.Version) int { return rank(a) - rank(b) })
	return list
}

// rest says what is not listed, and of what nothing can be told.
func (d *driftScreen) rest(t *theme, w int) (out []string) {
	noise := 0
	for _, it := range d.got.Items {
		if it.Noise {
			noise++
		}
	}
	var text []string
	if noise > 0 {
		text = append(text, site.Plural(noise, "thing is one", "things are such")+" that the sites write by themselves")
	}
	for _, u := range d.got.Uncovered {
		text = append(text, "of "+u.What()+" it can't be told what changed: "+u.Why)
	}
	for _, l := range wrap(plain(strings.Join(text, "; ")), w-6) {
		out = append(out, "   "+t.soft.Render(l))
	}
	return out
}
