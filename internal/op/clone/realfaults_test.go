package clone_test

import (
	"context"
	"database/sql"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/work"
)

// onOrigin runs a statement in the origin's database.
func onOrigin(t *testing.T, s site.Site, statement string) {
	t.Helper()
	require.NoError(t, mariadbtest.DB(s.Database.Name).Exec(context.Background(), statement))
}

func TestARealCopyKilledAtEachMoment(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	ctx := context.Background()
	// What the servers have differs at these; the others are tried without servers.
	for _, m := range []string{"files progress", "tables progress", "tables end", "place end", "open end",
		"evidence progress"} {
		t.Run(m, func(t *testing.T) {
			name := "k-" + strings.ReplaceAll(m, " ", "-")
			r, err := w.Desk.Runs.Start(ctx, w.Plan(live.Name, name))
			require.NoError(t, err)
			demotest.KilledAt(t, w.World, m)
			demotest.Resumed(t, w.World, r.ID)
			s := w.Site(name)
			assert.Equal(t, site.Ready, s.State)
			assert.NotEmpty(t, clonetest.Holds(t, w, s))
			w.Keep()
			defer w.Stop()
			p, err := w.Desk.Copies.PlanRemove(ctx, s.ID)
			require.NoError(t, err)
			require.Equal(t, plan.Done, w.Run(p).State)
			clonetest.NothingLeft(t, w)
		})
	}
}

func TestARealRefreshKilledAndCancelled(t *testing.T) {
	moment := ""
	var w *realtest.World
	w = realtest.New(t, realtest.Options{
		Change: []func(*desk.Options){cancelAt(func() *desk.Desk { return w.Desk }, &moment)},
	})
	live := w.Make("ferry")
	ctx := context.Background()
	w.Keep()
	s := clonetest.CopyOf(w, live, "again", func(*clone.Choices) {})
	w.Stop()
	for i, m := range []string{"tables progress", "tables end", "place end", "open end",
		"evidence progress"} {
		onOrigin(t, live, "UPDATE sk_posts SET post_title = CONCAT(post_title, '+') WHERE post_name = 'post-3'")
		p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
		require.NoError(t, err)
		r, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
		require.NoError(t, err)
		demotest.KilledAt(t, w.World, m)
		demotest.Resumed(t, w.World, r.ID)
		s = w.Site("again")
		clonetest.Holds(t, w, s)
		w.Keep()
		_, page := clonetest.Ask(t, s, "/post-3/")
		clonetest.Has(t, page, "Post 3"+strings.Repeat("+", i+1))
		before := s.Database
		onOrigin(t, live, "UPDATE sk_posts SET post_title = CONCAT(post_title, '-') WHERE post_name = 'post-4'")
		p, err = w.Desk.Copies.PlanRefresh(ctx, s.ID)
		require.NoError(t, err)
		moment = m
		r = w.Run(p)
		require.Equal(t, plan.Cancelled, r.State, r.Error)
		s = w.Site("again")
		assert.Equal(t, before, s.Database)
		_, page = clonetest.Ask(t, s, "/post-4/")
		clonetest.Lacks(t, page, "Post 4"+strings.Repeat("-", i+1))
		clonetest.NothingLeft(t, w)
		w.Stop()
	}
}

// onCopy runs a statement in a copy's database.
func onCopy(t *testing.T, s site.Site, statement string) { onOrigin(t, s, statement) }

