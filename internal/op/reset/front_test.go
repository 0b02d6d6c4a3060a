package reset_test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/demo/resettest"
	"alibi/internal/desk"
	"alibi/internal/op/reset"
	"alibi/internal/site"
)

// served has PHP itself serve a site's folder, as its own web server would.
func served(t *testing.T, root string) int {
	t.Helper()
	port := demotest.FreePort(31500)
	cmd := exec.Command("php", "-S", fmt.Sprintf("127.0.0.1:%d", port), "-t", root)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 60*time.Second, 50*time.Millisecond)
	return port
}

func TestALiveSiteIsParkedByItsOwnMeans(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry", func(s *real.Spec) { s.URL = "http://ferry.skerryline.example" })
	port := served(t, live.Root)
	ctx := context.Background()
	host := live.Address().Host
	status, page := resettest.Visit(t, port, host)
	require.Equal(t, http.StatusOK, status, page)
	own := filepath.Join(live.Root, "wp-content/maintenance.php")
	require.NoError(t, os.WriteFile(own, []byte("<?php echo 'the site says so itself';"), 0o644))

	_, err := w.Desk.Copies.Park(ctx, live.ID, "", "", "")
	require.ErrorIs(t, err, desk.ErrNotTyped)
	s, err := w.Desk.Copies.Park(ctx, live.ID, "Back at <b>high</b> water <?php echo 1+1; ?>",
		"harbour@skerryline.example",
		live.Name)
	require.NoError(t, err)
	assert.Equal(t, site.Parked, s.State)
	status, page = resettest.Visit(t, port, host)
	assert.Equal(t, http.StatusServiceUnavailable, status)
	assert.Contains(t, page, "mailto:harbour@skerryline.example")
	assert.Contains(t, page, "Back at &lt;b&gt;high&lt;/b&gt; water")
	assert.NotContains(t, page, "water 2", "what people write is not run")

	s, err = w.Desk.Copies.Lift(ctx, live.ID, live.Name)
	require.NoError(t, err)
	assert.Equal(t, site.Ready, s.State)
	status, _ = resettest.Visit(t, port, host)
	assert.Equal(t, http.StatusOK, status)
	text, err := os.ReadFile(own)
	require.NoError(t, err)
	assert.Contains(t, string(text), "says so itself", "its own page is back")
	assert.NoFileExists(t, filepath.Join(live.Root, ".maintenance"))
	_, err = w.Desk.Copies.Lift(ctx, live.ID, live.Name)
	assert.ErrorContains(t, err, "nothing to lift")

	_, err = w.Desk.Copies.Maintain(ctx, live.ID, "", live.Name)
	require.NoError(t, err)
	status, page = resettest.Visit(t, port, host)
	assert.Contains(t, page, "says so itself", "the site's own page for maintenance is shown: %d", status)

	// A restore point that is taken meanwhile has no maintenance in it, and one
	// that is brought back leaves the notice that was there before.
	w.Keep()
	p := resettest.Kept(t, w.World, s)
	resettest.Restore(t, w.World, p, reset.Choices{Files: true})
	status, page = resettest.Visit(t, port, host)
	assert.Contains(t, page, "says so itself", "%d", status)
	_, err = w.Desk.Copies.Lift(ctx, live.ID, live.Name)
	require.NoError(t, err)
	resettest.Same(t, w.World, p)
	_, err = w.Desk.Copies.Hide(ctx, live.ID, "made-up")
	assert.ErrorContains(t, err, "set in its web server")
}

func TestVisitorsDuringARestoringSeeANotice(t *testing.T) {
	var w *realtest.World
	seen := make(chan int, 1)
	port, host := 0, ""
	w = realtest.New(t, realtest.Options{Change: []func(*desk.Options){watching(func(step string) {
		if step == "tables end" {
			status, _ := resettest.Visit(t, port, host)
			seen <- status
		}
	})}})
	live := w.Make("ferry", func(s *real.Spec) { s.URL = "http://ferry.skerryline.example" })
	port, host = served(t, live.Root), live.Address().Host
	w.Keep()
	p := resettest.Kept(t, w.World, live)
	on(t, live, "UPDATE sk_posts SET post_title = 'broken'")
	resettest.Restore(t, w.World, p, resettest.Whole)
	assert.Equal(t, http.StatusServiceUnavailable, <-seen)
	status, _ := resettest.Visit(t, port, host)
	assert.Equal(t, http.StatusOK, status)
}

func TestACopyIsHiddenAndParkedByTheGateway(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "near")
	var port int
	_, err := fmt.Sscan(s.Address().Port, &port)
	require.NoError(t, err)
	host := s.Address().Host + ":" + s.Address().Port
	_, err = w.Desk.Copies.Hide(ctx, s.ID, "made-up")
	require.NoError(t, err)
	status, page := resettest.Visit(t, port, host)
	assert.Equal(t, http.StatusUnauthorized, status)
	assert.Contains(t, page, "near is hidden")
	for _, x := range []struct {
		word string
		want int
	}{{"wrong", http.StatusUnauthorized}, {"made-up", http.StatusOK}, {"made-up", http.StatusOK}} {
		status, _ = resettest.Visit(t, port, host, func(r *http.Request) { r.SetBasicAuth("anybody", x.word) })
		assert.Equal(t, x.want, status)
	}
	_, err = w.Desk.Copies.Hide(ctx, s.ID, "abc")
	assert.ErrorContains(t, err, "too short")
	_, err = w.Desk.Copies.Park(ctx, s.ID, "", "https://skerryline.example/contact", "")
	require.NoError(t, err)
	status, page = resettest.Visit(t, port, host)
	assert.Equal(t, http.StatusServiceUnavailable, status)
	assert.Contains(t, page, "skerryline.example/contact")
	rep, err := w.Desk.Copies.Prove(ctx, s.ID, false, nil)
	require.NoError(t, err)
	assert.True(t, rep.Proof().Holds, rep.Summary())
	_, err = w.Desk.Copies.Lift(ctx, s.ID, "")
	require.NoError(t, err)
	status, _ = resettest.Visit(t, port, host)
	assert.Equal(t, http.StatusOK, status)
}
