package reset_test

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/demo/resettest"
	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/work"
)

const origin = "https://skerryline.example"

func TestMain(m *testing.M) { demotest.Main(m, mariadbtest.Main) }

// moments are those at which a run is killed or cancelled.
var moments = []string{
	"reserve end",
	"stage progress",
	"stage end",
	"close end",
	"keep progress",
	"keep end",
	"tables progress",
	"tables end",
	"files begin",
	"files progress",
	"files end",
	"prove progress",
	"prove end",
	"open begin",
}

// on runs statements in a site's database.
func on(t *testing.T, s site.Site, statements ...string) {
	t.Helper()
	for _, q := range statements {
		if s.Database.Engine == "mysql" {
			require.NoError(t, mariadbtest.DB(s.Database.Name).Exec(context.Background(), q), q)
			continue
		}
		db, err := sql.Open("sqlite", s.Database.Path)
		require.NoError(t, err)
		_, err = db.Exec(q)
		require.NoError(t, err, q)
		require.NoError(t, db.Close())
	}
}

func value(t *testing.T, s site.Site, q string) (out string) {
	t.Helper()
	driver, at := "sqlite", s.Database.Path
	if s.Database.Engine == "mysql" {
		driver, at = "mysql", "root@unix("+mariadbtest.Socket()+")/"+s.Database.Name
	}
	db, err := sql.Open(driver, at)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow(q).Scan(&out), q)
	return out
}

// damage changes a site in each way that there is.
func damage(t *testing.T, s site.Site) {
	t.Helper()
	on(t, s, "UPDATE sk_posts SET post_title = 'broken' WHERE ID = 5", "DELETE FROM sk_posts WHERE ID = 6",
		"CREATE TABLE sk_new (n INTEGER)", "INSERT INTO sk_new VALUES (1)", "DROP TABLE sk_comments",
		"UPDATE sk_options SET option_value = 'Broken' WHERE option_name = 'blogname'")
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "wp-content/evil/deep"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "wp-content/evil/deep/x.php"), []byte("<?php"), 0o644))
	forged := filepath.Join(s.Root, "index.php")
	fi, err := os.Stat(forged)
	require.NoError(t, err)
	text, err := os.ReadFile(forged)
	require.NoError(t, err)
	text[len(text)-2] ^= 1
	require.NoError(t, os.WriteFile(forged, text, 0o644))
	require.NoError(t, os.Chtimes(forged, fi.ModTime(), fi.ModTime())) // as those do who hide
	require.NoError(t, os.Remove(filepath.Join(s.Root, "wp-includes/version.php")))
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "wp-includes/version.php"),
		[]byte("<?php $wp_version = 'x';"), 0o644))
}

func TestALiveSiteIsBroughtBackAndThatIsUndone(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	live := w.Site(origin)
	p := resettest.Kept(t, w, live)
	live = resettest.Here(w, live)
	damage(t, live)
	pl, err := w.Desk.Points.PlanRestore(ctx, p, resettest.Whole)
	require.NoError(t, err)
	assert.Equal(t, plan.Restore, pl.Kind)
	assert.Equal(t, live.Name, pl.Confirm)
	goes := fmt.Sprint(pl.Goes)
	for _, part := range []string{"files added since", "table sk_new", "table sk_comments", "table sk_posts"} {
		assert.Contains(t, goes, part)
	}
	_, err = w.Desk.Runs.Start(ctx, pl)
	require.ErrorIs(t, err, desk.ErrNotTyped)
	_, err = w.Desk.Runs.StartTyped(ctx, pl, "skerry")
	require.ErrorIs(t, err, desk.ErrNotTyped)
	r := resettest.Await(t, w, resettest.Start(t, w, pl))
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Contains(t, r.Result, "are what they should be")
	resettest.Same(t, w, p)
	assert.NoDirExists(t, filepath.Join(live.Root, "wp-content/evil"))
	text, err := os.ReadFile(filepath.Join(live.Root, "index.php"))
	require.NoError(t, err)
	assert.Equal(t, "<?php", string(text[:5]))

	before := resettest.Newest(t, w, live)
	require.Equal(t, depot.BeforeOp, before.Kind)
	resettest.Restore(t, w, before, resettest.Whole)
	resettest.Same(t, w, before)
	assert.Equal(t, "broken", value(t, live, "SELECT post_title FROM sk_posts WHERE ID = 5"))
	assert.FileExists(t, filepath.Join(live.Root, "wp-content/evil/deep/x.php"))
}

