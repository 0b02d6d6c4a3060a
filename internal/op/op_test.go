package op

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/stack/plain"
	"alibi/internal/stack/wordpress"
)

func addresses(t *testing.T, list ...string) []site.Address {
	t.Helper()
	var out []site.Address
	for _, s := range list {
		a, err := site.ParseAddress(s)
		require.NoError(t, err)
		out = append(out, a)
	}
	return out
}

func pairs(t *testing.T, origin ...string) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, p := range Pairs(addresses(t, origin...), addresses(t, "http://winter.localhost:7700")[0]) {
		out[p.From.String()] = p.To.String()
	}
	return out
}

func TestPairs(t *testing.T) {
	assert.Equal(t, map[string]string{
		"https://skerryline.example":     "http://winter.localhost:7700",
		"https://www.skerryline.example": "http://winter.localhost:7700",
	}, pairs(t, "https://www.skerryline.example"))
	assert.Equal(t, map[string]string{
		"https://a.example":         "http://winter.localhost:7700",
		"https://www.a.example":     "http://winter.localhost:7700",
		"https://north.example":     "http://north.winter.localhost:7700",
		"https://www.north.example": "http://north.winter.localhost:7700",
	}, pairs(t, "https://a.example", "https://north.example"), "another name gets one below the copy's")
	assert.Len(t, pairs(t, "https://a.example", "https://a.example/north", "https://a.example/south"), 2,
		"folders follow the first address")
	two := pairs(t, "https://a.example", "https://shop.b.example", "https://shop.c.example")
	assert.Equal(t, "http://shop.winter.localhost:7700", two["https://shop.b.example"])
	assert.Equal(t, "http://shop-2.winter.localhost:7700", two["https://shop.c.example"], "names do not collide")
	folder := pairs(t, "https://a.example/shop")
	assert.Equal(t, "http://winter.localhost:7700", folder["https://a.example/shop"],
		"a sub-folder becomes the copy's root")
	assert.Empty(t, Pairs(nil, site.Address{}))
}

func env(t *testing.T) *Env {
	return &Env{
		Settings: Settings{Home: t.TempDir(), Local: "slipway"},
		Machines: slipway{},
		Stacks:   []stack.Stack{wordpress.Stack{}, plain.Stack{}},
	}
}

func TestInspectFindsOutTheStack(t *testing.T) {
	e := env(t)
	ctx := context.Background()
	dir := t.TempDir()
	_, err := e.Inspect(ctx, "slipway", dir, "")
	assert.ErrorIs(t, err, ErrNoSite)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.html"), []byte("x"), 0o644))
	f, err := e.Inspect(ctx, "slipway", dir, "")
	require.NoError(t, err)
	assert.Equal(t, "plain", f.Stack)
	_, err = e.Inspect(ctx, "slipway", filepath.Join(dir, "none"), "")
	assert.ErrorContains(t, err, "check the folder's name on slipway")
	_, err = e.Inspect(ctx, "other", dir, "")
	assert.ErrorContains(t, err, "no such host")
	_, err = e.Stack("drupe")
	assert.ErrorContains(t, err, `no stack is called "drupe"`)
}

func TestDeadTemps(t *testing.T) {
	e := env(t)
	assert.Empty(t, e.DeadTemps(), "there is no folder yet")
	for _, d := range []string{strconv.Itoa(os.Getpid()), strconv.Itoa(os.Getppid()), "1999999999", "odd"} {
		require.NoError(t, os.MkdirAll(filepath.Join(e.Home, "temp", d), 0o700))
	}
	var names []string
	for _, p := range e.DeadTemps() {
		names = append(names, filepath.Base(p))
	}
	assert.Equal(t, []string{"1999999999", "odd"}, names, "those of living processes stay")
	assert.Equal(t, strconv.Itoa(os.Getpid()), filepath.Base(e.Temp()))
}

// slipway is this machine, and the only one.
type slipway struct{ Machines }

func (slipway) Host(_ context.Context, name string) (host.Host, error) {
	if name != "slipway" {
		return nil, errors.New("no such host")
	}
	return local.New("slipway"), nil
}

func (slipway) PHP() []php.PHP { return nil }
