package tui

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRestorePointsOnTheScreens(t *testing.T) {
	w, p := world(t)
	w.Copy("https://skerryline.example", "near")
	p.run(p.a.load())
	p.press("/", "near", "enter", "R")
	p.until("Nothing of skerryline.example is kept yet", "n takes a restore point")
	p.press("n", "before the tide", "enter")
	p.until("done in", "the depot grew by")
	p.press("esc")
	p.until("1 restore point,", "before the tide", "never")
	p.press("v")
	p.until("rehearsal of skerryline.example", "done in")
	p.press("esc")
	p.until("ago")
	p.press("V")
	p.sees("every byte is what it was")
	p.press("s", "often", "enter")
	p.sees("is no rule")
	p.press("esc", "s", "7 daily", "enter")
	p.sees("on schedule: 7 daily")
	p.press("?")
	p.sees("make a copy of it, compare every row and", "file, remove the copy")
	p.press("esc", "c")
	p.sees("what to call it", "as it was at the restore point of")
	p.press("esc", "D")
	p.sees("Remove this restore point for good?", "Type its last four characters")
	p.press("esc", "esc")

	// A copy's screen has its origin's points too, and can be brought to one.
	p.press("down", "R")
	p.until("before the tide (its origin's)", "bring the copy to it")
	p.press("r", "enter")
	p.until("done in")
	list, _, err := w.Desk.Points(context.Background(), "")
	require.NoError(t, err)
	assert.Len(t, list, 1)
}
