// Package demotest gives tests a small demo world with an open desk.
package demotest

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"alibi/internal/demo"
	"alibi/internal/desk"
	"alibi/internal/keeper"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// World is a small demo world, with the desk of its home.
type World struct {
	*demo.World
	Desk *desk.Desk
	T    testing.TB
	Base string // the home
	stop func()
}

// At is a home without the demo's sites.
func At(t testing.TB, home string) *World { return &World{T: t, Base: home} }

// New makes one. The desk's options may be changed before it is opened.
func New(t testing.TB, change ...func(*desk.Options)) *World {
	t.Helper()
	t.Setenv("SSH_AUTH_SOCK", "")
	ctx := context.Background()
	home := filepath.Join(t.TempDir(), "home")
	w, err := demo.Start(ctx, home, FreePort(20000+rand.IntN(11000)), true)
	require.NoError(t, err)
	t.Cleanup(w.Close)
	x := &World{World: w, T: t, Base: home}
	x.Open(change...)
	require.NoError(t, w.Settle(ctx, x.Desk))
	return x
}

// Listen takes the first free loopback port from a number on: below those that the system
// gives to connections, so that none has it a moment later.
func Listen(t testing.TB, from int) net.Listener {
	t.Helper()
	for p := from; p < from+1000; p++ {
		if ln := take(p); ln != nil {
			return ln
		}
	}
	t.Fatalf("no port is free from %d on", from)
	return nil
}

// FreePort is the first free loopback port from a number on. It is for what listens by
// itself, any number of times until this process ends.
func FreePort(from int) int {
	for p := from; p < from+1000; p++ {
		if ln := take(p); ln != nil {
			ln.Close()
			return p
		}
	}
	return from
}

// take listens at a port that it was the first to ask for, of all the processes that run
// tests on this machine: the same port of another loopback address is kept until this
// process ends. It is nil where the port is another's.
func take(port int) net.Listener {
	p := strconv.Itoa(port)
	mark, err := net.Listen("tcp", "127.77.0.1:"+p)
	if err != nil && !errors.Is(err, syscall.EADDRNOTAVAIL) { // a system with one loopback address
		return nil
	}
	ln, err := net.Listen("tcp", "127.0.0.1:"+p)
	if mark != nil && err == nil {
		marks.Store(port, mark)
	} else if mark != nil {
		mark.Close()
	}
	return ln
}

var marks sync.Map // listeners by port: what is not reachable would be closed

// Open opens the desk of the home; Stop closes it.
func (w *World) Open(change ...func(*desk.Options)) {
	w.T.Helper()
	opt := desk.Options{Home: w.Base, Pages: 3} // each page of a real site takes time
	for _, c := range change {
		c(&opt)
	}
	d, err := desk.Open(context.Background(), opt)
	require.NoError(w.T, err)
	w.Desk = d
	w.T.Cleanup(func() { d.Close() })
}

// Keep has a keeper at work until the test ends or Stop is called.
func (w *World) Keep() {
	w.T.Helper()
	k, err := keeper.Take(w.Desk)
	require.NoError(w.T, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- k.Run(ctx) }()
	stopped := false
	w.stop = func() {
		if !stopped {
			stopped = true
			cancel()
			<-done
		}
	}
	w.T.Cleanup(w.stop)
}

// Stop ends the keeper, as closing the program would.
func (w *World) Stop() { w.stop() }

// Site finds a site by name.
func (w *World) Site(name string) site.Site {
	w.T.Helper()
	s, err := w.Desk.Fleet.Find(context.Background(), name)
	require.NoError(w.T, err)
	return s
}

// Plan plans the usual copy of a site under a name.
func (w *World) Plan(origin, name string) plan.Plan {
	w.T.Helper()
	ctx := context.Background()
	o := w.Site(origin)
	c, err := w.Desk.Copies.CopyDefaults(ctx, o, "a test")
	require.NoError(w.T, err)
	c.Name = name
	p, err := w.Desk.Copies.PlanCopy(ctx, o.ID, c)
	require.NoError(w.T, err)
	return p
}

// Run puts a plan to work and waits for its end.
func (w *World) Run(p plan.Plan) plan.Run {
	w.T.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	defer cancel()
	r, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
	require.NoError(w.T, err)
	r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(w.T, err)
	return r
}

// Copy makes the usual copy; a keeper must be at work.
func (w *World) Copy(origin, name string) site.Site {
	w.T.Helper()
	r := w.Run(w.Plan(origin, name))
	require.Equal(w.T, plan.Done, r.State, r.Error)
	return w.Site(name)
}
