package gateway_test

import (
	"context"
	"crypto/tls"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/gateway"
)

func TestABrowserLooksAtTheOtherPlaceUnderTheLiveName(t *testing.T) {
	page := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, "there "+r.Host+" "+r.URL.RequestURI()+" "+r.Header.Get("Cookie"))
	})
	plain, secret := httptest.NewServer(page), httptest.NewTLSServer(page)
	t.Cleanup(plain.Close)
	t.Cleanup(secret.Close)
	at := map[string]string{"80": plain.Listener.Addr().String(), "443": secret.Listener.Addr().String()}
	proxy := httptest.NewServer(&gateway.Ahead{Names: []string{"ferry.example"}, Log: slog.New(slog.DiscardHandler),
		Dial: func(ctx context.Context, port string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", at[port])
		}})
	t.Cleanup(proxy.Close)
	is, err := url.Parse(proxy.URL)
	require.NoError(t, err)
	browser := &http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(is),
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	get := func(target string) (int, string, *tls.ConnectionState) {
		req, err := http.NewRequest(http.MethodGet, target, nil)
		require.NoError(t, err)
		req.Header.Set("Cookie", "deck=two")
		resp, err := browser.Do(req)
		require.NoError(t, err, target)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, strings.TrimSpace(string(b)), resp.TLS
	}
	_, text, _ := get("http://ferry.example/boats?x=1")
	assert.Equal(t, "there ferry.example /boats?x=1 deck=two", text)
	_, text, seen := get("https://ferry.example/quay")
	assert.Equal(t, "there ferry.example /quay deck=two", text)
	assert.Equal(t, secret.Certificate().Raw, seen.PeerCertificates[0].Raw, "the certificate is that server's own")
	code, text, _ := get("http://elsewhere.example/")
	assert.Equal(t, http.StatusForbidden, code)
	assert.Contains(t, text, "this proxy leads to ferry.example")
	_, err = browser.Get("https://elsewhere.example/")
	assert.Error(t, err)
	at["80"] = "127.0.0.1:1"
	code, text, _ = get("http://ferry.example/")
	assert.Equal(t, http.StatusBadGateway, code)
	assert.Contains(t, text, "does not answer")
}
