package desk_test

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/ballast"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/evidence"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
)

// done carries out what was planned.
func done(t *testing.T, w *realtest.World) func(plan.Plan, error) plan.Run {
	return func(p plan.Plan, err error) plan.Run {
		t.Helper()
		require.NoError(t, err)
		require.False(t, p.Blocked(), p.Findings)
		r, err := w.Desk.Runs.StartTyped(context.Background(), p, p.Confirm)
		require.NoError(t, err)
		r, err = w.Desk.Runs.Await(context.Background(), r.ID, nil)
		require.NoError(t, err)
		require.Equal(t, plan.Done, r.State, r.Error)
		return r
	}
}

// counted runs a statement that gives one number.
func counted(t *testing.T, w *realtest.World, s site.Site, statement string) string {
	t.Helper()
	r, err := w.Desk.Hands.Query(context.Background(), s.ID, statement, false, 10)
	require.NoError(t, err)
	return *r.Rows[0][0]
}

// asked gives what a copy answers to an address, with no account.
func asked(t *testing.T, s site.Site, path string) (int, string) {
	t.Helper()
	c := http.Client{
		Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
				return new(net.Dialer).DialContext(ctx, network, "127.0.0.1:"+s.Address().Port)
			},
		},
	}
	resp, err := c.Get(s.Address().String() + path)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(b)
}

func TestBallastComesAndGoes(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	s := w.Copy("ferry", "full")
	was := counted(t, w, s, "SELECT COUNT(*) FROM sk_posts")
	l := ballast.Load{
		Seed:   7,
		Counts: map[string]int{"posts": 10, "pages": 6, "terms": 3, "users": 2, "comments": 20, "media": 4},
	}
	done(t, w)(w.Desk.Hands.PlanBallast(ctx, s.ID, l))
	assert.Equal(
		t, "10",
		counted(t, w, s, "SELECT COUNT(*) FROM sk_posts WHERE guid LIKE 'urn:x-alibi:ballast:posts:7:%' AND "+
			"post_status='publish'"),
	)
	assert.Equal(t, "20", counted(t, w, s, "SELECT SUM(comment_count) FROM sk_posts WHERE guid LIKE 'urn:x-alibi:%'"))
	assert.Equal(t, "10", counted(t, w, s, "SELECT SUM(count) FROM sk_term_taxonomy JOIN sk_terms USING (term_id) "+
		"WHERE slug LIKE 'ballast-%'"), "groups count what is in them")
	slug := counted(t, w, s, "SELECT ID FROM sk_posts WHERE guid='urn:x-alibi:ballast:posts:7:0'")
	status, text := asked(t, s, "/?p="+slug)
	assert.Equal(t, 200, status)
	assert.Contains(t, text, counted(t, w, s, "SELECT post_title FROM sk_posts WHERE ID="+slug))
	status, text = asked(t, s, "/wp-content/uploads/alibi-ballast/ballast-media-7-0.png")
	assert.Equal(t, 200, status)
	assert.True(t, strings.HasPrefix(text, "\x89PNG"))
	_, err := w.Desk.Hands.PlanBallast(ctx, s.ID, l)
	assert.ErrorIs(t, err, desk.ErrNothingToChange, "the same seed makes the same up")
	more := ballast.Load{Seed: 8, Counts: map[string]int{"posts": 2}}
	done(t, w)(w.Desk.Hands.PlanBallast(ctx, s.ID, more))

	done(t, w)(w.Desk.Hands.PlanBallast(ctx, s.ID, ballast.Load{Remove: true}))
	assert.Equal(t, was, counted(t, w, s, "SELECT COUNT(*) FROM sk_posts"))
	for _, q := range []string{"sk_users WHERE user_login LIKE 'ballast%'", "sk_terms WHERE slug LIKE 'ballast%'",
		"sk_comments WHERE comment_author_email LIKE 'ballast%'",
		"sk_term_relationships WHERE object_id NOT IN (SELECT ID FROM sk_posts)",
		"sk_postmeta WHERE post_id NOT IN (SELECT ID FROM sk_posts)",
		"sk_usermeta WHERE user_id NOT IN (SELECT ID FROM sk_users)"} {
		assert.Equal(t, "0", counted(t, w, s, "SELECT COUNT(*) FROM "+q), q)
	}
	assert.NoDirExists(t, filepath.Join(s.Root, "wp-content/uploads/alibi-ballast"))
	_, err = w.Desk.Hands.PlanBallast(ctx, live.ID, l)
	assert.ErrorContains(t, err, "is a live site")
	_, err = w.Desk.Hands.PlanBallast(ctx, s.ID, ballast.Load{Counts: map[string]int{"comments": 3}})
	assert.ErrorContains(t, err, "ask for some posts too")
	_, err = w.Desk.Hands.PlanBallast(ctx, s.ID, ballast.Load{Counts: map[string]int{"products": 3}})
	assert.ErrorContains(t, err, "no products")
}

