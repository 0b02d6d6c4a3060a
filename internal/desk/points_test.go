package desk_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/op/keep"
	"alibi/internal/plan"
	"alibi/internal/site"
)

func TestRestorePointsAreFoundAndThinnedOut(t *testing.T) {
	var at time.Time
	w := demotest.New(t, func(o *desk.Options) {
		o.Now = func() time.Time {
			if at.IsZero() {
				return time.Now()
			}
			return at
		}
	})
	ctx := context.Background()
	b, err := w.Desk.Fleet.Board(ctx)
	require.NoError(t, err)
	assert.Empty(t, b.Kept)
	assert.NoDirExists(t, w.Desk.Points.DepotPath(), "looking makes no depot")
	live := w.Site("https://skerryline.example")
	noon := time.Now().Add(-30 * 24 * time.Hour).Truncate(24 * time.Hour).Add(12 * time.Hour)
	take := func(ago time.Duration, name string) desk.Point {
		t.Helper()
		at = noon.Add(-ago)
		w.Keep()
		p, err := w.Desk.Points.PlanKeep(ctx, live.ID, keep.Choices{Kind: depot.ByHand, Name: name})
		require.NoError(t, err)
		r := w.Run(p)
		w.Stop()
		require.Equal(t, plan.Done, r.State, r.Error)
		list, _, err := w.Desk.Points.Points(ctx, live.ID)
		require.NoError(t, err)
		return list[0]
	}
	old := take(50*time.Hour, "")
	named := take(49*time.Hour, "before the fares")
	noonless := take(26*time.Hour, "")
	newest := take(time.Hour, "")
	at = noon
	for what, want := range map[string]string{old.ID: old.ID, old.ID[:15]: old.ID, "before": named.ID,
		"before the fares": named.ID, "skerryline.example": newest.ID} {
		p, err := w.Desk.Points.FindPoint(ctx, what)
		require.NoError(t, err, what)
		assert.Equal(t, want, p.ID, what)
	}
	_, err = w.Desk.Points.FindPoint(ctx, "2")
	assert.ErrorContains(t, err, "say more of it")
	_, err = w.Desk.Points.FindPoint(ctx, "crew.skerryline.example")
	assert.ErrorIs(t, err, depot.ErrUnknown, "it has none")
	b, err = w.Desk.Fleet.Board(ctx)
	require.NoError(t, err)
	assert.Equal(t, 4, b.Kept[live.ID].Points)
	assert.True(t, newest.Taken.Equal(b.Kept[live.ID].Newest))

	going, err := w.Desk.Points.Going(ctx, site.KeepRule{Daily: 2})
	require.NoError(t, err)
	var ids []string
	for _, p := range going {
		ids = append(ids, p.ID)
	}
	assert.Equal(t, []string{old.ID}, ids, "of two days each has one, and one has a name")
	_, err = w.Desk.Points.ForgetPoints(ctx, going)
	require.NoError(t, err)
	list, bad, err := w.Desk.Points.Points(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, bad)
	require.Len(t, list, 3)
	assert.Equal(t, noonless.ID, list[1].ID)

	file := filepath.Join(w.Desk.Points.DepotPath(), "points", newest.ID+".json")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	text[len(text)/2] ^= 1
	require.NoError(t, os.WriteFile(file, text, 0o600))
	w.Desk.Close()
	w.Open()
	list, bad, err = w.Desk.Points.Points(ctx, "")
	require.NoError(t, err)
	assert.Len(t, list, 2)
	require.Len(t, bad, 1)
	assert.ErrorIs(t, bad[0], depot.ErrDamaged)
	_, err = w.Desk.Points.ForgetPoints(ctx, nil)
	assert.ErrorContains(t, err, "nothing was removed", "what the damaged one needs is not known")
}
