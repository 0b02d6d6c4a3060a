package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/drift"
	"alibi/internal/merge"
	"alibi/internal/op/carry"
	"alibi/internal/site"
)

// write has a person write what is to stand where both sides changed one place of an item.
func (d *driftScreen) write(a *app, it *drift.Item) tea.Cmd {
	if !it.Clashes() || it.Merges {
		a.say("nothing of it has to be decided", true)
		return nil
	}
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		list, err := a.desk.Copies.Conflicts(a.ctx, d.s.ID, d.with.ID, it.Name)
		return "", func(a *app) tea.Cmd { return d.writeNext(a, it, list, map[string]string{}) }, err
	})
}

// writeNext opens the next of the places in the editor; after the last one, what was written goes to both sides.
func (d *driftScreen) writeNext(a *app, it *drift.Item, list []carry.Conflict, got map[string]string) tea.Cmd {
	if len(list) == 0 {
		d.hand[it.Name] = got
		d.goes[it.Name] = way{both, written}
		a.say("what you wrote goes to both sides", false)
		return nil
	}
	return inEditorOf(a, list[0].Field+".txt", []byte(list[0].Text), func(text []byte) tea.Msg {
		if merge.HasMarks(string(text)) {
			return doneMsg{err: fmt.Errorf("%s: %w", list[0].Field, carry.ErrMarks)}
		}
		got[list[0].Place] = string(text)
		return doneMsg{then: func(a *app) tea.Cmd { return d.writeNext(a, it, list[1:], got) }}
	})
}

// askWith asks for another copy of the same origin to be compared with.
func (d *driftScreen) askWith(a *app) {
	var others []string
	for _, f := range a.board.Families {
		for _, c := range f.Copies {
			if c.Origin == d.s.Origin && c.ID != d.s.ID {
				others = append(others, c.Name)
			}
		}
	}
	if len(others) == 0 {
		a.say("there is no other copy of its origin", true)
		return
	}
	a.asking = &question{title: "Which copy is " + d.s.Name + " compared with?", input: true,
		text:  site.Either(len(others) == 1, others[0], ""),
		lines: []string{"Of the same origin: " + strings.Join(others, ", ")},
		typed: func(a *app, text string) (tea.Cmd, error) {
			for _, f := range a.board.Families {
				for _, c := range f.Copies {
					if c.Name == text && slices.Contains(others, text) {
						return openDrift(a, d.s, c), nil
					}
				}
			}
			return nil, fmt.Errorf("%s is none of them", text)
		}}
}

// askFind asks what is to be shown alone.
func (d *driftScreen) askFind(a *app) {
	a.asking = &question{title: "Which things are shown?", input: true, text: d.find,
		lines: []string{"Those that have this in their name, kind or title; all if it is empty."},
		typed: func(_ *app, text string) (tea.Cmd, error) {
			d.find = strings.TrimSpace(text)
			d.filter()
			return nil, nil
		}}
}

// filter shows what was found.
func (d *driftScreen) filter() {
	d.shown = nil
	for _, it := range d.all {
		if it.Has(d.find) {
			d.shown = append(d.shown, it)
		}
	}
	d.cursor = max(0, min(d.cursor, len(d.shown)-1))
}