func TestPeopleOnACopyAreMadeUpLater(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	ctx := context.Background()
	own := mariadbtest.DB(live.Database.Name)
	require.NoError(
		t,
		own.Exec(
			ctx,
			`UPDATE sk_users SET display_name='Runa Tidewell', user_email='runa.tidewell@islands.example' WHERE ID=1`,
		),
	)
	require.NoError(
		t, own.Exec(ctx, `UPDATE sk_posts SET post_content=CONCAT(post_content, ' By Runa Tidewell.') WHERE ID=1`),
	)
	w.Keep()
	s := w.Copy("ferry", "people")
	k, err := w.Desk.Hands.PeopleLeft(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, evidence.Broken, k.Verdict, "they are there before")
	done(t, w)(w.Desk.Hands.PlanScrub(ctx, s.ID))
	k, err = w.Desk.Hands.PeopleLeft(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, "none found", k.Copy, "%v", k.Where)
	assert.True(t, w.Site("people").Scrubbed)
	status, text := asked(t, s, "/?p=1")
	assert.Equal(t, 200, status)
	assert.NotContains(t, text, "Tidewell")
	_, err = w.Desk.Hands.PlanScrub(ctx, s.ID)
	assert.ErrorIs(t, err, desk.ErrNothingToChange)
	p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	assert.True(t, p.Target.Scrubbed, "bringing it in line brings nobody back")
}

func TestAccountsOfACopy(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	s := w.Copy("ferry", "doors")
	done(t, w)(w.Desk.Hands.PlanAccount(ctx, s.ID, "tester", "editor", "tester@skerryline.example",
		"a long enough word"))
	list, err := w.Desk.Hands.Accounts(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"administrator"}, list[0].Roles)
	last := list[len(list)-1]
	assert.Equal(t, "tester", last.Login)
	assert.Equal(t, []string{"editor"}, last.Roles)
	done(t, w)(w.Desk.Hands.PlanAccount(ctx, s.ID, "tester", "administrator", "", "another long word"))
	hash := counted(t, w, s, "SELECT user_pass FROM sk_users WHERE user_login='tester'")
	assert.True(t, strings.HasPrefix(hash, "$2y$"))
	key, err := w.Desk.Copies.Latchkey(ctx, s.ID, "tester")
	require.NoError(t, err)
	assert.Contains(t, key, "/-/key/")
	_, err = w.Desk.Copies.Latchkey(ctx, s.ID, "administrator")
	require.NoError(t, err, "by role")
	_, err = w.Desk.Copies.Latchkey(ctx, s.ID, "pirate")
	assert.ErrorContains(t, err, "no account and no role")
	for _, c := range [][5]string{{"new", "", "", "", "needs a role and a password"},
		{"tester", "pirate", "", "", "no role"}, {"a b", "editor", "", "", "can't be the name"},
		{"tester", "", "", "short", "too short"}, {"tester", "", "", "", "say what"},
		{"tester", "", "nowhere", "", "no mail address"}} {
		_, err := w.Desk.Hands.PlanAccount(ctx, s.ID, c[0], c[1],
			site.Either(c[0] == "new", "x@skerryline.example", c[2]), c[3])
		assert.ErrorContains(t, err, c[4])
	}
	_, err = w.Desk.Hands.PlanAccount(ctx, live.ID, "tester", "editor", "", "a long enough word")
	assert.ErrorContains(t, err, "is a live site")
}

