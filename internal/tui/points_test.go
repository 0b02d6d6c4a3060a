package tui

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/depot"
	"alibi/internal/op/keep"
)

func TestRestorePointsOnTheScreens(t *testing.T) {
	w, p := world(t)
	w.Copy("https://skerryline.example", "near")
	p.run(p.a.load())
	p.press("/", "near", "enter", "up", "R")
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
	p.until("origin's  before the tide", "back to it")
	p.press("r", "enter")
	p.until("done in")
	list, _, err := w.Desk.Points.Points(context.Background(), "")
	require.NoError(t, err)
	assert.Len(t, list, 1)
}

func TestInsideARestorePointOnTheScreens(t *testing.T) {
	w, p := world(t)
	live := w.Site("https://skerryline.example")
	pl, err := w.Desk.Points.PlanKeep(context.Background(), live.ID, keep.Choices{Kind: depot.ByHand})
	require.NoError(t, err)
	require.Empty(t, w.Run(pl).Error)
	w.Copy(live.Name, "near")
	p.run(p.a.load())
	p.press("/", "near", "enter", "up", "R")
	p.until("1 restore point,")
	p.press("d")
	p.sees("Nothing changed since.", "rows are as they were")
	require.NoError(t, os.WriteFile(w.Dir("pier", filepath.Join(live.Root, "new.txt")), []byte("new"), 0o644))
	p.press("esc", "d")
	p.sees("since", "new.txt", "ADDED")
	p.press("down", "up", "?")
	p.sees("on the site, and not in the restore point")
	p.press("esc", "esc", "f")
	p.sees("files of skerryline.example", "wp-content/", "wp-config.php")
	for range 20 {
		if f := p.a.stack[len(p.a.stack)-1].(*filesScreen); f.list[f.cursor].Name() == "wp-content" {
			break
		}
		p.press("down")
	}
	p.press("enter")
	p.sees("/wp-content", "plugins/", "uploads/")
	p.press("left")
	f := p.a.stack[len(p.a.stack)-1].(*filesScreen)
	assert.Equal(t, "wp-content", f.list[f.cursor].Name(), "where it came from")
	to := filepath.Join(t.TempDir(), "out")
	p.press("e")
	p.sees("Where is wp-content to be brought?")
	for range len("./wp-content") {
		p.press("backspace")
	}
	p.press(to, "enter")
	p.until("brought to")
	assert.DirExists(t, filepath.Join(to, "plugins"))
}
