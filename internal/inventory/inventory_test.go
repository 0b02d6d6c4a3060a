package inventory

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/plan"
	"alibi/internal/site"
)

func open(t *testing.T) (*Inventory, string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "record.db")
	in, err := Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { in.Close() })
	return in, path
}

func TestSites(t *testing.T) {
	in, path := open(t)
	ctx := context.Background()
	a := site.Address{Scheme: "https", Host: "skerryline.example"}
	s := site.Site{
		ID:        "1",
		Name:      "b",
		Role:      site.Live,
		State:     site.Ready,
		Addresses: []site.Address{a},
		Lease:     site.Begin(time.Now(), time.Hour, time.Hour),
	}
	require.NoError(t, in.PutSite(ctx, s))
	require.NoError(t, in.PutSite(ctx, site.Site{ID: "2", Name: "a", State: site.Ready}))
	require.NoError(t, in.PutSite(ctx, site.Site{ID: "3", Name: "c", State: site.Gone}))
	all, err := in.Sites(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2, "what is gone is not listed")
	assert.Equal(t, "a", all[0].Name)
	got, err := in.Site(ctx, "1")
	require.NoError(t, err)
	assert.Equal(t, a, got.Address())
	assert.True(t, got.Lease.Ends.Equal(s.Lease.Ends))
	gone, err := in.Site(ctx, "3")
	require.NoError(t, err, "but it can be found for the history")
	assert.Equal(t, site.Gone, gone.State)
	_, err = in.Site(ctx, "9")
	assert.ErrorIs(t, err, ErrUnknown)
	fi, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), fi.Mode().Perm())
}

func TestChangeSiteIsOneTransaction(t *testing.T) {
	in, path := open(t)
	ctx := context.Background()
	require.NoError(t, in.PutSite(ctx, site.Site{ID: "1", Name: "a", State: site.Ready}))
	other, err := Open(path)
	require.NoError(t, err)
	defer other.Close()
	var wg sync.WaitGroup
	for i := range 40 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			_, err := []*Inventory{in, other}[i%2].ChangeSite(ctx, "1", func(s *site.Site) error {
				s.Apart.Copy++
				return nil
			})
			assert.NoError(t, err)
		}()
	}
	wg.Wait()
	s, err := in.Site(ctx, "1")
	require.NoError(t, err)
	assert.Equal(t, 40, s.Apart.Copy, "no change of either process is lost")
	boom := errors.New("boom")
	_, err = in.ChangeSite(ctx, "1", func(s *site.Site) error { s.Name = "z"; return boom })
	assert.ErrorIs(t, err, boom)
	s, err = in.Site(ctx, "1")
	require.NoError(t, err)
	assert.Equal(t, "a", s.Name)
	_, err = in.ChangeSite(ctx, "none", func(*site.Site) error { return nil })
	assert.ErrorIs(t, err, ErrUnknown)
}

func TestVersionTellsOfEveryChange(t *testing.T) {
	in, path := open(t)
	ctx := context.Background()
	v1, err := in.Version(ctx)
	require.NoError(t, err)
	v2, err := in.Version(ctx)
	require.NoError(t, err)
	assert.Equal(t, v1, v2)
	require.NoError(t, in.PutSite(ctx, site.Site{ID: "1"}))
	v3, err := in.Version(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, v2, v3, "our own")
	other, err := Open(path)
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, other.PutSite(ctx, site.Site{ID: "2"}))
	v4, err := in.Version(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, v3, v4, "another process's")
}

func TestHosts(t *testing.T) {
	in, _ := open(t)
	ctx := context.Background()
	require.NoError(t, in.PutHost(ctx, Host{Name: "pier", Addr: "pier.example"}))
	require.NoError(t, in.PutHost(ctx, Host{Name: "pier", Addr: "pier.example", Port: "2222"}))
	h, err := in.Host(ctx, "pier")
	require.NoError(t, err)
	assert.Equal(t, "2222", h.Port)
	assert.False(t, h.Local())
	_, err = in.Host(ctx, "none")
	assert.ErrorIs(t, err, ErrUnknown)
}

func TestRuns(t *testing.T) {
	in, _ := open(t)
	ctx := context.Background()
	base := time.Now()
	for i, s := range []plan.RunState{plan.Done, plan.Running, plan.Waiting, plan.Stopped} {
		require.NoError(t, in.PutRun(ctx, plan.Run{ID: fmt.Sprintf("%d00000", i), State: s,
			Made: base.Add(time.Duration(i) * time.Second)}))
	}
	list, err := in.Runs(ctx, 2)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "300000", list[0].ID, "newest first")
	open, err := in.Unfinished(ctx)
	require.NoError(t, err)
	require.Len(t, open, 2)
	assert.Equal(t, "100000", open[0].ID, "oldest first")
	r, err := in.Run(ctx, "2000")
	require.NoError(t, err, "the beginning of an ID is enough")
	assert.Equal(t, "200000", r.ID)
	_, err = in.Run(ctx, "2")
	assert.ErrorIs(t, err, ErrUnknown, "but not so little")
	require.NoError(t, in.AskCancel(ctx, "100000", base))
	asked, err := in.CancelAsked(ctx, "100000")
	require.NoError(t, err)
	assert.True(t, asked)
	require.NoError(t, in.PutRun(ctx, plan.Run{ID: "100000", State: plan.Running}))
	asked, err = in.CancelAsked(ctx, "100000")
	require.NoError(t, err)
	assert.True(t, asked, "saving progress does not lose the wish")
	require.NoError(t, in.Withdraw(ctx, "100000"))
	asked, err = in.CancelAsked(ctx, "100000")
	require.NoError(t, err)
	assert.False(t, asked)
	require.NoError(t, in.SetCheckpoint(ctx, "100000", map[string]int{"n": 7}))
	var m map[string]int
	require.NoError(t, in.Checkpoint(ctx, "100000", &m))
	assert.Equal(t, 7, m["n"])
}

