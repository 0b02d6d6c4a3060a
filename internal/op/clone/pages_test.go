package clone_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// A site whose code does not run is copied all the same: the copy is there to find out why.
func TestACopyWhoseCodeDoesNotRunCanBeMended(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	broken := filepath.Join(live.Root, "wp-content/plugins/tide-table/tide-table.php")
	text, err := os.ReadFile(broken)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(broken, append(text, "\ntides_that_are_not_there();\n"...), 0o644))
	w.Keep()
	ctx := context.Background()
	s := clonetest.CopyOf(w, live, "dead", func(*clone.Choices) {})
	assert.Equal(t, site.Ready, s.State)
	assert.False(t, s.Proof.Holds)
	runs, err := w.Desk.Workings().Record.RunsOf(ctx, s.ID)
	require.NoError(t, err)
	assert.Contains(t, runs[0].Result, "the copy stands and can be worked on, and its evidence does not hold")
	assert.Contains(t, runs[0].Result, "tides_that_are_not_there", "with the line of its log")
	wish, _, err := w.Desk.Components.RescueWish(ctx, s.ID)
	require.NoError(t, err)
	p, err := w.Desk.Components.PlanChange(ctx, s.ID, wish, nil)
	require.NoError(t, err)
	r := w.Run(p)
	assert.Equal(t, plan.Done, r.State, r.Error)
	rep, err := w.Desk.Copies.Prove(ctx, s.ID, false, nil)
	require.NoError(t, err)
	assert.True(t, rep.Proof().Holds, "%+v", rep.Checks)
	assert.Regexp(t, `^8\.2\.\d+$`, w.Site("dead").Facts.PHP, "what it runs on was asked of it")
}

func TestPagesAreTheOrigins(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	s := clonetest.CopyOf(w, live, "twin", func(*clone.Choices) {})
	ctx := context.Background()
	spec := real.Spec{Root: live.Root, URL: live.Address().String()}
	origin, err := real.Serve(ctx, spec, t.TempDir())
	require.NoError(t, err)
	defer origin.Stop()
	// A site map is not among them: a site that search engines are to leave alone has none.
	for _, path := range []string{"/", "/post-1/", "/post-3/", "/post-4/", "/?s=harbour", "/feed/", "/comments/feed/",
		"/?p=999999", "/wp-json/wp/v2/posts"} {
		want, a, err := real.Get(ctx, origin, spec, path)
		require.NoError(t, err)
		resp, b := clonetest.Ask(t, s, path)
		assert.Equal(t, want, resp.StatusCode, path)
		assert.Empty(t, real.SamePage(a, b, live.Address().String(), s.Address().String()), path)
	}
}
