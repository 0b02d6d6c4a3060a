package gateway_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"alibi/internal/gateway"
	"alibi/internal/inventory"
	"alibi/internal/site"
)

// BenchmarkAFileOfACopyAmong2000 asks for a file of a running copy through the gateway, and, for comparison, asks the
// copy's web server itself.
func BenchmarkAFileOfACopyAmong2000(b *testing.B) {
	ctx := context.Background()
	in, err := inventory.Open(filepath.Join(b.TempDir(), "record.db"))
	require.NoError(b, err)
	defer in.Close()
	facts := &site.Facts{Core: "6.1", PHP: "8.2"}
	for i := range 40 {
		facts.Plugins = append(facts.Plugins, site.Component{Slug: fmt.Sprint("plugin-", i), Name: "A plugin", Version: "1"})
	}
	for i := range 2000 {
		name := fmt.Sprintf("copy-%d", i)
		require.NoError(b, in.PutSite(ctx, site.Site{ID: site.NewID(), Name: name, Role: site.Copy, State: site.Ready,
			Stack: "wordpress", Database: site.Database{Engine: "mysql", Server: "localhost"}, Facts: facts,
			Addresses: []site.Address{{Scheme: "http", Host: name + ".localhost", Port: "7700"}}}))
	}
	file := make([]byte, 20<<10)
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "image/png")
		_, _ = w.Write(file)
	}))
	defer web.Close()
	var d net.Dialer
	dial := func(ctx context.Context) (net.Conn, error) {
		return d.DialContext(ctx, "tcp", web.Listener.Addr().String())
	}
	g := &gateway.Gateway{Sites: in.Listed, Port: "7700", Now: time.Now, Log: slog.New(slog.DiscardHandler),
		Run: func(context.Context, site.Site) (gateway.Dialer, error) { return dial, nil }}
	front := httptest.NewServer(g)
	defer front.Close()
	for name, to := range map[string]string{"the copy's own server": web.URL, "through the gateway": front.URL} {
		b.Run(name, func(b *testing.B) {
			c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
			for b.Loop() {
				req, err := http.NewRequest(http.MethodGet, to+"/wp-content/uploads/1.png", nil)
				require.NoError(b, err)
				req.Host = "copy-1234.localhost:7700"
				resp, err := c.Do(req)
				require.NoError(b, err)
				n, err := io.Copy(io.Discard, resp.Body)
				require.NoError(b, err)
				require.EqualValues(b, len(file), n)
				resp.Body.Close()
			}
		})
	}
}
