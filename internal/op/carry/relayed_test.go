package carry_test

import (
	"context"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/demo/resettest"
	"alibi/internal/desk"
	"alibi/internal/host"
	"alibi/internal/op/carry"
	"alibi/internal/plan"
)

// A live site on a host that lets in files only is written to through its own PHP: changes come home and are undone,
// and it is brought back to a restore point, also where that is killed half-way.
func TestASiteIsWrittenToThroughARelay(t *testing.T) {
	ctx := context.Background()
	w := realtest.New(t, realtest.Options{})
	l := w.Live("ferry")
	moor := w.Machine("moor", func(o *real.MachineOptions) { o.FilesOnly = true })
	require.NoError(t, w.Desk.Fleet.Forget(ctx, l.Site.ID))
	live, err := w.Desk.Fleet.AddSite(ctx, desk.NewSite{Host: moor.Name, Root: l.Spec.Root, Name: l.Site.Name,
		Client: "Skerry Line", Relay: l.Spec.URL})
	require.NoError(t, err)
	w.Keep()
	c, err := w.Desk.Copies.CopyDefaults(ctx, live, "a test")
	require.NoError(t, err)
	c.Name, c.Scrub = "winter", "off"
	p, err := w.Desk.Copies.PlanCopy(ctx, live.ID, c)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(p).State)
	s, id, was := w.Site("winter"), somePage(t, live), rows(t, live)
	on(t, s, "UPDATE sk_posts SET post_title = 'Low tide' WHERE ID = "+id)
	sync, r := carried(t, w, s, carry.Wish{To: carry.Live, Kinds: []string{"page"}})
	assert.Contains(t, codes(sync), "relay", "it says how it writes")
	assert.Equal(t, "Low tide", get(t, live, "SELECT post_title FROM sk_posts WHERE ID = "+id))
	undone(t, w, r.ID)
	assert.Equal(t, was, rows(t, live))

	point := resettest.Kept(t, w.World, live)
	on(t, live, "UPDATE sk_posts SET post_title = CONCAT(post_title, ' and gone')", "DELETE FROM sk_postmeta",
		"DELETE FROM sk_options WHERE option_name = 'blogdescription'")
	for _, moment := range []string{"tables progress", "tables end"} {
		pl, err := w.Desk.Points.PlanRestore(ctx, point, resettest.Whole)
		require.NoError(t, err)
		require.False(t, pl.Blocked(), pl.Findings)
		w.Stop()
		r := resettest.Start(t, w.World, pl)
		require.NoError(t, w.Desk.Close())
		demotest.KilledAt(t, w.World, moment)
		left, err := filepath.Glob(filepath.Join(l.Spec.Root, host.RelayPrefix+"*.php"))
		require.NoError(t, err)
		require.NotEmpty(t, left, "what was killed could remove nothing")
		w.Open()
		w.Desk.SetAsker(nil)
		demotest.Resumed(t, w.World, r.ID)
		w.Keep()
		assert.Equal(t, was, rows(t, live), moment)
		assert.Equal(t, 200, l.Get("/"))
		on(t, live, "UPDATE sk_posts SET post_title = CONCAT(post_title, ' again')", "DELETE FROM sk_postmeta")
	}
}

func codes(p plan.Plan) (out []string) {
	for _, f := range p.Findings {
		out = append(out, f.Code)
	}
	return out
}
