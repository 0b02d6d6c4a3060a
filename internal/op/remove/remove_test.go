package remove_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/inventory"
	"alibi/internal/op/remove"
	"alibi/internal/plan"
	"alibi/internal/site"
)

const origin = "https://skerryline.example"

func TestExpireAndBringBack(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "brief")
	s, err := w.Desk.Copies.Expire(ctx, s.ID, s.Name)
	require.NoError(t, err)
	assert.Equal(t, site.Expired, s.State)
	_, err = w.Desk.Copies.Expire(ctx, s.ID, s.Name)
	assert.ErrorContains(t, err, "is expired already; it will be removed")
	_, err = w.Desk.Copies.Extend(ctx, s.ID, time.Hour, "")
	assert.ErrorContains(t, err, "bring it back instead")
	_, err = w.Desk.Copies.Hold(ctx, s.ID, "why")
	assert.Error(t, err)
	s, err = w.Desk.Copies.BringBack(ctx, s.ID, 5*time.Hour)
	require.NoError(t, err)
	assert.Equal(t, site.Ready, s.State)
	assert.InDelta(t, 5*3600, s.Lease.Left(time.Now()).Seconds(), 60)
	_, err = w.Desk.Copies.BringBack(ctx, s.ID, 0)
	assert.ErrorContains(t, err, "only an expired copy")
	ans, err := w.Desk.Workings().Env.Probe(ctx, s)
	require.NoError(t, err)
	assert.Equal(t, 200, ans.Status, "it answers again")
}

func TestLiveSitesHaveNoEnd(t *testing.T) {
	w := demotest.New(t)
	ctx := context.Background()
	id := w.Site(origin).ID
	_, err := w.Desk.Copies.Expire(ctx, id, "")
	assert.ErrorContains(t, err, "is a live site")
	_, err = w.Desk.Copies.PlanRemove(ctx, id)
	assert.ErrorContains(t, err, "Alibi removes only copies")
	_, err = w.Desk.Copies.Extend(ctx, id, time.Hour, "")
	assert.ErrorContains(t, err, "it has no lease")
}

func TestRemoveLeavesNothing(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "gone")
	_, err := w.Desk.Copies.Hold(ctx, s.ID, "for the test")
	require.NoError(t, err)
	p, err := w.Desk.Copies.PlanRemove(ctx, s.ID)
	require.NoError(t, err)
	require.NotEmpty(t, p.Findings)
	assert.Contains(t, p.Findings[0].Text, "it is held: for the test")
	r := w.Run(p)
	assert.Equal(t, plan.Done, r.State)
	assert.Contains(t, r.Result, "freed")
	assert.NoDirExists(t, w.Desk.Workings().Env.CopyDir("gone"))
	_, err = w.Desk.Fleet.Find(ctx, "gone")
	assert.ErrorIs(t, err, inventory.ErrUnknown)
	left, err := w.Desk.Fleet.Leftovers(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
	past, err := w.Desk.Fleet.History(ctx, s.ID, 10)
	require.NoError(t, err)
	assert.Equal(t, "removed for good, after 0 h", past[0].Text, "the history stays")
	assert.Equal(t, "gone", past[0].Name)
}

func TestLeftovers(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "stays")
	env := w.Desk.Workings().Env
	require.NoError(t, os.MkdirAll(filepath.Join(env.CopyDir("forgotten"), "now"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(env.CopyDir("forgotten"), "now", "f"), make([]byte, 100), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(env.CopyDir("stays"), "old"), 0o700))
	require.NoError(t, env.Record.AddMade(ctx, inventory.Made{Site: "x", Kind: "folder", Host: env.Local,
		Path: env.CopyDir("noted"), At: time.Now()}))
	require.NoError(t, os.MkdirAll(filepath.Join(env.Home, "temp", "1999999999", "image"), 0o700))
	left, err := w.Desk.Fleet.Leftovers(ctx)
	require.NoError(t, err)
	why := map[string]string{}
	for _, l := range left {
		why[filepath.Base(l.Path)] = l.Why
	}
	assert.Equal(
		t,
		map[string]string{
			"forgotten":  "it is not in the record",
			"old":        "left by a run that did not end",
			"noted":      "no site needs it any more",
			"1999999999": "a process left it that is not running any more",
		},
		why,
	)
	require.NoError(t, w.Desk.Fleet.ClearLeftovers(ctx, left))
	left, err = w.Desk.Fleet.Leftovers(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.DirExists(t, s.Root, "what is needed stays")
	err = remove.Clear(ctx, env, []remove.Leftover{{Host: env.Local, Path: "/etc"}}, "test")
	assert.ErrorContains(t, err, "not in Alibi's folder")
}
