package tui

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/op/clone"
	"alibi/internal/op/keep"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// pointsScreen shows a site's restore points on a line of time; a copy's with
// those of its origin.
type pointsScreen struct {
	scroll
	id   site.ID
	list []desk.Point
	bad  []error
	got  bool
}

type pointsMsg struct {
	id   site.ID
	list []desk.Point
	bad  []error
	err  error
}

func (p *pointsScreen) title(a *app) string {
	s, _ := a.find(p.id)
	return "restore points of " + s.Name
}

func (p *pointsScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		id := p.id
		s, _ := a.find(id)
		return func() tea.Msg {
			list, bad, err := a.desk.Points.Points(a.ctx, "")
			list = slices.DeleteFunc(list, func(x desk.Point) bool { return x.Site.ID != id && x.Site.ID != s.Origin })
			return pointsMsg{id, list, bad, err}
		}, true
	case pointsMsg:
		if msg.err != nil {
			a.say(msg.err.Error(), true)
		} else if msg.id == p.id {
			p.list, p.bad = msg.list, msg.bad
		}
		p.got = true
		return nil, true
	case tea.KeyPressMsg:
		return p.key(a, msg.String())
	}
	return nil, false
}

func (p *pointsScreen) key(a *app, key string) (tea.Cmd, bool) {
	if by, ok := step(key, len(p.list), a.h-14); ok {
		p.move(by, len(p.list), max(1, a.h-14))
		return nil, true
	}
	switch key {
	case "n":
		return p.take(a), true
	case "s":
		return p.schedule(a), true
	case "V":
		a.say("reading every byte of the depot ...", false)
		return verifyDepot(a), true
	}
	if len(p.list) == 0 {
		return nil, false
	}
	x := p.list[max(0, min(p.cursor, len(p.list)-1))]
	switch key {
	case "c", "enter":
		return planned(a, "restore point "+x.ID, x.Taken,
			func() (clone.Input, clone.Choices, error) { return a.desk.Points.PointInput(a.ctx, x) }), true
	case "r":
		if x.Site.ID == p.id {
			return openRestore(a, x), true
		}
		if s, ok := a.find(p.id); ok && s.Role == site.Copy {
			return planned(a, s.Name, x.Taken, func() (clone.Input, clone.Choices, error) {
				return a.desk.Points.BackInput(a.ctx, s.ID, x)
			}), true
		}
	case "d":
		return openSince(a, x), true
	case "f":
		return openFiles(a, x, "", func(a *app, list []fs.FileInfo) { a.push(&filesScreen{point: x, list: list}) }),
			true
	case "t":
		a.asking = &question{title: "To which file are its tables to be written?",
			lines: []string{"As SQL, which the database's own client loads. A new file; nothing is written over."},
			input: true, text: "./" + x.Site.Name + ".sql", typed: func(a *app, text string) (tea.Cmd, error) {
				return a.do(func() (string, error) {
					size, err := a.desk.Points.Dump(a.ctx, x, strings.TrimSpace(text))
					return site.Size(size) + " written to " + text, err
				}), nil
			}}
		return nil, true
	case "A":
		return askArchive(a, x.Site, &x), true
	case "v":
		return a.started(func() (plan.Plan, error) { return a.desk.Points.PlanRehearse(a.ctx, x) }), true
	case "D":
		p.askForget(a, x)
		return nil, true
	}
	return nil, false
}

// verifyDepot reads all of it, and asks what to do if something is damaged.
func verifyDepot(a *app) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		var read int64
		faults, err := a.desk.Points.VerifyDepot(a.ctx, func(n int64) { read += n })
		if err != nil || len(faults) == 0 {
			return site.Size(read) + " read: every byte is what it was, and no restore point misses anything", nil, err
		}
		return "", func(a *app) tea.Cmd {
			a.asking = &question{title: site.Plural(len(faults), "fault", "faults") +
				" in the depot: set aside what is damaged?",
				lines: append(wrap("The first: "+plain(faults[0].What), 88), "",
					"What is whole is kept elsewhere. What is lost is stored anew by the next restore point",
					"that has it, which makes earlier ones whole again."), yes: func(a *app) tea.Cmd {
					return a.do(func() (string, error) {
						out, err := a.desk.Points.MendDepot(a.ctx)
						return fmt.Sprintf("%s set aside: %s saved, %d lost; take restore points now",
								site.Plural(len(out.Packs), "pack", "packs"), site.Plural(out.Saved, "piece", "pieces"),
								out.Lost),
							err
					})
				}}
			return nil
		}, nil
	})
}

// started puts a plan to work and shows its run.
func (a *app) started(make func() (plan.Plan, error)) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		p, err := make()
		if err != nil {
			return "", nil, err
		}
		r, err := a.desk.Runs.Start(a.ctx, p)
		return "", func(a *app) tea.Cmd { a.push(newRun(r.ID)); return nil }, err
	})
}

