package trial_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/op/remove"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
)

func TestMain(m *testing.M) { demotest.Main(m, mariadbtest.Main) }

// prepared is a real copy with more plugins on, whatever they do to it.
func prepared(t *testing.T, plugins ...string) (*realtest.World, site.Site) {
	t.Helper()
	return copied(t, func(*real.Spec) {}, plugins...)
}

// copied makes a site and a copy of it with some more plugins.
func copied(t *testing.T, change func(*real.Spec), plugins ...string) (*realtest.World, site.Site) {
	t.Helper()
	w := realtest.New(t, realtest.Options{})
	w.Make("ferry", change)
	w.Keep()
	s := w.Copy("ferry", "base")
	if len(plugins) > 0 {
		var wish desk.ChangeWish
		for _, p := range plugins {
			src, err := site.ParseSource(site.Plugin, p)
			require.NoError(t, err)
			wish.Put = append(wish.Put, src)
		}
		wish.Anyway = true
		p, err := w.Desk.Components.PlanChange(context.Background(), s.ID, wish, nil)
		require.NoError(t, err)
		r := w.Run(p)
		require.Equal(t, plan.Done, r.State, r.Error)
	}
	return w, w.Site("base")
}

func tried(t *testing.T, w *realtest.World, s site.Site, wish desk.TrialWish) trial.Memory {
	t.Helper()
	p, err := w.Desk.Components.PlanTrial(context.Background(), s.ID, wish)
	require.NoError(t, err)
	require.False(t, p.Blocked(), p.Findings)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	_, m, err := w.Desk.Components.Trial(context.Background(), r.ID)
	require.NoError(t, err)
	nothingLeft(t, w)
	return m
}

// nothingLeft wants nothing of a trial to be left anywhere.
func nothingLeft(t *testing.T, w *realtest.World) {
	t.Helper()
	left, err := w.Desk.Fleet.Leftovers(context.Background())
	require.NoError(t, err)
	assert.Empty(t, left)
	list, err := mariadbtest.Root().Databases(context.Background())
	require.NoError(t, err)
	assert.False(t, slices.ContainsFunc(list, func(n string) bool { return strings.HasPrefix(n, "alibi_t") }), "%v",
		list)
	dirs, err := os.ReadDir(filepath.Join(w.Base, "trials"))
	require.NoError(t, err)
	assert.Empty(t, dirs)
}

func TestAGridOfThreeCoresAndThreeRuntimes(t *testing.T) {
	w, s := copied(t, func(s *real.Spec) { s.Blocks = true })
	ctx := context.Background()
	cores, err := w.Desk.Components.Catalogue().Cores(ctx)
	require.NoError(t, err)
	var wish desk.TrialWish
	for _, c := range cores {
		wish.Cores = append(wish.Cores, c.Version)
	}
	wish.Runtimes = []string{"all"}
	wish.Check.Texts = []string{"High water"}
	began := time.Now()
	m := tried(t, w, s, wish)
	t.Logf("9 cells in %v, a whole copy takes %s", time.Since(began), site.Size(m.Full))
	require.Len(t, m.Cells, 9)
	for _, c := range m.Cells {
		switch want := map[string]string{"5.7 7.4": "is empty", "5.7 8.2": "WP_CORE_UPDATE",
			"5.7 8.4": "WP_CORE_UPDATE"}[c.Core[:3]+" "+c.PHP]; {
		case want == "": // themes of blocks are younger than that core, and that PHP than it
			assert.Equal(t, trial.Passes, c.State, "%s: %s", c.Name, c.Reason)
		default:
			assert.Equal(t, trial.Fails, c.State, c.Name)
			assert.Contains(t, c.Reason, want, c.Name)
		}
		assert.Greater(t, c.Pages, 12, c.Name)
		assert.Less(t, c.Bytes*5, m.Full, "a cell takes less than a fifth of a full copy")
		t.Logf("%s %s %s %v %s, %d pages, %d warnings", c.Name, c.State, c.Reason, c.Took, site.Size(c.Bytes), c.Pages,
			c.Warnings)
	}
	assert.Equal(t, 9, len(slices.CompactFunc(m.Cells, func(a, b trial.Cell) bool { return a.Name == b.Name })))
}

func TestVerdictsHaveReasons(t *testing.T) {
	w, s := prepared(t)
	src := func(text string) []site.Source {
		x, err := site.ParseSource(site.Plugin, text)
		require.NoError(t, err)
		return []site.Source{x}
	}
	m := tried(
		t,
		w,
		s,
		desk.TrialWish{
			Runtimes: []string{"7.4", "8.4"},
			Sets: []desk.SetWish{
				{Name: "now"},
				{Name: "new tides", Put: src("tide-table@3.0.0")},
				{Name: "knots", Put: src("knot-counter")},
				{Name: "no tides", Off: []string{"tide-table"}},
			},
			Check: trial.Check{
				Command: `curl -sf "$ALIBI_URL/" | grep -q Skerry || { echo "no boats here"; exit 1; }`,
				Texts:   []string{"the quay"},
				Without: []string{"Fatal error"},
			},
		},
	)
	got := map[string]trial.Cell{}
	for _, c := range m.Cells {
		got[c.Set+" "+c.PHP] = c
	}
	for name, want := range map[string]string{"now 7.4": "", "now 8.4": "", "new tides 7.4": "syntax error",
		"new tides 8.4": `"the quay" stands on none`, "knots 7.4": "", "knots 8.4": "each()",
		"no tides 7.4": `"the quay" stands on none`} {
		c := got[name]
		if want == "" {
			assert.Equal(t, trial.Passes, c.State, "%s: %s", name, c.Reason)
			continue
		}
		assert.Equal(t, trial.Fails, c.State, name)
		assert.Contains(t, c.Reason, want, name)
		assert.NotContains(t, c.Reason, w.Base, name)
	}
	m = tried(
		t,
		w,
		s,
		desk.TrialWish{
			Runtimes: []string{"8.2"},
			Check:    trial.Check{Only: true, Command: `echo "no boats here"; exit 1`},
		},
	)
	assert.Contains(t, m.Cells[0].Reason, "the command says: no boats here")
}

