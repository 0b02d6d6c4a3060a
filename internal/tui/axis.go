package tui

import (
	"alibi/internal/site"
	"math"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
)

// along gives the place of a moment on an axis of w cells.
func along(d time.Duration, w int) int {
	for i := 1; i < len(ticks); i++ {
		if d <= ticks[i].at {
			part := float64(d-ticks[i-1].at) / float64(ticks[i].at-ticks[i-1].at)
			return int(math.Round((float64(i-1) + max(0, part)) / float64(len(ticks)-1) * float64(w-1)))
		}
	}
	return w - 1
}

func axisHead(w int) string {
	cells := []rune(strings.Repeat(" ", w))
	end := w + 1 // what comes later is written first, and what would touch it is left out
	for i := len(ticks) - 1; i >= 0; i-- {
		t := ticks[i]
		at := min(along(t.at, w), w-len(t.label))
		if at+len(t.label) < end {
			copy(cells[at:], []rune(t.label))
			end = at
		}
	}
	return string(cells)
}

// axis draws a lease, or says what there is instead.
func (b *boardScreen) axis(a *app, s site.Site, w int) string {
	t := a.theme
	now := a.desk.Now()
	if s.Role == site.Live {
		for _, f := range a.board.Families {
			for _, c := range f.Copies {
				if c.Origin == s.ID && c.Pointed != nil {
					return t.soon.Render("its name leads to " + plain(c.Name) + " here")
				}
			}
		}
		state := s.StateText()
		if state != "" {
			return t.soon.Render(state) + t.soft.Render(site.Either(s.Front != nil, ": visitors see a notice", ""))
		}
		text := "not inspected yet"
		if s.Facts != nil {
			text = "read " + site.Ago(now.Sub(s.Facts.At))
		}
		if s.Owner != "" && w > 30 {
			text += ", " + s.Owner + " answers for it"
		}
		return t.soft.Render(text)
	}
	for _, r := range a.board.Runs {
		if r.Plan.Target.ID == s.ID {
			over, rest := t.track(done(r), min(16, w/2))
			return t.copy.Render(over) + t.rule.Render(rest) + t.ink.Render(" "+string(r.Plan.Kind)+" "+percent(r))
		}
	}
	switch s.State {
	case site.Making:
		return t.ink.Render("being made")
	case site.Failed:
		return t.wrong.Render("! its run failed; u shows why")
	case site.Expired:
		return t.soon.Render(t.glyph("× ", "x ") + s.LeaseText(now))
	}
	lead := ""
	if s.State == site.Parked || s.Front != nil {
		word := "parked "
		if s.Front != nil {
			word = string(s.Front.Kind) + " "
		}
		lead = t.soon.Render(word)
		w -= len(word)
	}
	switch s.Lease.Phase(now) {
	case site.Held:
		text := "held: " + plain(s.Lease.Reason) + " "
		return lead + t.ink.Render(text) + t.rule.Render(strings.Repeat(t.glyph("┄", "."),
			max(0, w-lipgloss.Width(text))))
	case site.NoLease:
		return lead
	case site.Over, site.Done:
		return lead + t.soon.Render("over")
	}
	left := s.Lease.Left(now)
	n := along(left, w-6)
	style := t.copy
	if left < 24*time.Hour {
		style = t.soon
	}
	return lead + style.Render(strings.Repeat(t.glyph("━", "="), n)+t.glyph("╸", ">")) + t.ink.Render(site.Span(left)) +
		site.Either(left < 24*time.Hour, t.soon.Render(" ends soon"), "")
}
