package plan

import (
	"fmt"
	"strings"
	"time"

	"alibi/internal/site"
)

// Report says what a move did: each line is a word and a text.
func (m Move) Report(s site.Site, now time.Time) (out [][2]string) {
	at := func(t time.Time) string { return t.Local().Format("2 Jan 2006 15:04:05") }
	add := func(word, format string, a ...any) { out = append(out, [2]string{word, fmt.Sprintf(format, a...)}) }
	add("site", "%s, %s", s.Name, s.Address())
	add("from", "%s, database %s", m.From, m.From.Database.Text())
	add("to", "%s, database %s", m.To, m.To.Database.Text())
	add("stands", "%s, as of %s", m.Here(), at(now))
	if !m.To.Address.IsZero() {
		add("address", "%s at %s, %s at %s", m.From.Address, m.From.Host, m.To.Address, m.To.Host)
	}
	add("begun", "%s, by %s", at(m.Made), m.By)
	if v := m.Survey; v != nil {
		add("survey", "%s: %s and %s to come", at(v.At), site.Plural(int64(v.Files), "file", "files"), site.Size(v.Bytes))
		for _, f := range v.Findings {
			add("", "%s: %s", f.Severity, f.Text)
		}
	}
	for i, p := range m.Passes {
		add(site.Either(i == 0, "passes", ""), "%s, in %s: %s, %s, %s of files", at(p.At), site.Seconds(p.Took),
			site.Plural(p.Rows, "row", "rows"), site.Plural(int64(p.Files), "file", "files"), site.Size(p.Bytes))
	}
	if c := m.Check; c != nil {
		add("check", "%s: %s, %s", at(c.At), c.Compared(), site.Either(c.Holds, "the same at both places", "it did not hold"))
		for _, f := range c.Findings {
			add("", "%s: %s", f.Severity, f.Text)
		}
	}
	if c := m.Certificate; c != nil {
		add("certificate", "%s: for %s, by %s, until %s", at(c.At), strings.Join(c.Names, ", "), c.By, at(c.Until))
	}
	m.reportNames(add, at)
	m.reportPanel(add, at)
	for i, x := range m.Switches {
		add(site.Either(i == 0, "switches", ""), "%s, %s: nobody could write for %s", at(x.At),
			site.Either(x.Back, "back to "+m.From.Host, "to "+m.To.Host), site.Seconds(x.Held))
	}
	if w := m.Watch; w != nil {
		add("watched", "%s: %s", at(w.At), m.watching().Why)
		for _, x := range w.Answers {
			add("", "%s says that %s is %s", x.Server, x.Name, x.Says)
		}
	}
	switch {
	case !m.Cleared.IsZero():
		add("left", "nothing, since %s", at(m.Cleared))
	case len(m.Passes) > 0:
		add("left", "all of it, in %s", m.There())
	}
	return out
}

func (m Move) reportPanel(add func(word, format string, a ...any), at func(time.Time) string) {
	p := m.Panel
	if p == nil || p.At.IsZero() {
		return
	}
	for i, a := range p.Names {
		add(site.Either(i == 0, "attached", ""), "%s on %s: %s%s, as of %s", a.Name, m.To.Host, a.State,
			site.Either(a.Primary, ", the primary one", ""), at(p.At))
	}
}

func (m Move) reportNames(add func(word, format string, a ...any), at func(time.Time) string) {
	n := m.Names
	if n == nil || len(n.Old) == 0 {
		add("names", "none is changed")
		return
	}
	if !n.Lowered.IsZero() {
		add("names", "kept for %s from %s on", site.Seconds(n.Short), at(n.Lowered))
	}
	for i, r := range n.Old {
		add(site.Either(i == 0 && n.Lowered.IsZero(), "names", ""), "before: %s", r)
	}
	for _, r := range n.New {
		add("", "then: %s", r)
	}
}
