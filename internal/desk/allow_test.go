package desk_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/site"
)

func TestACopyMayReachWhatItIsLet(t *testing.T) {
	ctx := context.Background()
	w := demotest.New(t)
	w.Keep()
	s := w.Copy("https://skerryline.example", "near")
	s, err := w.Desk.Copies.Allow(ctx, s.ID, "api.example", 0)
	require.NoError(t, err)
	s, err = w.Desk.Copies.Allow(ctx, s.ID, "pay.example:8443", desk.Once)
	require.NoError(t, err)
	assert.Equal(t, []string{"api.example:443", "api.example:80", "pay.example:8443"}, targets(s))
	s, err = w.Desk.Copies.Allow(ctx, s.ID, "api.example:443", desk.Once)
	require.NoError(t, err)
	assert.Len(t, targets(s), 3, "said once more it stands once")
	assert.WithinDuration(t, w.Desk.Now().Add(time.Hour), s.Passes[2].Until, time.Minute)
	s, err = w.Desk.Copies.Refuse(ctx, s.ID, "api.example")
	require.NoError(t, err)
	assert.Equal(t, []string{"pay.example:8443"}, targets(s))
	_, err = w.Desk.Copies.Refuse(ctx, s.ID, "api.example")
	assert.ErrorContains(t, err, "near may not reach api.example anyway")
	_, err = w.Desk.Copies.Allow(ctx, s.ID, "https://x", 0)
	assert.ErrorIs(t, err, site.ErrNoTarget)
	live, err := w.Desk.Fleet.Find(ctx, "https://skerryline.example")
	require.NoError(t, err)
	_, err = w.Desk.Copies.Allow(ctx, live.ID, "api.example", 0)
	assert.ErrorContains(t, err, "is a live site")
}

func targets(s site.Site) (out []string) {
	for _, p := range s.Allowed() {
		out = append(out, p.To)
	}
	return out
}
