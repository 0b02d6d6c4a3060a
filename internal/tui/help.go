package tui

// helpView explains every key of the screen and what its words mean.
func (a *app) helpView(w, h int) []string {
	t := a.theme
	out := []string{"  " + t.ink.Bold(true).Render("Keys of this screen"), ""}
	keys := append([]hint{}, a.top().keys(a)...)
	if _, board := a.top().(*boardScreen); board {
		keys = append(keys, hint{"i", "read the site anew"}, hint{"D", "remove a copy for good"}, hint{"b", "bring an expired copy back"}, hint{"u", "runs"}, hint{"l", "leftovers: what Alibi made and nothing needs"}, hint{"s", "copies only, by what ends next"})
	}
	keys = append(keys, hint{"j k, arrows, PgUp PgDn, g G", "move"}, hint{"y", "history: who did what"}, hint{"Esc", "back"}, hint{"q, Ctrl+C", "close"})
	seen := map[string]bool{}
	var left, right []string
	for _, k := range keys {
		if !seen[k.key] {
			seen[k.key] = true
			left = append(left, "  "+t.key.Render(t.fit(k.key, 30))+t.ink.Render(k.text))
		}
	}
	for _, x := range a.top().words() {
		for i, l := range wrap(x.text, 44) {
			right = append(right, t.ink.Bold(true).Render(t.fit(pick(i == 0, x.key, ""), 15))+t.soft.Render(l))
		}
	}
	if w >= 110 {
		out[0] = t.fit(out[0], w/2) + "   " + t.ink.Bold(true).Render("What the words mean")
		return append(out, t.beside(left, right, w/2, w/2-3)...)
	}
	out = append(out, left...)
	out = append(out, "", "  "+t.ink.Bold(true).Render("What the words mean"))
	for _, l := range right {
		out = append(out, "  "+l)
	}
	if len(out) > h {
		out = out[:h]
	}
	return out
}
