package cli

import (
	"database/sql"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/drift"
	"alibi/internal/op/carry"
	"alibi/internal/plan"
)

// doing gives a function that runs a command, which must end well, and gives what it says.
func doing(t *testing.T, home string) func(args ...string) string {
	return func(args ...string) string {
		t.Helper()
		code, out, errs := call(t, append(args, home)...)
		require.Zero(t, code, errs)
		return out
	}
}

// failing gives a function that runs a command, which must end badly, and say something.
func failing(t *testing.T, home string) func(want int, text string, args ...string) {
	return func(want int, text string, args ...string) {
		t.Helper()
		code, _, errs := call(t, append(args, home)...)
		assert.Equal(t, want, code, "%v", args)
		assert.Contains(t, errs, text)
	}
}

func TestDriftByCommand(t *testing.T) {
	w := demotest.New(t)
	home := "--home=" + w.Home
	ok, fails := doing(t, home), failing(t, home)
	ok("copy", "skerryline.example", "--name", "winter")
	assert.Contains(t, ok("drift", "winter"), "winter and its origin are as they were when they parted.")
	ok("query", "winter", "UPDATE sk_options SET option_value = 'By boat' WHERE option_name = 'blogdescription'",
		"--write")
	out := ok("drift", "winter")
	assert.Regexp(t, `setting:blogdescription +setting +blogdescription +changed +- +option_value`, out)
	assert.NotContains(t, out, "it can't be told", "all tables are covered")
	items := func() []*drift.Item {
		var d carry.Drifted
		require.NoError(t, json.Unmarshal([]byte(ok("drift", "winter", "--json")), &d))
		return d.Items
	}
	require.Len(t, items(), 1)
	require.NotEmpty(t, items()[0].Versions)
	assert.Equal(t, "By boat", *items()[0].Versions[0].Copy)
	fails(ExitFailed, "name a copy", "drift", "skerryline.example")
	fails(ExitUsage, "name a copy, or a run with --undo", "sync")
	fails(ExitUsage, "--to live, --to copy or --to both", "sync", "winter", "post:1", "--to", "there")
	fails(ExitUsage, "say what is to be carried", "sync", "winter", "--to", "live")
	fails(ExitUsage, "write --take ITEM=live", "sync", "winter", "post:1", "--to", "live", "--take", "post:1")
	fails(ExitFailed, "post:1000000 does not differ", "sync", "winter", "post:1000000", "--to", "live")
	fails(ExitNotFound, "", "sync", "--undo", "abc")
}