func TestPartsOfARestorePoint(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "parts")
	was := resettest.Kept(t, w, s)
	damage(t, s)
	resettest.Restore(t, w, was, reset.Choices{Files: true, Paths: []string{"wp-includes/"}})
	assert.FileExists(t, filepath.Join(s.Root, "wp-content/evil/deep/x.php"), "what was not chosen stays")
	text, err := os.ReadFile(filepath.Join(s.Root, "wp-includes/version.php"))
	require.NoError(t, err)
	assert.NotContains(t, string(text), "'x'")
	assert.Equal(t, "broken", value(t, s, "SELECT post_title FROM sk_posts WHERE ID = 5"))

	resettest.Restore(t, w, was, reset.Choices{Database: true, Tables: []string{"sk_options"}})
	assert.Contains(t, value(t, s, "SELECT option_value FROM sk_options WHERE option_name = 'blogname'"), "[copy]")
	assert.Equal(t, "broken", value(t, s, "SELECT post_title FROM sk_posts WHERE ID = 5"))
	assert.Equal(t, "1", value(t, s, "SELECT n FROM sk_new"))

	on(
		t,
		s,
		"UPDATE sk_options SET option_value = 'mine' WHERE option_name = 'blogdescription'",
		"INSERT INTO sk_posts (ID, post_title, post_type, post_status, post_name, post_content) VALUES (99001, "+
			"'since', 'post', 'publish', 'since', '')",
	)
	kind := value(t, s, "SELECT post_type FROM sk_posts WHERE ID = 5")
	resettest.Restore(t, w, was, reset.Choices{Database: true, Items: []int64{5}})
	assert.NotEqual(t, "broken", value(t, s, "SELECT post_title FROM sk_posts WHERE ID = 5"), kind)
	assert.Equal(t, "0", value(t, s, "SELECT COUNT(*) FROM sk_posts WHERE ID = 6"))
	resettest.Restore(t, w, was, reset.Choices{Database: true,
		Kinds: []site.Kind{site.Posts, site.Pages, site.Media, site.Other, site.Menus}})
	assert.Equal(t, "1", value(t, s, "SELECT COUNT(*) FROM sk_posts WHERE ID = 6"), "what was deleted is back")
	assert.Equal(t, "since", value(t, s, "SELECT post_title FROM sk_posts WHERE ID = 99001"), "what came since stays")
	assert.Equal(t, "mine", value(t, s, "SELECT option_value FROM sk_options WHERE option_name = 'blogdescription'"))

	resettest.Restore(t, w, was, resettest.Whole)
	resettest.Same(t, w, was)
	for _, bad := range []reset.Choices{{Files: true, Paths: []string{"../etc"}}, {Files: true, Paths: []string{"."}}} {
		_, err := w.Desk.Points.PlanRestore(ctx, was, bad)
		assert.ErrorContains(t, err, "no file or folder of the site")
	}
	_, err = w.Desk.Points.PlanRestore(ctx, was, reset.Choices{Database: true, Tables: []string{"sk_none"}})
	assert.ErrorContains(t, err, "has no table sk_none")
	r := resettest.Await(t, w, resettest.Begin(t, w, was, reset.Choices{Database: true, Items: []int64{987654}}))
	assert.Equal(t, plan.Cancelled, r.State)
	assert.Contains(t, r.Error, "no such content")
	assert.Contains(t, r.Remedy, "as it was before the run")
	resettest.Same(t, w, was)
}

