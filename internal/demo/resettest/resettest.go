// Package resettest brings sites to other states for tests, and looks at what that left.
package resettest

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/op/keep"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// Whole is all of a site.
var Whole = reset.Choices{Files: true, Database: true}

// Kept takes a restore point, and gives it.
func Kept(t *testing.T, w *demotest.World, s site.Site) desk.Point {
	t.Helper()
	p, err := w.Desk.Points.PlanKeep(context.Background(), s.ID, keep.Choices{Kind: depot.ByHand})
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	return Newest(t, w, s)
}

// Newest is the newest restore point of a site.
func Newest(t *testing.T, w *demotest.World, s site.Site) desk.Point {
	t.Helper()
	list, bad, err := w.Desk.Points.Points(context.Background(), s.ID)
	require.NoError(t, err)
	require.Empty(t, bad)
	require.NotEmpty(t, list)
	return list[0]
}

// Begin plans a restoring and puts it to work.
func Begin(t *testing.T, w *demotest.World, p desk.Point, c reset.Choices) plan.Run {
	t.Helper()
	ctx := context.Background()
	pl, err := w.Desk.Points.PlanRestore(ctx, p, c)
	require.NoError(t, err)
	return Start(t, w, pl)
}

// Start puts a plan to work.
func Start(t *testing.T, w *demotest.World, pl plan.Plan) plan.Run {
	t.Helper()
	r, err := w.Desk.Runs.StartTyped(context.Background(), pl, pl.Confirm)
	require.NoError(t, err)
	return r
}

// Await waits for a run to end.
func Await(t *testing.T, w *demotest.World, r plan.Run) plan.Run {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	r, err := w.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	return r
}

// Restore brings a site back and wants that to work.
func Restore(t *testing.T, w *demotest.World, p desk.Point, c reset.Choices) plan.Run {
	t.Helper()
	r := Await(t, w, Begin(t, w, p, c))
	require.Equal(t, plan.Done, r.State, r.Error)
	return r
}

// Same wants a site to be what it was at a restore point, and nothing of Alibi's
// to be in it.
func Same(t *testing.T, w *demotest.World, p desk.Point) {
	t.Helper()
	ctx := context.Background()
	c, err := w.Desk.Points.Since(ctx, p)
	require.NoError(t, err)
	assert.Empty(t, c.Files)
	assert.Empty(t, c.Tables)
	Clear(t, w, p.Site.ID)
}

// Here gives a site with its paths on this machine.
func Here(w *demotest.World, s site.Site) site.Site {
	if w.World != nil && s.Role == site.Live {
		s.Root, s.Database.Path = w.Dir(s.Host, s.Root), w.Dir(s.Host, s.Database.Path)
	}
	return s
}

// Clear wants nothing of a run to be left in a site.
func Clear(t *testing.T, w *demotest.World, id site.ID) {
	t.Helper()
	s, err := w.Desk.Workings().Record.Site(context.Background(), id)
	require.NoError(t, err)
	s = Here(w, s)
	assert.Empty(t, s.Run)
	assert.Nil(t, s.Front)
	assert.Equal(t, site.Ready, s.State)
	for _, dir := range []string{s.Root, filepath.Dir(s.Database.Path)} {
		require.NoError(t, filepath.WalkDir(dir, func(p string, _ fs.DirEntry, err error) error {
			assert.NotContains(t, filepath.Base(p), ".alibi-part-")
			assert.NotEqual(t, ".maintenance", filepath.Base(p))
			return err
		}))
	}
}

// Visit asks for a page at a loopback port, as a host's name.
func Visit(t *testing.T, port int, host string, change ...func(*http.Request)) (int, string) {
	t.Helper()
	r, err := http.NewRequest(http.MethodGet, fmt.Sprintf("http://127.0.0.1:%d/", port), nil)
	require.NoError(t, err)
	r.Host = host
	for _, c := range change {
		c(r)
	}
	c := http.Client{
		Timeout:       20 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	resp, err := c.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(b)
}
