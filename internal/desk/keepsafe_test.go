package desk_test

import (
	"context"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/op/keep"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
)

const ferry = "https://skerryline.example"

// reopen opens the desk again with another configuration.
func reopen(t *testing.T, w *demotest.World, change func(*desk.Config)) {
	t.Helper()
	c := w.Desk.Config()
	change(&c)
	require.NoError(t, w.Desk.Close())
	require.NoError(t, desk.SaveConfig(w.Base, c))
	w.Open()
}

func kept(t *testing.T, w *demotest.World, id site.ID) desk.Point {
	t.Helper()
	ctx := context.Background()
	p, err := w.Desk.Points.PlanKeep(ctx, id, keep.Choices{Kind: depot.ByHand})
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	list, bad, err := w.Desk.Points.Points(ctx, id)
	require.NoError(t, err)
	require.Empty(t, bad)
	return list[0]
}

func TestAnEncryptedDepotInABucket(t *testing.T) {
	t.Setenv("AWS_ACCESS_KEY_ID", "made-up")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "made-up-secret")
	backend := s3mem.New()
	require.NoError(t, backend.CreateBucket("points"))
	srv := httptest.NewServer(gofakes3.New(backend, gofakes3.WithTimeSkewLimit(0)).Server())
	t.Cleanup(srv.Close)
	k, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	keyFile := filepath.Join(t.TempDir(), "key.txt")
	require.NoError(t, os.WriteFile(keyFile, []byte(k.String()+"\n"), 0o600))
	place := "s3+http://" + strings.TrimPrefix(srv.URL, "http://") + "/points/skerry?region=us-east-1"

	w := demotest.New(t)
	reopen(t, w, func(c *desk.Config) { c.Depot.Path, c.Depot.Key = place, keyFile })
	w.Keep()
	ctx := context.Background()
	s := w.Copy(ferry, "near")
	p := kept(t, w, s.ID)
	require.NoError(t, w.Spoil("row-extra", s))
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "index.php"), []byte("<?php // broken"), 0o644))
	pl, err := w.Desk.Points.PlanRestore(ctx, p, reset.Choices{Files: true, Database: true})
	require.NoError(t, err)
	r, err := w.Desk.Runs.StartTyped(ctx, pl, pl.Confirm)
	require.NoError(t, err)
	r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	require.Equal(t, plan.Done, r.State, r.Error)
	c, err := w.Desk.Points.Since(ctx, p)
	require.NoError(t, err)
	assert.Empty(t, c.Files)
	assert.Empty(t, c.Tables)
	faults, err := w.Desk.Points.VerifyDepot(ctx, func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, faults)
	b, err := w.Desk.Fleet.Board(ctx)
	require.NoError(t, err)
	assert.Equal(t, 2, b.Kept[s.ID].Points)
	log, err := os.ReadFile(filepath.Join(w.Base, "alibi.log"))
	require.NoError(t, err)
	assert.NotContains(t, string(log), "made-up-secret")

	// Without its key, or with nobody there, a sentence says so.
	w.Stop()
	reopen(t, w, func(c *desk.Config) { c.Depot.Key = "" })
	_, _, err = w.Desk.Points.Points(ctx, "")
	assert.ErrorIs(t, err, depot.ErrLocked)
	reopen(t, w, func(c *desk.Config) { c.Depot.Key = filepath.Join(w.Base, "none") })
	_, _, err = w.Desk.Points.Points(ctx, "")
	assert.ErrorContains(t, err, "reading the key")
	require.NoError(t, os.WriteFile(keyFile, []byte("no key\n"), 0o600))
	reopen(t, w, func(c *desk.Config) { c.Depot.Key = keyFile })
	_, _, err = w.Desk.Points.Points(ctx, "")
	assert.ErrorContains(t, err, "holds no age key")
}

func TestWhatCopiesCost(t *testing.T) {
	w := demotest.New(t)
	reopen(t, w, func(c *desk.Config) {
		c.Cost = desk.CostRates{Currency: "EUR", Hosts: map[string]float64{c.Machine: 0.02}}
	})
	w.Keep()
	ctx := context.Background()
	s, other := w.Copy(ferry, "near"), w.Copy(ferry, "far")
	back := func(id site.ID, made, ended time.Duration) {
		_, err := w.Desk.Workings().Record.ChangeSite(ctx, id, func(s *site.Site) error {
			s.MadeAt = time.Now().Add(-made)
			s.Lease.Length = 900 * time.Hour
			if ended > 0 {
				s.EndedAt = time.Now().Add(-ended)
			}
			return nil
		})
		require.NoError(t, err)
	}
	back(s.ID, 100*time.Hour, 0)
	back(other.ID, 800*time.Hour, 50*time.Hour) // 750 h of the 900 that it was given
	c, err := w.Desk.Fleet.Costs(ctx)
	require.NoError(t, err)
	by := map[string]desk.Cost{}
	for _, x := range c.Copies {
		by[x.Name] = x
	}
	assert.InDelta(t, 2.0, by["near"].Cost, 0.01)
	assert.Zero(t, by["near"].Saved, "it goes on")
	assert.InDelta(t, 15.0, by["far"].Cost, 0.01)
	assert.InDelta(t, (900-750)*0.02, by["far"].Saved, 0.01)
	assert.InDelta(t, 17.0, c.Cost, 0.02)
	assert.Equal(t, "EUR", c.Currency)
	p, err := w.Desk.Copies.PlanRemove(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(p).State)
	gone, err := w.Desk.Workings().Record.Site(ctx, s.ID)
	require.NoError(t, err)
	assert.False(t, gone.EndedAt.IsZero())
	again, err := w.Desk.Fleet.Costs(ctx)
	require.NoError(t, err)
	assert.Len(t, again.Copies, 2, "what is gone has cost something all the same")
}