func TestFilesAreEditedCheckedAndCarried(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	s := w.Copy("ferry", "hands")
	file := "wp-content/plugins/tide-table/tide-table.php"
	was, err := w.Desk.Hands.FileText(ctx, s.ID, file)
	require.NoError(t, err)
	_, err = w.Desk.Hands.PlanEdit(ctx, s.ID, file, append(was, []byte("\nfunction ( {")...), false)
	require.ErrorIs(t, err, desk.ErrSyntax)
	assert.Contains(t, err.Error(), "on line")
	assert.Contains(t, err.Error(), "PHP 8.2")
	_, err = w.Desk.Hands.PlanEdit(ctx, s.ID, file, was, false)
	assert.ErrorIs(t, err, desk.ErrNothingToChange)
	next := bytes.Replace(was, []byte("<?php"), []byte("<?php\n// looked at by hand"), 1)
	done(t, w)(w.Desk.Hands.PlanEdit(ctx, s.ID, file, next, false))
	assert.Contains(t, desk.Difference("was", "is", was, next), "+// looked at by hand")

	list, err := w.Desk.Hands.Files(ctx, s.ID, "wp-content/plugins")
	require.NoError(t, err)
	at := map[string]desk.FileRow{}
	for _, r := range list {
		at[r.Path] = r
	}
	assert.Equal(t, desk.FileChanged, at["wp-content/plugins/tide-table"].State)
	assert.Equal(t, 1, at["wp-content/plugins/tide-table"].Below)
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "wp-content/note.txt"), []byte("x"), 0o644))
	require.NoError(t, os.Remove(filepath.Join(s.Root, "wp-links-opml.php")))
	changed, err := w.Desk.Hands.FilesChanged(ctx, w.Site("hands"))
	require.NoError(t, err)
	states := map[string]desk.FileState{}
	for _, r := range changed {
		states[r.Path] = r.State
	}
	assert.Equal(t, desk.FileNew, states["wp-content/note.txt"])
	assert.Equal(t, desk.FileGone, states["wp-links-opml.php"])
	assert.Equal(t, desk.FileChanged, states[file])
	assert.Equal(t, desk.FileOwn, states["wp-config.php"])
	_, err = w.Desk.Hands.Files(ctx, s.ID, "../..")
	assert.ErrorContains(t, err, "is no folder")
	_, err = w.Desk.Hands.FileText(ctx, s.ID, "wp-content")
	assert.ErrorContains(t, err, "is no file")

	p, err := w.Desk.Hands.PlanCarry(ctx, s.ID, live.ID, "wp-content/plugins/tide-table")
	require.NoError(t, err)
	assert.Equal(t, live.Name, p.Confirm, "a live site's name must be typed")
	_, err = w.Desk.Runs.Start(ctx, p)
	require.ErrorIs(t, err, desk.ErrNotTyped)
	before, err := os.ReadFile(filepath.Join(live.Root, "wp-config.php"))
	require.NoError(t, err)
	done(t, w)(p, nil)
	got, err := os.ReadFile(filepath.Join(live.Root, file))
	require.NoError(t, err)
	assert.Equal(t, string(next), string(got))
	after, err := os.ReadFile(filepath.Join(live.Root, "wp-config.php"))
	require.NoError(t, err)
	assert.Equal(t, before, after)
	_, err = w.Desk.Hands.PlanCarry(ctx, s.ID, live.ID, "wp-content/mu-plugins")
	assert.Error(t, err, "what makes a copy one never leaves it")

	deeds, err := w.Desk.Hands.WorkList(ctx, s.ID)
	require.NoError(t, err)
	require.Len(t, deeds, 1)
	assert.Equal(t, []string{"alibi carry hands " + file + " " + live.Name}, deeds[0].Commands)
	require.NoError(t, w.Desk.Hands.NoteDeed(ctx, s.ID, "moved the menu"))
	require.NoError(t, w.Desk.Hands.Repeated(ctx, s.ID, deeds[0].ID, true))
	deeds, err = w.Desk.Hands.WorkList(ctx, s.ID)
	require.NoError(t, err)
	assert.True(t, deeds[0].Repeated)
	assert.Equal(t, "moved the menu", deeds[1].Text)
	var md bytes.Buffer
	desk.WriteDeeds(&md, s, deeds)
	assert.Contains(t, md.String(), "- [x] "+file+" edited")
	assert.ErrorContains(t, w.Desk.Hands.Repeated(ctx, s.ID, "nothing", true), "has no")
	points, _, err := w.Desk.Points.Points(ctx, s.ID)
	require.NoError(t, err)
	back, err := w.Desk.Points.PlanRestore(ctx, points[len(points)-1], reset.Choices{Files: true, Database: true})
	done(t, w)(back, err)
	deeds, err = w.Desk.Hands.WorkList(ctx, s.ID)
	require.NoError(t, err)
	assert.True(t, deeds[0].Undone, "it was taken back")
	got, err = w.Desk.Hands.FileText(ctx, s.ID, file)
	require.NoError(t, err)
	assert.Equal(t, string(was), string(got))
}

