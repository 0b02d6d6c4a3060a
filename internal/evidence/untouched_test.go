package evidence_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	osexec "os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/evidence"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
)

// visit asks a copy for pages as visitors do.
func visit(t *testing.T, s site.Site, path string) int {
	t.Helper()
	c := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "tcp", "127.0.0.1:"+s.Address().Port)
	}}}
	resp, err := c.Get(s.Address().String() + path)
	require.NoError(t, err)
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, resp.Body)
	return resp.StatusCode
}

// untouched wants a copy to be the same as its origin, strictly.
func untouched(t *testing.T, w *realtest.World, s site.Site, when string) {
	t.Helper()
	checks, rep := prove(t, w.World, s, true)
	assert.True(t, rep.Proof().Holds, when)
	assert.Zero(t, rep.Apart.Copy, "%s: %+v", when, rep.Apart)
	for _, c := range checks {
		if c.Verdict == evidence.Broken || c.Verdict == evidence.Changed {
			t.Errorf("%s: %s %s: %s %v", when, c.Verdict, c.Title, c.Text, c.Where)
		}
	}
}

func TestAnUntouchedCopyStaysTheSame(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	require.NoError(t, os.Symlink("index.php", filepath.Join(live.Root, "link.php")))
	w.Keep()
	s := w.Copy(live.Name, "untouched")
	apart, err := w.Desk.Copies.Apart(context.Background(), s.ID)
	require.NoError(t, err)
	assert.Zero(t, apart.Copy+apart.Origin, "just made")
	for i := range 9 {
		checks, rep := prove(t, w.World, s, false)
		assert.Zero(t, rep.Apart.Copy, "proof %d: %+v", i, checks)
	}
	untouched(t, w, s, "after ten proofs")
	for i := range 50 {
		visit(t, s, fmt.Sprintf("/post-%d/?x=%d", i%7+1, i))
		visit(t, s, []string{"/", "/feed/", "/wp-login.php", "/?s=tide", "/nothing-here/"}[i%5])
	}
	untouched(t, w, s, "after a hundred visits")
	cmd := osexec.Command(
		"php",
		"-r",
		"$_SERVER['HTTP_HOST'] = 'x'; require 'wp-load.php'; foreach (_get_cron_array() as $at => $list) foreach "+
			"($list as $hook => $events) foreach ($events as $e) if ('tide_table_fetch' !== $hook) { "+
			"do_action_ref_array($hook, $e['args']); echo $hook, \"\\n\"; }",
	)
	cmd.Dir = s.Root
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "wp_version_check", "something was due")
	untouched(t, w, s, "after everything that is due was done")

	changed, err := w.Desk.Hands.FilesChanged(context.Background(), s)
	require.NoError(t, err)
	for _, f := range changed {
		assert.Equal(t, desk.FileOwn, f.State, "no file of an untouched copy shows as changed, also no link: %s",
			f.Path)
	}
	db := mariadbtest.DB(live.Database.Name)
	for _, q := range []string{"CREATE TABLE sk_new (id INT PRIMARY KEY)",
		"CREATE VIEW sk_new_view AS SELECT 1 AS one"} {
		require.NoError(t, db.Exec(context.Background(), q))
	}
	checks, rep := prove(t, w.World, s, false)
	assert.True(t, rep.Proof().Holds, "what the origin gets is no damage")
	assert.Equal(t, evidence.Changed, checks["schema"].Verdict)
	assert.Equal(t, []string{"table sk_new is extra, on the origin", "view sk_new_view is extra, on the origin"},
		checks["schema"].Where)
	assert.Equal(t, 2, rep.Apart.Origin)
}