func TestTheCauseIsFound(t *testing.T) {
	good := []string{
		"harbour-bell",
		"gull-gallery",
		"lantern-list",
		"buoy-map",
		"cabin-light",
		"anchor-log",
		"mast-head",
		"rope-store",
		"quay-forms",
		"deck-notes",
	}
	for name, c := range map[string]struct {
		good int
		bad  []string
		want trial.Found
		text string
	}{
		"one": {10, []string{"fog-horn"}, trial.Found{Plugins: []string{"fog-horn"}, Version: "1.1"},
			"the plugin fog-horn 1.1 makes the check fail, from version 1.1 on: "},
		"pair": {5, []string{"port-watch", "starboard-watch"},
			trial.Found{Plugins: []string{"port-watch", "starboard-watch"}}, "neither alone"},
		"php": {5, []string{"knot-counter"}, trial.Found{Plugins: []string{"knot-counter"}, PHP: "8.2"},
			"from PHP 8.2 on; it passes under 7.4"},
	} {
		t.Run(name, func(t *testing.T) {
			w, s := prepared(t, append(slices.Clone(good[:c.good]), c.bad...)...)
			began := time.Now()
			m := tried(t, w, s, desk.TrialWish{Cause: true})
			require.NotNil(t, m.Found)
			t.Logf("%d tries in %v: %s", len(m.Tries), time.Since(began), m.Found.Text)
			assert.Equal(t, c.want.Plugins, m.Found.Plugins)
			assert.Equal(t, c.want.PHP, m.Found.PHP)
			assert.Equal(t, c.want.Version, m.Found.Version)
			assert.Contains(t, m.Found.Text, c.text)
			assert.Equal(t, trial.Fails, m.AsItIs.State)
		})
	}
}

func TestATrialThatIsKilledGoesOnAndLeavesNothing(t *testing.T) {
	w, s := prepared(t)
	w.Stop()
	for _, moment := range []string{"reserve end", "share progress", "share end", "reference end", "cells progress",
		"cells end"} {
		t.Run(moment, func(t *testing.T) {
			p, err := w.Desk.Components.PlanTrial(context.Background(), s.ID,
				desk.TrialWish{Runtimes: []string{"7.4", "8.2"}, Check: trial.Check{Only: true}})
			require.NoError(t, err)
			r, err := w.Desk.Runs.Start(context.Background(), p)
			require.NoError(t, err)
			demotest.KilledAt(t, w.World, moment)
			left, err := w.Desk.Fleet.Leftovers(context.Background())
			require.NoError(t, err)
			dead := func(l remove.Leftover) bool { return l.Why == "a process left it that is not running any more" }
			assert.Empty(t, slices.DeleteFunc(slices.Clone(left), dead), "the run is not over")
			r = demotest.Resumed(t, w.World, r.ID)
			assert.Contains(t, r.Result, "2 of 2 variants pass")
			require.NoError(t, w.Desk.Fleet.ClearLeftovers(context.Background(), left))
			nothingLeft(t, w)
		})
	}
}

func TestATrialThatIsCancelledLeavesNothing(t *testing.T) {
	w, s := prepared(t)
	ctx := context.Background()
	p, err := w.Desk.Components.PlanTrial(ctx, s.ID, desk.TrialWish{Runtimes: []string{"all"}})
	require.NoError(t, err)
	r, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		_, m, err := w.Desk.Components.Trial(ctx, r.ID)
		return err == nil &&
			slices.ContainsFunc(m.Cells, func(c trial.Cell) bool {
				return c.State == trial.Running && c.Step == "asking for pages"
			})
	}, 60*time.Second, 20*time.Millisecond)
	require.NoError(t, w.Desk.Workings().Queue.Cancel(ctx, r.ID))
	r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Cancelled, r.State)
	nothingLeft(t, w)
	assert.Empty(t, w.Site("base").Run)
}

func TestWhatCannotBeTried(t *testing.T) {
	w, s := prepared(t)
	ctx := context.Background()
	live := w.Site("ferry")
	p, err := w.Desk.Components.PlanTrial(ctx, live.ID, desk.TrialWish{})
	require.NoError(t, err)
	assert.True(t, p.Blocked())
	p, err = w.Desk.Components.PlanTrial(ctx, s.ID, desk.TrialWish{Runtimes: []string{"5.3"}})
	require.NoError(t, err)
	assert.Contains(t, p.Findings[0].Text, "PHP 5.3 is not on this machine")
	_, err = w.Desk.Components.PlanTrial(ctx, s.ID, desk.TrialWish{Cores: []string{"1.0"}})
	assert.ErrorContains(t, err, "the catalogue does not know it")
	_, err = w.Desk.Components.PlanTrial(ctx, s.ID,
		desk.TrialWish{Sets: []desk.SetWish{{Name: "x", On: []string{"nothing"}}}})
	assert.ErrorContains(t, err, "has no plugin called")
	p, err = w.Desk.Components.PlanTrial(ctx, s.ID, desk.TrialWish{Cause: true})
	require.NoError(t, err)
	r := w.Run(p)
	assert.Equal(t, plan.Cancelled, r.State)
	assert.Contains(t, r.Error, "passes on the copy as it is")
	nothingLeft(t, w)
}
