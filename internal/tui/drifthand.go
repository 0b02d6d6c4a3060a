package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/drift"
	"alibi/internal/merge"
	"alibi/internal/op/carry"
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
