package tui

import (
	"fmt"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/op/export"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// keptScreen shows what is kept: the size of the depot, by site, and the
// archives.
type keptScreen struct {
	scroll
	sizes    []desk.DepotSize
	archives []export.Note
	got      bool
}

type keptMsg struct {
	sizes    []desk.DepotSize
	archives []export.Note
	err      error
}

func (k *keptScreen) title(*app) string { return "what is kept" }

func (k *keptScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		return func() tea.Msg {
			w, err := a.desk.Fleet.DepotSizes(a.ctx)
			if err != nil {
				return keptMsg{err: err}
			}
			list, err := a.desk.Points.Archives(a.ctx)
			return keptMsg{w, list, err}
		}, true
	case keptMsg:
		if msg.err != nil {
			a.say(msg.err.Error(), true)
		} else {
			k.sizes, k.archives = msg.sizes, msg.archives
		}
		k.got = true
		return nil, true
	case tea.KeyPressMsg:
		return k.key(a, msg.String())
	}
	return nil, false
}

func (k *keptScreen) key(a *app, key string) (tea.Cmd, bool) {
	if by, ok := step(key, len(k.archives), 8); ok {
		k.move(by, len(k.archives), 8)
		return nil, true
	}
	switch key {
	case "i":
		return askImport(a), true
	case "V":
		a.say("reading every byte of the depot ...", false)
		return verifyDepot(a), true
	case "v":
		if len(k.archives) > 0 {
			n := k.archives[max(0, min(k.cursor, len(k.archives)-1))]
			if n.Secrets {
				a.say("it is encrypted: check it with its key, alibi archives check --key", true)
				return nil, true
			}
			a.say("reading every byte of "+n.Path+" ...", false)
			return a.do(func() (string, error) {
				m, err := a.desk.Points.CheckArchive(a.ctx, n.Path, "", func(int64) {})
				return fmt.Sprintf("%s: %s files and %s rows; every byte is what it was", m.Site.Name,
					site.Number(m.Files), site.Number(m.Rows)), err
			}), true
		}
	}
	return nil, false
}

// askArchive asks where an archive of a site, or of one of its restore points, is
// to be written.
func askArchive(a *app, s site.Site, p *desk.Point) tea.Cmd {
	of := s.Name
	if p != nil {
		of += " as of " + p.Taken.Local().Format("Mon 2 Jan 15:04")
	}
	a.asking = &question{title: "Into which file is " + of + " to be written?",
		lines: []string{
			"A new file, or a folder in which it gets a name with the date; empty: the folder in which Alibi " +
				"was started.", "Standard tools read it too.",
			"Passwords, their digests and keys are left out; encrypted, they are in it: alibi archives make --for",
			"A name that ends with .xml gets the content alone, in the form that its CMS imports.",
		}, input: true, typed: func(a *app, text string) (tea.Cmd, error) {
			to, err := filepath.Abs(strings.TrimSpace(text))
			if err != nil {
				return nil, err
			}
			if p == nil && strings.HasSuffix(to, ".xml") {
				return a.do(func() (string, error) {
					n, err := a.desk.Hands.ExportContent(a.ctx, s, nil, to)
					return site.Plural(n, "item is", "items are") + " in " + to, err
				}), nil
			}
			return a.started(func() (plan.Plan, error) {
				return a.desk.Points.PlanArchive(a.ctx, s, p, export.Choices{To: to})
			}), nil
		}}
	return nil
}

// askBring asks which content is to be added to a site, and shows what comes.
func askBring(a *app, s site.Site) tea.Cmd {
	a.asking = &question{title: "Which file with content is to be added to " + s.Name + "?",
		lines: []string{"As WordPress or Alibi exported it (.xml). What is there already is passed by."}, input: true,
		typed: func(a *app, text string) (tea.Cmd, error) {
			return a.doThen(func() (string, func(*app) tea.Cmd, error) {
				p, err := a.desk.Hands.PlanBring(a.ctx, s.ID, strings.TrimSpace(text))
				if err == nil && p.Blocked() {
					err = fmt.Errorf("%s; %s", p.Findings[0].Text, p.Findings[0].Remedy)
				}
				return "", func(a *app) tea.Cmd {
					var lines []string
					for _, f := range p.Findings {
						lines = append(lines, f.Severity.String()+": "+f.Text)
					}
					q := &question{title: "Add it to " + s.Name + "?", lines: lines,
						yes: func(a *app) tea.Cmd { return start(a, p) }}
					if p.Confirm != "" {
						q.input, q.must = true, p.Confirm
						q.lines = append(q.lines, "", "Type its name to go on:")
					}
					a.asking = q
					return nil
				}, err
			}), nil
		}}
	return nil
}

// askImport asks which archive is to be read back.
func askImport(a *app) tea.Cmd {
	a.asking = &question{title: "Which archive is to be read back?",
		lines: []string{"It becomes a restore point, of which a running copy can be made. All of it is checked before",
			"anything of it is used. An encrypted one: alibi archives import --key"}, input: true,
		typed: func(a *app, text string) (tea.Cmd, error) {
			return a.started(func() (plan.Plan, error) {
				return a.desk.Points.PlanImport(a.ctx, strings.TrimSpace(text), "", nil)
			}), nil
		}}
	return nil
}

