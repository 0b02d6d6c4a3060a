package tui

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/depot"
	"alibi/internal/op/keep"
	"alibi/internal/plan"
	"alibi/internal/site"
)

func TestRestoringAndResettingOnTheScreens(t *testing.T) {
	w, p := world(t)
	ctx := context.Background()
	live := w.Site("https://skerryline.example")
	pl, err := w.Desk.Points.PlanKeep(ctx, live.ID, keep.Choices{Kind: depot.ByHand})
	require.NoError(t, err)
	require.Empty(t, w.Run(pl).Error)
	s := w.Copy(live.Name, "near")
	require.NoError(t, w.Spoil("row-extra", s))
	p.run(p.a.load())

	// A live site is only written to once its name was typed.
	p.press("/", "near", "enter", "up", "R")
	p.until("1 restore point,")
	p.press("r")
	p.until("GOES", "STAYS", "visitors of this live site see a notice", "database /srv")
	p.press("right")
	p.until("the whole database")
	p.press("tab", "wp-content")
	p.until("(wp-content)")
	p.press("enter")
	p.sees("Type its name to go on:")
	p.press("near", "enter")
	p.sees("that is not its name")
	p.press("ctrl+u", live.Name, "enter")
	p.until("run: restoring of " + live.Name)
	p.until("are what they should be", "show it again")
	p.press("esc", "esc")

	// A copy is cleaned, and what goes is said before.
	p.press("down", "z")
	p.until("GOES", "table sk_posts", "GENTLER", "wp-content/plugins/tide-table")
	p.press("tab", "right")
	p.until("taken out")
	p.press("tab", "tab", "tab", "no-such")
	p.until("can't be kept")
	p.press("enter")
	p.sees("nothing of that name is there")
	for range "no-such" {
		p.press("backspace")
	}
	p.until("to a clean site", "1 change made on the copy")
	p.press("enter")
	p.sees("Type its name to go on:")
	p.press("near", "enter")
	p.until("run: reset of near", "left over")
	rows, err := w.Desk.Workings().Record.Site(ctx, s.ID)
	require.NoError(t, err)
	assert.Zero(t, rows.Facts.Has(site.Posts))
	p.press("esc")

	// What fails takes everything back, and says so.
	_, err = w.Desk.Workings().Record.ChangeSite(ctx, s.ID,
		func(s *site.Site) error { s.Database.Path += ".none"; return nil })
	require.NoError(t, err)
	list, _, err := w.Desk.Points.Points(ctx, s.ID)
	require.NoError(t, err)
	pl, err = w.Desk.Points.PlanKeep(ctx, live.ID, keep.Choices{Kind: depot.ByHand})
	require.NoError(t, err)
	pl.Kind, pl.Origin, pl.Target, pl.Words = plan.Restore, s, s, "a point"
	pl.Steps = []plan.Step{{Name: "reserve", Title: "take the site"}, {Name: "tables", Title: "exchange the tables"}}
	pl.Detail = []byte(`{"point":"` + list[0].ID + `","database":true}`)
	r := w.Run(pl)
	assert.Equal(t, plan.Cancelled, r.State)
	p.a.push(newRun(r.ID))
	p.until("! failed:")
	p.press("esc")
	_, err = w.Desk.Workings().Record.ChangeSite(ctx, s.ID, func(s *site.Site) error {
		s.Database.Path = strings.TrimSuffix(s.Database.Path, ".none")
		return nil
	})
	require.NoError(t, err)

	// What visitors see is chosen, and lifted again.
	p.press("F", "ctrl+u", "park", "enter")
	p.sees("Park near?")
	p.press("enter")
	p.until("parked")
	p.press("F")
	p.sees("Show visitors near again?")
	p.press("enter")
	p.sees("visitors see near again")
	p.press("F", "ctrl+u", "maintenence", "enter")
	p.sees("is none of these")
	p.press("ctrl+u", "password", "enter")
	p.until("Which password are visitors of near to be asked for?")
	p.press("abc", "enter")
	p.until("too short")
	p.press("F", "ctrl+u", "password", "enter")
	p.until("Which password")
	p.press("made-up")
	assert.NotContains(t, p.frame(), "made-up", "what is typed is not shown")
	p.press("enter")
	p.until("hidden")
	p.press("up", "F", "ctrl+u", "maintenance", "enter")
	p.sees("It is live: visitors see it at once", "Type its name")
	p.press("esc")
}
