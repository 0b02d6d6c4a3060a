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
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/runtime/outbox"
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

func TestACopyThatHoldsTooMuchIsStoppedUntilThereIsRoom(t *testing.T) {
	p, s := newPool(t)
	ctx := context.Background()
	big := filepath.Join(s.Root, "big")
	require.NoError(t, os.WriteFile(big, make([]byte, 3<<20), 0o644))
	s.Runtime.Bounds = "disk=2M"
	first, err := p.Get(ctx, s)
	require.NoError(t, err, "it is measured when it runs: nobody waits for that")
	select {
	case <-first.Gone():
	case <-time.After(time.Minute):
		t.Fatal("it still runs")
	}
	_, err = p.Get(ctx, s)
	require.ErrorIs(t, err, web.ErrFull)
	assert.ErrorContains(t, err, "alibi runtime COPY --bounds disk=SIZE", "what to do is said")
	caught, err := local.New("slipway").Open(ctx, filepath.Join(filepath.Dir(s.Root), "caught"))
	require.NoError(t, err)
	defer caught.Close()
	require.Eventually(t, func() bool {
		list, err := outbox.List(ctx, caught)
		return err == nil && len(list) == 1 && list[0].Kind == "bound" && list[0].To == "disk 2.0 MiB" &&
			strings.HasPrefix(list[0].About(), "1 time: its folders hold 3.0 MiB")
	}, time.Minute, 10*time.Millisecond)
	s.Runtime.Bounds = "disk=20M" // it is changed
	second, err := p.Get(ctx, s)
	require.NoError(t, err)
	assert.Contains(t, page(t, second), "runs")
	s.Runtime.Bounds = "disk=2M"
	third, err := p.Get(ctx, s)
	require.NoError(t, err)
	<-third.Gone()
	require.NoError(t, os.Remove(big))
	require.Eventually(t, func() bool { _, err := p.Get(ctx, s); return err == nil }, time.Minute, 50*time.Millisecond)
}

// What a copy's code left in the folder of our files is not written into.
func TestOurFilesAreNotWrittenWhereACopyPutsThem(t *testing.T) {
	p, s := newPool(t)
	victim := filepath.Join(t.TempDir(), "victim")
	require.NoError(t, os.WriteFile(victim, []byte("as it was"), 0o600))
	run := filepath.Join(p.Run, string(s.ID), "0")
	require.NoError(t, os.MkdirAll(run, 0o700))
	for _, name := range []string{"nginx.conf", "php-fpm.conf", "quiet.php", "php-fpm.log", "database.sock", "etc"} {
		require.NoError(t, os.Symlink(victim, filepath.Join(run, name)))
	}
	r, err := p.Get(context.Background(), s)
	require.NoError(t, err)
	assert.Contains(t, page(t, r), "runs")
	text, err := os.ReadFile(victim)
	require.NoError(t, err)
	assert.Equal(t, "as it was", string(text))
}