func TestDeletedCopiesComeBackOrEnd(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(ferry, "near")
	w.Copy(ferry, "held")
	_, err := w.Desk.Copies.Hold(ctx, w.Site("held").ID, "for good")
	require.NoError(t, err)
	list, err := w.Desk.Fleet.Ends(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1, "what is held has no end")
	assert.False(t, list[0].Purge)
	assert.Equal(t, "skerryline.example", list[0].Of)
	_, err = w.Desk.Copies.Expire(ctx, s.ID, s.Name)
	require.NoError(t, err)
	gone, err := w.Desk.Fleet.Deleted(ctx)
	require.NoError(t, err)
	require.Len(t, gone, 1)
	assert.True(t, gone[0].Purge)
	assert.WithinDuration(t, time.Now().Add(w.Desk.Workings().Env.Grace), gone[0].At, time.Minute)
	s, err = w.Desk.Copies.BringBack(ctx, s.ID, 0)
	require.NoError(t, err)
	assert.True(t, s.EndedAt.IsZero())
	gone, err = w.Desk.Fleet.Deleted(ctx)
	require.NoError(t, err)
	assert.Empty(t, gone)
}

func TestQuotasOfRestorePoints(t *testing.T) {
	w := demotest.New(t)
	reopen(t, w, func(c *desk.Config) { c.Quota.PointsPerSite = 1 })
	w.Keep()
	ctx := context.Background()
	s := w.Copy(ferry, "near")
	p := kept(t, w, s.ID)
	pl, err := w.Desk.Points.PlanKeep(ctx, s.ID, keep.Choices{Kind: depot.ByHand})
	require.NoError(t, err)
	require.True(t, pl.Blocked())
	assert.Contains(t, pl.Findings[0].Text, "1 of 1 restore points allowed")
	// What Alibi takes before it writes is never kept from being taken.
	pl, err = w.Desk.Points.PlanRestore(ctx, p, reset.Choices{Files: true, Database: true})
	require.NoError(t, err)
	assert.False(t, pl.Blocked())
	r := w.Run(pl)
	assert.Equal(t, plan.Done, r.State, r.Error)
}

func TestOneThingDoneToSeveralSites(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	live, a, b := w.Site(ferry), w.Copy(ferry, "near"), w.Copy(ferry, "far")
	ids := []site.ID{live.ID, a.ID, b.ID}
	for act, want := range map[desk.Act]string{desk.ActExpire: "it is live", desk.ActRefresh: "it is live",
		desk.ActRemove: "it is live", desk.ActBack: "it is not expired", desk.ActLift: "visitors see it as it is"} {
		p, err := w.Desk.Fleet.PlanBulk(ctx, act, ids)
		if act == desk.ActBack || act == desk.ActLift {
			assert.ErrorContains(t, err, want)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, want, p.Items[0].Cannot)
		assert.Empty(t, p.Items[1].Cannot)
	}
	_, err := w.Desk.Fleet.PlanBulk(ctx, "sink", ids)
	assert.ErrorContains(t, err, "nothing that can be done")
	p, err := w.Desk.Fleet.PlanBulk(ctx, desk.ActPark, ids)
	require.NoError(t, err)
	assert.Equal(t, "skerryline.example", p.Confirm, "the names of those that are live")
	_, err = w.Desk.Fleet.RunBulk(ctx, p, "park 3")
	assert.ErrorIs(t, err, desk.ErrNotTyped)
	p, err = w.Desk.Fleet.PlanBulk(ctx, desk.ActPark, ids[1:])
	require.NoError(t, err)
	assert.Empty(t, p.Confirm)
	for _, act := range []desk.Act{desk.ActPark, desk.ActLift, desk.ActExtend, desk.ActExpire, desk.ActBack,
		desk.ActHold} {
		p, err := w.Desk.Fleet.PlanBulk(ctx, act, ids[1:])
		require.NoError(t, err, act)
		done, err := w.Desk.Fleet.RunBulk(ctx, p, p.Confirm)
		require.NoError(t, err, act)
		assert.Len(t, done, 2, act)
	}
	p, err = w.Desk.Fleet.PlanBulk(ctx, desk.ActKeep, ids)
	require.NoError(t, err)
	done, err := w.Desk.Fleet.RunBulk(ctx, p, "")
	require.NoError(t, err)
	for _, x := range done {
		r, err := w.Desk.Runs.Await(ctx, x.Run, nil)
		require.NoError(t, err)
		assert.Equal(t, plan.Done, r.State, r.Error)
	}
	p, err = w.Desk.Fleet.PlanBulk(ctx, desk.ActRemove, ids[1:])
	require.NoError(t, err)
	assert.Equal(t, "it is held: held together with others", p.Items[0].Warning)
	sizes, err := w.Desk.Fleet.DepotSizes(ctx)
	require.NoError(t, err)
	require.Len(t, sizes, 3)
	assert.GreaterOrEqual(t, sizes[0].Added, sizes[2].Added)
}
