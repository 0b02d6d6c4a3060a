package reset_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/demo/resettest"
	"alibi/internal/inventory"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
)

func TestADamagedRestorePointChangesNothing(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	live := w.Site(origin)
	p := resettest.Kept(t, w, live)
	at := resettest.Here(w, live)
	damage(t, at)
	resettest.Kept(t, w, live)
	pl, err := w.Desk.Points.PlanRestore(context.Background(), p, resettest.Whole)
	require.NoError(t, err)
	// What only the first point has is lost.
	packs, err := filepath.Glob(filepath.Join(w.Base, "depot/packs/*/*.zst"))
	require.NoError(t, err)
	for _, f := range packs {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		for i := 100; i < len(text)-1000; i += 50 {
			text[i] ^= 8
		}
		require.NoError(t, os.WriteFile(f, text, 0o600))
	}
	w.Stop() // what was read stays in memory
	require.NoError(t, w.Desk.Close())
	w.Open()
	w.Keep()
	r := resettest.Await(t, w, resettest.Start(t, w, pl))
	assert.Equal(t, plan.Cancelled, r.State)
	assert.Contains(t, r.Error, "the depot is damaged")
	assert.Contains(t, r.Remedy, "the site is as it was before the run")
	assert.NotContains(t, r.Error, "goroutine")
	resettest.Clear(t, w, live.ID)
	assert.Equal(t, "broken", value(t, at, "SELECT post_title FROM sk_posts WHERE ID = 5"))
	assert.FileExists(t, filepath.Join(at.Root, "wp-content/evil/deep/x.php"))
}

func TestASiteThatIsBusyIsNotTouched(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "near")
	p := resettest.Kept(t, w, s)
	pl, err := w.Desk.Points.PlanRestore(ctx, p, resettest.Whole)
	require.NoError(t, err)
	_, err = w.Desk.Workings().Record.ChangeSite(ctx, s.ID, func(s *site.Site) error { s.Run = "another"; return nil })
	require.NoError(t, err)
	require.NoError(t, w.Desk.Workings().Record.In(ctx, func(tx *inventory.Tx) error {
		return tx.Claim(ctx, "another", plan.Claim{Site: s.ID}, "")
	}))
	_, err = w.Desk.Runs.StartTyped(ctx, pl, pl.Confirm)
	require.ErrorIs(t, err, inventory.ErrClaimed)
	now, err := w.Desk.Workings().Record.Site(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, "another", now.Run, "it is still the other's")
	for _, do := range []func() error{
		func() error { _, err := w.Desk.Copies.Park(ctx, s.ID, "", "", ""); return err },
		func() error { _, err := w.Desk.Copies.Lift(ctx, s.ID, ""); return err },
	} {
		assert.ErrorContains(t, do(), "is at work on")
	}
}

func TestALiveSiteOnAnotherHostIsBroughtBack(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	m := w.Machine("kelp")
	live := w.Make("ferry", func(s *real.Spec) {
		s.Host, s.Root, s.Server, s.Admin = "kelp", filepath.Join(m.Dir, "www/ferry"), m.Server(), m.Admin()
	})
	w.Keep()
	ctx := context.Background()
	p := resettest.Kept(t, w.World, live)
	require.NoError(t, os.WriteFile(filepath.Join(live.Root, "index.php"), []byte("<?php // broken"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(live.Root, "wp-content/evil"), 0o755))
	resettest.Restore(t, w.World, p, resettest.Whole)
	c, err := w.Desk.Points.Since(ctx, p)
	require.NoError(t, err)
	assert.Empty(t, c.Files)
	assert.Empty(t, c.Tables)
	assert.NoDirExists(t, filepath.Join(live.Root, "wp-content/evil"))
	resettest.Clear(t, w.World, live.ID)
}

func TestTheOtherSiteInTheDatabaseIsNotTouched(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	on(t, live, "CREATE TABLE sk_shop_options LIKE sk_options", "INSERT INTO sk_shop_options SELECT * FROM sk_options",
		"CREATE TABLE sk_shop_posts LIKE sk_posts", "CREATE TABLE sk_shop_log (n INT)",
		"INSERT INTO sk_shop_log VALUES (1)")
	w.Keep()
	p := resettest.Kept(t, w.World, live)
	on(t, live, "UPDATE sk_shop_log SET n = 2", "UPDATE sk_shop_options SET option_value = 'theirs' WHERE "+
		"option_name = 'blogname'", "UPDATE sk_options SET option_value = 'broken' WHERE option_name = 'blogname'",
		"CREATE TABLE sk_shop_new (n INT)")
	resettest.Restore(t, w.World, p, reset.Choices{Database: true})
	assert.Equal(t, "2", value(t, live, "SELECT n FROM sk_shop_log"))
	assert.Equal(t, "theirs", value(t, live, "SELECT option_value FROM sk_shop_options WHERE option_name = 'blogname'"))
	assert.Equal(t, "0", value(t, live, "SELECT COUNT(*) FROM sk_shop_new"))
	assert.NotEqual(t, "broken", value(t, live, "SELECT option_value FROM sk_options WHERE option_name = 'blogname'"))
}
