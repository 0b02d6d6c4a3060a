package reset_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/demo/resettest"
	"alibi/internal/evidence"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// clean cleans a site and wants that to work.
func clean(t *testing.T, w *demotest.World, s site.Site, c reset.Clean, password string) plan.Run {
	t.Helper()
	pl, err := w.Desk.Copies.PlanClean(context.Background(), s.ID, c, password)
	require.NoError(t, err)
	r := resettest.Await(t, w, resettest.Start(t, w, pl))
	require.Equal(t, plan.Done, r.State, r.Error)
	resettest.Clear(t, w, s.ID)
	return r
}

func TestACopyIsCleanedAndThatIsUndone(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "practice")
	was := resettest.Kept(t, w, s)
	pl, err := w.Desk.Copies.PlanClean(ctx, s.ID, reset.Clean{Wish: stack.Wish{All: true},
		Tidy: []string{"plugins", "uploads"}, Except: []string{"tide-table"}}, "")
	require.NoError(t, err)
	goes, stays := fmt.Sprint(pl.Goes), fmt.Sprint(pl.Stays)
	assert.Contains(t, goes, "table sk_posts")
	assert.Contains(t, goes, "wp-content/plugins/bell-mailer")
	assert.Contains(t, stays, "wp-content/plugins/tide-table")
	assert.Empty(t, pl.Confirm, "nothing on it is nowhere else")
	r := resettest.Await(t, w, resettest.Start(t, w, pl))
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Contains(t, r.Result, "left over 1 in plugins")
	assert.Less(t, r.Ended.Sub(r.Began), time.Minute)
	for table, rows := range map[string]string{"posts": "0", "comments": "0", "users": "1"} {
		assert.Equal(t, rows, value(t, s, "SELECT COUNT(*) FROM sk_"+table), table)
	}
	assert.Equal(t, "a:0:{}", value(t, s, "SELECT option_value FROM sk_options WHERE option_name = 'active_plugins'"))
	assert.Contains(t, value(t, s, "SELECT option_value FROM sk_options WHERE option_name = 'siteurl'"),
		"practice.localhost")
	assert.NoDirExists(t, filepath.Join(s.Root, "wp-content/plugins/bell-mailer"))
	assert.DirExists(t, filepath.Join(s.Root, "wp-content/plugins/tide-table"))
	left, err := w.Desk.Copies.Left(ctx, s)
	require.NoError(t, err)
	assert.NotEmpty(t, left)
	proofAfterClean(t, w, s)

	resettest.Restore(t, w, resettest.Newest(t, w, s), resettest.Whole)
	resettest.Same(t, w, was)

	clean(t, w, s, reset.Clean{Wish: stack.Wish{Kinds: []site.Kind{site.Posts}}}, "")
	assert.Equal(t, "0", value(t, s, "SELECT COUNT(*) FROM sk_posts WHERE post_type = 'post'"))
	assert.NotEqual(t, "0", value(t, s, "SELECT COUNT(*) FROM sk_posts WHERE post_type = 'page'"))
	assert.Equal(t, "0", value(t, s, "SELECT COUNT(*) FROM sk_postmeta WHERE post_id NOT IN (SELECT ID FROM sk_posts)"))
	clean(t, w, s, reset.Clean{Wish: stack.Wish{Plugin: "bell-mailer"}}, "")
	assert.Equal(t, "0", value(t, s, "SELECT COUNT(*) FROM sk_options WHERE option_name LIKE 'bell_mailer%'"))
	assert.NotEqual(t, "0", value(t, s, "SELECT COUNT(*) FROM sk_options WHERE option_name LIKE 'quay_visits%'"))
	clean(t, w, s, reset.Clean{Tidy: []string{"themes"}}, "")
	for _, bad := range []struct {
		c    reset.Clean
		says string
	}{
		{reset.Clean{Tidy: []string{"cellar"}}, "a site has plugins, themes and uploads"},
		{reset.Clean{Tidy: []string{"plugins"}, Except: []string{"nothing"}}, "can't be kept"},
		{reset.Clean{Wish: stack.Wish{All: true, Admin: stack.Admin{Name: "nobody"}}}, "a new one needs a password"},
		{reset.Clean{Wish: stack.Wish{Kinds: []site.Kind{site.Users}}}, "would be nobody's"},
	} {
		_, err := w.Desk.Copies.PlanClean(ctx, s.ID, bad.c, "")
		assert.ErrorContains(t, err, bad.says)
	}
	_, err = w.Desk.Copies.PlanClean(ctx, s.ID, reset.Clean{Wish: stack.Wish{All: true}}, "short")
	assert.ErrorContains(t, err, "too short")
}

