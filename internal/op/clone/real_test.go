package clone_test

import (
	"context"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/evidence"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/runtime/process"
	"alibi/internal/site"
)

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func TestARealSiteRunsUnderEachPHP(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	assert.Equal(t, "mysql", live.Database.Engine)
	assert.NotContains(t, live.Facts.Database.Text(), "made-up-secret")
	w.Keep()
	for _, version := range []string{"7.4", "8.2", "8.4"} {
		t.Run(version, func(t *testing.T) {
			s := clonetest.CopyOf(w, live, "php-"+strings.ReplaceAll(version, ".", ""),
				func(c *clone.Choices) { c.Runtime.PHP, c.Runtime.Memory = version, "96M" })
			checks := clonetest.Holds(t, w, s)
			assert.Contains(t, checks["quiet rules"].Copy, "6 of 6")
			assert.Contains(t, checks["runtime"].Copy, "PHP "+version)
			assert.Equal(t, evidence.Noted, checks["kept"].Verdict, "the value that is broken on the origin is named")
			resp, page := clonetest.Ask(t, s, "/post-3/")
			assert.Equal(t, 200, resp.StatusCode)
			clonetest.Has(t, page, "<b>COPY</b>")
			clonetest.Has(t, page, s.Address().String()+"/tides/")
			clonetest.Lacks(t, page, "://ferry.skerryline.example")
			clonetest.Quiet(t, s)
			inside(t, w, s)
			b, err := os.ReadFile(filepath.Join(s.Root, "wp-config.php"))
			require.NoError(t, err)
			assert.NotContains(t, string(b), "made-up-secret", "the origin's password is not on the copy")
			assert.NotContains(t, string(b), "made up AUTH_KEY", "nor what signs its sessions")
			assert.Contains(t, string(b), "https://skerryline.example/docs is not a setting", "prose stays")
		})
	}
}

// inside enters with a latchkey, once.
func inside(t *testing.T, w *realtest.World, s site.Site) {
	t.Helper()
	key, err := w.Desk.Copies.Latchkey(context.Background(), s.ID, "")
	require.NoError(t, err)
	resp, _ := clonetest.Ask(t, s, key)
	require.Equal(t, http.StatusSeeOther, resp.StatusCode)
	to, err := url.Parse(resp.Header.Get("Location"))
	require.NoError(t, err)
	assert.Equal(t, "/wp-admin/", to.Path)
	resp, page := clonetest.Ask(t, s, "/wp-admin/", resp.Cookies()...)
	assert.Equal(t, 200, resp.StatusCode)
	clonetest.Has(t, page, "runa")
	clonetest.Has(t, page, "<b>COPY</b>")
	resp, _ = clonetest.Ask(t, s, key)
	assert.Equal(t, http.StatusForbidden, resp.StatusCode, "a key opens once")
	resp, _ = clonetest.Ask(t, s, "/wp-admin/")
	assert.Equal(t, http.StatusFound, resp.StatusCode, "without a key there is the door")
	req, err := http.NewRequest(http.MethodGet, s.Address().String()+"/", nil)
	require.NoError(t, err)
	req.Header.Set("Alibi-Enter", "72756e61.99999999999.00")
	req.URL.Host = "127.0.0.1:" + s.Address().Port
	req.Host = s.Address().Host + ":" + s.Address().Port
	resp, err = http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode)
	assert.Empty(t, resp.Cookies(), "nobody enters by a header of his own")
}

func TestLiftedRulesAreLifted(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	s := clonetest.CopyOf(w, live, "loud", func(c *clone.Choices) {
		c.Quiet = []site.Rule{site.QuietMail, site.QuietWebhooks, site.QuietRobots}
		c.Allow = []string{"hooks.stowage.example"}
	})
	assert.Contains(t, clonetest.Holds(t, w, s)["quiet rules"].Copy, "3 of 3")
	// Its scheduled task runs by itself too now, since the copy reaches its own pages: once, or not yet.
	_, text := clonetest.Ask(t, s, "/?tide-now=1")
	assert.Regexp(t, "^fetched [12]$", text)
	for _, c := range clonetest.Caught(t, s, "outward-*") {
		assert.NotContains(t, string(must(os.ReadFile(c))), "stowage", "a host that is allowed is called")
	}
	assert.NotEmpty(t, clonetest.Caught(t, s, "mail-*"))
	resp, _ := clonetest.Ask(t, s, "/")
	assert.Empty(t, resp.Header.Get("Content-Security-Policy"))
}

