package gateway_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/gateway"
	"alibi/internal/op"
	"alibi/internal/site"
)

// answering is a running copy behind a gateway that listens, and the site as the
// record has it.
func answering(t *testing.T, code http.HandlerFunc) (*gateway.Gateway, site.Site) {
	t.Helper()
	var s site.Site
	ln, err := gateway.Listen("0")
	require.NoError(t, err)
	g := proxied(t, code, func(x *site.Site) {
		_, port, ok := cut(ln.Addr().String())
		require.True(t, ok)
		x.Addresses[0].Port = port
		s = *x
	})
	g.Port = s.Address().Port
	srv := httptest.NewUnstartedServer(g)
	srv.Listener.Close()
	srv.Listener = ln
	srv.Start()
	t.Cleanup(srv.Close)
	return g, s
}

func cut(addr string) (host, port string, ok bool) {
	u, err := url.Parse("http://" + addr)
	return u.Hostname(), u.Port(), err == nil
}

func TestACopyIsAskedWhatItRuns(t *testing.T) {
	g, s := answering(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Empty(t, r.Header.Get("Alibi-Probe"), "the gateway's own words stay with it")
		fmt.Fprintf(w, `{"php":"8.2.1","core":"6.8.12","memory":"256M","mail":true,"tasks":false,"robots":"yes"}`)
	})
	try := gateway.Visitor{Secret: g.Secret, Now: time.Now}.Try
	got, err := try(context.Background(), s, op.Outside{})
	require.NoError(t, err)
	assert.Equal(t, "8.2.1", got.PHP)
	assert.Equal(t, map[site.Rule]bool{"mail": true, "tasks": false}, got.Holds, "what is no answer counts for none")
	stranger := gateway.Visitor{Secret: []byte("another secret of thirty-two by."), Now: time.Now}
	_, err = stranger.Try(context.Background(), s, op.Outside{})
	assert.ErrorContains(t, err, "not what it should", "nobody else may ask")
	plain := s
	plain.Stack = "plain"
	_, err = try(context.Background(), plain, op.Outside{})
	assert.ErrorIs(t, err, op.ErrNotRun)
	s.Addresses = []site.Address{{Scheme: "http", Host: "winter.localhost", Port: "1"}}
	_, err = try(context.Background(), s, op.Outside{})
	assert.ErrorContains(t, err, "asking winter to try its quiet rules")
}

func TestACopysCodeIsToldWhatChanged(t *testing.T) {
	answer := `{"alibi":{"php":"8.2.1","core":"6.8.12","before":"1","after":"2"}}`
	var identity string
	g, s := answering(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get(op.WhoHeader) != "" {
			fmt.Fprint(w, identity)
			return
		}
		assert.NotEmpty(t, r.Header.Get(op.WakeHeader), "signed for the copy")
		fmt.Fprint(w, answer)
	})
	db := s.Database
	identity = fmt.Sprintf(`{"alibi":{"database":%q,"account":"%s@localhost","file":%q,"used_prefix":%q,"home":%q}}`,
		db.Name, db.User, db.Path, db.Prefix, s.Address())
	wake := gateway.Visitor{Secret: g.Secret, Now: time.Now}.Wake
	woken, err := wake(context.Background(), s, op.Ask{On: []string{"a/b.php"}, Update: true})
	require.NoError(t, err)
	assert.Equal(t, "2", woken.After)
	answer = "<html>"
	_, err = wake(context.Background(), s, op.Ask{})
	assert.ErrorContains(t, err, "not what it should")
	identity = `{"alibi":{"database":"live","account":"live@localhost",` +
		`"file":"/srv/live/db","home":"https://skerryline.example"}}`
	_, err = wake(context.Background(), s, op.Ask{})
	assert.ErrorIs(t, err, op.ErrForeign, "what works with something else is told nothing")
	plain := s
	plain.Stack = "plain"
	_, err = wake(context.Background(), plain, op.Ask{})
	assert.ErrorIs(t, err, op.ErrNotRun)
}

func TestAFormIsSent(t *testing.T) {
	g, s := answering(t, func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		fmt.Fprintf(w, "%s %s %s", r.Method, r.URL.RequestURI(), text)
	})
	post := gateway.Visitor{Secret: g.Secret, Now: time.Now}.Post
	status, page, err := post(context.Background(), s, "/wp-admin/install.php?step=2", url.Values{"title": {"a & b"}})
	require.NoError(t, err)
	assert.Equal(t, 200, status)
	assert.Contains(t, page, "POST /wp-admin/install.php?step=2 title=a+%26+b")
}

func TestThePeakOfAPageIsRead(t *testing.T) {
	_, s := answering(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/gone" {
			w.WriteHeader(http.StatusNotFound)
		}
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, "0123456789")
	})
	c := gateway.Client(s)
	_, size, err := gateway.Fetch(context.Background(), c, s.Address().String()+"/data.json")
	require.NoError(t, err)
	assert.Positive(t, size)
	_, _, err = gateway.Fetch(context.Background(), c, "http://\x7f")
	assert.Error(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, _, err = gateway.Fetch(ctx, c, s.Address().String())
	assert.ErrorIs(t, err, context.Canceled)
}