func TestMadeEventsNotesAndEvidence(t *testing.T) {
	in, _ := open(t)
	ctx := context.Background()
	require.NoError(t, in.AddMade(ctx, Made{Site: "1", Kind: "folder", Host: "h", Path: "/a", At: time.Now()}))
	require.NoError(t, in.AddMade(ctx, Made{Site: "2", Kind: "folder", Host: "h", Path: "/a", At: time.Now()}))
	made, err := in.AllMade(ctx)
	require.NoError(t, err)
	require.Len(t, made, 1, "a place is noted once")
	assert.Equal(t, site.ID("2"), made[0].Site)
	require.NoError(t, in.Unmade(ctx, "h", "/a"))
	made, err = in.AllMade(ctx)
	require.NoError(t, err)
	assert.Empty(t, made)

	for i := range 3 {
		require.NoError(t, in.Log(ctx, Event{At: time.Now(), Who: "runa", Site: site.ID(fmt.Sprint(i % 2)), Kind: "k",
			Text: fmt.Sprint(i)}))
	}
	ev, err := in.Events(ctx, "0", 10)
	require.NoError(t, err)
	require.Len(t, ev, 2)
	assert.Equal(t, "2", ev[0].Text)
	ev, err = in.Events(ctx, "", 10)
	require.NoError(t, err)
	assert.Len(t, ev, 3)

	v, err := in.Note(ctx, "k")
	require.NoError(t, err)
	assert.Empty(t, v)
	require.NoError(t, in.SetNote(ctx, "k", "1"))
	require.NoError(t, in.SetNote(ctx, "k", "2"))
	v, err = in.Note(ctx, "k")
	require.NoError(t, err)
	assert.Equal(t, "2", v)

	require.NoError(t, in.PutEvidence(ctx, "1", time.Now(), map[string]int{"n": 1}))
	require.NoError(t, in.PutEvidence(ctx, "1", time.Now().Add(time.Second), map[string]int{"n": 2}))
	docs, err := in.Evidence(ctx, "1", 5)
	require.NoError(t, err)
	require.Len(t, docs, 2)
	assert.JSONEq(t, `{"n": 2}`, string(docs[0]))
}

func TestANewerRecordIsRefused(t *testing.T) {
	in, path := open(t)
	require.NoError(t, in.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 99")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Open(path)
	assert.ErrorContains(t, err, "written by a newer version of Alibi")
	require.NoError(
		t, os.WriteFile(path, []byte("this is no database, and rather long so that it is not taken for an empty one"),
			0o600),
	)
	_, err = Open(path)
	assert.ErrorContains(t, err, "can't be used")
}

func TestOnlySitesThatWereChangedAreReadAgain(t *testing.T) {
	ctx := context.Background()
	in, file := open(t)
	other, err := Open(file)
	require.NoError(t, err)
	defer other.Close()
	for _, name := range []string{"b.example", "a.example", "c.example"} {
		require.NoError(t, in.PutSite(ctx, site.Site{ID: site.ID(name), Name: name, State: site.Ready,
			Facts: &site.Facts{Title: name}}))
	}
	names := func(l []site.Site) (out []string) {
		for _, s := range l {
			out = append(out, s.Name)
		}
		return out
	}
	first, err := in.Listed(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"a.example", "b.example", "c.example"}, names(first))

	_, err = other.ChangeSite(ctx, "b.example", func(s *site.Site) error {
		s.Name, s.Facts.Title = "d.example", "another"
		return nil
	})
	require.NoError(t, err)
	_, err = other.ChangeSite(ctx, "c.example", func(s *site.Site) error {
		s.State = site.Gone
		return nil
	})
	require.NoError(t, err)
	tx, err := other.DB().Begin()
	require.NoError(t, err)
	_, err = tx.Exec("UPDATE sites SET name = 'never' WHERE id = 'a.example'")
	require.NoError(t, err)
	require.NoError(t, tx.Rollback())
	second, err := in.Listed(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"a.example", "d.example"}, names(second))
	assert.Equal(t, "another", second[1].Facts.Title)
	assert.Same(t, first[0].Facts, second[0].Facts, "it was not read again")

	_, err = other.DB().Exec("DELETE FROM sites WHERE id = 'a.example'")
	require.NoError(t, err)
	require.NoError(t, other.PutSite(ctx, site.Site{ID: "c.example", Name: "c.example", State: site.Ready}))
	third, err := in.Listed(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"c.example", "d.example"}, names(third))
	all, err := in.Sites(ctx)
	require.NoError(t, err)
	assert.Equal(t, names(all), names(third))
}