func TestChangesAreCarriedInTheDemo(t *testing.T) {
	w := demotest.New(t)
	home := "--home=" + w.Home
	ok, fails := doing(t, home), failing(t, home)
	items := func() []*drift.Item {
		var d carry.Drifted
		require.NoError(t, json.Unmarshal([]byte(ok("drift", "winter", "--json")), &d))
		return slices.DeleteFunc(d.Items, func(it *drift.Item) bool { return it.Noise })
	}
	ok("copy", "skerryline.example", "--name", "winter")
	require.Empty(t, items())
	ok("query", "winter", "UPDATE sk_options SET option_value = 'By boat' WHERE option_name = 'blogdescription'",
		"--write")
	code, _, errs := call(t, "sync", "winter", "--all", "--to", "live", home)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "--confirm skerryline.example")
	assert.Len(t, items(), 1, "nothing was carried without the live site's name")
	ok("query", "winter", "INSERT INTO sk_term_relationships VALUES (1, 3, 0), (1, 4, 0)", "--write")
	ok("query", "winter", "UPDATE sk_posts SET post_title = 'Winter timetable' WHERE ID = 1", "--write")
	require.Len(t, items(), 2)
	ok("sync", "winter", "--all", "--to", "live", "--confirm", "skerryline.example", "--note", "winter")
	assert.Empty(t, items())
	live := func(q string) string { return ok("query", "skerryline.example", q) }
	assert.Contains(t, live("SELECT post_title FROM sk_posts WHERE ID = 1"), "Winter timetable")
	assert.Contains(t, live("SELECT count(*) AS n FROM sk_term_relationships WHERE object_id = 1 AND "+
		"term_taxonomy_id IN (3, 4)"), "2")
	assert.Contains(t, live("SELECT option_value FROM sk_options WHERE option_name = 'blogdescription'"), "By boat")
	var runs []plan.Run
	require.NoError(t, json.Unmarshal([]byte(ok("runs", "--json")), &runs))
	i := slices.IndexFunc(runs, func(r plan.Run) bool { return r.Plan.Kind == plan.Sync })
	require.GreaterOrEqual(t, i, 0)
	ok("sync", "--undo", runs[i].ID, "--confirm", "skerryline.example")
	assert.Len(t, items(), 2, "what was carried is undone")
	assert.NotContains(t, live("SELECT post_title FROM sk_posts WHERE ID = 1"), "Winter timetable")
	file := w.Dir("pier", "/srv/skerryline/public/wp-content/database/.ht.sqlite")
	db, err := sql.Open("sqlite", "file:"+file+"?mode=rw")
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("INSERT INTO sk_options (option_name, option_value) VALUES ('berths', '7')")
	require.NoError(t, err)
	require.Len(t, items(), 3)
	ok("sync", "winter", "--all", "--to", "both", "--confirm", "skerryline.example")
	assert.Empty(t, items())
	assert.Contains(t, live("SELECT post_title FROM sk_posts WHERE ID = 1"), "Winter timetable")
	assert.Contains(t, ok("query", "winter", "SELECT option_value FROM sk_options WHERE option_name = 'berths'"), "7")
	ok("sync", "winter", "--all", "--to", "both", "--confirm", "skerryline.example")

	drawn := filepath.Join(t.TempDir(), "drift.svg")
	fails(ExitUsage, "accepts 2 arg", "draw", "drift", drawn)
	ok("draw", "drift", "winter", drawn)
	svg, err := os.ReadFile(drawn)
	require.NoError(t, err)
	for _, want := range []string{"What differs of winter and its origin", "changed on the copy, 0",
		"changed on both, 0"} {
		assert.Contains(t, string(svg), want)
	}
	fails(ExitFailed, "file exists", "draw", "drift", "winter", drawn)
	ok("copy", "skerryline.example", "--name", "summer")
	fails(ExitFailed, "nobody has looked yet", "draw", "drift", "summer", drawn+".pdf")
}

