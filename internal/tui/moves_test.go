package tui

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/plan"
)

func TestASiteIsMovedOnTheScreens(t *testing.T) {
	w, p := world(t)
	ctx := context.Background()
	p.press("/", "tickets", "enter", "M")
	p.until("n begins a move of tickets.skerryline.example")
	p.press("n")
	p.sees("stands in /srv/tickets/public on pier", "web addresses")
	p.press("drydock", "enter")
	p.until("pier /srv/tickets/public", "LIVE", "○", "way back", "nothing was brought yet")
	require.NoError(t, w.Desk.Moves.Forget(ctx, "tickets-to-drydock"))
	p.until("no site is on its way")
	p.press("n", "drydock", "tab", "ctrl+u", "/var/www/tickets", "tab", "192.0.2.20", "enter")
	p.until("drydock /var/www/tickets", "open     carry")
	p.press("s")
	p.until("another gate comes first")
	p.press("enter")
	p.until("are as they are there")
	p.press("esc")
	p.until("1 pass", "open     check")
	p.press("v")
	p.until("it holds")
	p.press("esc")
	p.until("open     names")
	p.press("t")
	p.until("Change the names of LIVE tickets.skerryline.example?", "Type its name")
	p.press("tickets.skerryline.example", "enter")
	p.until("it opens in")
	_, err := w.Desk.Workings().Record.ChangeMove(ctx, "tickets-to-drydock", func(m *plan.Move) error {
		m.Names.Until = time.Now()
		return nil
	})
	require.NoError(t, err)
	p.until("open     switch")
	p.press("enter")
	p.until("Switch LIVE tickets.skerryline.example over to /var/www/tickets on drydock?", "a notice in")
	p.press("tickets", "enter")
	p.sees("that is not its name")
	p.press(".skerryline.example", "enter")
	p.until("nobody could write for")
	p.press("esc")
	p.until("names back to pier", "LIVE  drydock /var/www/tickets")
	p.press("w")
	p.until("says 127.0.0.1", "1 answer leads to the old place still", "not yet")
	p.a.w, p.a.h = 80, 24
	p.until("open     watch", "shut     clear")
	p.press("x")
	p.until("another gate comes first")
	p.press("b")
	p.until("Switch LIVE tickets.skerryline.example over to /srv/tickets/public on pier?")
	p.press("tickets.skerryline.example", "enter")
	p.until("it stands on pier")
	p.press("esc")
	p.until("it went back to pier")
	p.press("x")
	p.until("Empty /var/www/tickets on drydock?")
	p.press("tickets.skerryline.example", "enter")
	p.until("entries removed in")
	p.press("esc", "D")
	p.sees("Take tickets-to-drydock out of the record?")
	p.press("enter")
	p.until("no site is on its way")
	assert.Equal(t, "pier", w.Site("tickets").Host)
}