func TestARestoringKilledAtEachMoment(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	live := w.Site(origin)
	p := resettest.Kept(t, w, live)
	live = resettest.Here(w, live)
	w.Stop()
	for _, m := range moments {
		t.Run(m, func(t *testing.T) {
			damage(t, live)
			r := resettest.Begin(t, w, p, resettest.Whole)
			demotest.KilledAt(t, w, m)
			demotest.Resumed(t, w, r.ID)
			resettest.Same(t, w, p)
		})
	}
}

// cancelAt cancels the run that comes to a moment.
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

// watching tells of each step of each run as it begins, goes on or ends.
func watching(tell func(step string)) func(*desk.Options) {
	return func(o *desk.Options) { o.Observe = func(m work.Moment) { tell(m.Step + " " + m.Phase) } }
}

func TestARestoringCancelledAtEachMomentChangesNothing(t *testing.T) {
	var w *demotest.World
	moment := ""
	w = demotest.New(t, cancelAt(func() *desk.Desk { return w.Desk }, &moment))
	w.Keep()
	live := w.Site(origin)
	p := resettest.Kept(t, w, live)
	live = resettest.Here(w, live)
	damage(t, live)
	stored, err := w.Desk.Workings().Record.Site(context.Background(), p.Site.ID)
	require.NoError(t, err)
	absolute := filepath.Join(live.Root, "absolute")
	require.NoError(t, os.Symlink(stored.Root+"/index.php", absolute)) // as the host sees it
	broken := resettest.Kept(t, w, live)
	for _, m := range moments[:len(moments)-1] {
		t.Run(m, func(t *testing.T) {
			moment = m
			r := resettest.Await(t, w, resettest.Begin(t, w, p, resettest.Whole))
			assert.Equal(t, plan.Cancelled, r.State, r.Error)
			resettest.Same(t, w, broken)
		})
	}
	to, err := os.Readlink(absolute)
	require.NoError(t, err)
	assert.Equal(t, stored.Root+"/index.php", to)
	resettest.Restore(t, w, p, resettest.Whole)
	resettest.Same(t, w, p)
	assert.NoFileExists(t, absolute)
	resettest.Restore(t, w, broken, reset.Choices{Files: true})
	to, err = os.Readlink(absolute)
	require.NoError(t, err)
	assert.Equal(t, "index.php", to, "it leads to the same place")
}

// odd gives a real site what the demo's have not.
func odd(t *testing.T, s site.Site) {
	on(
		t,
		s,
		"CREATE TABLE sk_boats (id INT PRIMARY KEY, name VARCHAR(20))",
		"CREATE TABLE sk_trips (id INT PRIMARY KEY, boat INT, CONSTRAINT sk_trip_boat FOREIGN KEY (boat) REFERENCES "+
			"sk_boats (id))",
		"INSERT INTO sk_boats VALUES (1, 'Auk'), (2, 'Gannet')",
		"INSERT INTO sk_trips VALUES (1, 1), (2, 2)",
		"CREATE TABLE sk_log (n INT)",
		"CREATE TRIGGER sk_came AFTER INSERT ON sk_posts FOR EACH ROW INSERT INTO sk_log VALUES (9)",
		"CREATE TRIGGER sk_seen AFTER UPDATE ON sk_boats FOR EACH ROW INSERT INTO sk_log VALUES (NEW.id)",
		"CREATE VIEW sk_fleet AS SELECT name FROM sk_boats",
		"CREATE TABLE other_app (n INT)",
		"INSERT INTO other_app VALUES (1)",
	)
}

// damageReal is damage to what odd made.
func damageReal(t *testing.T, s site.Site) {
	damage(t, s)
	on(t, s, "ALTER TABLE sk_boats ADD COLUMN sails INT", "UPDATE sk_boats SET name = 'Sunk'", "DROP VIEW sk_fleet",
		"CREATE OR REPLACE TRIGGER sk_other AFTER UPDATE ON sk_posts FOR EACH ROW INSERT INTO sk_log VALUES (7)")
}

