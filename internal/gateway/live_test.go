package gateway_test

import (
	"crypto/tls"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/gateway"
	"alibi/internal/site"
)

// liveCopy is a gateway with the copy winter, and how it is shown as its origin.
func liveCopy(t *testing.T) *gateway.Live {
	t.Helper()
	copied := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/moved":
			http.Redirect(w, r, "http://winter.localhost:7700/there/", http.StatusFound)
		case "/picture":
			w.Header().Set("Content-Type", "image/png")
			fmt.Fprint(w, "http://winter.localhost:7700/")
		case "/data":
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"u":"http:\/\/winter.localhost:7700\/a"}`)
		default:
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprintf(
				w,
				`<a href="http://winter.localhost:7700/x">%s %s %s %s</a> <a href="http://dock.winter.localhost:7700/">`,
				r.Method, strings.ReplaceAll(r.Host, ".", "|"), r.URL.Path,
				strings.ReplaceAll(r.Header.Get("Referer"), ".", "|"),
			)
		}
	}))
	t.Cleanup(copied.Close)
	s := site.Site{Name: "winter", Addresses: []site.Address{{Scheme: "http", Host: "winter.localhost", Port: "7700"}}}
	origin := site.Site{
		Facts: &site.Facts{
			Addresses: []site.Address{
				{Scheme: "https", Host: "ferry.example"},
				{Scheme: "https", Host: "dock.example"},
			},
		},
	}
	l := gateway.LiveOf(s, origin, "7700", slog.New(slog.DiscardHandler))
	l.Gateway = copied.Listener.Addr().String()
	return l
}

func TestACopyUnderItsLiveName(t *testing.T) {
	l := liveCopy(t)
	assert.Subset(t, l.Hosts(), []string{"ferry.example", "www.ferry.example", "dock.example"})
	get := func(target string, header map[string]string) (*http.Response, string) {
		r := httptest.NewRequest(http.MethodGet, target, nil)
		for k, v := range header {
			r.Header.Set(k, v)
		}
		rec := httptest.NewRecorder()
		l.ServeHTTP(rec, r)
		return rec.Result(), rec.Body.String()
	}
	_, text := get("http://ferry.example:7700/one", map[string]string{"Referer": "http://ferry.example:7700/before"})
	assert.Equal(
		t,
		`<a href="http://ferry.example:7700/x">GET winter|localhost:7700 /one http://winter|localhost:7700/before</a> `+
			`<a href="http://dock.example:7700/">`,
		text,
	)
	_, text = get("http://dock.example:7700/", nil)
	assert.Contains(t, text, "GET dock|winter|localhost:7700 /", "a site of a network that has a name of its own")
	resp, _ := get("http://ferry.example:7700/moved", nil)
	assert.Equal(t, "http://ferry.example:7700/there/", resp.Header.Get("Location"))
	_, text = get("http://ferry.example:7700/data", nil)
	assert.Equal(t, `{"u":"http:\/\/ferry.example:7700\/a"}`, text)
	_, text = get("http://ferry.example:7700/picture", nil)
	assert.Equal(t, "http://winter.localhost:7700/", text, "what is no text passes as it is")
	resp, _ = get("http://other.example/", nil)
	assert.Equal(t, http.StatusForbidden, resp.StatusCode)
	l.Gateway = "127.0.0.1:1"
	resp, text = get("http://ferry.example:7700/", nil)
	assert.Equal(t, http.StatusBadGateway, resp.StatusCode)
	assert.Contains(t, text, "no keeper is at work")
}

func TestAProxyForABrowser(t *testing.T) {
	proxy := httptest.NewServer(&gateway.Proxy{Live: liveCopy(t)})
	t.Cleanup(proxy.Close)
	at, err := url.Parse(proxy.URL)
	require.NoError(t, err)
	browser := &http.Client{
		Transport: &http.Transport{
			Proxy:           http.ProxyURL(at),
			TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	get := func(target string) (*http.Response, string) {
		resp, err := browser.Get(target)
		require.NoError(t, err, target)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp, string(b)
	}
	_, text := get("http://ferry.example/one")
	assert.Contains(t, text, `<a href="http://ferry.example/x">GET winter|localhost:7700 /one`)
	for range 2 {
		resp, text := get("https://www.ferry.example/two")
		assert.Contains(t, text, `<a href="https://ferry.example/x">GET winter|localhost:7700 /two`)
		assert.Contains(t, resp.TLS.PeerCertificates[0].DNSNames, "www.ferry.example")
	}
	resp, text := get("http://elsewhere.example/")
	assert.Equal(t, http.StatusForbidden, resp.StatusCode)
	assert.Contains(t, text, "this proxy leads to ferry.example")
	_, err = browser.Get("https://elsewhere.example/")
	assert.Error(t, err, "no connection to anywhere else")
}

func TestTheGatewayAnswersToANameThatIsPointedHere(t *testing.T) {
	g := proxied(t, func(http.ResponseWriter, *http.Request) {},
		func(s *site.Site) { s.Pointed = &site.Pointed{Names: []string{"ferry.example"}} })
	r := httptest.NewRequest(http.MethodGet, "http://ferry.example:7700/", nil)
	rec := httptest.NewRecorder()
	g.ServeHTTP(rec, r)
	assert.Equal(t, http.StatusForbidden, rec.Code, "its origin is not in this record, so it has no addresses")
	r.Host = "dock.example:7700"
	rec = httptest.NewRecorder()
	g.ServeHTTP(rec, r)
	assert.Equal(t, http.StatusMisdirectedRequest, rec.Code)
}
