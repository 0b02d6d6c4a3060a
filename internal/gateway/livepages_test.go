package gateway_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/gateway"
	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/site"
)

// noForward is a host that connects to nothing for us, and errs otherwise.
type noForward struct{ host.Host }

func (noForward) Dial(context.Context, string, string) (net.Conn, error) {
	return nil, fmt.Errorf("host moor: %w", host.ErrNoForward)
}

// A site on a host that gives files only is asked for pages from here, as its visitors ask it; the place to which its
// name does not lead only where it is known at which machine that answers.
func TestPagesOfASiteWhoseHostConnectsToNothing(t *testing.T) {
	ctx := context.Background()
	var names []string
	web := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		names = append(names, r.Host)
		if r.URL.Path == "/gone/" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("X-Powered-By", "PHP/8.2.9")
		fmt.Fprintf(w, `<a href="https://%s/gone/">Gone</a>`, r.Host)
	}))
	t.Cleanup(web.Close)
	u, err := url.Parse(web.URL)
	require.NoError(t, err)
	hosts := func(context.Context, string) (host.Host, error) { return noForward{}, nil }
	v := gateway.Visitor{Now: time.Now, Hosts: hosts}
	s := site.Site{Host: "moor", Addresses: []site.Address{{Scheme: "https", Host: "localhost", Port: u.Port()}}}
	want := []op.Page{{Path: "/", Status: 200}, {Path: "/gone/", Status: 404}}

	got, err := v.Pages(ctx, s, "", nil)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	assert.Equal(t, "8.2.9", v.Runtime(ctx, s))

	names = nil
	place := s
	place.State, place.Addresses = site.Aside, []site.Address{{Scheme: "https", Host: "ferry.example", Port: u.Port()}}
	got, err = v.Pages(ctx, place, "", want)
	require.NoError(t, err)
	assert.Equal(t, []op.Page{{Path: "/"}, {Path: "/gone/"}}, got, "nobody was asked")
	assert.Empty(t, names)
	place.Web = []string{"127.0.0.1"}
	got, err = v.Pages(ctx, place, "", want)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	assert.Equal(t, "ferry.example:"+u.Port(), names[0], "by its own name")
	_, err = v.Pages(ctx, site.Site{Host: "moor", State: site.Aside, Addresses: place.Addresses}, "", nil)
	require.ErrorIs(t, err, op.ErrNoPages)
	assert.True(t, errors.Is(err, host.ErrNoForward))
}
