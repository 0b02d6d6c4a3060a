package clone_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/work"
)

// accepted lets what a run made stand, and wants it to be a copy that can be worked on.
func accepted(t *testing.T, w *demotest.World, r plan.Run) site.Site {
	t.Helper()
	ctx := context.Background()
	require.Equal(t, plan.Stopped, r.State, r.Error)
	assert.True(t, r.Acceptable)
	assert.Contains(t, r.Remedy, "alibi runs resume "+r.ID+" --anyway")
	r, err := w.Desk.Workings().Queue.Accept(ctx, r.ID)
	require.NoError(t, err)
	r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Contains(t, r.Result, "the copy stands and can be worked on, and its evidence does not hold")
	s := w.Site(r.Plan.Target.Name)
	assert.Equal(t, site.Ready, s.State)
	assert.Empty(t, s.Run)
	assert.False(t, s.Proof.Holds)
	left, err := w.Desk.Fleet.Leftovers(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
	return s
}

func TestACopyWhoseDataDoNotHoldMayStand(t *testing.T) {
	ctx := context.Background()
	var w *demotest.World
	spoilt := false
	w = demotest.New(t, func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Step != "place" || m.Phase != "end" || spoilt {
				return
			}
			spoilt = true
			db, err := sql.Open("sqlite", w.Site("odd").Database.Path)
			if assert.NoError(t, err) {
				_, err = db.Exec("DELETE FROM sk_posts WHERE ID = 9")
				assert.NoError(t, err)
				assert.NoError(t, db.Close())
			}
		}
	})
	w.Keep()
	r := w.Run(w.Plan(origin, "odd"))
	assert.Contains(t, r.Error, "sk_posts")
	s := accepted(t, w, r)
	rep, err := w.Desk.Copies.Prove(ctx, s.ID, true, nil)
	require.NoError(t, err)
	assert.False(t, rep.Proof().Holds, "it goes on being said")
	_, err = w.Desk.Workings().Queue.Accept(ctx, r.ID)
	assert.ErrorContains(t, err, "only a run that failed can be taken up again")
	p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	r = w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.True(t, w.Site("odd").Proof.Holds, "a refresh repairs it")
}

func TestARefreshWhoseCodeDoesNotRunMayStand(t *testing.T) {
	ctx := context.Background()
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	s := clonetest.CopyOf(w, live, "tides", func(*clone.Choices) {})
	plugin := filepath.Join(live.Root, "wp-content/plugins/tide-table/tide-table.php")
	require.NoError(t, os.WriteFile(plugin, []byte("<?php\nno_such_tide();\n"), 0o644))
	p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	r := w.Run(p)
	assert.Contains(t, r.Error, "no_such_tide", "with the line of its log")
	s = accepted(t, w.World, r)
	wish, _, err := w.Desk.Components.RescueWish(ctx, s.ID)
	require.NoError(t, err)
	p, err = w.Desk.Components.PlanChange(ctx, s.ID, wish, nil)
	require.NoError(t, err)
	r = w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	rep, err := w.Desk.Copies.Prove(ctx, s.ID, false, nil)
	require.NoError(t, err)
	assert.True(t, rep.Proof().Holds, "%+v", rep.Checks)
}
