package keeper_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/op/keep"
	"alibi/internal/site"
)

func TestRestorePointsOnSchedule(t *testing.T) {
	w, c, k, _ := fixture(t)
	ctx := context.Background()
	live := w.Site(origin)
	start := time.Now()
	base := time.Date(start.Year(), start.Month(), start.Day()+1, 10, 30, 0, 0, time.Local).Sub(start)
	points := func() []desk.Point {
		t.Helper()
		list, bad, err := w.Desk.Points.Points(ctx, live.ID)
		require.NoError(t, err)
		require.Empty(t, bad)
		return list
	}
	at := func(ahead time.Duration, want int) {
		t.Helper()
		c.set(base + ahead)
		for range 2 { // what is due is taken, then what is too much removed
			look(t, k)
			require.Eventually(t, func() bool {
				runs, err := w.Desk.Workings().Record.Unfinished(ctx)
				return err == nil && len(runs) == 0
			}, 20*time.Second, 20*time.Millisecond)
		}
		look(t, k) // nothing more is due
		assert.Len(t, points(), want)
	}
	at(0, 0)
	_, err := w.Desk.Points.SetKeepRule(ctx, live.ID, site.KeepRule{Hourly: 2})
	require.NoError(t, err)
	at(time.Minute, 1)
	at(10*time.Minute, 1)
	at(time.Hour, 2)
	p, err := w.Desk.Points.PlanKeep(ctx, live.ID, keep.Choices{Kind: depot.ByHand})
	require.NoError(t, err)
	require.Empty(t, w.Run(p).Error)
	require.Len(t, points(), 3)
	at(2*time.Hour, 3) // the first went: two hours are kept, and what was taken by hand
	kinds := map[depot.Kind]int{}
	for _, p := range points() {
		kinds[p.Kind]++
	}
	assert.Equal(t, map[depot.Kind]int{depot.BySched: 2, depot.ByHand: 1}, kinds)
	_, err = w.Desk.Points.SetKeepRule(ctx, live.ID, site.KeepRule{})
	require.NoError(t, err)
	at(9*time.Hour, 3)
}
