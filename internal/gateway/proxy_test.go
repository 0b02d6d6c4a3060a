package gateway_test

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/gateway"
	"alibi/internal/site"
)

// proxied is a gateway before a running copy whose code is handler.
func proxied(t *testing.T, handler http.HandlerFunc, change func(*site.Site)) *gateway.Gateway {
	t.Helper()
	srv := httptest.NewServer(handler)
	t.Cleanup(srv.Close)
	s := site.Site{
		ID:        "c1",
		Name:      "winter",
		Role:      site.Copy,
		State:     site.Ready,
		Stack:     "wordpress",
		Database:  site.Database{Engine: "mysql"},
		Quiet:     site.QuietRules,
		Addresses: []site.Address{{Scheme: "http", Host: "winter.localhost", Port: "7700"}},
		CheckedAt: time.Now(),
	}
	if change != nil {
		change(&s)
	}
	used := map[string]bool{}
	return &gateway.Gateway{
		Secret: []byte("a secret of thirty-two bytes ...."),
		Port:   "7700",
		Now:    time.Now,
		Log:    slog.New(slog.DiscardHandler),
		Sites:  func(context.Context) ([]site.Site, error) { return []site.Site{s}, nil },
		Used:   func(_ context.Context, n string) (bool, error) { was := used[n]; used[n] = true; return was, nil },
		Run: func(context.Context, site.Site) (gateway.Dialer, error) {
			return func(ctx context.Context) (net.Conn, error) {
				var d net.Dialer
				return d.DialContext(ctx, "tcp", srv.Listener.Addr().String())
			}, nil
		},
	}
}

func ask(t *testing.T, g *gateway.Gateway, method, path string, header map[string]string) *http.Response {
	t.Helper()
	r := httptest.NewRequest(method, path, nil)
	r.Host = "winter.localhost:7700"
	for k, v := range header {
		r.Header.Set(k, v)
	}
	rec := httptest.NewRecorder()
	g.ServeHTTP(rec, r)
	return rec.Result()
}

func TestACopysCodeIsBehindTheBanner(t *testing.T) {
	g := proxied(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Powered-By", "PHP")
		w.Header().Set("X-Robots-Tag", "all")
		switch r.URL.Path {
		case "/data.json":
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"html": "<html><body>"}`)
		case "/fragment":
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<p>part of a page</p>")
		case "/packed":
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			fmt.Fprint(z, "<html><body>x</body></html>")
			z.Close()
		default:
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprintf(w, "<!doctype html><html><head></head><body class=\"a\">%s %s %q %q</body></html>", r.Method,
				r.Host, r.Header.Get("Alibi-Enter"), r.Header.Get("Accept-Encoding"))
		}
	}, nil)
	resp := ask(t, g, http.MethodPost, "/form?x=1",
		map[string]string{"Alibi-Enter": "forged", "Accept-Encoding": "gzip"})
	text := body(t, resp)
	assert.Equal(t, 200, resp.StatusCode, "what is sent to a running copy arrives")
	assert.Contains(t, text, `POST winter.localhost:7700 "" ""`, "no word of Alibi's comes from outside")
	assert.Contains(t, text, "<b>COPY</b>")
	assert.Less(t, strings.Index(text, `class="a"`), strings.Index(text, "<b>COPY</b>"), "the banner is in the body")
	assert.Equal(t, "noindex, nofollow", resp.Header.Get("X-Robots-Tag"))
	assert.Empty(t, resp.Header.Get("X-Powered-By"))
	assert.Contains(t, resp.Header.Get("Content-Security-Policy"), "form-action 'self'")
	assert.NotContains(t, body(t, ask(t, g, http.MethodGet, "/data.json", nil)), "COPY")
	assert.Equal(t, "<p>part of a page</p>", body(t, ask(t, g, http.MethodGet, "/fragment", nil)))
	assert.NotContains(t, body(t, ask(t, g, http.MethodGet, "/packed", nil)), "COPY",
		"what is packed all the same passes")
	assert.Contains(t, body(t, ask(t, g, http.MethodGet, "/robots.txt", nil)), "Disallow: /")
	assert.Equal(t, http.StatusNotFound, ask(t, g, http.MethodGet, "/-/try", nil).StatusCode,
		"only Alibi's own probe may have the rules tried")
}

func TestARunningCopyIsEnteredOnce(t *testing.T) {
	g := proxied(t, func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "%s %s", r.URL.Path, r.Header.Get("Alibi-Enter"))
	}, nil)
	s, err := g.Sites(context.Background())
	require.NoError(t, err)
	key := strings.TrimPrefix(gateway.Latchkey(g.Secret, s[0], "tova", time.Now()), s[0].Address().String())
	text := body(t, ask(t, g, http.MethodGet, key, nil))
	assert.Regexp(t, `^/ 746f7661\.\d+\.[0-9a-f]{64}$`, text,
		"the account, a time and a signature; the key itself stays here")
	assert.Equal(t, http.StatusForbidden, ask(t, g, http.MethodGet, key, nil).StatusCode)
	old := strings.TrimPrefix(gateway.Latchkey(g.Secret, s[0], "tova", time.Now().Add(-2*time.Minute)),
		s[0].Address().String())
	assert.Equal(t, http.StatusForbidden, ask(t, g, http.MethodGet, old, nil).StatusCode)
}

func TestACopyThatDoesNotRunSaysWhy(t *testing.T) {
	g := proxied(t, nil, nil)
	g.Run = func(context.Context, site.Site) (gateway.Dialer, error) {
		return nil, errors.New("no PHP is installed")
	}
	resp := ask(t, g, http.MethodGet, "/", nil)
	assert.Equal(t, http.StatusBadGateway, resp.StatusCode)
	assert.Contains(t, body(t, resp), "no PHP is installed")
	g.Run = func(context.Context, site.Site) (gateway.Dialer, error) {
		return func(context.Context) (net.Conn, error) { return nil, errors.New("nobody listens") }, nil
	}
	assert.Contains(t, body(t, ask(t, g, http.MethodGet, "/", nil)), "does not answer")
	for state, status := range map[site.State]int{site.Expired: 410, site.Making: 503, site.Failed: 503,
		site.Parked: 503} {
		g := proxied(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(200) },
			func(s *site.Site) { s.State = state })
		assert.Equal(t, status, ask(t, g, http.MethodGet, "/", nil).StatusCode, state)
	}
}

func TestLiftedRulesLiftTheBrowsersToo(t *testing.T) {
	g := proxied(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(200) },
		func(s *site.Site) { s.Quiet = []site.Rule{site.QuietMail} })
	assert.Empty(t, ask(t, g, http.MethodGet, "/", nil).Header.Get("Content-Security-Policy"))
	g = proxied(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(200) },
		func(s *site.Site) { s.Quiet = []site.Rule{site.QuietStatistics} })
	csp := ask(t, g, http.MethodGet, "/", nil).Header.Get("Content-Security-Policy")
	assert.Contains(t, csp, "img-src 'self' http://*.winter.localhost:7700")
	assert.NotContains(t, csp, "form-action")
}