// take asks for a name and takes a point.
func (p *pointsScreen) take(a *app) tea.Cmd {
	id := p.id
	a.asking = &question{title: "Take a restore point now?",
		lines: []string{"All files and tables as they are; the site is only read.", "",
			"A name, if it is to be kept until you forget it; else leave it empty:"}, input: true,
		typed: func(a *app, text string) (tea.Cmd, error) {
			return a.started(func() (plan.Plan, error) {
				return a.desk.Points.PlanKeep(a.ctx, id,
					keep.Choices{Kind: depot.ByHand, Name: strings.TrimSpace(text)})
			}), nil
		}}
	return nil
}

// schedule asks for a rule.
func (p *pointsScreen) schedule(a *app) tea.Cmd {
	s, _ := a.find(p.id)
	a.asking = &question{title: "How many restore points are to be taken and kept by themselves?",
		lines: []string{"Such as: 24 hourly, 7 daily, 5 weekly, 12 monthly. Nothing ends it.",
			"One is taken as often as the shortest asks for; points taken by hand stay."}, input: true,
		text: s.Keep.String(), typed: func(a *app, text string) (tea.Cmd, error) {
			var r site.KeepRule
			if text = strings.TrimSpace(text); text != "" {
				var err error
				if r, err = site.ParseKeepRule(text); err != nil {
					return nil, err
				}
			}
			return a.do(func() (string, error) {
				_, err := a.desk.Points.SetKeepRule(a.ctx, s.ID, r)
				return site.Either(text == "", "no schedule any more", "on schedule: "+r.String()), err
			}), nil
		}}
	return nil
}

func (p *pointsScreen) askForget(a *app, x desk.Point) {
	last := x.ID[max(0, len(x.ID)-4):]
	a.asking = &question{title: "Remove this restore point for good?",
		lines: []string{"Goes: the state of " + x.Site.Name + " of " + x.Taken.Local().Format("Mon 2 Jan 15:04") +
			", and what only it needs.", "Stays: the site, and all other restore points.", "",
			"Type its last four characters, " + last + ", to go on:"}, input: true, must: last,
		yes: func(a *app) tea.Cmd {
			return a.do(func() (string, error) {
				out, err := a.desk.Points.ForgetPoints(a.ctx, []desk.Point{x})
				return "forgotten, " + site.Size(out.Bytes) + " freed", err
			})
		}}
}

func (p *pointsScreen) keys(a *app) []hint {
	if len(p.list) == 0 {
		return []hint{{"n", "take one"}, {"s", "schedule"}, {"Esc", "back"}}
	}
	back := []hint{{"n", "take one"}, {"c", "copy"}}
	return append(back, []hint{{"r", "back to it"}, {"d", "changes"}, {"f", "files"}, {"A", "archive"}, {"t", "SQL"},
		{"v", "rehearse"}, {"V", "verify"}, {"s", "schedule"}, {"D", "forget"}, {"Esc", "back"}}...)
}

func (p *pointsScreen) words() []hint {
	return []hint{{"restore point", "the site's whole state, kept in the depot"},
		{"grew by", "what the depot keeps for it alone, compressed; all else it shares"},
		{"rehearse", "make a copy of it, compare every row and file, remove the copy"},
		{"verify", "read every byte of the depot"}}
}

func (p *pointsScreen) view(a *app, w, h int) []string {
	t := a.theme
	s, ok := a.find(p.id)
	switch {
	case !p.got || !ok:
		return []string{"", t.soft.Render("   reading the depot ...")}
	case len(p.list) == 0:
		return append([]string{"", t.ink.Render("   Nothing of " + plain(s.Name) + " is kept yet."),
			t.soft.Render("   n takes a restore point: all files and tables as they are now. The site is only read."),
			""}, p.damage(t, w)...)
	}
	var added int64
	for _, x := range p.list {
		added += x.Added
	}
	out := []string{" " + t.badge(s.Role) + " " + t.mark(s.Mark()) + " " + t.ink.Bold(true).Render(plain(s.Name)) +
		t.soft.Render(fmt.Sprintf("   %s, which made the depot grow by %s",
			site.Plural(len(p.list), "restore point", "restore points"), site.Size(added))+
			site.Either(s.Keep != (site.KeepRule{}), "; on schedule: "+s.Keep.String(), "")), ""}
	out = append(out, p.line(a, w)...)
	c := squeeze(w-3-3, column{18, 13}, column{9, 8}, column{11, 10}, column{11, 10}, column{22, 8}, column{20, 14},
		column{24, 10})
	out = append(out, "", t.head.Render("   "+t.fit("TAKEN", c[0])+t.right("AGE", c[1])+t.right("SIZE", c[2])+
		t.right("GREW BY", c[3])+"   "+t.fit(site.Either(c[4] < 18, "OWN", "ITS OWN / SHARED"), c[4])+
		t.fit("PROVEN", c[5])+
		"NAME"))
	foot := append(p.about(a, p.list[max(0, min(p.cursor, len(p.list)-1))], w), p.damage(t, w)...)
	rows := max(1, h-len(out)-len(foot))
	p.see(len(p.list), rows)
	for i := p.top; i < min(len(p.list), p.top+rows); i++ {
		out = append(out, p.row(a, i, c))
	}
	for len(out) < h-len(foot) {
		out = append(out, "")
	}
	return append(out, foot...)
}