// A file that was edited on a copy goes home with its theme, and is off the work list until that is undone; what both
// sides changed is written in the person's editor.
func TestFilesAndDecisionsGoHomeInTheDemo(t *testing.T) {
	w := demotest.New(t)
	home := "--home=" + w.Home
	ok := doing(t, home)
	editor := filepath.Join(t.TempDir(), "editor")
	require.NoError(t, os.WriteFile(editor, []byte("#!/bin/sh\nprintf 'all year\\n' > \"$1\"\n"), 0o755))
	t.Setenv("VISUAL", editor)
	ok("copy", "skerryline.example", "--name", "winter")
	const style = "wp-content/themes/harbour/style.css"
	ok("edit", "winter", style)
	repeat := "alibi carry winter " + style + " skerryline.example"
	assert.Contains(t, ok("worklist", "winter"), repeat)
	assert.Contains(t, ok("drift", "winter"), "theme:harbour")
	ok("sync", "winter", "--all", "--but", "plugin", "--to", "live", "--confirm", "skerryline.example", "--save", "look")
	assert.NotContains(t, ok("worklist", "winter"), repeat)
	text, err := os.ReadFile(filepath.Join(w.Dir("pier", "/srv/skerryline/public"), style))
	require.NoError(t, err)
	assert.Equal(t, "all year\n", string(text))
	assert.Contains(t, ok("sync", "winter", "--profile", "look"), "nothing is to be carried to skerryline.example")
	var runs []plan.Run
	require.NoError(t, json.Unmarshal([]byte(ok("runs", "--json")), &runs))
	ok("sync", "--undo", runs[0].ID, "--confirm", "skerryline.example")
	assert.Contains(t, ok("worklist", "winter"), repeat)

	ok("query", "winter", "UPDATE sk_options SET option_value = 'a' WHERE option_name = 'blogdescription'", "--write")
	db, err := sql.Open("sqlite", "file:"+w.Dir("pier", "/srv/skerryline/public/wp-content/database/.ht.sqlite"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("UPDATE sk_options SET option_value = 'b' WHERE option_name = 'blogdescription'")
	require.NoError(t, err)
	const item = "setting:blogdescription"
	ok("sync", "winter", item, "--to", "live", "--by-hand", item, "--confirm", "skerryline.example")
	assert.Contains(t, ok("query", "skerryline.example", "SELECT option_value FROM sk_options WHERE option_name = "+
		"'blogdescription'"), "all year")
	require.NoError(t, os.WriteFile(editor, []byte("#!/bin/sh\ntrue\n"), 0o755))
	ok("query", "winter", "UPDATE sk_options SET option_value = 'c' WHERE option_name = 'blogdescription'", "--write")
	code, _, errs := call(t, "sync", "winter", item, "--to", "live", "--by-hand", item, home)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "the marks <<<<<<<")
}

// A site without a database has files, and these are carried and undone all the same.
func TestFilesOfASiteWithoutADatabaseAreCarried(t *testing.T) {
	w := demotest.New(t)
	ok := doing(t, "--home="+w.Home)
	ok("copy", "status.skerryline.example", "--name", "st")
	assert.Contains(t, ok("drift", "st"), "are as they were when they parted")
	page := filepath.Join(w.Home, "copies/st/now/site/new.html")
	require.NoError(t, os.WriteFile(page, []byte("new"), 0o644))
	ok("sync", "st", "--all", "--to", "live", "--confirm", "status.skerryline.example")
	assert.Contains(t, ok("drift", "st"), "are as they were when they parted")
	var runs []plan.Run
	require.NoError(t, json.Unmarshal([]byte(ok("runs", "--json")), &runs))
	ok("sync", "--undo", runs[0].ID, "--confirm", "status.skerryline.example")
	assert.Contains(t, ok("drift", "st"), "file:new.html")
}

// Two copies of one site are called by their names, and carried to by them.
func TestTwoCopiesAreComparedByName(t *testing.T) {
	w := demotest.New(t)
	home := "--home=" + w.Home
	ok, fails := doing(t, home), failing(t, home)
	ok("copy", "skerryline.example", "--name", "winter")
	ok("copy", "skerryline.example", "--name", "summer")
	ok("query", "winter", "UPDATE sk_posts SET post_title = 'Ice' WHERE ID = 1", "--write")
	ok("query", "summer", "UPDATE sk_posts SET post_title = 'Sun' WHERE ID = 1", "--write")
	seen := ok("drift", "winter", "--with", "summer")
	assert.Contains(t, seen, "ON winter")
	assert.Contains(t, seen, "ON summer")
	assert.Contains(t, seen, "post:1")
	fails(ExitUsage, "--to both", "sync", "winter", "post:1", "--with", "summer", "--to", "live")
	fails(ExitUsage, "name another copy of the origin", "sync", "winter", "post:1", "--with", "skerryline.example", "--to",
		"both")
	fails(ExitUsage, "write --take ITEM=", "sync", "winter", "post:1", "--with", "summer", "--to", "both", "--take",
		"post:1=copy")
	_, out, _ := call(t, "sync", "winter", "post:1", "--with", "summer", "--to", "summer", "--plan", home)
	assert.Contains(t, out, "--take post:1=winter", "it says what can be said there")
	assert.Contains(t, out, "--with ")
	ok("sync", "winter", "post:1", "--with", "summer", "--to", "summer", "--take", "post:1=winter")
	assert.Contains(t, ok("drift", "winter", "--with", "summer"), " are as they were when they parted.")
	assert.Contains(t, ok("query", "summer", "SELECT post_title FROM sk_posts WHERE ID = 1"), "Ice")
	ok("query", "summer", "UPDATE sk_posts SET post_title = 'Spray' WHERE ID = 1", "--write")
	ok("sync", "summer", "--all", "--with", "winter", "--to", "winter")
	assert.Contains(t, ok("query", "winter", "SELECT post_title FROM sk_posts WHERE ID = 1"), "Spray")
}
