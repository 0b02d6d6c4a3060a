package clone_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
)

func TestACopyBesideItsOrigin(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	onOrigin(
		t,
		live,
		"CREATE TABLE sk_child (id INT PRIMARY KEY, link BIGINT UNSIGNED, CONSTRAINT to_link FOREIGN KEY (link) "+
			"REFERENCES sk_links (link_id))",
	)
	onOrigin(t, live, "CREATE TABLE other_app (id INT PRIMARY KEY) SELECT 1 AS id")
	onOrigin(t, live, "CREATE TABLE sk_notes (note VARCHAR(40), n INT)")
	stamp := func() string {
		s, err := mariadbtest.DB(live.Database.Name).Stamp(ctx)
		require.NoError(t, err)
		return s
	}
	before := stamp()
	s := clonetest.CopyOf(w, live, "near", func(c *clone.Choices) { c.Beside = true })
	assert.Equal(t, live.Database.Name, s.Database.Name)
	assert.Equal(t, "sk_", s.Database.As)
	assert.Regexp(t, "^alibi_near_[0-9a-z]{4}_$", s.Database.Prefix)
	checks := clonetest.Holds(t, w, s)
	assert.Contains(t, checks, "table sk_posts")
	runs, err := w.Desk.Runs.Latest(ctx, 1)
	require.NoError(t, err)
	assert.False(t, answersFirst(runs[0].Plan), "its code has the account of the live tables")
	assert.NotContains(t, checks, "table other_app", "what is not the site's stays out")
	assert.Equal(t, before, stamp(), "nothing of the origin's is touched")
	_, page := clonetest.Ask(t, s, "/post-3/")
	clonetest.Has(t, page, s.Address().String()+"/tides/")
	inside(t, w, s)

	onOrigin(t, live, "UPDATE sk_posts SET post_title = 'Fog' WHERE post_name = 'post-3'")
	p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	again := w.Site("near")
	clonetest.Holds(t, w, again)
	assert.NotEqual(t, s.Database.Prefix, again.Database.Prefix)
	_, page = clonetest.Ask(t, again, "/post-3/")
	clonetest.Has(t, page, "Fog")

	own := clonetest.CopyOf(w, again, "own", func(*clone.Choices) {})
	clonetest.Holds(t, w, own)
	assert.NotEqual(t, live.Database.Name, own.Database.Name)
	_, page = clonetest.Ask(t, own, "/post-3/")
	clonetest.Has(t, page, own.Address().String()+"/tides/")

	for _, id := range []string{"own", "near"} {
		p, err = w.Desk.Copies.PlanRemove(ctx, w.Site(id).ID)
		require.NoError(t, err)
		r = w.Run(p)
		require.Equal(t, plan.Done, r.State, r.Error)
	}
	assert.Zero(
		t,
		count(
			t,
			live,
			"SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME "+
				"LIKE 'alibi%'",
		),
		"nothing of the copy is left",
	)
	clonetest.NothingLeft(t, w)
	assert.Error(t, mariadbtest.Root().DropUnder(ctx, live.Database.Name, "sk_"), "only what Alibi made can be dropped")
}

func TestACopyBesideItsOriginKilledAndCancelled(t *testing.T) {
	moment := ""
	var w *realtest.World
	w = realtest.New(t, realtest.Options{
		Change: []func(*desk.Options){cancelAt(func() *desk.Desk { return w.Desk }, &moment)},
	})
	live := w.Make("ferry")
	ctx := context.Background()
	tablesLeft := func() int {
		return count(
			t,
			live,
			"SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME "+
				"LIKE 'alibi%'",
		)
	}
	planned := func(name string) plan.Plan {
		c, err := w.Desk.Copies.CopyDefaults(ctx, live, "a test")
		require.NoError(t, err)
		c.Name, c.Beside = name, true
		p, err := w.Desk.Copies.PlanCopy(ctx, live.ID, c)
		require.NoError(t, err)
		return p
	}
	for i, m := range []string{"tables progress", "evidence begin"} {
		name := []string{"first", "second"}[i]
		r, err := w.Desk.Runs.StartTyped(ctx, planned(name), live.Name)
		require.NoError(t, err)
		demotest.KilledAt(t, w.World, m)
		demotest.Resumed(t, w.World, r.ID)
		clonetest.Holds(t, w, w.Site(name))
		w.Keep()
		p, err := w.Desk.Copies.PlanRemove(ctx, w.Site(name).ID)
		require.NoError(t, err)
		require.Equal(t, plan.Done, w.Run(p).State)
		assert.Zero(t, tablesLeft(), m)
		moment = m
		r = w.Run(planned(name + "-cancelled"))
		require.Equal(t, plan.Cancelled, r.State, r.Error)
		assert.Zero(t, tablesLeft(), m)
		clonetest.NothingLeft(t, w)
		w.Stop()
	}
}
