package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/evidence"
	"alibi/internal/site"
)

// evidenceScreen shows what was compared, with both figures.
type evidenceScreen struct {
	scroll
	id      site.ID
	name    string
	reports []evidence.Report
	at      int // which report, 0 the latest
	got     bool
	busy    bool
}

type evidenceMsg struct {
	id   site.ID
	list []evidence.Report
	err  error
}

func (e *evidenceScreen) load(a *app) tea.Cmd {
	return func() tea.Msg {
		list, err := a.desk.Copies.Reports(a.ctx, e.id, 20)
		return evidenceMsg{e.id, list, err}
	}
}

func (e *evidenceScreen) title(*app) string { return "evidence: " + e.name }

func (e *evidenceScreen) report() *evidence.Report {
	if e.at < len(e.reports) {
		return &e.reports[e.at]
	}
	return nil
}

func (e *evidenceScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case evidenceMsg:
		if msg.id != e.id {
			return nil, false
		}
		if msg.err != nil {
			a.say(msg.err.Error(), true)
		}
		e.reports, e.got, e.busy, e.at = msg.list, true, false, 0
		return nil, true
	case tea.KeyPressMsg:
		n := 0
		if r := e.report(); r != nil {
			n = len(r.Checks)
		}
		if by, ok := step(msg.String(), n, max(1, a.h-14)); ok {
			e.move(by, n, max(1, a.h-14))
			return nil, true
		}
		switch msg.String() {
		case "v":
			if e.busy {
				return nil, true
			}
			e.busy = true
			return a.doThen(func() (string, func(*app) tea.Cmd, error) {
				rep, err := a.desk.Copies.Prove(a.ctx, e.id, false, nil)
				if err != nil {
					return "", nil, err
				}
				return rep.Summary(), func(a *app) tea.Cmd { return e.load(a) }, nil
			}), true
		case "left", "[":
			e.at = min(e.at+1, max(0, len(e.reports)-1))
			return nil, true
		case "right", "]":
			e.at = max(0, e.at-1)
			return nil, true
		}
	case doneMsg:
		e.busy = false
	}
	return nil, false
}

func (e *evidenceScreen) keys(*app) []hint {
	return []hint{{"v", "gather anew"}, {"←→", "earlier, later"}, {"Esc", "back"}}
}

func (e *evidenceScreen) words() []hint {
	return []hint{{"holds", "both sides are what they should be"},
		{"changed", "somebody worked on a side since they parted; no damage"},
		{"noted", "worth knowing, and no damage"}, {"broken", "the copy is not what it should be"},
		{"rows 1a2b3c4d", "how many, and the beginning of a digest over all of them, after the intended rewriting"},
		{"marker", "written to the copy, looked for on both sides, and removed"}}
}

func (e *evidenceScreen) view(a *app, w, h int) []string {
	t := a.theme
	r := e.report()
	switch {
	case !e.got:
		return []string{"", t.soft.Render("   reading the record ...")}
	case r == nil:
		return []string{"", t.ink.Render("   There is no evidence about this copy yet."), "",
			t.soft.Render("   v gathers it: every row and file is compared with the origin's.")}
	}
	p := r.Proof()
	style, mark := t.good, t.glyph(" ✓ ", " v ")
	if !p.Holds {
		style, mark = t.wrong, " ! "
	}
	out := []string{style.Render(mark) + t.ink.Bold(true).Render(r.Summary()) +
		t.soft.Render(fmt.Sprintf("   gathered %s in %s", site.Ago(a.desk.Now().Sub(r.At)), site.Seconds(r.Took))+
			site.Either(len(r.Checks) > 0 && len(e.reports) > 1, fmt.Sprintf(", %d of %d", e.at+1, len(e.reports)),
				"")), ""}
	if e.busy {
		out[0] = t.key.Render(" ... ") + t.ink.Render("comparing every row and file with the origin")
	}
	wt := min(46, w*36/100)
	wf := min(26, w*22/100)
	out = append(out, t.head.Render("          "+t.fit("CHECK", wt)+t.fit("ORIGIN", wf)+t.fit("COPY", wf)))
	foot := e.detail(a, r, w)
	rows := h - len(out) - len(foot)
	e.see(len(r.Checks), rows)
	for i := e.top; i < min(len(r.Checks), e.top+rows); i++ {
		c := r.Checks[i]
		title := t.ink.Render(t.fit(plain(c.Title), wt-1)) + " "
		if i == e.cursor {
			title = t.chosen.Render(t.fit(plain(c.Title), wt-1)) + " "
		}
		out = append(out, site.Either(i == e.cursor, t.key.Render(t.glyph("▶", ">")), " ")+" "+verdict(t, c.Verdict)+
			title+
			t.ink.Render(t.fit(plain(c.Origin), wf-1)+" "+t.fit(plain(c.Copy), wf-1)+" ")+t.soft.Render(plain(c.Text)))
	}
	for len(out) < h-len(foot) {
		out = append(out, "")
	}
	return append(out, foot...)
}

func verdict(t *theme, v evidence.Verdict) string {
	text := t.fit(string(v), 8)
	switch v {
	case evidence.Holds:
		return t.good.Render(text)
	case evidence.Broken:
		return t.wrong.Render(text)
	case evidence.Changed:
		return t.soon.Render(text)
	}
	return t.soft.Render(text)
}

// mostDetail is how many places of a check are shown.
const mostDetail = 8

// detail says where the chosen check found something.
func (e *evidenceScreen) detail(a *app, r *evidence.Report, w int) []string {
	t := a.theme
	if e.cursor >= len(r.Checks) {
		return nil
	}
	c := r.Checks[e.cursor]
	out := []string{t.line(w), " " + verdict(t, c.Verdict) + t.ink.Bold(true).Render(plain(c.Title)) +
		t.soft.Render(site.Either(c.Text != "", "   "+plain(c.Text), ""))}
	for i, p := range c.Where {
		if i == mostDetail {
			out = append(
				out, t.soft.Render(fmt.Sprintf("          and %d more; alibi evidence %s --last --json lists them",
					c.Number-i, e.name)),
			)
			break
		}
		out = append(out, t.ink.Render("          "+plain(p)))
	}
	return out
}
