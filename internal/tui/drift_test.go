package tui

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"alibi/internal/drift"
	"alibi/internal/op/carry"
)

// All that can go is chosen at once: what one side changed, what comes together, and what was decided before.
func TestWhatWasDecidedIsTakenWithTheRest(t *testing.T) {
	item := func(name string, change func(*drift.Item)) *drift.Item {
		it := &drift.Item{Name: name, Live: drift.Changed, Copy: drift.Changed}
		change(it)
		return it
	}
	d := &driftScreen{goes: map[string]way{}, all: []*drift.Item{
		item("open", func(*drift.Item) {}),
		item("merges", func(it *drift.Item) { it.Merges = true }),
		item("ours", func(it *drift.Item) { it.Decided, it.DecidedAt = "copy", time.Now() }),
		item("theirs", func(it *drift.Item) { it.Decided, it.DecidedAt = "live", time.Now() }),
		item("new", func(it *drift.Item) { it.Copy = drift.Same }),
	}}
	d.filter()
	_, done := d.key(&app{}, "a")
	assert.True(t, done)
	assert.Equal(t, map[string]way{"merges": {to: both}, "ours": {carry.Live, carry.Copy},
		"theirs": {carry.Copy, carry.Live}, "new": {to: carry.Copy}}, d.goes, "what is to be decided waits")
	assert.Equal(t, []string{"merges", "ours"}, d.wish(carry.Live).Items)
	assert.Equal(t, []string{"merges", "theirs", "new"}, d.wish(carry.Copy).Items)

	d.find = "OUR"
	d.filter()
	assert.Len(t, d.shown, 1)
	d.turn(d.shown[0])
	assert.Equal(t, []string{"merges", "ours", "theirs", "new"}, d.wish(carry.Copy).Items,
		"what is not shown goes all the same")
}
