package desk_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/runtime/names"
	"alibi/internal/site"
	"alibi/internal/work"
)

func TestTheLiveNameLeadsToACopy(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy("skerryline.example", "near")
	hosts := filepath.Join(w.Desk.Home(), "hosts")
	const theirs = "127.0.0.1 localhost\n"
	require.NoError(t, os.WriteFile(hosts, []byte(theirs), 0o644))

	list, err := w.Desk.Copies.PointHere(ctx, s.ID)
	require.NoError(t, err)
	require.NotEmpty(t, list)
	assert.Equal(t, []string{"127.0.0.1", "::1"}, list[0].To)
	assert.Equal(t, "200 from near", list[0].Answers)
	assert.NotNil(t, w.Site("near").Pointed)
	left, err := w.Desk.Fleet.Leftovers(ctx)
	require.NoError(t, err)
	assert.Empty(t, left, "it belongs to a copy")

	list, err = w.Desk.Copies.PointBack(ctx, s.ID)
	require.NoError(t, err)
	assert.Empty(t, list[0].To)
	text, err := os.ReadFile(hosts)
	require.NoError(t, err)
	assert.Equal(t, theirs, string(text))
	assert.Nil(t, w.Site("near").Pointed)

	require.NoError(t, os.WriteFile(hosts, []byte("192.0.2.9 "+list[0].Name+"\n"), 0o644))
	_, err = w.Desk.Copies.PointHere(ctx, s.ID)
	require.ErrorIs(t, err, names.ErrTaken)
	assert.Nil(t, w.Site("near").Pointed)

	require.NoError(t, os.WriteFile(hosts, []byte(theirs), 0o644))
	_, err = w.Desk.Copies.PointHere(ctx, s.ID)
	require.NoError(t, err)
	_, err = w.Desk.Copies.Expire(ctx, s.ID, "near")
	require.NoError(t, err)
	text, err = os.ReadFile(hosts)
	require.NoError(t, err)
	assert.Equal(t, theirs, string(text), "it goes when the copy expires")
	assert.Nil(t, w.Site("near").Pointed)
	_, err = w.Desk.Copies.BringBack(ctx, s.ID, 0)
	require.NoError(t, err)

	_, err = w.Desk.Copies.PointHere(ctx, s.ID)
	require.NoError(t, err)
	p, err := w.Desk.Copies.PlanRemove(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(p).State)
	text, err = os.ReadFile(hosts)
	require.NoError(t, err)
	assert.Equal(t, theirs, string(text), "it goes with the copy")
	_, err = w.Desk.Copies.PointHere(ctx, w.Site("skerryline.example").ID)
	assert.ErrorContains(t, err, "is no copy that answers")
	got, err := w.Desk.Copies.Caught(ctx, w.Copy("skerryline.example", "other").ID)
	require.NoError(t, err)
	assert.Empty(t, got)
	_, err = w.Desk.Copies.Caught(ctx, w.Site("skerryline.example").ID)
	assert.ErrorContains(t, err, "what it sends is sent")
}

func TestANameWinsOverAnAddressAndWhatFitsSeveralIsRefused(t *testing.T) {
	ctx := context.Background()
	w := demotest.New(t)
	a, err := site.ParseAddress("https://www.shop.example")
	require.NoError(t, err)
	for _, s := range []site.Site{{ID: "p1", Name: "www.shop.example"}, {ID: "p2", Name: "viassh"},
		{ID: "p3", Name: "third"}} {
		s.Role, s.State, s.Host, s.Addresses = site.Live, site.Ready, "pier", []site.Address{a}
		require.NoError(t, w.Desk.Workings().Record.PutSite(ctx, s))
	}
	s, err := w.Desk.Fleet.Find(ctx, "www.shop.example")
	require.NoError(t, err)
	assert.Equal(t, site.ID("p1"), s.ID)
	_, err = w.Desk.Fleet.Find(ctx, "https://www.shop.example/")
	require.ErrorIs(t, err, desk.ErrAmbiguous)
	assert.ErrorContains(t, err, "viassh (live, on pier)")
	s, err = w.Desk.Fleet.Find(ctx, "viass")
	require.NoError(t, err)
	assert.Equal(t, site.ID("p2"), s.ID)
	_, err = w.Desk.Fleet.Find(ctx, "")
	assert.ErrorIs(t, err, inventory.ErrUnknown)
}

func TestAGivenNameIsHadByOneHoweverManyWantItAtOnce(t *testing.T) {
	ctx := context.Background()
	w := demotest.New(t)
	p := []plan.Plan{
		w.Plan("crew", "dup"),
		w.Plan("crew", "dup"),
		w.Plan("crew", "dup"),
		w.Plan("skerryline.example", "dup"),
	}
	errs := make(chan error, len(p))
	for _, p := range p {
		go func() {
			_, err := w.Desk.Runs.StartTyped(ctx, p, "")
			errs <- err
		}()
	}
	made := 0
	for range p {
		if err := <-errs; err == nil {
			made++
		} else {
			assert.ErrorIs(t, err, work.ErrNameTaken)
		}
	}
	assert.Equal(t, 1, made)
	w.Keep()
	list, err := w.Desk.Workings().Record.Runs(ctx, 10)
	require.NoError(t, err)
	require.Len(t, list, 1)
	r, err := w.Desk.Runs.Await(ctx, list[0].ID, nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Done, r.State, r.Error)
	assert.DirExists(t, w.Desk.Workings().Env.CopyDir("dup"))
	all, err := w.Desk.Workings().Record.AllSites(ctx)
	require.NoError(t, err)
	n := 0
	for _, s := range all {
		if s.Name == "dup" {
			n++
		}
	}
	assert.Equal(t, 1, n)
}
