package clone_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/gateway"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/runtime/outbox"
	"alibi/internal/runtime/wall"
)

// winding gives a live site a configuration that says something else to whoever
// asks for another name than its own.
func winding(t *testing.T, l *realtest.Live) {
	t.Helper()
	file := filepath.Join(l.Spec.Root, "wp-config.php")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	set := "define( 'DB_NAME', '" + l.Spec.Database + "' );"
	require.Contains(t, string(text), set)
	now := strings.Replace(
		string(text),
		set,
		"if ( 'staging.skerryline.example' === $_SERVER['HTTP_HOST'] ) {\n\tdefine( 'DB_NAME', 'staging' "+
			");\n} else {\n\t"+set+"\n}",
		1,
	)
	require.NoError(t, os.WriteFile(file, []byte(now), 0o640))
	require.Equal(t, 200, l.Get("/"))
}

func TestACopyOfAWindingConfigurationHasADatabaseOfItsOwn(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	l := w.Live("ferry")
	winding(t, l)
	w.Keep()
	s := clonetest.CopyOf(w, l.Site, "own", func(*clone.Choices) {})
	clonetest.Holds(t, w, s)
	onOrigin(t, s, "UPDATE sk_options SET option_value = 'A tide of its own' WHERE option_name = 'blogdescription'")
	_, page := clonetest.Ask(t, s, "/")
	clonetest.Has(t, page, "A tide of its own")
	_, page = l.Page("/")
	clonetest.Lacks(t, page, "A tide of its own")
}

func TestFilesOfSettingsAreTheCopysOwnWhereverTheyStand(t *testing.T) {
	ctx := context.Background()
	w := demotest.New(t)
	root := w.Dir("pier", "/srv/skerryline/public")
	config, err := os.ReadFile(filepath.Join(root, "wp-config.php"))
	require.NoError(t, err)
	key := "a-key-of-the-live-site"
	config = bytes.Replace(config, []byte("<?php\n"), []byte("<?php\ndefine( 'AUTH_KEY', '"+key+"' );\n"), 1)
	require.NoError(t, os.WriteFile(filepath.Join(root, "wp-config.php"), config, 0o644))
	files := []string{
		"app/settings/.env",
		"wp-content/plugins/berths/.htaccess",
		"former/wp-config-old.php",
		"left/.env",
	}
	for _, f := range files {
		require.NoError(t, os.MkdirAll(filepath.Join(root, filepath.Dir(f)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, f), []byte("# "+origin+"/tides\nKEY="+key), 0o644))
	}
	w.Keep()
	live, err := w.Desk.Fleet.Find(ctx, origin)
	require.NoError(t, err)
	c, err := w.Desk.Copies.CopyDefaults(ctx, live, "a test")
	require.NoError(t, err)
	c.Name, c.Skip = "own", []string{"left"}
	p, err := w.Desk.Copies.PlanCopy(ctx, live.ID, c)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	s := w.Site("own")
	for _, f := range files[:3] {
		text, err := os.ReadFile(filepath.Join(s.Root, f))
		require.NoError(t, err)
		assert.Equal(t, "# "+s.Address().String()+"/tides\nKEY=taken-out-on-the-copy", string(text), f)
	}
	assert.NoFileExists(t, filepath.Join(s.Root, files[3]), "what is left out is not written either")
	w.Stop()
	proven(t, w, s)
}

// towards is a live site whose own database class goes to the live database, whatever the configuration says, and
// each page of which that is visited leaves a mark there; visits gives that.
func towards(t *testing.T, w *realtest.World) (l *realtest.Live, visits func() string) {
	t.Helper()
	l = w.Live("ferry")
	dropIn := "<?php\n$wpdb = new wpdb( '" + l.Spec.Database + "', '" + l.Spec.Password + "', '" + l.Spec.Database +
		"', '" + l.Spec.Server + "' );\n"
	require.NoError(t, os.WriteFile(filepath.Join(l.Spec.Root, "wp-content/db.php"), []byte(dropIn), 0o644))
	mark := "<?php\nadd_action( 'wp_loaded', function () { update_option( 'tide_visits', 1 + (int) get_option( " +
		"'tide_visits' ) ); } );\n"
	require.NoError(t, os.WriteFile(filepath.Join(l.Spec.Root, "wp-content/plugins/tide-table/tide-table.php"),
		[]byte(mark), 0o644))
	require.Equal(t, 200, l.Get("/"))
	return l, func() string {
		v, err := mariadbtest.Text(l.Spec.Database,
			"SELECT option_value FROM sk_options WHERE option_name = 'tide_visits'")
		require.NoError(t, err)
		return v
	}
}

func TestNoPageOfACopyIsVisitedThatWorksWithTheLiveDatabase(t *testing.T) {
	had := wall.Missing
	wall.Missing = func() string { return "this test wants none" }
	defer func() { wall.Missing = had }()
	ctx := context.Background()
	w := realtest.New(t, realtest.Options{})
	l, visits := towards(t, w)
	before := visits()
	w.Keep()
	r := w.Run(w.Plan(l.Site.Name, "foreign"))
	assert.Equal(t, plan.Stopped, r.State)
	assert.Contains(t, r.Error, "does not work with the copy's own database")
	assert.Contains(t, r.Error, "no page of it was asked for")
	assert.Equal(t, before, visits(), "nothing came to the live database")
	assert.False(t, r.Acceptable)
	_, err := w.Desk.Workings().Queue.Accept(ctx, r.ID)
	assert.ErrorContains(t, err, "can't be let stand", "no wish makes it one that may run")
	w.Stop()
}

// Behind the wall such code does not reach the live database at all, and what it tried is told.
func TestACopyThatGoesForTheLiveDatabaseDoesNotReachIt(t *testing.T) {
	ctx := context.Background()
	w := realtest.New(t, realtest.Options{})
	l, visits := towards(t, w)
	before := visits()
	w.Keep()
	r := w.Run(w.Plan(l.Site.Name, "foreign"))
	require.Equal(t, plan.Done, r.State, r.Error)
	s := w.Site("foreign")
	assert.False(t, s.Proof.Holds, "its code does not run")
	status, _, err := gateway.Fetch(ctx, gateway.Client(s), s.Address().String()+"/")
	require.NoError(t, err)
	assert.Equal(t, 500, status)
	assert.Equal(t, before, visits(), "nothing came to the live database")
	require.Eventually(t, func() bool {
		list, err := w.Desk.Copies.Caught(ctx, s.ID)
		require.NoError(t, err)
		return slices.ContainsFunc(list, func(it outbox.Item) bool {
			return it.Kind == "refused" && it.To == "the database as "+l.Spec.Database && it.Times > 0
		})
	}, time.Minute, 20*time.Millisecond)
}