func TestRowsAndStatements(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	s := w.Copy("ferry", "data")
	list, err := w.Desk.Hands.Tables(ctx, s.ID)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, list[0].Bytes, list[1].Bytes)
	for _, x := range list {
		if x.Name == "sk_posts" {
			assert.Equal(t, x.Origin, x.Rows)
			assert.Equal(t, []string{"ID"}, x.Key)
		}
	}
	r, err := w.Desk.Hands.TableRows(ctx, s.ID, "sk_options", desk.Where{Column: "option_name", Text: "blogname",
		Exact: true}, 0, 5)
	require.NoError(t, err)
	require.Len(t, r.Rows, 1)
	assert.Equal(t, "[copy] Skerry Ferry", *r.Rows[0][2])
	first, err := w.Desk.Hands.TableRows(ctx, s.ID, "sk_posts", desk.Where{}, 0, 2)
	require.NoError(t, err)
	assert.True(t, first.More)
	second, err := w.Desk.Hands.TableRows(ctx, s.ID, "sk_posts", desk.Where{}, 1, 1)
	require.NoError(t, err)
	assert.Equal(t, *first.Rows[1][0], *second.Rows[0][0])
	var csv bytes.Buffer
	require.NoError(t, r.CSV(&csv))
	assert.Contains(t, csv.String(), "option_id,option_name,option_value,autoload\r\n")
	_, err = w.Desk.Hands.TableRows(ctx, s.ID, "nothing", desk.Where{}, 0, 1)
	assert.ErrorContains(t, err, "no table")
	_, err = w.Desk.Hands.TableRows(ctx, s.ID, "sk_posts", desk.Where{Column: "nothing", Text: "x"}, 0, 1)
	assert.ErrorContains(t, err, "no column")

	_, err = w.Desk.Hands.Query(ctx, s.ID, "UPDATE sk_posts SET post_title='x'", false, 1)
	require.ErrorIs(t, err, desk.ErrLocked)
	_, err = w.Desk.Hands.Query(ctx, live.ID, "UPDATE sk_posts SET post_title='x'", true, 1)
	require.ErrorIs(t, err, desk.ErrLocked)
	assert.NotEqual(t, "x", counted(t, w, live, "SELECT post_title FROM sk_posts LIMIT 1"))
	u, err := w.Desk.Hands.Query(ctx, s.ID, "UPDATE sk_posts SET post_title='x' WHERE ID=1", true, 1)
	require.NoError(t, err)
	assert.EqualValues(t, 1, u.Changed)
	assert.Equal(t, "x", counted(t, w, s, "SELECT post_title FROM sk_posts WHERE ID=1"))
	deeds, err := w.Desk.Hands.WorkList(ctx, s.ID)
	require.NoError(t, err)
	assert.Contains(t, deeds[0].Text, "UPDATE sk_posts")
	_, err = w.Desk.Hands.Query(ctx, s.ID, "SELECT * FROM nowhere", false, 1)
	assert.ErrorContains(t, err, "the database of data says")
}

func TestLogsOfACopy(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	s := w.Copy("ferry", "noisy")
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(s.Root, "loud.php"),
			[]byte(
				"<?php trigger_error('the bell', E_USER_WARNING); echo 'rung'; if (isset($_GET['die'])) { "+
					"nobody_here(); }",
			),
			0o644,
		),
	)
	status, _ := asked(t, s, "/loud.php")
	assert.Equal(t, 200, status)
	l, err := w.Desk.Hands.ReadLog(ctx, s.ID, "errors", "", "", -1)
	require.NoError(t, err)
	assert.Equal(t, 1, l.Kinds["warning"])
	end := l.End
	asked(t, s, "/loud.php?die=1")
	l, err = w.Desk.Hands.ReadLog(ctx, s.ID, "errors", "", "fatal", end)
	require.NoError(t, err)
	require.Len(t, l.Lines, 1)
	assert.Contains(t, l.Lines[0].Text, "nobody_here")
	assert.Contains(t, l.Lines[0].Text, "Stack trace", "lines that go on an entry belong to it")
	assert.NotContains(t, l.Lines[0].Text, s.Root)
	assert.Equal(t, 1, l.Kinds["warning"], "the kinds are of all that was read")
	require.Eventually(t, func() bool { // a request is written down when it is answered
		l, err = w.Desk.Hands.ReadLog(ctx, s.ID, "access", "loud", "2xx", -1)
		return err == nil && l.Kinds["5xx"] == 1
	}, 60*time.Second, 50*time.Millisecond)
	assert.Len(t, l.Lines, 1)
	_, err = w.Desk.Hands.ReadLog(ctx, s.ID, "gossip", "", "", -1)
	assert.ErrorContains(t, err, "there is no log")
	_, err = w.Desk.Hands.ReadLog(ctx, live.ID, "access", "", "", -1)
	assert.ErrorContains(t, err, "web server's")
	l, err = w.Desk.Hands.ReadLog(ctx, live.ID, "errors", "", "", -1)
	require.NoError(t, err)
	assert.Empty(t, l.Lines)
}