func TestARealRefreshBringsOnlyWhatDiffers(t *testing.T) {
	t.Cleanup(tables.InShardsOf(7)) // a table is compared in parts
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	for _, q := range []string{"CREATE TABLE sk_loose (v VARCHAR(60))",
		"INSERT INTO sk_loose VALUES ('https://ferry.skerryline.example/'), ('x'), ('x')",
		"CREATE TABLE sk_words (w VARCHAR(80) PRIMARY KEY, n INT)",
		"INSERT INTO sk_words VALUES ('https://ferry.skerryline.example/tide', 1), ('plain', 2)"} {
		onOrigin(t, live, q)
	}
	w.Keep()
	s := clonetest.CopyOf(w, live, "near", func(*clone.Choices) {})
	for _, q := range []string{
		"UPDATE sk_posts SET post_content = 'https://ferry.skerryline.example/new/' WHERE post_name = 'post-3'",
		"DELETE FROM sk_posts WHERE post_name = 'post-4'",
		"INSERT INTO sk_term_relationships VALUES (7001, 1, 0)", "INSERT INTO sk_loose VALUES ('y')",
		"INSERT INTO sk_words VALUES ('https://ferry.skerryline.example/ebb', 3)",
		"INSERT INTO sk_comments (comment_ID, comment_content, comment_author) VALUES (900, 'theirs', 'a')",
	} {
		onOrigin(t, live, q)
	}
	for _, q := range []string{
		"DELETE FROM sk_posts WHERE post_name = 'post-5'",
		"UPDATE sk_posts SET post_title = 'ours' WHERE post_name = 'post-6'",
		"INSERT INTO sk_comments (comment_ID, comment_content, comment_author) VALUES (900, 'ours', 'b'), (901, " +
			"'ours', 'b')",
	} {
		onCopy(t, s, q)
	}
	refresh := func() plan.Run {
		p, err := w.Desk.Copies.PlanRefresh(context.Background(), s.ID)
		require.NoError(t, err)
		r := w.Run(p)
		require.Equal(t, plan.Done, r.State, r.Error)
		clonetest.Holds(t, w, w.Site("near"))
		clonetest.NothingLeft(t, w)
		return r
	}
	r := refresh()
	assert.Contains(t, noteOf(r, "tables"), "rows brought again, in")
	assert.Equal(t, s.Database, w.Site("near").Database, "it is the same database")
	_, page := clonetest.Ask(t, w.Site("near"), "/post-6/")
	clonetest.Lacks(t, page, "ours")

	assert.Contains(t, refresh().Result, "nothing had changed on either side", "but for what the visit wrote")

	onOrigin(t, live, "ALTER TABLE sk_words ADD COLUMN tide INT")
	r = refresh()
	assert.Contains(t, noteOf(r, "tables"), "addresses rewritten", "another shape: all is loaded anew")
	assert.NotEqual(t, s.Database.Name, w.Site("near").Database.Name)
}

func noteOf(r plan.Run, step string) string {
	for _, p := range r.Steps {
		if p.Name == step {
			return p.Note
		}
	}
	return ""
}

func TestADatabaseServerThatGoesAwayAndComesBack(t *testing.T) {
	var once sync.Once
	w := realtest.New(t, realtest.Options{Change: []func(*desk.Options){func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Step == "tables" && m.Phase == "progress" {
				once.Do(func() {
					require.NoError(t, mariadbtest.Stop())
					go func() {
						time.Sleep(time.Second)
						assert.NoError(t, mariadbtest.Start())
					}()
				})
			}
		}
	}}})
	live := w.Make("ferry")
	w.Keep()
	r := w.Run(w.Plan(live.Name, "patient"))
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Greater(t, r.Tries, 1)
	clonetest.Holds(t, w, w.Site("patient"))
	clonetest.NothingLeft(t, w)
}

func TestATableThatChangesItsShapeAfterThePlan(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	p := w.Plan(live.Name, "shaped")
	onOrigin(
		t,
		live,
		"ALTER TABLE sk_posts ADD COLUMN tide VARCHAR(200) NOT NULL DEFAULT 'https://ferry.skerryline.example/tide', "+
			"ADD KEY tide (tide(20))",
	)
	onOrigin(
		t,
		live,
		"CREATE TABLE sk_late (id INT PRIMARY KEY, v TEXT) SELECT 1 AS id, "+
			"'https://ferry.skerryline.example/late' AS v",
	)
	w.Keep()
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	s := w.Site("shaped")
	assert.Contains(t, clonetest.Holds(t, w, s), "table sk_late")
}

func TestTwoCopiesOfOneOriginAtOnce(t *testing.T) {
	w := realtest.New(t, realtest.Options{Change: []func(*desk.Options){func(o *desk.Options) { o.Workers = 2 }}})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	var ids []string
	for _, n := range []string{"one", "two"} {
		r, err := w.Desk.Runs.Start(ctx, w.Plan(live.Name, n))
		require.NoError(t, err)
		ids = append(ids, r.ID)
	}
	for i, n := range []string{"one", "two"} {
		r, err := w.Desk.Runs.Await(ctx, ids[i], nil)
		require.NoError(t, err)
		require.Equal(t, plan.Done, r.State, r.Error)
		clonetest.Holds(t, w, w.Site(n))
	}
	assert.NotEqual(t, w.Site("one").Database, w.Site("two").Database)
}