func (p *pointsScreen) row(a *app, i int, c []int) string {
	t, x := a.theme, p.list[i]
	here := site.Either(i == p.cursor, t.key.Render(t.glyph("▶", ">")), " ")
	proof := t.soft.Render(t.fit("never", c[5]))
	switch {
	case !x.Proof.At.IsZero() && x.Proof.Holds:
		proof = t.good.Render(t.fit(t.glyph("✓ ", "* ")+site.Span(a.desk.Now().Sub(x.Proof.At))+" ago", c[5]))
	case !x.Proof.At.IsZero():
		proof = t.wrong.Render(t.fit(site.Either(c[5] < 18, "fails", "does not restore"), c[5]))
	}
	return here + "  " +
		t.ink.Render(t.fit(x.Taken.Local().Format(site.Either(c[0] < 16, "2 Jan 15:04", "Mon 2 Jan 15:04")), c[0])+
			t.right(site.Span(a.desk.Now().Sub(x.Taken)), c[1])+t.right(site.Size(x.Bytes), c[2])+
			t.right(site.Size(x.Added), c[3])) + "   " +
		t.share(x.Added, x.Bytes, c[4]-2) + "  " + proof +
		t.ink.Render(plain(site.Either(x.Site.ID != p.id, "origin's  ", "")+x.Name))
}

// share draws how much of the whole is its own.
func (t *theme) share(own, whole int64, w int) string {
	n := 0
	if whole > 0 {
		n = min(w, int((own*int64(w)+whole-1)/whole))
	}
	return t.ink.Render(strings.Repeat(t.glyph("▆", "#"), n)) + t.soft.Render(strings.Repeat(t.glyph("·", "."), w-n))
}

// line is the line of time: the oldest at the left, now at the right.
func (p *pointsScreen) line(a *app, w int) []string {
	t := a.theme
	now := a.desk.Now()
	oldest := p.list[len(p.list)-1].Taken
	span := max(now.Sub(oldest), time.Minute)
	n := max(10, w-14)
	cells := make([]string, n)
	for i := range cells {
		cells[i] = t.soft.Render(t.glyph("─", "-"))
	}
	at := func(x time.Time) int {
		return max(0, min(n-1, int(float64(n-1)*float64(x.Sub(oldest))/float64(span))))
	}
	for i := len(p.list) - 1; i >= 0; i-- {
		x := p.list[i]
		mark := t.ink.Render(t.glyph("○", "o"))
		if x.Proof.Holds {
			mark = t.good.Render(t.glyph("●", "*"))
		}
		if x.Site.ID != p.id {
			mark = t.live.Render(t.glyph("◆", "L"))
		}
		cells[at(x.Taken)] = mark
	}
	chosen := p.list[max(0, min(p.cursor, len(p.list)-1))]
	pointer := strings.Repeat(" ", at(chosen.Taken)) + t.key.Render(t.glyph("▲", "^"))
	left := t.fit(oldest.Local().Format("2 Jan 15:04"), n/2)
	return []string{"   " + strings.Join(cells, "") + t.soft.Render(" now"), "   " + pointer,
		"   " + t.soft.Render(left)}
}

// about is what is known of a point beside its row.
func (p *pointsScreen) about(a *app, x desk.Point, w int) []string {
	t := a.theme
	why := map[depot.Kind]string{depot.ByHand: "by hand", depot.BySched: "on schedule",
		depot.BeforeOp: "before something was written over the site"}[x.Kind]
	text := fmt.Sprintf("%s of %s, taken %s by %s: %s files, %s rows in %d tables.", x.ID, x.Site.Name, why, x.By,
		site.Number(x.Files), site.Number(x.Rows), len(x.Tables))
	if x.Why != "" {
		text += " " + x.Why + "."
	}
	if len(x.Missing) > 0 {
		text += fmt.Sprintf(" %s could not be read: %s.", site.Plural(len(x.Missing), "file", "files"), x.Missing[0])
	}
	if !x.Proof.At.IsZero() {
		text += " Rehearsed " + x.Proof.At.Local().Format("Mon 2 Jan 15:04") + ": " + x.Proof.Text + "."
	}
	out := []string{t.line(w)}
	for _, l := range wrap(plain(text), w-6) {
		out = append(out, "   "+t.ink.Render(l))
	}
	return out
}

// damage names what of the depot can't be read.
func (p *pointsScreen) damage(t *theme, w int) (out []string) {
	for _, err := range p.bad {
		for _, l := range wrap(plain(err.Error()), w-6) {
			out = append(out, "   "+t.wrong.Render(l))
		}
	}
	return out
}
