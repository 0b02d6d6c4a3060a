package gateway

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/site"
)

func TestALiveSiteSaysWhatRunsIt(t *testing.T) {
	here := func(context.Context, string) (host.Host, error) { return local.New("here"), nil }
	for want, c := range map[string]struct {
		header, page string
		status       int
	}{
		"8.4.1":  {"PHP/8.4.1", "hello", 200},
		"7.4.33": {"PHP/7.4.33-1+deb", "hello", 301},
		"":       {"Perl", "hello", 200},
		" ":      {"PHP/8.4.1", copyBanner, 200}, // its name leads to a copy
		"  ":     {"PHP/8.4.1", "no", 503},
	} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("X-Powered-By", c.header)
			w.WriteHeader(c.status)
			_, _ = io.WriteString(w, c.page)
		}))
		a, err := site.ParseAddress(s.URL)
		require.NoError(t, err)
		got := Visitor{Hosts: here}.Runtime(context.Background(), site.Site{Host: "here", Addresses: []site.Address{a}})
		s.Close()
		if want[:min(1, len(want))] == " " {
			want = ""
		}
		assert.Equal(t, want, got, "%+v", c)
	}
	assert.Empty(t, Visitor{Hosts: here}.Runtime(context.Background(), site.Site{Host: "here"}),
		"one without an address")
}