func TestALoadIsTakenUpAtThePartWhereItBroke(t *testing.T) {
	t.Cleanup(inPartsOf(5))
	var w *realtest.World
	cut := false
	w = realtest.New(t, realtest.Options{Own: true, Change: []func(*desk.Options){func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Step != "tables" || m.Phase != "progress" {
				return
			}
			// A connection that nobody uses when it ends is replaced without a word, so
			// they end until one is missed.
			if r, err := w.Desk.Workings().Record.Run(context.Background(), m.Run); err != nil || r.Tries > 1 {
				return
			}
			db, err := sql.Open("mysql", "root@unix("+filepath.Join(desk.RunDir(w.Base), "mariadb", "mariadb.sock")+
				")/"+w.Site("patient").Database.Name)
			assert.NoError(t, err)
			defer db.Close()
			n := 0
			err = db.QueryRow(
				"SELECT COUNT(*) FROM alibi_loaded WHERE name LIKE ' part % of sk_posts' AND NOT EXISTS (SELECT 1 " +
					"FROM alibi_loaded WHERE name = 'sk_posts')",
			).Scan(&n)
			if err == nil && n > 0 { // all connections to the copy's server end
				cut = true
				_, _ = db.Exec("KILL USER root") // its own is among them
			}
		}
	}}})
	live := w.Make("ferry")
	w.Keep()
	r := w.Run(w.Plan(live.Name, "patient"))
	require.Equal(t, plan.Done, r.State, r.Error)
	require.True(t, cut)
	assert.Greater(t, r.Tries, 1)
	assert.Contains(t, noteOf(r, "tables"), "parts of tables were there already")
	s := w.Site("patient")
	clonetest.Holds(t, w, s)
	refreshed, err := w.Desk.Copies.PlanRefresh(context.Background(), s.ID)
	require.NoError(t, err)
	r = w.Run(refreshed)
	require.Equal(t, plan.Done, r.State, r.Error)
	clonetest.Holds(t, w, w.Site("patient"))
}

func TestARefreshSeesWhatTheServersTimesDoNotTell(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	for _, q := range []string{"CREATE TABLE sk_still (n INT PRIMARY KEY, v VARCHAR(90))",
		"INSERT INTO sk_still VALUES (1, 'https://ferry.skerryline.example/'), (2, 'x'), (3, 'y')",
		"CREATE TABLE sk_emptied LIKE sk_still", "INSERT INTO sk_emptied SELECT * FROM sk_still"} {
		onOrigin(t, live, q)
	}
	time.Sleep(3100 * time.Millisecond) // so that nobody wrote just before
	w.Keep()
	s := clonetest.CopyOf(w, live, "near", func(*clone.Choices) {})
	refresh := func() {
		t.Helper()
		p, err := w.Desk.Copies.PlanRefresh(context.Background(), s.ID)
		require.NoError(t, err)
		r := w.Run(p)
		require.Equal(t, plan.Done, r.State, r.Error)
		s = w.Site("near")
		clonetest.Holds(t, w, s)
	}
	rows := func(table string) (n int) {
		t.Helper()
		db, err := sql.Open("mysql", "root@unix("+mariadbtest.Socket()+")/"+s.Database.Name)
		require.NoError(t, err)
		defer db.Close()
		require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM "+table+" WHERE v NOT LIKE '%skerryline%'").Scan(&n))
		return n
	}
	refresh()
	require.Eventually(t, func() bool { // it does not tell of what was written a moment ago
		quiet, err := tables.Quiet(context.Background(), mariadbtest.DB(s.Database.Name))
		require.NoError(t, err)
		return quiet["sk_still"] != ""
	}, time.Minute, 100*time.Millisecond, "the server tells its time")
	onCopy(t, s, "TRUNCATE TABLE sk_emptied") // leaves the time as it was
	onCopy(t, s, "UPDATE sk_still SET v = 'ours' WHERE n = 2")
	refresh()
	assert.Equal(t, 3, rows("sk_emptied"))
	assert.Equal(t, 3, rows("sk_still"))
	onOrigin(t, live, "TRUNCATE TABLE sk_emptied")
	onOrigin(t, live, "UPDATE sk_still SET v = 'theirs' WHERE n = 3")
	refresh()
	assert.Zero(t, rows("sk_emptied"))
	require.NoError(t, mariadbtest.Stop()) // the server forgets its times
	require.NoError(t, mariadbtest.Start())
	onCopy(t, s, "DELETE FROM sk_still WHERE n = 1")
	refresh()
	assert.Equal(t, 3, rows("sk_still"))
}

// inPartsOf has tables loaded in parts of so many rows, and gives what ends that.
func inPartsOf(rows int) func() {
	was := clone.PartRows
	clone.PartRows = rows
	return func() { clone.PartRows = was }
}
