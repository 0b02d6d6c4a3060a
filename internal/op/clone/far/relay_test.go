package far_test

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/host"
	"alibi/internal/host/ftp/ftptest"
	"alibi/internal/host/trust"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/op/clone"
	"alibi/internal/op/remove"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
	"alibi/internal/work"
)

// walledOff is a live site on a host that lets in files and nothing else: its database is not to be reached.
func walledOff(t *testing.T, w *realtest.World) (*realtest.Live, site.Site) {
	t.Helper()
	moor := w.Machine("moor", func(o *real.MachineOptions) { o.FilesOnly = true })
	l := w.Live("ferry")
	u, err := url.Parse(l.Spec.URL)
	require.NoError(t, err)
	n := desk.NewSite{Host: moor.Name, Root: l.Spec.Root, Name: "ferry-at-moor", Client: "Skerry Line", Owner: "runa"}
	_, err = w.Desk.Fleet.AddSite(context.Background(), n)
	require.ErrorIs(t, err, host.ErrNoConnect)
	assert.ErrorContains(t, err, "--relay", "it says what to do")
	n.Relay = "http://127.0.0.1:" + u.Port()
	s, err := w.Desk.Fleet.AddSite(context.Background(), n)
	require.NoError(t, err)
	return l, s
}

// A host that is reached by FTP only, and whose database not at all, gives a site all the same.
func TestASiteOnAnFTPHostIsCopied(t *testing.T) {
	ctx := context.Background()
	w := realtest.New(t, realtest.Options{Own: true})
	l := w.Live("ferry")
	s := ftptest.ProFTPD(t, l.Spec.Root)
	word := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(word, []byte(s.Password+"\n"), 0o600))
	h := inventory.Host{Name: "moor", PasswordFile: word,
		Addr: "ftps://" + s.Target.User + "@" + net.JoinHostPort(s.Target.Host, s.Target.Port)}
	err := w.Desk.Fleet.AddHost(ctx, h)
	require.ErrorIs(t, err, host.ErrHostKey, "nobody signed its certificate")
	assert.ErrorContains(t, err, trust.Fingerprint(s.Certificate))
	h.Pin = trust.Fingerprint(s.Certificate)
	require.NoError(t, w.Desk.Fleet.AddHost(ctx, h))
	n := desk.NewSite{Host: "moor", Root: l.Spec.Root, Name: "ferry-at-moor", Client: "Skerry Line", Owner: "runa"}
	_, err = w.Desk.Fleet.AddSite(ctx, n)
	require.ErrorIs(t, err, host.ErrNoForward)
	u, err := url.Parse(l.Spec.URL)
	require.NoError(t, err)
	n.Relay = "http://127.0.0.1:" + u.Port()
	live, err := w.Desk.Fleet.AddSite(ctx, n)
	require.NoError(t, err)
	assert.Equal(t, l.Site.Facts.Files, live.Facts.Files)
	assert.Equal(t, l.Site.Facts.Bytes, live.Facts.Bytes)
	w.Keep()
	c := clonetest.CopyOf(w, live, "by-ftp", func(*clone.Choices) {})
	clonetest.Holds(t, w, c)
	p, err := w.Desk.Copies.PlanRefresh(ctx, c.ID)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	clonetest.Holds(t, w, w.Site(c.Name))
	clear(t, w, live)
	clonetest.Judged(t, l.Site, w.Site(c.Name))
}

// relays are the files of relays in a folder.
func relays(t *testing.T, dir string) []string {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(dir, host.RelayPrefix+"*"))
	require.NoError(t, err)
	return list
}

// clear removes the relay of a site as what is left over.
func clear(t *testing.T, w *realtest.World, live site.Site) {
	t.Helper()
	ctx := context.Background()
	left, err := w.Desk.Fleet.Leftovers(ctx)
	require.NoError(t, err)
	left = slices.DeleteFunc(left, func(x remove.Leftover) bool { return x.Kind != "relay" })
	require.Len(t, left, 1)
	require.NoError(t, w.Desk.Fleet.ClearLeftovers(ctx, left))
	require.Empty(t, relays(t, live.Root))
}

