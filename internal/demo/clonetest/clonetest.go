// Package clonetest makes copies for tests, and looks at them as people would, and as a judge does that shares no code
// with Alibi.
package clonetest

import (
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/evidence"
	"alibi/internal/op"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
)

// CopyOf makes a copy with choices changed.
func CopyOf(w *realtest.World, origin site.Site, name string, change func(*clone.Choices)) site.Site {
	w.T.Helper()
	ctx := context.Background()
	c, err := w.Desk.Copies.CopyDefaults(ctx, origin, "a test")
	require.NoError(w.T, err)
	c.Name, c.Scrub = name, "off" // the judge wants everything as it is
	change(&c)
	p, err := w.Desk.Copies.PlanCopy(ctx, origin.ID, c)
	require.NoError(w.T, err)
	r := w.Run(p)
	if r.State != plan.Done {
		reps, err := w.Desk.Copies.Reports(ctx, r.Plan.Target.ID, 1)
		require.NoError(w.T, err)
		for _, rep := range reps {
			for _, c := range rep.Checks {
				w.T.Logf("%s %s: %s %v", c.Verdict, c.Title, c.Text, c.Where)
			}
		}
	}
	require.Equal(w.T, plan.Done, r.State, r.Error)
	for _, p := range r.Steps {
		w.T.Log(p.Name, p.Ended.Sub(p.Began).Round(time.Millisecond), p.Note)
	}
	return w.Site(name)
}

// Ask gets a page of a copy, without following where it leads.
func Ask(t *testing.T, s site.Site, path string, cookies ...*http.Cookie) (*http.Response, string) {
	t.Helper()
	c := &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				var d net.Dialer
				return d.DialContext(ctx, "tcp", "127.0.0.1:"+s.Address().Port)
			},
		},
	}
	if !strings.HasPrefix(path, "http://") {
		path = s.Address().String() + path
	}
	req, err := http.NewRequest(http.MethodGet, path, nil)
	require.NoError(t, err)
	for _, k := range cookies {
		req.AddCookie(k)
	}
	resp, err := c.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp, string(b)
}

// Holds wants the latest evidence about a copy to hold, and gives it.
func Holds(t *testing.T, w *realtest.World, s site.Site) map[string]evidence.Check {
	t.Helper()
	reps, err := w.Desk.Copies.Reports(context.Background(), s.ID, 1)
	require.NoError(t, err)
	require.NotEmpty(t, reps)
	out := map[string]evidence.Check{}
	for _, c := range reps[0].Checks {
		out[c.Name] = c
		assert.NotEqual(t, evidence.Broken, c.Verdict, "%s: %s %v", c.Title, c.Text, c.Where)
	}
	return out
}

// Has and lacks look for a text in a page without printing it all.
func Has(t *testing.T, page, text string) {
	t.Helper()
	assert.True(t, strings.Contains(page, text), "%q is not on the page", text)
}

func Lacks(t *testing.T, page, text string) {
	t.Helper()
	if i := strings.Index(page, text); i >= 0 {
		assert.Fail(t, "on the page", "%q", page[max(0, i-80):min(len(page), i+80)])
	}
}

func Caught(t *testing.T, s site.Site, pattern string) []string {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(filepath.Dir(s.Root), "caught", pattern))
	require.NoError(t, err)
	return list
}

// Quiet has the copy's plugin fetch, call and mail, as it would on time and when
// somebody asks for it.
func Quiet(t *testing.T, s site.Site) {
	t.Helper()
	resp, text := Ask(t, s, "/wp-cron.php?doing_wp_cron")
	assert.Equal(t, 200, resp.StatusCode)
	assert.Empty(t, text)
	Ask(t, s, "/")
	assert.Empty(t, Caught(t, s, "mail-*"), "no task ran")
	_, text = Ask(t, s, "/?tide-now=1")
	assert.Equal(t, "fetched 1", text, "it ran now for the first time")
	mails := Caught(t, s, "mail-*.json")
	require.Len(t, mails, 1)
	b, err := os.ReadFile(mails[0])
	require.NoError(t, err)
	assert.Contains(t, string(b), "master@harbour.example")
	assert.Contains(t, string(b), s.Address().String()+"/tides/")
	calls := Caught(t, s, "outward-*.json")
	require.NotEmpty(t, calls)
	all := ""
	for _, c := range calls {
		b, err := os.ReadFile(c)
		require.NoError(t, err)
		all += string(b)
	}
	assert.Contains(t, all, "https://hooks.stowage.example/tides")
	require.Eventually(t, func() bool { return len(Caught(t, s, "sendmail-*.eml")) == 1 }, 5*time.Second,
		20*time.Millisecond, "mail that goes past the CMS is caught too")
	resp, _ = Ask(t, s, "/")
	assert.Contains(t, resp.Header.Get("X-Robots-Tag"), "noindex")
	assert.Contains(t, resp.Header.Get("Content-Security-Policy"), "connect-src 'self'")
}

// NothingLeft wants no leftovers, and no database of ours but those of copies.
func NothingLeft(t *testing.T, w *realtest.World) {
	t.Helper()
	ctx := context.Background()
	left, err := w.Desk.Fleet.Leftovers(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
	all, err := w.Desk.Workings().Record.Sites(ctx)
	require.NoError(t, err)
	needed := map[string]bool{}
	for _, s := range all {
		needed[s.Database.Name] = true
	}
	list, err := mariadbtest.Root().Databases(ctx)
	require.NoError(t, err)
	for _, n := range list {
		assert.True(t, needed[n] || !strings.HasPrefix(n, "alibi_"), "the database %s is left", n)
	}
}

// Judged has a program that shares no code with Alibi compare a copy with its
// origin: values taken apart by PHP itself, addresses exchanged by plain
// replacement, files by their digests. Both must be as they were made.
func Judged(t *testing.T, origin, copied site.Site) {
	t.Helper()
	versions, err := real.PHPs(context.Background())
	require.NoError(t, err)
	cli := ""
	for _, p := range versions {
		if p.Series() == "8.2" {
			cli = p.CLI
		}
	}
	require.NotEmpty(t, cli, "PHP 8.2 is needed")
	judge := judgeFile(t)
	args := []string{judge, origin.Root, copied.Root, origin.Address().String(), copied.Address().String()}
	for _, p := range op.Pairs(origin.Facts.Addresses, copied.Address()) {
		args = append(args, p.From.Host+"="+p.To.Host+":"+p.To.Port)
	}
	out, err := exec.Command(cli, args...).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), ", 0 faults")
}

// judgeFile finds the judge from the folder of a package on upwards.
func judgeFile(t *testing.T) string {
	t.Helper()
	dir, err := os.Getwd()
	require.NoError(t, err)
	for ; dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
		if file := filepath.Join(dir, "bench", "judge.php"); exists(file) {
			return file
		}
	}
	t.Fatal("bench/judge.php is in no folder above the test's")
	return ""
}

func exists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}