func TestFromServerToServer(t *testing.T) {
	w := realtest.New(t, realtest.Options{Own: true})
	live := w.Make("ferry")
	w.Keep()
	s := clonetest.CopyOf(w, live, "winter", func(*clone.Choices) {})
	clonetest.Holds(t, w, s)
	clonetest.Judged(t, live, s)
	assert.Contains(t, s.Database.Server, "localhost:"+desk.RunDir(w.Base), "on Alibi's own server")
	again := clonetest.CopyOf(w, s, "of-a-copy", func(*clone.Choices) {})
	clonetest.Holds(t, w, again)
	clonetest.Judged(t, s, again)
	_, page := clonetest.Ask(t, again, "/post-3/")
	clonetest.Has(t, page, again.Address().String()+"/tides/")
	clonetest.Lacks(t, page, "://"+s.Address().Host)
}

func TestNetworks(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Keep()
	for name, domains := range map[string]bool{"folders": false, "domains": true} {
		t.Run(name, func(t *testing.T) {
			live := w.Make(name, func(s *real.Spec) {
				s.Network, s.SubDomains, s.Prefix = []real.Sub{
					{Name: "north", Title: "North Island", Posts: 3, Pictures: 1},
					{Name: "south", Title: "South Island", Posts: 2},
				}, domains, "wp_"
			})
			if !domains { // one of its sites has a name of its own
				onOrigin(t, live, "UPDATE wp_blogs SET domain = 'south.example', path = '/' WHERE path = '/south/'")
				onOrigin(
					t,
					live,
					"UPDATE wp_3_options SET option_value = 'https://south.example' WHERE option_name IN "+
						"('home', 'siteurl')",
				)
				live = must(w.Desk.Fleet.Inspect(context.Background(), live.ID))
			}
			require.NotNil(t, live.Facts.Network)
			assert.Len(t, live.Facts.Network.Sites, 3)
			s := clonetest.CopyOf(w, live, "copy-of-"+name, func(*clone.Choices) {})
			clonetest.Holds(t, w, s)
			clonetest.Judged(t, live, s)
			resp, page := clonetest.Ask(t, s, "http://south."+s.Address().Host+":"+s.Address().Port+"/")
			assert.Equal(t, 200, resp.StatusCode)
			clonetest.Has(t, page, "South Island")
			clonetest.Lacks(t, page, "south.example")
			at := s.Address().String() + "/north/"
			if domains {
				at = "http://north." + s.Address().Host + ":" + s.Address().Port + "/"
			}
			resp, page = clonetest.Ask(t, s, at)
			assert.Equal(t, 200, resp.StatusCode, at)
			clonetest.Has(t, page, "North Island")
			clonetest.Has(t, page, "<b>COPY</b>")
			clonetest.Lacks(t, page, "skerryline.example/")
		})
	}
}

