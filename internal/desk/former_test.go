package desk_test

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // the record

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
)

func TestWhatTheFormerBuildWroteIsRead(t *testing.T) {
	ctx := context.Background()
	since := time.Now()
	w, dir := demotest.Former(t, func(o *desk.Options) { // leases ended since
		o.Now = func() time.Time { return demotest.FormerEnd.Add(time.Since(since)) }
	})
	near := w.Site("near")
	assert.True(t, near.Lease.Held)
	assert.Equal(t, site.Ready, near.State)

	runs, err := w.Desk.Workings().Record.Runs(ctx, 0)
	require.NoError(t, err)
	require.Len(t, runs, 10)
	waiting := runs[0]
	assert.Equal(t, plan.Waiting, waiting.State)
	reports, err := w.Desk.Copies.Reports(ctx, near.ID, 9)
	require.NoError(t, err)
	require.NotEmpty(t, reports)
	sheets, err := w.Desk.Pins.PinSheets()
	require.NoError(t, err)
	require.Len(t, sheets, 1)
	assert.Contains(t, sheets[0].Means, "4 plugins")
	list, bad, err := w.Desk.Points.Points(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, bad)
	assert.Len(t, list, 6)
	faults, err := w.Desk.Points.VerifyDepot(ctx, func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, faults)
	m, err := w.Desk.Points.CheckArchive(ctx, filepath.Join(dir, "crew.tar.zst"), "", func(int64) {})
	require.NoError(t, err)
	assert.EqualValues(t, 793, m.Rows)

	w.Keep() // the run that waits was planned by the former build
	r, err := w.Desk.Runs.Await(ctx, waiting.ID, nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Done, r.State, r.Error)
	assert.True(t, w.Site("later").Proof.Holds, r.Result)
	p, err := w.Desk.Points.PlanImport(ctx, filepath.Join(dir, "crew.tar.zst"), "", nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Done, w.Run(p).State)
	formerWork(t, w, near)
}

// formerWork brings a copy of the former build to one of its restore points, and in line with its
// origin again: both read what the former build knew of it.
func formerWork(t *testing.T, w *demotest.World, near site.Site) {
	t.Helper()
	ctx := context.Background()
	apart, err := w.Desk.Copies.Apart(ctx, near.ID)
	require.NoError(t, err)
	assert.Positive(t, apart.Copy, "what was made on it before is known")
	point, err := w.Desk.Points.FindPoint(ctx, "near")
	require.NoError(t, err)
	p, err := w.Desk.Points.PlanRestore(ctx, point, reset.Choices{Files: true, Database: true})
	require.NoError(t, err)
	r := w.Run(p)
	assert.Equal(t, plan.Done, r.State, r.Error)
	p, err = w.Desk.Copies.PlanRefresh(ctx, near.ID)
	require.NoError(t, err)
	r = w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.True(t, w.Site("near").Proof.Holds)
	broken, err := w.Desk.Copies.PlanRemove(ctx, w.Site("broken").ID)
	require.NoError(t, err)
	assert.Equal(t, plan.Done, w.Run(broken).State)
}
