package pool

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/runtime/php"
	"alibi/internal/runtime/process"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
)

func newPool(t *testing.T) (*Pool, site.Site) {
	t.Helper()
	run, err := os.MkdirTemp("", "alibi-pool-")
	require.NoError(t, err)
	t.Cleanup(func() {
		process.Reap(run)
		os.RemoveAll(run)
	})
	root := filepath.Join(t.TempDir(), "now", "site")
	require.NoError(t, os.MkdirAll(root, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "index.php"),
		[]byte("<?php echo getmypid() > 0 ? 'runs ' . PHP_VERSION : '';"), 0o644))
	p := &Pool{
		Run:   filepath.Join(run, "p"),
		Log:   slog.New(slog.DiscardHandler),
		PHP:   func() []php.PHP { return php.Find(context.Background()) },
		Local: "slipway",
		Hosts: func(context.Context, string) (host.Host, error) { return nil, errors.New("that host is away") },
	}
	t.Cleanup(p.Close)
	return p, site.Site{
		ID:       "c1",
		Name:     "winter",
		Role:     site.Copy,
		State:    site.Ready,
		Host:     "slipway",
		Root:     root,
		Stack:    "wordpress",
		Database: site.Database{Engine: "mysql"},
		Runtime:  site.Runtime{PHP: "8.2"},
	}
}

func page(t *testing.T, r Running) string {
	t.Helper()
	c := &http.Client{
		Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext:       func(ctx context.Context, _, _ string) (net.Conn, error) { return r.Dial(ctx) },
		},
	}
	resp, err := c.Get("http://winter.localhost/")
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return string(b)
}

func TestACopyIsStartedOnceAndAgainWhenItMust(t *testing.T) {
	p, s := newPool(t)
	ctx := context.Background()
	first, err := p.Get(ctx, s)
	require.NoError(t, err)
	assert.Contains(t, page(t, first), "runs 8.2")
	again, err := p.Get(ctx, s)
	require.NoError(t, err)
	assert.Same(t, first, again)
	s.Title, s.Lease.Reason = "another title", "held" // nothing that its programs know of
	again, err = p.Get(ctx, s)
	require.NoError(t, err)
	assert.Same(t, first, again)
	s.PlacedAt = time.Now()
	second, err := p.Get(ctx, s)
	require.NoError(t, err)
	assert.NotSame(t, first, second, "other files are in place")
	assert.Contains(t, page(t, second), "runs")
	select {
	case <-first.Gone():
	case <-time.After(time.Minute):
		t.Fatal("the first still runs")
	}
	process.Reap(second.(*web.Web).Spec.Run) // as if they had crashed
	<-second.Gone()
	third, err := p.Get(ctx, s)
	require.NoError(t, err)
	assert.Contains(t, page(t, third), "runs")
}

func TestWhatIsOffTheAirDoesNotRun(t *testing.T) {
	p, s := newPool(t)
	r, err := p.Get(context.Background(), s)
	require.NoError(t, err)
	p.Sweep([]site.Site{s})
	select {
	case <-r.Gone():
		t.Fatal("it was stopped while it is on the air")
	case <-time.After(50 * time.Millisecond):
	}
	s.State = site.Expired
	p.Sweep([]site.Site{s})
	select {
	case <-r.Gone():
	case <-time.After(time.Minute):
		t.Fatal("it still runs")
	}
	assert.Eventually(t, func() bool { return len(process.Left(p.Run)) == 0 }, 60*time.Second, 10*time.Millisecond)
}

func TestWhatCannotBeStarted(t *testing.T) {
	p, s := newPool(t)
	ctx := context.Background()
	p.PHP = func() []php.PHP { return nil }
	_, err := p.Get(ctx, s)
	assert.ErrorIs(t, err, web.ErrNoPHP)
	s.ID, s.Host = "c2", "pier"
	_, err = p.Get(ctx, s)
	assert.ErrorContains(t, err, "that host is away")
	assert.False(t, Runs(site.Site{Stack: "plain"}))
	assert.False(t, Runs(site.Site{Stack: "wordpress", Database: site.Database{Engine: "sqlite"}}),
		"the preview draws it")
	assert.True(t, subDirs(site.Site{Facts: &site.Facts{Network: &site.Network{}}}))
	assert.False(t, subDirs(site.Site{}))
}
