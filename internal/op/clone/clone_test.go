package clone_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
	"alibi/internal/work"
)

const origin = "https://skerryline.example"

// moments are where a run is killed or cancelled: before, in and after each step. A new copy answers from the end of
// "open" on.
var moments = []string{
	"reserve begin",
	"reserve end",
	"files begin",
	"files progress",
	"files end",
	"tables begin",
	"tables progress",
	"tables end",
	"configure begin",
	"configure end",
	"place begin",
	"place end",
	"open begin",
	"open end",
	"evidence begin",
	"evidence progress",
	"evidence end",
}

func TestMain(m *testing.M) { demotest.Main(m, mariadbtest.Main) }

// proven gathers evidence anew, strictly, and wants nothing left over.
func proven(t *testing.T, w *demotest.World, s site.Site) {
	t.Helper()
	w.Keep()
	defer w.Stop()
	ctx := context.Background()
	rep, err := w.Desk.Copies.Prove(ctx, s.ID, true, nil)
	require.NoError(t, err)
	for _, c := range rep.Checks {
		assert.NotEqual(t, "broken", string(c.Verdict), "%s: %s %v", c.Title, c.Text, c.Where)
	}
	left, err := w.Desk.Fleet.Leftovers(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestKilledAtEachMomentOfACopy(t *testing.T) {
	w := demotest.New(t)
	ctx := context.Background()
	for i, m := range moments {
		t.Run(m, func(t *testing.T) {
			name := "k-" + strings.ReplaceAll(m, " ", "-")
			r, err := w.Desk.Runs.Start(ctx, w.Plan(origin, name))
			require.NoError(t, err)
			demotest.KilledAt(t, w, m)
			if s, err := w.Desk.Fleet.Find(ctx, name); err == nil {
				assert.Equal(t, i >= slices.Index(moments, "open end"), s.State == site.Ready, "nothing unfinished looks whole")
			}
			r = demotest.Resumed(t, w, r.ID)
			assert.GreaterOrEqual(t, r.Tries, 1)
			s := w.Site(name)
			assert.Equal(t, site.Ready, s.State)
			assert.Empty(t, s.Run)
			proven(t, w, s)
		})
	}
}

func TestKilledAtEachMomentOfARefresh(t *testing.T) {
	w := demotest.New(t)
	ctx := context.Background()
	w.Keep()
	s := w.Copy(origin, "again")
	w.Stop()
	db := w.Dir("pier", "/srv/skerryline/public/wp-content/database/.ht.sqlite")
	style := w.Dir("pier", "/srv/skerryline/public/wp-content/themes/harbour/style.css")
	for i, m := range moments {
		t.Run(m, func(t *testing.T) {
			exec1(t, db, "UPDATE sk_posts SET post_title = post_title || ? WHERE ID = 5", "+")
			require.NoError(t, os.WriteFile(style, []byte(strings.Repeat("a{}\n", i+1)), 0o644))
			p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
			require.NoError(t, err)
			r, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
			require.NoError(t, err)
			demotest.KilledAt(t, w, m)
			demotest.Resumed(t, w, r.ID)
			b, err := os.ReadFile(filepath.Join(s.Root, "wp-content/themes/harbour/style.css"))
			require.NoError(t, err)
			assert.Len(t, b, 4*(i+1), "the change came over")
			proven(t, w, w.Site("again"))
		})
	}
}

// cancelAt makes an observer that cancels the run at a moment.
func cancelAt(d func() *desk.Desk, moment *string) func(*desk.Options) {
	return func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if *moment != "" && m.Step+" "+m.Phase == *moment {
				*moment = ""
				_ = d().Workings().Queue.Cancel(context.Background(), m.Run)
			}
		}
	}
}

