package tui

import (
	"alibi/internal/site"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// widest is the width of a column of keys or words, with a blank behind.
func widest(list []hint, half int) int {
	n := 10
	for _, x := range list {
		n = max(n, ansi.StringWidth(x.key)+2)
	}
	return min(n, half*45/100)
}

// helpView explains every key of the screen and what its words mean.
func (a *app) helpView(w, h int) []string {
	t := a.theme
	keys := append([]hint{}, a.top().keys(a)...)
	if _, board := a.top().(*boardScreen); board {
		keys = append(keys, hint{"i", "read the site anew"}, hint{"b", "bring an expired copy back"},
			hint{"D", "remove a copy, forget a live site"}, hint{"w", "who answers for it"},
			hint{"s", "copies only, what ends next first"}, hint{"u", "runs"}, hint{"l", "leftovers"})
	}
	keys = append(keys, hint{"j k PgUp PgDn", "move; arrows too"}, hint{"g G", "first, last"},
		hint{"y", "history: who did what"}, hint{"Esc", "back"}, hint{"q", "close"})
	half := w / 2
	wk, ww := widest(keys, half), widest(a.top().words(), half)
	seen := map[string]bool{}
	var left, right []string
	for _, k := range keys {
		if !seen[k.key] {
			seen[k.key] = true
			left = append(left, "  "+t.key.Render(t.fit(strings.ReplaceAll(k.key, "←→", t.glyph("←→", "<- ->")), wk-1))+
				" "+t.ink.Render(k.text))
		}
	}
	for _, x := range a.top().words() {
		for i, l := range wrap(x.text, half-ww-5) {
			right = append(right, t.ink.Bold(true).Render(t.fit(site.Either(i == 0, x.key, ""), ww-1))+" "+
				t.soft.Render(l))
		}
	}
	head := t.fit("  "+t.ink.Bold(true).Render("Keys of this screen"), half) + "   " +
		t.ink.Bold(true).Render("What the words mean")
	out := t.beside(left, right, half, w-half-3)
	a.helpOut = max(0, len(out)+2-h)
	if a.helpOut == 0 {
		return append([]string{head, ""}, out...)
	}
	a.helpOut = len(out) + 3 - h // a line says that there is more
	at := min(a.helpAt, a.helpOut)
	more := t.soft.Render(t.fit("  "+site.Either(at < a.helpOut, "more below: arrows, Page Down", "that is all"), w))
	return append(append([]string{head, ""}, out[at:at+h-3]...), more)
}