func (k *keptScreen) keys(*app) []hint {
	out := []hint{{"i", "read one back"}, {"V", "verify the depot"}}
	if len(k.archives) > 0 {
		out = append(out, hint{"v", "check it"})
	}
	return append(out, hint{"Esc", "back"})
}

func (k *keptScreen) words() []hint {
	return []hint{{"the depot", "restore points, each different piece of them once"},
		{"size", "what it grew by for a site's points"}, {"apart", "their size one by one, uncompressed"},
		{"archive", "a site in one file, which can be carried elsewhere; A on a site makes one"}}
}

func (k *keptScreen) view(a *app, w, h int) []string {
	t := a.theme
	if !k.got {
		return []string{"", t.soft.Render("   reading the depot ...")}
	}
	var added, whole int64
	points := 0
	for _, x := range k.sizes {
		added, whole, points = added+x.Added, whole+x.Whole, points+len(x.Points)
	}
	out := []string{" " + t.ink.Bold(true).Render("The depot holds "+site.Size(added)) +
		t.soft.Render(fmt.Sprintf("   %s, %s if nothing were shared   %s",
			site.Plural(points, "restore point", "restore points"), site.Size(whole),
			plain(a.desk.Points.DepotPath()))), ""}
	of := squeeze(w-42, column{30, 12}, column{max(10, w-91), 10}, column{16, 6})
	out = append(out, t.head.Render("   "+t.fit("SITE", of[0]+5)+t.right("POINTS", 6)+t.right("SIZE", 10)+
		t.right("APART", 10)+"   "+t.fit("ITS SHARE", of[1]+2)+"  GROWTH"))
	for i, x := range k.sizes {
		if i == max(4, h/2-6) {
			out = append(out, t.soft.Render(fmt.Sprintf("   and %d sites more", len(k.sizes)-i)))
			break
		}
		out = append(out, "   "+t.mark(site.MarkOf(x.Name))+" "+
			t.ink.Render(t.fit(plain(x.Name), of[0])+" "+t.right(fmt.Sprint(len(x.Points)), 7)+
				t.right(site.Size(x.Added), 10))+t.soft.Render(t.right(site.Size(x.Whole), 10))+"   "+
			t.share(x.Added, added, of[1])+"    "+t.growth(x.Points, of[2]))
	}
	if len(k.sizes) == 0 {
		out = append(out, t.soft.Render("   nothing is kept yet; R on a site takes a restore point"))
	}
	c := squeeze(w-3-3, column{30, 16}, column{18, 13}, column{9, 8}, column{10, 9},
		column{max(40, w-6-30-18-9-10), 20})
	when := site.Either(c[1] < 16, "2 Jan 15:04", "Mon 2 Jan 15:04")
	out = append(out, "", t.line(w), t.head.Render("   "+t.fit("ARCHIVE OF", c[0])+t.fit("AS OF", c[1])+
		t.right("AGE", c[2])+t.right("SIZE", c[3])+"   WHERE"))
	rows := max(1, h-len(out))
	k.see(len(k.archives), rows)
	for i := k.top; i < min(len(k.archives), k.top+rows); i++ {
		n := k.archives[i]
		about := site.Either(n.Parts > 0, fmt.Sprintf(" (%d parts)", n.Parts), "") +
			site.Either(n.Secrets, ", encrypted", "") +
			site.Either(n.There, "", ": gone")
		style := t.ink
		if !n.There {
			style = t.soft
		}
		where := plain(n.Path)
		if len(where) > c[4]-len(about) {
			where = t.tail(where, c[4]-len(about))
		}
		out = append(out, site.Either(i == k.cursor, t.key.Render(t.glyph("▶", ">")), " ")+"  "+
			t.mark(site.MarkOf(n.Name))+
			" "+style.Render(t.fit(plain(n.Name), c[0]-4)+" "+t.fit(n.Taken.Local().Format(when), c[1])+
			t.right(site.Span(a.desk.Now().Sub(n.Taken)), c[2])+t.right(site.Size(n.Size), c[3])+"   "+where+about))
	}
	if len(k.archives) == 0 {
		out = append(out, t.soft.Render("   no archives were made here; A on a site makes one"))
	}
	return out
}

// growth draws what each of the last points added, as steps of one line.
func (t *theme) growth(points []desk.PointSize, most int) string {
	steps := []rune(t.glyph("▁▂▃▄▅▆▇█", "._-=+*#@"))
	points = points[max(0, len(points)-most):]
	top := int64(1)
	for _, p := range points {
		top = max(top, p.Added)
	}
	out := ""
	for _, p := range points {
		out += string(steps[min(len(steps)-1, int(p.Added*int64(len(steps))/(top+1)))])
	}
	return t.copy.Render(out)
}