func TestARealLiveSiteIsBroughtBack(t *testing.T) {
	moment := ""
	var w *realtest.World
	w = realtest.New(t, realtest.Options{
		Change: []func(*desk.Options){cancelAt(func() *desk.Desk { return w.Desk }, &moment)},
	})
	live := w.Make("ferry")
	odd(t, live)
	w.Keep()
	p := resettest.Kept(t, w.World, live)
	intact := func(t *testing.T) {
		resettest.Same(t, w.World, p)
		assert.Equal(t, "Auk", value(t, live, "SELECT name FROM sk_fleet ORDER BY name LIMIT 1"), "the view is back")
		assert.Equal(
			t, "2",
			value(t, live, "SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()"),
		)
		assert.Equal(
			t,
			"1",
			value(
				t,
				live,
				"SELECT COUNT(*) FROM information_schema.TABLE_CONSTRAINTS WHERE TABLE_SCHEMA = DATABASE() AND "+
					"CONSTRAINT_TYPE = 'FOREIGN KEY'",
			),
		)
		assert.Equal(
			t,
			"0",
			value(
				t,
				live,
				"SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME "+
					"LIKE 'alibi%'",
			),
		)
	}
	damageReal(t, live)
	broken := resettest.Kept(t, w.World, live)
	for _, m := range []string{"keep end", "tables progress", "tables end", "files end", "prove end"} {
		moment = m
		r := resettest.Await(t, w.World, resettest.Begin(t, w.World, p, resettest.Whole))
		assert.Equal(t, plan.Cancelled, r.State, r.Error)
		resettest.Same(t, w.World, broken)
		assert.Equal(
			t, "3",
			value(t, live, "SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()"), m,
		)
	}
	on(t, live, "UPDATE other_app SET n = 2")
	resettest.Restore(t, w.World, p, resettest.Whole)
	assert.Equal(t, "2", value(t, live, "SELECT n FROM other_app"), "what is not the site's is not touched")
	on(t, live, "UPDATE other_app SET n = 1")
	intact(t)
	w.Stop()
	for _, m := range []string{"tables begin", "tables progress", "tables end", "files progress", "open begin"} {
		t.Run(m, func(t *testing.T) {
			damageReal(t, live)
			r := resettest.Begin(t, w.World, p, resettest.Whole)
			demotest.KilledAt(t, w.World, m)
			demotest.Resumed(t, w.World, r.ID)
			intact(t)
		})
	}
}

func TestARealCopyIsBroughtBackAndStaysWhatItIs(t *testing.T) {
	t.Cleanup(tables.InShardsOf(7)) // a table is compared in parts
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	s := w.Copy(live.Name, "worked-on")
	p := resettest.Kept(t, w.World, s)
	on(t, s, "UPDATE sk_posts SET post_title = 'broken' WHERE post_name = 'post-3'", "CREATE TABLE sk_new (n INT)")
	r := resettest.Restore(t, w.World, p, resettest.Whole)
	assert.Contains(t, r.Result, "its first page answers 200")
	resettest.Same(t, w.World, p)
	rep, err := w.Desk.Copies.Prove(context.Background(), s.ID, false, nil)
	require.NoError(t, err)
	assert.True(t, rep.Proof().Holds, rep.Summary())

	// After a refresh it may have another database; its configuration stays.
	on(t, live, "ALTER TABLE sk_links ADD COLUMN tide INT")
	pl, err := w.Desk.Copies.PlanRefresh(context.Background(), s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(pl).State)
	now := w.Site("worked-on")
	require.NotEqual(t, s.Database.Name, now.Database.Name)
	r = resettest.Restore(t, w.World, p, resettest.Whole)
	assert.Contains(t, r.Result, "its first page answers 200")
	assert.Equal(
		t, "0",
		value(t, now, "SELECT COUNT(*) FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND "+
			"COLUMN_NAME = 'tide'"),
	)
	config, err := os.ReadFile(filepath.Join(s.Root, "wp-config.php"))
	require.NoError(t, err)
	assert.True(t, strings.Contains(string(config), now.Database.Name))
}
