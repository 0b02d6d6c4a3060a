package web_test

import (
	"context"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/hosttest"
	"alibi/internal/host/web"
	"alibi/internal/relay/relaytest"
)

// shown is a host of which an address is known and a way to put a file there; names are those of files that are there.
func shown(t *testing.T, php string) (h *web.Host, dir string, names map[string]bool) {
	t.Helper()
	root, address := relaytest.Serve(t, php, "-d", "post_max_size=1M", "-d", "memory_limit=32M")
	u, err := url.Parse(address)
	require.NoError(t, err)
	names = map[string]bool{}
	h = web.New("quay", web.Target{URL: u}, web.Options{
		Bring: func(ctx context.Context, name, text string, before func(context.Context) error) (*url.URL, error) {
			require.NoError(t, before(ctx))
			folder := "code/" + strings.TrimSuffix(name, ".php")
			require.NoError(t, os.MkdirAll(filepath.Join(root.Path(), folder), 0o755))
			return u.JoinPath(folder, name), os.WriteFile(filepath.Join(root.Path(), folder, name), []byte(text), 0o644)
		},
		Made: func(_ context.Context, name string) error {
			names[name] = true
			return nil
		},
		Unmade: func(_ context.Context, name string) error {
			delete(names, name)
			return nil
		},
	})
	t.Cleanup(func() { h.Close() })
	return h, root.Path(), names
}

func TestHost(t *testing.T) {
	h, dir, names := shown(t, "php")
	ctx := context.Background()
	is, err := h.Shown(ctx)
	require.NoError(t, err)
	assert.Equal(t, dir, is)
	require.Len(t, names, 1)
	sites := filepath.Join(dir, "sites")
	require.NoError(t, os.Mkdir(sites, 0o755))
	hosttest.RunWithout(t, h, sites, sites, hosttest.Lacks{Owners: true})
	require.NoError(t, h.Close())
	assert.Empty(t, names)
	left, err := filepath.Glob(filepath.Join(dir, "code", "*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing of ours stays")
}

// A relay that nobody asks any more goes, and comes again.
func TestARelayThatNobodyAsksGoes(t *testing.T) {
	was := web.Idle
	web.Idle = 200 * time.Millisecond
	defer func() { web.Idle = was }()
	h, dir, _ := shown(t, "php")
	there := func() int {
		list, err := filepath.Glob(filepath.Join(dir, "code", "*"))
		require.NoError(t, err)
		return len(list)
	}
	for range 2 {
		_, err := h.Open(context.Background(), dir)
		require.NoError(t, err)
		require.Equal(t, 1, there())
		require.Eventually(t, func() bool { return there() == 0 }, 10*time.Second, 20*time.Millisecond)
	}
}

// What a process that was killed left is removed by the next one.
func TestWhatWasLeftIsRemoved(t *testing.T) {
	h, dir, _ := shown(t, "php")
	left := filepath.Join(dir, "code", host.RelayPrefix+"left")
	require.NoError(t, os.MkdirAll(left, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(left, "x.php"), nil, 0o644))
	other := filepath.Join(dir, "code", "tide-table")
	require.NoError(t, os.Mkdir(other, 0o755))
	require.NoError(t, h.Remove(context.Background(), host.RelayPrefix+"left.php"))
	assert.NoDirExists(t, left)
	assert.Error(t, h.Remove(context.Background(), "tide-table"))
	assert.DirExists(t, other, "it is not ours")
}
