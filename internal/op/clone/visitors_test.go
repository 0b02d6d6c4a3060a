package clone_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/depot"
	"alibi/internal/op/clone"
	"alibi/internal/op/keep"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
)

// logbook gives a live site a table that takes a while to be copied.
func logbook(t *testing.T, l *realtest.Live) {
	t.Helper()
	onOrigin(t, l.Site, "CREATE TABLE sk_log (id INT AUTO_INCREMENT PRIMARY KEY, n INT DEFAULT 0, v MEDIUMTEXT)")
	onOrigin(
		t,
		l.Site,
		"INSERT INTO sk_log (v) SELECT CONCAT(REPEAT('tide and wind ', 100), IF(seq % 7, '', ' "+l.Spec.URL+
			"/post-0/')) FROM seq_1_to_40000",
	)
}

func TestNobodyWaitsWhileALiveSiteIsCopiedAndKept(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	l := w.Live("ferry")
	logbook(t, l)
	w.Keep()
	ctx := context.Background()
	during := func(what string, change string, run func()) {
		stop := l.Visit("sk_log", true)
		altered := make(chan time.Duration, 1)
		go func() {
			time.Sleep(900 * time.Millisecond)
			began := time.Now()
			onOrigin(t, l.Site, change)
			altered <- time.Since(began)
		}()
		run()
		alter := <-altered
		waits := stop()
		t.Logf("%s: %+v, the ALTER %s", what, waits, alter)
		assert.Less(t, waits.Longest, waits.Within(2*time.Second), what)
		assert.Less(t, alter, waits.Within(4*time.Second), what)
	}
	during("a copy", "ALTER TABLE sk_log ADD x INT", func() {
		clonetest.CopyOf(w, l.Site, "copied", func(*clone.Choices) {})
	})
	during("a refresh", "ALTER TABLE sk_log ADD y INT", func() {
		p, err := w.Desk.Copies.PlanRefresh(ctx, w.Site("copied").ID)
		require.NoError(t, err)
		r := w.Run(p)
		assert.Equal(t, plan.Done, r.State, r.Error)
	})
	// Many visitors of the copy at once wait their turn.
	copied := w.Site("copied")
	require.NoError(t, os.WriteFile(filepath.Join(copied.Root, "slow.php"), []byte("<?php usleep(50000);"), 0o644))
	var all sync.WaitGroup
	answers := make(chan int, 200)
	for range cap(answers) {
		all.Go(func() {
			resp, _ := clonetest.Ask(t, copied, "/slow.php")
			answers <- resp.StatusCode
		})
	}
	all.Wait()
	close(answers)
	for status := range answers {
		assert.Equal(t, 200, status)
	}
	during("a restore point", "ALTER TABLE sk_log DROP x", func() {
		p, err := w.Desk.Points.PlanKeep(ctx, l.Site.ID, keep.Choices{Kind: depot.ByHand})
		require.NoError(t, err)
		r := w.Run(p)
		assert.Equal(t, plan.Done, r.State, r.Error)
	})
}

func TestAValueWithVeryManyAddressesIsNotRewrittenByTheLiveServer(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	l := w.Live("ferry")
	value := strings.Repeat(l.Spec.URL+"/p ", 27_000)
	onOrigin(t, l.Site, "INSERT INTO sk_options (option_name, option_value) VALUES ('tide_pages', '"+value+"')")
	onOrigin(t, l.Site, "UPDATE sk_options SET option_value = CONCAT(option_value, '') WHERE option_value LIKE '%"+
		l.Spec.URL+"%'")
	w.Keep()
	began := time.Now()
	clonetest.CopyOf(w, l.Site, "plain", func(*clone.Choices) {})
	first := time.Since(began)
	began = time.Now()
	clonetest.CopyOf(w, l.Site, "some", func(c *clone.Choices) { c.Only = []site.Kind{site.Pages, site.Posts} })
	second := time.Since(began)
	t.Log(first, second)
	assert.Less(t, first, time.Minute)
	assert.Less(t, second, time.Minute)
	got, err := mariadbtest.Text(w.Site("plain").Database.Name,
		"SELECT option_value FROM sk_options WHERE option_name = 'tide_pages'")
	require.NoError(t, err)
	assert.Equal(t, strings.ReplaceAll(value, l.Spec.URL, w.Site("plain").Address().String()), got)
}

func TestACopyIsRemovedThatVisitorsLookAt(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	for round := range 4 {
		s := clonetest.CopyOf(w, live, "busy", func(*clone.Choices) {})
		done := make(chan struct{})
		var all sync.WaitGroup
		for range 4 {
			all.Go(func() {
				for {
					select {
					case <-done:
						return
					default:
						resp, _ := clonetest.Ask(t, s, "/")
						assert.Contains(t, []int{200, 404, 502, 503}, resp.StatusCode)
					}
				}
			})
		}
		time.Sleep(100 * time.Millisecond)
		p, err := w.Desk.Copies.PlanRemove(context.Background(), s.ID)
		require.NoError(t, err)
		r := w.Run(p)
		close(done)
		all.Wait()
		require.Equal(t, plan.Done, r.State, "round %d: %s", round, r.Error)
		assert.NoDirExists(t, w.Desk.Workings().Env.CopyDir("busy"))
		clonetest.NothingLeft(t, w)
	}
}
