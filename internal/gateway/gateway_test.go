package gateway_test

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/gateway"
	"alibi/internal/site"
)

// front is a gateway over a world, asked without a network.
type front struct {
	t *testing.T
	w *demotest.World
	g *gateway.Gateway
	n map[string]bool
}

func newFront(t *testing.T) *front {
	f := &front{t: t, w: demotest.New(t), n: map[string]bool{}}
	f.w.Keep()
	f.g = &gateway.Gateway{
		Sites:  f.w.Desk.Workings().Record.Sites,
		Secret: f.w.Desk.Workings().Secret,
		Port:   f.w.Desk.Workings().Env.Port,
		Now:    time.Now,
		Log:    slog.New(slog.DiscardHandler),
		Used:   func(_ context.Context, n string) (bool, error) { was := f.n[n]; f.n[n] = true; return was, nil },
	}
	return f
}

func (f *front) get(host, path string, cookies ...*http.Cookie) *http.Response {
	f.t.Helper()
	return f.ask(http.MethodGet, host, path, cookies...)
}

func (f *front) ask(method, host, path string, cookies ...*http.Cookie) *http.Response {
	f.t.Helper()
	r := httptest.NewRequest(method, path, nil)
	r.Host = host + ":" + f.g.Port
	for _, c := range cookies {
		r.AddCookie(c)
	}
	rec := httptest.NewRecorder()
	f.g.ServeHTTP(rec, r)
	return rec.Result()
}

func body(t *testing.T, r *http.Response) string {
	t.Helper()
	b, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return string(b)
}

func TestACopyAnswers(t *testing.T) {
	f := newFront(t)
	s := f.w.Copy("https://skerryline.example", "open")
	r := f.get("open.localhost", "/")
	page := body(t, r)
	assert.Equal(t, 200, r.StatusCode)
	assert.Contains(t, page, "<b>COPY</b>")
	assert.Contains(t, page, "a copy of LIVE skerryline.example")
	assert.Contains(t, page, "a test", "its purpose")
	assert.Contains(t, page, "ends in 3 d")
	assert.Contains(t, page, "[copy] Skerry Line")
	assert.Contains(t, page, "<svg", "the mark")
	assert.NotContains(t, page, "https://skerryline.example")
	assert.Equal(t, "noindex, nofollow", r.Header.Get("X-Robots-Tag"))
	assert.Equal(t, "no-store", r.Header.Get("Cache-Control"))
	assert.Contains(t, r.Header.Get("Content-Security-Policy"), "script-src 'none'")
	assert.Contains(t, body(t, f.get("open.localhost", "/page-1/")), "Timetable")
	assert.Contains(t, body(t, f.get("open.localhost", "/?p=3")), "<article>")
	assert.Contains(t, body(t, f.get("open.localhost", "/robots.txt")), "Disallow: /")
	assert.Equal(t, 404, f.get("open.localhost", "/no-such-page/").StatusCode)
	assert.Equal(t, 501, f.get("open.localhost", "/wp-admin/").StatusCode)
	pic, err := filepath.Glob(filepath.Join(s.Root, "wp-content/uploads/2026/*/*.jpg"))
	require.NoError(t, err)
	r = f.get("open.localhost", strings.TrimPrefix(pic[0], s.Root))
	assert.Equal(t, 200, r.StatusCode)
	assert.Equal(t, "image/jpeg", r.Header.Get("Content-Type"))
}

func TestWhatIsNotShown(t *testing.T) {
	f := newFront(t)
	s := f.w.Copy("https://skerryline.example", "shut")
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(s.Root, "passwd.txt")))
	for _, p := range []string{"/wp-config.php", "/wp-content/database/.ht.sqlite", "/.htaccess",
		"/wp-content/debug.log", "/%2e%2e/%2e%2e/baseline.db", "/../../../record.db", "/passwd.txt",
		"/wp-content/plugins/tide-table/tide-table.php"} {
		r := f.get("shut.localhost", p)
		assert.Equal(t, 404, r.StatusCode, p)
		assert.NotContains(t, body(t, r), "<?php", p)
	}
}

func TestHostsAndMethods(t *testing.T) {
	f := newFront(t)
	f.w.Copy("https://skerryline.example", "one")
	for _, host := range []string{"skerryline.example", "one.localhost.example", "evil.example"} {
		assert.Equal(t, http.StatusMisdirectedRequest, f.get(host, "/").StatusCode, host)
	}
	r := httptest.NewRequest(http.MethodGet, "/", nil)
	r.Host = "one.localhost:1"
	rec := httptest.NewRecorder()
	f.g.ServeHTTP(rec, r)
	assert.Equal(t, http.StatusMisdirectedRequest, rec.Code, "another port is another site")
	r = httptest.NewRequest(http.MethodPost, "/", strings.NewReader("x"))
	r.Host = "one.localhost:" + f.g.Port
	rec = httptest.NewRecorder()
	f.g.ServeHTTP(rec, r)
	assert.Equal(t, http.StatusMethodNotAllowed, rec.Code)
	page := body(t, f.get("two.localhost", "/"))
	assert.Contains(t, page, "No copy is called two")
	assert.Contains(t, page, "http://one.localhost:"+f.g.Port)
	assert.Contains(t, body(t, f.get("localhost", "/")), "Copies on this machine")
	assert.Equal(t, 200, f.get("ONE.localhost", "/").StatusCode, "names have no case")
	assert.Equal(t, 404, f.get("skerryline-example.localhost", "/").StatusCode, "a live site is not served")
}