func TestNothingOfACopyStaysOnTheServer(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	s := clonetest.CopyOf(w, live, "brief", func(*clone.Choices) {})
	clonetest.Ask(t, s, "/")
	run := filepath.Join(desk.RunDir(w.Base), string(s.ID))
	assert.NotEmpty(t, process.Left(run))
	there := func(name string) bool {
		list, err := mariadbtest.Root().Databases(ctx)
		require.NoError(t, err)
		for _, n := range list {
			if n == name {
				return true
			}
		}
		return false
	}
	first := s.Database.Name
	require.True(t, there(first))
	onOrigin(t, live, "UPDATE sk_posts SET post_title = 'Fog' WHERE post_name = 'post-3'")
	onOrigin(t, live, "ALTER TABLE sk_links ADD COLUMN fog INT NOT NULL DEFAULT 0") // then all is loaded anew
	p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	s = w.Site("brief")
	clonetest.Holds(t, w, s)
	_, page := clonetest.Ask(t, s, "/post-3/")
	clonetest.Has(t, page, "Fog")
	assert.False(t, there(first), "the database that it had before is gone")
	require.True(t, there(s.Database.Name))
	p, err = w.Desk.Copies.PlanRemove(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(p).State)
	assert.False(t, there(s.Database.Name))
	_, err = mariadbtest.Root().As(s.Database.User, w.Desk.Workings().Env.Password(s.ID)).Identity(ctx)
	assert.ErrorContains(t, err, "Access denied", "its account is gone")
	assert.Eventually(t, func() bool { return len(process.Left(run)) == 0 }, 60*time.Second, 50*time.Millisecond,
		"its programs are stopped")
	left, err := w.Desk.Fleet.Leftovers(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What a copy's own code finds closed when it tries to leave the copy is in the evidence.
func TestTheWaysOutOfACopyAreTried(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	r := w.Run(w.Plan(live.Name, "walled"))
	require.Equal(t, plan.Done, r.State, r.Error)
	reports, err := w.Desk.Copies.Reports(context.Background(), w.Site("walled").ID, 1)
	require.NoError(t, err)
	require.Len(t, reports, 1)
	rep := reports[0]
	i := slices.IndexFunc(rep.Checks, func(c evidence.Check) bool { return c.Name == "wall" })
	require.GreaterOrEqual(t, i, 0)
	c := rep.Checks[i]
	assert.Equal(t, evidence.Holds, c.Verdict, "%s\n%s", c.Text, strings.Join(c.Where, "\n"))
	assert.Greater(t, len(c.Where), 20)
	time.Sleep(300 * time.Millisecond) // calls are noted a moment after they were made
	list, err := w.Desk.Copies.Caught(context.Background(), w.Site("walled").ID)
	require.NoError(t, err)
	assert.Empty(t, list, "Alibi's own tries are none of the copy's doing")
}

// What a database server gives to a copy, and whom it lets in beside, is asked for and said.
func TestALaxDatabaseServerIsSeen(t *testing.T) {
	ctx := context.Background()
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	s := clonetest.CopyOf(w, live, "walled", func(*clone.Choices) {})
	root := mariadbtest.DB("mysql")
	lax := func(statements ...string) {
		for _, q := range statements {
			require.NoError(t, root.Exec(ctx, q), q)
		}
	}
	check := func(name string) evidence.Check {
		rep, err := w.Desk.Copies.Prove(ctx, s.ID, false, nil)
		require.NoError(t, err)
		i := slices.IndexFunc(rep.Checks, func(c evidence.Check) bool { return c.Name == name })
		require.GreaterOrEqual(t, i, 0)
		return rep.Checks[i]
	}
	require.Equal(t, evidence.Holds, check("wall").Verdict)
	t.Cleanup(func() { lax("DROP USER IF EXISTS nosy@localhost", "DROP DATABASE IF EXISTS pantry") })
	lax("CREATE DATABASE pantry", "CREATE USER nosy@localhost",
		"GRANT SELECT ON `"+s.Database.Name+"`.* TO nosy@localhost",
		"GRANT SELECT ON pantry.* TO '"+s.Database.User+"'@localhost",
		"GRANT FILE, PROCESS ON *.* TO '"+s.Database.User+"'@localhost")
	server := check("server")
	assert.Equal(t, evidence.Holds, server.Verdict, "the wall keeps the copy from them")
	assert.Subset(t, server.Where, []string{"nosy@localhost needs no password",
		"nosy@localhost may read the copy's database"})
	wall := check("wall")
	assert.Equal(t, evidence.Broken, wall.Verdict)
	all := strings.Join(wall.Where, "\n")
	for _, open := range []string{"databases of others, pantry: open",
		"rights over the database server, SHOW GRANTS: open",
		"a file by the database server, /etc/passwd: open",
		"accounts of the database server, mysql.user: denied"} {
		assert.Contains(t, all, open)
	}
}
