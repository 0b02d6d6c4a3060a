package demo_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo"
	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// files digests the parts of a world that do not depend on the time of day.
func files(t *testing.T, home string) map[string]string {
	t.Helper()
	out := map[string]string{}
	root := filepath.Join(home, "world")
	require.NoError(t, filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		if d.Type().IsRegular() && !strings.HasSuffix(p, ".sqlite") {
			b, err := os.ReadFile(p)
			require.NoError(t, err)
			rel, _ := filepath.Rel(root, p)
			out[rel] = fmt.Sprintf("%x", sha256.Sum256(b))
		}
		return nil
	}))
	return out
}

func TestTheWorldIsAlwaysTheSame(t *testing.T) {
	ctx := context.Background()
	var worlds []map[string]string
	for range 2 {
		home := filepath.Join(t.TempDir(), "home")
		w, err := demo.Start(ctx, home, 0, false)
		require.NoError(t, err)
		w.Close()
		worlds = append(worlds, files(t, home))
	}
	assert.Equal(t, worlds[0], worlds[1])
	pictures := 0
	for name := range worlds[0] {
		if strings.HasSuffix(name, ".jpg") || strings.HasSuffix(name, ".png") {
			pictures++
		}
		assert.NotContains(t, name, "wp-admin", "nobody's code is shipped")
	}
	assert.Equal(t, 60, pictures)
}

// Six packages test at once, and each of their worlds opens its gateway's port when it is
// ready, closes it and opens it again.
func TestNobodyGetsAPortThatWasGivenAway(t *testing.T) {
	first := demotest.FreePort(19000)
	assert.NotEqual(t, first, demotest.FreePort(first), "it is not listened at yet")
	ln, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(first)))
	require.NoError(t, err)
	ln.Close()
}

func TestEveryStateWorthSeeing(t *testing.T) {
	ctx := context.Background()
	home := filepath.Join(t.TempDir(), "home")
	w, err := demo.Start(ctx, home, demotest.FreePort(31000), false)
	require.NoError(t, err)
	defer w.Close()
	d, err := desk.Open(ctx, desk.Options{Home: home, Now: w.Now})
	require.NoError(t, err)
	defer d.Close()
	shown := false
	err = w.Show(ctx, d, func(ctx context.Context, d *desk.Desk, carried bool) error {
		shown = true
		assert.True(t, carried)
		b, err := d.Fleet.Board(ctx)
		require.NoError(t, err)
		states := map[site.State]int{}
		phases := map[site.Phase]int{}
		posts := 0
		both := false
		for _, f := range b.Families {
			for _, c := range f.Live.Facts.Contents {
				if strings.HasPrefix(c.Kind, "posts") {
					posts += c.N
				}
			}
			for _, c := range f.Copies {
				states[c.State]++
				phases[c.Lease.Phase(b.At)]++
				both = both || c.Apart.Copy > 0 && c.Apart.Origin > 0 && c.Apart.Clashes > 0
			}
		}
		assert.Equal(t, map[site.State]int{site.Ready: 3, site.Expired: 1, site.Parked: 1, site.Failed: 1}, states)
		assert.Positive(t, phases[site.Held])
		assert.Positive(t, phases[site.Ending])
		assert.True(t, both, "one is drifted on both sides")
		assert.GreaterOrEqual(t, posts, 250)
		runs, err := d.Workings().Record.Runs(ctx, 20)
		require.NoError(t, err)
		failed := 0
		for _, r := range runs {
			if r.State == plan.Stopped {
				failed++
				assert.Contains(t, r.Error, "may not be read by us")
			}
		}
		assert.Equal(t, 1, failed)
		return nil
	})
	require.NoError(t, err)
	assert.True(t, shown)
}

// realDomain finds host names that are not reserved for examples (RFC 2606, RFC 6761).
var realDomain = regexp.MustCompile(`\b[a-z0-9-]+\.(com|org|net|io|dev|co|app)\b`)

func TestNothingIsRealInTheDemo(t *testing.T) {
	sources, err := filepath.Glob("*.go")
	require.NoError(t, err)
	for _, f := range sources {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		for _, l := range strings.Split(string(b), "\n") {
			if l := strings.TrimPrefix(strings.TrimSpace(l), "_ "); !strings.HasPrefix(l, `"`) ||
				strings.Contains(l, "://") { // imports aside
				assert.NotRegexp(t, realDomain, strings.ReplaceAll(l, "golang.org", ""), f)
			}
		}
	}
}