// proofAfterClean wants what a reset took away to be said as changed.
func proofAfterClean(t *testing.T, w *demotest.World, s site.Site) {
	t.Helper()
	rep, err := w.Desk.Copies.Prove(context.Background(), s.ID, false, nil)
	require.NoError(t, err)
	changed := 0
	for _, c := range rep.Checks {
		assert.NotEqual(t, evidence.Broken, c.Verdict, "%s: %s %v", c.Title, c.Text, c.Where)
		assert.NotContains(t, c.Text, "missing", c.Title)
		if c.Verdict == evidence.Changed {
			changed++
		}
	}
	assert.Positive(t, changed)
	assert.Positive(t, rep.Apart.Copy)
}

func TestACleaningKilledAtEachMoment(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	s := w.Copy(origin, "practice")
	was := resettest.Kept(t, w, s)
	for _, m := range []string{"keep end", "tables progress", "tables end", "files end", "prove end", "open begin"} {
		t.Run(m, func(t *testing.T) {
			w.Stop()
			pl, err := w.Desk.Copies.PlanClean(context.Background(), s.ID,
				reset.Clean{Wish: stack.Wish{All: true}, Tidy: []string{"plugins"}}, "")
			require.NoError(t, err)
			r := resettest.Start(t, w, pl)
			demotest.KilledAt(t, w, m)
			demotest.Resumed(t, w, r.ID)
			resettest.Clear(t, w, s.ID)
			assert.Equal(t, "0", value(t, s, "SELECT COUNT(*) FROM sk_posts"))
			w.Keep()
			resettest.Restore(t, w, was, resettest.Whole)
			resettest.Same(t, w, was)
		})
	}
}

// signIn signs in to a running copy and gives what its inside says.
func signIn(t *testing.T, s site.Site, name, password string) string {
	t.Helper()
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	c := http.Client{
		Jar:     jar,
		Timeout: 30 * time.Second,
		Transport: &http.Transport{DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+s.Address().Port)
		}},
	}
	do := func(method, path string, form url.Values) string {
		u := "http://" + s.Address().Host + ":" + s.Address().Port + path
		var resp *http.Response
		if method == http.MethodPost {
			resp, err = c.PostForm(u, form)
		} else {
			resp, err = c.Get(u)
		}
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return string(b)
	}
	do(http.MethodGet, "/wp-login.php", nil)
	do(http.MethodPost, "/wp-login.php", url.Values{"log": {name}, "pwd": {password}, "wp-submit": {"Log In"},
		"testcookie": {"1"}})
	return do(http.MethodGet, "/wp-admin/users.php", nil)
}

