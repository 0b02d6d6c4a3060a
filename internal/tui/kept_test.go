package tui

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/site"
)

func TestWhatEndsAndWhatWasDeletedOnTheScreens(t *testing.T) {
	w, p := world(t)
	ctx := context.Background()
	p.press("e")
	p.until("Nothing ends by itself")
	p.press("esc")
	near, far := w.Copy("https://skerryline.example", "near"), w.Copy("https://skerryline.example", "far")
	_, err := w.Desk.Copies.Expire(ctx, near.ID, "")
	require.NoError(t, err)
	p.run(p.a.load())
	p.press("e")
	p.until("deleted; purged then", "goes off the air", "2 ends ahead", "1 copy is deleted")
	p.press("b")
	p.until("0 copies are deleted")
	p.press("end", "?")
	p.sees("b brings it back")
	p.press("esc", "esc")

	// Several sites are marked, and get one plan.
	p.press("B")
	p.sees("no site is marked")
	p.press("s", "g", "space", "space", "B")
	p.sees("What is to be done to the 2 sites that are marked?")
	p.press("ctrl+u", "sink", "enter")
	p.sees("nothing that can be done to several sites")
	p.press("B", "ctrl+u", "remove", "enter")
	p.sees("Type remove 2 to go on")
	p.press("remove 1", "enter")
	p.sees("that is not its name")
	p.press("ctrl+u", "remove 2", "enter")
	p.until("2 sites; u shows the runs")
	for _, s := range []site.Site{near, far} {
		require.Eventually(t, func() bool {
			x, err := w.Desk.Workings().Record.Site(ctx, s.ID)
			return err == nil && x.State == site.Gone
		}, 60*time.Second, 50*time.Millisecond)
	}
}

func TestArchivesOnTheScreens(t *testing.T) {
	w, p := world(t)
	p.press("K")
	p.until("nothing is kept yet", "no archives were made here")
	p.press("esc", "/", "skerryline.example", "enter")
	file := filepath.Join(t.TempDir(), "carried.tar.zst")
	p.press("A", "ctrl+u")
	p.typed(file)
	p.press("enter")
	p.until("run: archive of", "done in")
	p.press("esc", "esc", "K")
	p.until("The depot holds", "1 restore point", "carried.tar")
	p.press("v")
	p.until("every byte is what it was")
	p.press("i")
	p.typed(file)
	p.press("enter")
	p.until("run: import of", "done in")
	list, _, err := w.Desk.Points.Points(context.Background(), "")
	require.NoError(t, err)
	assert.Len(t, list, 2)
	p.press("esc", "esc", "A", "ctrl+u")
	content := filepath.Join(t.TempDir(), "content.xml")
	p.typed(content)
	p.press("enter")
	p.sees("items are in")
	p.press("I")
	p.typed(content)
	p.press("enter")
	p.sees("nothing that is not there already")
	w.Copy("islands", "isles")
	p.run(p.a.load())
	p.press("esc", "/", "isles", "enter", "down", "I")
	p.typed(content)
	p.press("enter")
	p.sees("Add it to isles?", "items and")
	p.press("enter")
	p.until("run: reset of isles", "done in")
	p.press("esc", "esc", "K", "i")
	p.typed("/no/such/file")
	p.press("enter")
	p.sees("there is no archive /no/such/file")
}