func TestCancelledAtEachMomentLeavesNothing(t *testing.T) {
	var w *demotest.World
	moment := ""
	w = demotest.New(t, cancelAt(func() *desk.Desk { return w.Desk }, &moment))
	w.Keep()
	ctx := context.Background()
	for _, m := range moments {
		t.Run(m, func(t *testing.T) {
			moment = m
			r := w.Run(w.Plan(origin, "cancelled"))
			assert.Equal(t, plan.Cancelled, r.State, r.Error)
			_, err := w.Desk.Fleet.Find(ctx, "cancelled")
			assert.Error(t, err, "it is not in the list")
			assert.NoDirExists(t, w.Desk.Workings().Env.CopyDir("cancelled"))
			left, err := w.Desk.Fleet.Leftovers(ctx)
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

func TestCancelledRefreshGivesTheCopyBack(t *testing.T) {
	var w *demotest.World
	moment := ""
	w = demotest.New(t, cancelAt(func() *desk.Desk { return w.Desk }, &moment))
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "kept")
	exec1(t, s.Database.Path, "UPDATE sk_posts SET post_title = ? WHERE ID = 5", "worked on")
	for _, m := range moments {
		if m == "open end" { // the refresh was proven before, and stands
			continue
		}
		t.Run(m, func(t *testing.T) {
			p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
			require.NoError(t, err)
			moment = m
			r := w.Run(p)
			assert.Equal(t, plan.Cancelled, r.State, r.Error)
			apart, err := w.Desk.Copies.Apart(ctx, s.ID)
			require.NoError(t, err)
			assert.Equal(t, 1, apart.Copy, "the work on the copy is still there, and nothing else changed")
			left, err := w.Desk.Fleet.Leftovers(ctx)
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

func TestRefreshBringsOnlyWhatChanged(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "again")
	root := w.Dir("pier", "/srv/skerryline/public")
	require.NoError(t, os.WriteFile(filepath.Join(root, "wp-content/new.txt"), []byte("new"), 0o644))
	require.NoError(t, os.Remove(filepath.Join(root, "wp-content/plugins/old-slider/readme.txt")))
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "wp-content/themes/harbour/style.css"), []byte("mine"),
		0o644))
	p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Contains(t, r.Steps[1].Note, "3 files brought again",
		"the new one, the one worked on, and the configuration")
	assert.FileExists(t, filepath.Join(s.Root, "wp-content/new.txt"))
	assert.NoFileExists(t, filepath.Join(s.Root, "wp-content/plugins/old-slider/readme.txt"))
	now := w.Site("again")
	assert.Equal(t, s.ID, now.ID)
	assert.Equal(t, s.Lease.Ends.Unix(), now.Lease.Ends.Unix(), "its lease is as it was")
}

func TestARefreshBringsNothingWhereNothingChanged(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "still")
	style := "wp-content/themes/harbour/style.css"
	was, err := os.Stat(filepath.Join(s.Root, style))
	require.NoError(t, err)
	same := func(p plan.Plan) bool {
		return slices.ContainsFunc(p.Findings, func(f site.Finding) bool { return f.Code == "same" })
	}
	p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	require.True(t, same(p))
	assert.Zero(t, p.Rows+int64(p.Files))
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Contains(t, r.Result, "nothing had changed on either side")
	assert.Empty(t, w.Site("still").Run)
	assert.True(t, w.Site("still").CheckedAt.After(s.CheckedAt))
	is, err := os.Stat(filepath.Join(s.Root, style))
	require.NoError(t, err)
	assert.True(t, os.SameFile(was, is))
	assert.NoDirExists(t, filepath.Join(filepath.Dir(filepath.Dir(s.Root)), "next"))

	all, err := w.Desk.Copies.PlanFreshRefresh(ctx, s.ID)
	require.NoError(t, err)
	assert.False(t, same(all), "all is read where a person wants that")
	assert.Contains(t, all.Estimate.Basis, "nothing was copied from there yet", "a run that brought nothing tells nothing")
	p, err = w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	require.True(t, same(p))
	exec1(t, s.Database.Path, "UPDATE sk_posts SET post_title = 'since the plan' WHERE ID = 5")
	require.Equal(t, plan.Done, w.Run(p).State)
	apart, err := w.Desk.Copies.Apart(ctx, s.ID)
	require.NoError(t, err)
	assert.Zero(t, apart.Copy, "what was changed after the plan is brought in line all the same")
	_, err = w.Desk.Workings().Record.ChangeSite(ctx, s.ID, func(s *site.Site) error {
		s.Proof.Holds = false
		return nil
	})
	require.NoError(t, err)
	p, err = w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	assert.False(t, same(p), "where the evidence does not hold, all is brought")
}

func TestRefreshReadsNoTablesThatDidNotChange(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "still")
	style := w.Dir("pier", "/srv/skerryline/public/wp-content/themes/harbour/style.css")
	n := 0
	again := func() plan.Run {
		t.Helper()
		n++ // a file has changed, so that there is something to bring
		require.NoError(t, os.WriteFile(style, []byte(strings.Repeat("a{}\n", n)), 0o644))
		p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
		require.NoError(t, err)
		r := w.Run(p)
		require.Equal(t, plan.Done, r.State, r.Error)
		return r
	}
	assert.Contains(t, again().Steps[2].Note, "nothing was read from the origin")
	assert.Contains(t, again().Steps[2].Note, "nothing was read from the origin", "and its baseline is whole")
	in, c, err := w.Desk.Copies.RefreshInput(ctx, s.ID)
	require.NoError(t, err)
	c.Title = false
	r := w.Run(w.Desk.Copies.PlanFrom(in, c))
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Contains(t, r.Steps[2].Note, "addresses rewritten", "another choice makes other rows")
	assert.Equal(t, "Skerry Line", w.Site("still").Title)
	exec1(t, s.Database.Path, "UPDATE sk_posts SET post_title = 'mine' WHERE ID = 5")
	assert.Contains(t, again().Steps[2].Note, "addresses rewritten", "work on the copy is undone")
	exec1(t, w.Dir("pier", "/srv/skerryline/public/wp-content/database/.ht.sqlite"),
		"UPDATE sk_posts SET post_title = 'theirs' WHERE ID = 5")
	assert.Contains(t, again().Steps[2].Note, "addresses rewritten", "and a change on the origin comes over")
	apart, err := w.Desk.Copies.Apart(ctx, s.ID)
	require.NoError(t, err)
	assert.Zero(t, apart.Copy+apart.Origin)
}

func TestCopyOfACopy(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	w.Copy(origin, "first")
	s := w.Copy("first", "second")
	assert.Equal(t, w.Site("first").ID, s.Origin)
	assert.Equal(t, "[copy] Skerry Line", s.Title, "it is said once")
	ans, err := w.Desk.Workings().Env.Probe(context.Background(), s)
	require.NoError(t, err)
	assert.Equal(t, 200, ans.Status)
	assert.Empty(t, ans.Failed)
}

func TestNetworkAndPlainSites(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	s := w.Copy("islands.skerryline.example", "islets")
	require.NotNil(t, s.Facts.Network)
	assert.Equal(t, "islets.localhost:"+s.Address().Port+"/north", s.Facts.Network.Sites[1].Address.Short())
	p := w.Copy("status.skerryline.example", "boats")
	ans, err := w.Desk.Workings().Env.Probe(context.Background(), p)
	require.NoError(t, err)
	assert.Equal(t, 200, ans.Status)
	assert.True(t, ans.Banner, "a plain page carries the banner too")
}
