package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/site"
)

// logsPane follows a log, the newest at the foot.
type logsPane struct {
	s       *site.Site
	which   string
	kind    string // "": all
	match   string
	log     desk.Log
	up      int // entries above the foot
	got     bool
	reading bool
	err     error
	last    time.Time
}

func (p *logsPane) forget() { p.got, p.reading, p.last = false, false, time.Time{} }

func (p *logsPane) name() string { return "logs" }

func (p *logsPane) load(a *app) tea.Cmd {
	if p.reading || time.Since(p.last) < site.Either(p.s.Role == site.Live, 10*time.Second, time.Second) && p.got {
		return nil
	}
	p.reading, p.last = true, time.Now()
	which, kind, match := p.which, p.kind, p.match
	return reads(p, func() (any, error) { return a.desk.Hands.ReadLog(a.ctx, p.s.ID, which, match, kind, -1) })
}

func (p *logsPane) take(_ *app, msg tea.Msg) bool {
	m, ok := msg.(loaded)
	if !ok || m.of != pane(p) {
		return false
	}
	l, _ := m.any.(desk.Log) // nothing with an error
	if l.Which == p.which || m.err != nil {
		p.log, p.err, p.got = l, m.err, true
	}
	p.reading = false
	return true
}

func (p *logsPane) key(a *app, key string) (tea.Cmd, bool) {
	if by, ok := step(key, len(p.log.Lines), a.h-10); ok {
		p.up = max(0, min(len(p.log.Lines)-1, p.up-by))
		return nil, true
	}
	switch key {
	case "s":
		p.which, p.kind, p.up, p.got, p.reading = site.Either(p.which == "errors", "access", "errors"), "", 0, false,
			false
		return p.load(a), true
	case "o":
		kinds := append([]string{""}, p.log.KindsOf()...)
		p.kind, p.up, p.reading, p.got = turned(kinds, p.kind, 1), 0, false, false
		return p.load(a), true
	case "/":
		a.asking = &question{title: "Which lines?", lines: []string{"A text that stands in the line. Empty: all."},
			input: true, text: p.match, typed: func(a *app, text string) (tea.Cmd, error) {
				p.match, p.up, p.reading, p.got = text, 0, false, false
				return p.load(a), nil
			}}
		return nil, true
	}
	return nil, false
}

func (p *logsPane) hints(*app) []hint {
	return []hint{{"s", site.Either(p.which == "errors", "requests", "errors")}, {"o", "one kind"}, {"/", "filter"},
		{"G", "to the newest"}}
}

func (p *logsPane) words() []hint {
	return []hint{{"fatal", "it ended the request"}, {"warning", "the request went on"},
		{"deprecated", "a later PHP will not do it any more"},
		{"2xx to 5xx", "what was answered: 2xx as asked, 4xx not there or not allowed, 5xx the site's own fault"},
		{"follow", "new lines come by themselves while you are at the foot"}}
}

// kindLook is the colour of a kind of entry.
func (t *theme) kindLook(kind string) style {
	switch kind {
	case "fatal", "parse", "5xx":
		return t.wrong
	case "warning", "4xx":
		return t.soon
	case "2xx":
		return t.good
	}
	return t.soft
}

func (p *logsPane) view(a *app, w, h int) []string {
	t := a.theme
	head := "   " + t.ink.Bold(true).Render(site.Either(p.which == "errors", "errors of its code", "requests for it"))
	for _, k := range p.log.KindsOf() {
		look := t.kindLook(k)
		if k == p.kind {
			look = t.chosen
		}
		head += "   " + look.Render(fmt.Sprintf("%d %s", p.log.Kinds[k], k))
	}
	if p.match != "" {
		head += t.soft.Render("   with ") + t.key.Render(plain(p.match))
	}
	out := []string{head, t.soft.Render("   " + plain(p.log.Where)), ""}
	switch {
	case p.err != nil:
		for _, l := range wrap(plain(p.err.Error()), w-6) {
			out = append(out, t.soft.Render("   "+l))
		}
		return out
	case !p.got:
		return append(out, t.soft.Render("   reading ..."))
	case len(p.log.Lines) == 0:
		return append(out, t.good.Render("   nothing was written"))
	}
	var lines []string
	end := len(p.log.Lines) - p.up
	for i := end - 1; i >= 0 && len(lines) < h-len(out); i-- {
		lines = append(p.entry(t, p.log.Lines[i], i == end-1 && p.up > 0, w), lines...)
	}
	return append(out, lines[max(0, len(lines)-(h-len(out))):]...)
}

// entry is one entry: its first lines, broken where they are too long.
func (p *logsPane) entry(t *theme, l desk.LogLine, here bool, w int) (out []string) {
	for n, part := range strings.Split(l.Text, "\n") {
		for i, x := range wrap(plain(part), w-17) {
			if len(out) == 4 {
				return append(out, t.soft.Render(t.fit("", 15)+t.glyph("…", "...")))
			}
			kind := t.fit("", 12)
			if n == 0 && i == 0 {
				kind = t.kindLook(l.Kind).Render(t.fit(l.Kind, 12))
			}
			out = append(out, site.Either(len(out) == 0, t.pointer(here), "   ")+kind+
				site.Either(n == 0, t.ink, t.soft).Render(x))
		}
	}
	return out
}
