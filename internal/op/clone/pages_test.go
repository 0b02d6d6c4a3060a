package clone_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/op/clone"
)

func TestPagesAreTheOrigins(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	s := copyOf(w, live, "twin", func(*clone.Choices) {})
	ctx := context.Background()
	spec := real.Spec{Root: live.Root, URL: live.Address().String()}
	origin, err := real.Serve(ctx, spec, t.TempDir())
	require.NoError(t, err)
	defer origin.Stop()
	// A site map is not among them: a site that search engines are to leave alone has none.
	for _, path := range []string{"/", "/post-1/", "/post-3/", "/post-4/", "/?s=harbour", "/feed/", "/comments/feed/", "/?p=999999", "/wp-json/wp/v2/posts"} {
		want, a, err := real.Get(ctx, origin, spec, path)
		require.NoError(t, err)
		resp, b := ask(t, s, path)
		assert.Equal(t, want, resp.StatusCode, path)
		assert.Empty(t, real.SamePage(a, b, live.Address().String(), s.Address().String()), path)
	}
}
