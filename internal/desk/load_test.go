package desk_test

import (
	"context"
	"io"
	"net"
	"net/http"
	"runtime"
	"runtime/pprof"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
)

// goroutines waits until no more than that many are left, and gives how many there are.
func goroutines(most int) (n int) {
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if n = runtime.NumGoroutine(); n <= most {
			return n
		}
	}
	return n
}

// A day of a keeper is many rounds of the same: what one leaves behind, many would.
func TestManyVisitorsAndManyRoundsLeaveNothingBehind(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	s := w.Copy(ferry, "busy")
	ctx := context.Background()
	client := &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{
		DisableKeepAlives: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			var d net.Dialer
			return d.DialContext(ctx, "tcp", "127.0.0.1:"+s.Address().Port)
		},
	}}
	visit := func(n int) (bad int64) {
		var failed atomic.Int64
		var all sync.WaitGroup
		for range n {
			all.Go(func() {
				resp, err := client.Get(s.Address().String() + "/")
				if err != nil {
					failed.Add(1)
					return
				}
				defer resp.Body.Close()
				if _, err := io.Copy(io.Discard, resp.Body); err != nil || resp.StatusCode != http.StatusOK {
					failed.Add(1)
				}
			})
		}
		all.Wait()
		return failed.Load()
	}
	round := func() {
		_, err := w.Desk.Fleet.Board(ctx)
		require.NoError(t, err)
		_, err = w.Desk.Copies.Prove(ctx, s.ID, false, nil)
		require.NoError(t, err)
		_, err = w.Desk.Copies.Apart(ctx, s.ID)
		require.NoError(t, err)
	}
	assert.Zero(t, visit(500))
	for range 5 {
		round()
	}
	time.Sleep(time.Second)
	before := runtime.NumGoroutine()
	for range 3 {
		assert.Zero(t, visit(500), "every visitor of 500 at once is served")
	}
	for range 40 {
		round()
	}
	const some = 20 // come and go by themselves; one for each round would be 40
	if !assert.LessOrEqual(t, goroutines(before+some), before+some, "nothing goes on after it") {
		var what strings.Builder
		_ = pprof.Lookup("goroutine").WriteTo(&what, 1)
		t.Log(what.String())
	}
}
