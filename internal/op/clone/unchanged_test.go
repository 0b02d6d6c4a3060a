package clone_test

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/baseline"
	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/op/clone"
)

// What was counted once is not counted again as long as nobody writes there, and is as soon as somebody does.
func TestTablesThatNobodyWroteToAreNotCountedAgain(t *testing.T) {
	ctx := context.Background()
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	s := clonetest.CopyOf(w, live, "near", func(*clone.Choices) {})
	apart := func() (origin, copied int) {
		a, err := w.Desk.Copies.Apart(ctx, s.ID)
		require.NoError(t, err)
		return a.Origin, a.Copy
	}
	marked := func(side string) bool {
		b, err := baseline.Open(filepath.Join(filepath.Dir(s.Root), "baseline.db"))
		require.NoError(t, err)
		defer b.Close()
		seen, err := b.Seen(ctx, side)
		require.NoError(t, err)
		return seen["sk_posts"].Quiet != ""
	}
	require.Eventually(t, func() bool {
		origin, copied := apart()
		assert.Zero(t, origin+copied)
		return marked("live") && marked("copy")
	}, time.Minute, time.Second, "a look at tables that are quiet is remembered")
	onCopy(t, s, "UPDATE sk_posts SET post_title = 'ours' WHERE post_name = 'post-6'")
	origin, copied := apart()
	assert.Equal(t, []int{0, 1}, []int{origin, copied})
	onOrigin(t, live, "UPDATE sk_posts SET post_title = 'theirs' WHERE post_name = 'post-5'")
	origin, copied = apart()
	assert.Equal(t, []int{1, 1}, []int{origin, copied})
	onOrigin(t, live, "UPDATE sk_posts SET post_title = 'ours' WHERE post_name = 'post-6'")
	origin, copied = apart()
	assert.Equal(t, []int{1, 0}, []int{origin, copied}, "what both changed to the same is no difference")
}