func TestEachStateHasAPage(t *testing.T) {
	f := newFront(t)
	s := f.w.Copy("https://skerryline.example", "state")
	for state, want := range map[site.State]struct {
		code int
		text string
	}{site.Parked: {503, "is parked"}, site.Expired: {410, "can be brought back"}, site.Making: {503, "is being made"},
		site.Failed: {503, "is not whole"}} {
		_, err := f.w.Desk.Workings().Record.ChangeSite(context.Background(), s.ID, func(s *site.Site) error {
			s.State = state
			s.Lease.Ends, s.Lease.Noticed = time.Now().Add(-time.Hour), time.Now()
			return nil
		})
		require.NoError(t, err)
		r := f.get("state.localhost", "/")
		assert.Equal(t, want.code, r.StatusCode, state)
		assert.Contains(t, body(t, r), want.text, state)
	}
}

func TestLatchkey(t *testing.T) {
	f := newFront(t)
	s := f.w.Copy("https://skerryline.example", "keyed")
	now := time.Now()
	path := func(key string) string { return strings.TrimPrefix(key, s.Address().String()) }
	key := path(gateway.Latchkey(f.w.Desk.Workings().Secret, s, "runa", now))
	for _, method := range []string{http.MethodHead, http.MethodOptions, http.MethodPost} {
		f.ask(method, "keyed.localhost", key)
	}
	r := f.get("keyed.localhost", key) // who only looked at it did not spend it
	require.Equal(t, http.StatusSeeOther, r.StatusCode)
	c := r.Cookies()[0]
	assert.True(t, c.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, c.SameSite)
	inside := body(t, f.get("keyed.localhost", "/-/inside", c))
	assert.Contains(t, inside, "Inside, as runa")
	assert.Contains(t, inside, "signed in as runa")
	assert.Equal(t, 404, f.get("keyed.localhost", "/-/inside").StatusCode, "a stranger sees nothing of it")
	assert.Equal(t, 403, f.get("keyed.localhost", key).StatusCode, "a key opens once")
	assert.Equal(
		t, 403,
		f.get("keyed.localhost", path(gateway.Latchkey(f.w.Desk.Workings().Secret, s, "runa",
			now.Add(-2*time.Minute)))).StatusCode, "and within a minute",
	)
	assert.Equal(
		t, 403, f.get("keyed.localhost", path(gateway.Latchkey([]byte("other secret"), s, "runa", now))).StatusCode,
	)
	other := s
	other.ID = "other"
	assert.Equal(
		t, 403,
		f.get("keyed.localhost", path(gateway.Latchkey(f.w.Desk.Workings().Secret, other, "runa", now))).StatusCode,
		"a key fits one copy",
	)
	assert.Equal(t, 403, f.get("keyed.localhost", "/-/key/nonsense").StatusCode)
	bent := *c
	bent.Value = c.Value[:len(c.Value)-2] + "xx"
	assert.NotContains(t, body(t, f.get("keyed.localhost", "/", &bent)), "signed in")
	assert.Equal(t, http.StatusSeeOther, f.get("keyed.localhost", "/-/leave", c).StatusCode)
}

func TestDraftsAreForThoseInside(t *testing.T) {
	f := newFront(t)
	s := f.w.Copy("crew.skerryline.example", "drafts")
	require.NoError(
		t,
		exec(
			s.Database.Path,
			"UPDATE sk_posts SET post_status = 'draft', post_title = 'Hush', post_name = 'hush' WHERE post_type = "+
				"'page' AND post_name = 'page-2'",
		),
	)
	assert.Equal(t, 404, f.get("drafts.localhost", "/hush/").StatusCode)
	r := f.get("drafts.localhost", strings.TrimPrefix(gateway.Latchkey(f.w.Desk.Workings().Secret, s, "runa",
		time.Now()),
		s.Address().String()))
	assert.Contains(t, body(t, f.get("drafts.localhost", "/hush/", r.Cookies()[0])), "<b>draft</b>")
}

func TestSubSites(t *testing.T) {
	f := newFront(t)
	f.w.Copy("islands.skerryline.example", "isles")
	assert.Contains(t, body(t, f.get("isles.localhost", "/")), "The Islands")
	north := body(t, f.get("isles.localhost", "/north/"))
	assert.Contains(t, north, "North Island")
	assert.Contains(t, north, `href="/north/`)
	assert.Contains(t, body(t, f.get("isles.localhost", "/south/page-1/")), "South Island")
}