func TestARealCopyIsCleanedForItsNewAdministrator(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	on(t, live, "CREATE TABLE sk_tide_log (n INT)", "INSERT INTO sk_tide_log VALUES (1)",
		"CREATE VIEW sk_tides AS SELECT n FROM sk_tide_log", "CREATE VIEW sk_tides_twice AS SELECT n FROM sk_tides",
		"CREATE VIEW sk_titles AS SELECT post_title AS tide_log FROM sk_posts",
		"CREATE TRIGGER sk_logs AFTER INSERT ON sk_posts FOR EACH ROW INSERT INTO sk_tide_log VALUES (NEW.ID)",
		"CREATE TRIGGER sk_counts BEFORE INSERT ON sk_posts FOR EACH ROW SET NEW.comment_count = 0")
	w.Keep()
	s := w.Copy(live.Name, "practice")
	was := resettest.Kept(t, w.World, s)
	next := "SELECT GROUP_CONCAT(CONCAT(TABLE_NAME, AUTO_INCREMENT) ORDER BY TABLE_NAME) FROM " +
		"information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME <> 'sk_options'"
	numbers := value(t, s, next)
	pl, err := w.Desk.Copies.PlanClean(context.Background(), s.ID, reset.Clean{Wish: stack.Wish{All: true}}, "")
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(pl.Goes), "view sk_tides_twice", "the plan says what goes with a table")
	r := clean(
		t,
		w.World,
		s,
		reset.Clean{
			Wish: stack.Wish{All: true, Admin: stack.Admin{Name: "harbour", Mail: "harbour@skerryline.example"}},
			Tidy: []string{"uploads"},
		},
		"made-up-password",
	)
	assert.Contains(t, r.Result, "its first page answers 200")
	assert.Less(t, r.Ended.Sub(r.Began), time.Minute)
	assert.Equal(
		t,
		"0",
		value(
			t,
			s,
			"SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = "+
				"'sk_tide_log'",
		),
	)
	hung := "SELECT GROUP_CONCAT(n ORDER BY n) FROM (SELECT TABLE_NAME AS n FROM information_schema.VIEWS WHERE " +
		"TABLE_SCHEMA = DATABASE() " +
		"UNION SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()) h"
	assert.Equal(t, "sk_counts,sk_titles", value(t, s, hung), "what works with a table that is gone goes with it")
	assert.Equal(t, "harbour", value(t, s, "SELECT user_login FROM sk_users"))
	inside := signIn(t, s, "harbour", "made-up-password")
	assert.Contains(t, inside, "harbour@skerryline.example", "the new administrator sees the accounts")
	assert.NotContains(t, inside, "runa@")
	entries, err := os.ReadDir(filepath.Join(s.Root, "wp-content/uploads"))
	require.NoError(t, err)
	assert.LessOrEqual(t, len(entries), 1, "what the CMS makes itself when it is visited")
	resettest.Restore(t, w.World, was, resettest.Whole)
	assert.Equal(t, "sk_counts,sk_logs,sk_tides,sk_tides_twice,sk_titles", value(t, s, hung))
	assert.Equal(t, numbers, value(t, s, next))
	on(
		t,
		s,
		"INSERT INTO sk_terms (term_id, name) VALUES (901, 'Tide')",
		"DELETE FROM sk_terms WHERE term_id = 901",
		"INSERT INTO sk_links (link_id, link_notes) VALUES (700, '')",
		"UPDATE sk_posts SET post_title = 'Other' WHERE ID = 3",
		"INSERT INTO sk_posts (ID, post_content, post_title, post_excerpt, to_ping, pinged, post_content_filtered) "+
			"VALUES (5000, '', '', '', '', '', '')",
	)
	assert.NotEqual(t, numbers, value(t, s, next))
	resettest.Restore(t, w.World, was, resettest.Whole)
	assert.Equal(t, numbers, value(t, s, next), "the next numbers too, where single rows were exchanged or none")

	// What the origin has is not touched by any of it, and the copy can be
	// brought in line with it again.
	assert.Equal(t, "1", value(t, live, "SELECT COUNT(*) FROM sk_tide_log"))
	pl, err = w.Desk.Copies.PlanRefresh(context.Background(), s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(pl).State)
}

func TestAnotherSiteIsLaidOverACopy(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "slate")
	other := w.Site("tickets")
	pl, err := w.Desk.Copies.PlanLay(ctx, s.ID, other.ID)
	require.NoError(t, err)
	r := w.Run(pl)
	require.Equal(t, plan.Done, r.State, r.Error)
	now := w.Site("slate")
	assert.Equal(t, other.ID, now.Origin)
	assert.Equal(t, s.Address(), now.Address())
	assert.Equal(t, s.Lease, now.Lease)
	_, err = w.Desk.Copies.PlanLay(ctx, s.ID, s.ID)
	assert.ErrorContains(t, err, "over itself")
}
