package clone_test

import (
	"context"
	"database/sql"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/baseline"
	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/evidence"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
	"alibi/internal/tree"
)

// checks are those of a copy's last evidence, by name.
func checks(t *testing.T, d *desk.Desk, id site.ID) map[string]evidence.Check {
	t.Helper()
	reps, err := d.Copies.Reports(context.Background(), id, 1)
	require.NoError(t, err)
	require.NotEmpty(t, reps)
	out := map[string]evidence.Check{}
	for _, c := range reps[0].Checks {
		assert.NotContains(t, out, c.Name, "each is told once")
		out[c.Name] = c
	}
	return out
}

func TestACopyAnswersBeforeItIsProven(t *testing.T) {
	var w *demotest.World
	var early site.Site
	w = demotest.New(t, demotest.Once("evidence begin", func() {
		early = w.Site("soon")
		exec1(t, early.Database.Path, "UPDATE sk_posts SET post_title = 'worked on' WHERE ID = 5")
		assert.NoError(t, os.WriteFile(filepath.Join(early.Root, "index.php"), []byte("<?php // worked on\n"), 0o644))
		assert.NoError(t, os.Remove(filepath.Join(early.Root, "wp-content/themes/harbour/style.css")))
		assert.NoError(t, os.WriteFile(filepath.Join(early.Root, "mine.php"), []byte("<?php\n"), 0o644))
	}))
	w.Keep()
	r := w.Run(w.Plan(origin, "soon"))
	require.Equal(t, plan.Done, r.State, r.Error)

	assert.Equal(t, site.Ready, early.State)
	assert.Equal(t, r.ID, early.Run, "and nothing else can be done to it meanwhile")
	assert.True(t, early.Unproven())
	assert.Equal(t, "answers, not proven yet", early.ProofText())
	assert.False(t, early.Lease.Ends.IsZero(), "its time has begun")

	s := w.Site("soon")
	assert.True(t, s.Proof.Holds, "what a person did to it is no damage")
	assert.False(t, s.Unproven())
	got := checks(t, w.Desk, s.ID)
	assert.Equal(t, evidence.Holds, got["table sk_posts"].Verdict, "it is compared as it was when it began to answer")
	assert.Equal(t, evidence.Changed, got["files"].Verdict)
	assert.Equal(t, "2 entries changed since the copy began to answer", got["files"].Text)
	assert.Equal(t, evidence.Holds, got["isolation"].Verdict)
	b, err := baseline.Open(filepath.Join(filepath.Dir(filepath.Dir(s.Root)), "now/baseline.db"))
	require.NoError(t, err)
	defer b.Close()
	files, err := b.Files(context.Background())
	require.NoError(t, err)
	for name, f := range files {
		if f.Origin.Path != "" && f.Origin.Regular() {
			assert.NotEqual(t, tree.Hash{}, f.Origin.Hash, "%s was read when it was compared", name)
		}
	}
	apart, err := w.Desk.Copies.Apart(context.Background(), s.ID)
	require.NoError(t, err)
	assert.Equal(t, 4, apart.Copy, "a row and three files: it is known what the person did")
	assert.Zero(t, apart.Origin)
}

func TestDamageIsFoundThoughTheCopyAnswered(t *testing.T) {
	ctx := context.Background()
	var w *demotest.World
	w = demotest.New(t, demotest.Once("place end", func() {
		exec1(t, w.Site("odd").Database.Path, "DELETE FROM sk_posts WHERE ID = 9")
	}))
	w.Keep()
	r := w.Run(w.Plan(origin, "odd"))
	for range 2 {
		require.Equal(t, plan.Stopped, r.State, "the second time it is no change of a person's either")
		assert.Contains(t, r.Error, "sk_posts")
		assert.Contains(t, r.Error, "it does not answer any more")
		assert.Equal(t, site.Failed, w.Site("odd").State)
		assert.False(t, w.Site("odd").Proof.Holds)
		_, err := w.Desk.Workings().Queue.Resume(ctx, r.ID)
		require.NoError(t, err)
		r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
		require.NoError(t, err)
	}
}

func TestARealCopyIsWorkedOnWhileItIsProven(t *testing.T) {
	ctx := context.Background()
	var w *realtest.World
	status := 0
	altered := make(chan error, 1)
	w = realtest.New(t, realtest.Options{Change: []func(*desk.Options){demotest.Once("evidence begin", func() {
		s := w.Site("soon")
		resp, page := clonetest.Ask(t, s, "/")
		status = resp.StatusCode
		clonetest.Has(t, page, "not proven yet: it is being compared with its origin")
		db, err := sql.Open("mysql", "root@unix("+mariadbtest.Socket()+")/"+s.Database.Name)
		assert.NoError(t, err)
		_, err = db.Exec("UPDATE " + s.Database.Prefix + "posts SET post_title = 'worked on' WHERE ID = 1")
		assert.NoError(t, err)
		go func(db *sql.DB) { // it may have to wait until the table was compared
			_, err := db.Exec("ALTER TABLE " + s.Database.Prefix + "links ADD berth INT")
			altered <- err
		}(db)
	})}})
	live := w.Make("ferry")
	w.Keep()
	r := w.Run(w.Plan(live.Name, "soon"))
	require.Equal(t, plan.Done, r.State, r.Error)
	require.NoError(t, <-altered)
	_, page := clonetest.Ask(t, w.Site("soon"), "/")
	clonetest.Lacks(t, page, "not proven yet")
	assert.Equal(t, http.StatusOK, status)
	s := w.Site("soon")
	assert.True(t, s.Proof.Holds)
	assert.Equal(t, evidence.Holds, checks(t, w.Desk, s.ID)["table "+s.Database.Prefix+"posts"].Verdict)
	apart, err := w.Desk.Copies.Apart(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, 2, apart.Copy, "a row, and the shape of a table")
	p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(p).State)
	clonetest.Holds(t, w, w.Site("soon"))
}

func TestDamageIsFoundWhereNobodyWroteToTheOriginSince(t *testing.T) {
	ctx := context.Background()
	var w *realtest.World
	w = realtest.New(t, realtest.Options{Change: []func(*desk.Options){demotest.Once("place end", func() {
		s := w.Site("hurt")
		db, err := sql.Open("mysql", "root@unix("+mariadbtest.Socket()+")/"+s.Database.Name)
		assert.NoError(t, err)
		defer db.Close()
		_, err = db.Exec("UPDATE " + s.Database.Prefix + "posts SET post_title = 'damaged' WHERE ID = 1")
		assert.NoError(t, err)
	})}})
	live := w.Make("ferry")
	time.Sleep(3 * time.Second) // by its server's times, which are in seconds, it is known to be quiet
	w.Keep()
	r := w.Run(w.Plan(live.Name, "hurt"))
	require.Equal(t, plan.Stopped, r.State)
	c := checks(t, w.Desk, r.Plan.Target.ID)["table "+live.Database.Prefix+"posts"]
	assert.Equal(t, evidence.Broken, c.Verdict)
	require.Len(t, c.Rows, 1)
	assert.Equal(t, []string{"post_title"}, c.Rows[0].Columns)
	require.NoError(t, w.Desk.Workings().Queue.Cancel(ctx, r.ID))
	_, err := w.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	s := clonetest.CopyOf(w, live, "well", func(*clone.Choices) {})
	clonetest.Holds(t, w, s)
}
