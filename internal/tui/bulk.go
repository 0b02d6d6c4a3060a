package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/site"
)

// toggleMark marks a site of the board for what is done to several, or takes the
// mark away.
func (a *app) toggleMark(id site.ID) {
	if a.marked == nil {
		a.marked = map[site.ID]bool{}
	}
	if a.marked[id] {
		delete(a.marked, id)
	} else {
		a.marked[id] = true
	}
}

// askBulk asks what is to be done to the sites that are marked.
func askBulk(a *app) tea.Cmd {
	var ids []site.ID
	for _, f := range a.board.Families {
		for _, s := range append([]site.Site{f.Live}, f.Copies...) {
			if a.marked[s.ID] {
				ids = append(ids, s.ID)
			}
		}
	}
	if len(ids) == 0 {
		a.say("no site is marked: the space bar marks the one under the cursor", true)
		return nil
	}
	words := make([]string, len(desk.Acts))
	for i, x := range desk.Acts {
		words[i] = string(x)
	}
	a.asking = &question{title: "What is to be done to the " + site.Plural(len(ids), "site", "sites") +
		" that are marked?",
		lines: []string{strings.Join(words, ", ")}, input: true, text: "keep",
		typed: func(a *app, text string) (tea.Cmd, error) {
			act := desk.Act(strings.TrimSpace(text))
			return a.doThen(func() (string, func(*app) tea.Cmd, error) {
				b, err := a.desk.Fleet.PlanBulk(a.ctx, act, ids)
				return "", func(a *app) tea.Cmd { confirmBulk(a, b); return nil }, err
			}), nil
		}}
	return nil
}

// confirmBulk shows the one plan, and asks for what has to be typed.
func confirmBulk(a *app, b desk.Bulk) {
	var lines []string
	for i, it := range b.Items {
		if i == 14 {
			lines = append(lines, fmt.Sprintf("and %d more", len(b.Items)-i))
			break
		}
		switch {
		case it.Cannot != "":
			lines = append(lines, "not "+it.Site.Name+": "+it.Cannot)
		case it.Warning != "":
			lines = append(lines, string(b.Act)+" "+it.Site.Name+"; but "+it.Warning)
		default:
			lines = append(lines, string(b.Act)+" "+it.Site.Name+", "+site.Size(it.Site.Bytes()))
		}
	}
	n := 0
	for _, it := range b.Items {
		if it.Cannot == "" {
			n++
		}
	}
	q := &question{title: fmt.Sprintf("%s: %s?", b.Act, site.Plural(n, "site", "sites")),
		lines: append(lines, "", site.Size(b.Bytes)+" in all."), yes: func(a *app) tea.Cmd {
			typed := a.typed()
			return a.do(func() (string, error) {
				done, err := a.desk.Fleet.RunBulk(a.ctx, b, typed)
				a.marked = nil
				return fmt.Sprintf("%s: %s; u shows the runs", b.Act, site.Plural(len(done), "site", "sites")), err
			})
		}}
	if b.Confirm != "" {
		q.input, q.must = true, b.Confirm
		q.lines = append(q.lines, "Something would be lost, or a live site be changed. Type "+b.Confirm+" to go on:")
	}
	a.asking = q
}