func TestASiteWhoseDatabaseCanNotBeReachedIsCopied(t *testing.T) {
	var l *realtest.Live
	write := func(q string) { require.NoError(t, mariadbtest.DB(l.Spec.Database).Exec(context.Background(), q)) }
	var times atomic.Int32 // the first may come before anything was read, on a busy machine
	meanwhile := func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Step+" "+m.Phase == "tables progress" && times.Add(1) <= 3 {
				write("UPDATE sk_options SET option_value = UUID() WHERE option_name = 'blogdescription'")
				write("DELETE FROM sk_comments")
			}
		}
	}
	w := realtest.New(t, realtest.Options{Own: true, Change: []func(*desk.Options){meanwhile}})
	l, live := walledOff(t, w)
	w.Keep()
	assert.Positive(t, live.Facts.Rows)
	assert.Equal(t, l.Site.Facts.Files, live.Facts.Files, "the relay's own files are no part of the site")
	s := clonetest.CopyOf(w, live, "by-relay", func(*clone.Choices) {})
	clonetest.Holds(t, w, s)
	assert.NotEmpty(t, relays(t, live.Root), "one is there while it is needed")
	r, err := w.Desk.Runs.Run(context.Background(), s.Worked)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(r.Steps), "written to while they were read, and brought again: sk_")
	p, err := w.Desk.Copies.PlanRefresh(context.Background(), s.ID)
	require.NoError(t, err)
	r = w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	s = w.Site(s.Name)
	clonetest.Holds(t, w, s)
	clear(t, w, live)
	clonetest.Judged(t, l.Site, s)
	_, err = w.Desk.Copies.PlanRefresh(context.Background(), s.ID)
	require.NoError(t, err, "one that somebody removed is put there again")
	assert.NotEmpty(t, relays(t, live.Root))
	clear(t, w, live)
	was := op.RelayIdle
	op.RelayIdle = 300 * time.Millisecond
	defer func() { op.RelayIdle = was }()
	_, err = w.Desk.Copies.PlanRefresh(context.Background(), s.ID)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(relays(t, live.Root)) == 0 }, 10*time.Second, 50*time.Millisecond,
		"nobody asks it any more")
	op.RelayIdle = was
	_, err = w.Desk.Copies.PlanRefresh(context.Background(), s.ID)
	require.NoError(t, err)
	w.Stop()
	require.NoError(t, w.Desk.Close())
	assert.Empty(t, relays(t, live.Root), "nothing of ours stays")
	assert.Equal(t, 200, l.Get("/"))
}

// A table to which somebody writes all the time is of no one moment, and the history of the copy says so.
func TestTablesThatAreWrittenToAllTheTimeAreNamed(t *testing.T) {
	w := realtest.New(t, realtest.Options{Own: true})
	l, live := walledOff(t, w)
	w.Keep()
	stop := make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(5 * time.Millisecond):
				_ = mariadbtest.DB(l.Spec.Database).Exec(context.Background(),
					"UPDATE sk_options SET option_value = UUID() WHERE option_name = 'blogdescription'")
			}
		}
	})
	s := clonetest.CopyOf(w, live, "by-relay", func(*clone.Choices) {})
	close(stop)
	all.Wait()
	events, err := w.Desk.Fleet.History(context.Background(), s.ID, 50)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(events), "of different moments: sk_options")
}

func TestKilledWhileARelayIsInItsPlace(t *testing.T) {
	for _, moment := range []string{"tables progress", "evidence progress"} {
		t.Run(moment, func(t *testing.T) {
			ctx := context.Background()
			w := realtest.New(t, realtest.Options{Own: true})
			l, live := walledOff(t, w)
			c, err := w.Desk.Copies.CopyDefaults(ctx, live, "a test")
			require.NoError(t, err)
			c.Name = "by-relay"
			p, err := w.Desk.Copies.PlanCopy(ctx, live.ID, c)
			require.NoError(t, err)
			r, err := w.Desk.Runs.Start(ctx, p)
			require.NoError(t, err)
			require.NoError(t, w.Desk.Close())
			require.Empty(t, relays(t, live.Root))
			demotest.KilledAt(t, w.World, moment)
			w.Open()
			w.Desk.SetAsker(nil)
			require.NotEmpty(t, relays(t, live.Root), "what was killed could remove nothing")
			clear(t, w, live)
			demotest.Resumed(t, w.World, r.ID)
			s := w.Site("by-relay")
			clonetest.Holds(t, w, s)
			clear(t, w, live)
			clonetest.Judged(t, l.Site, s)
		})
	}
}
