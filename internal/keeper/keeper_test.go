package keeper_test

import (
	"context"
	"os"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/keeper"
	"alibi/internal/plan"
	"alibi/internal/site"
)

const origin = "https://skerryline.example"

// clock is a wall clock that the test sets.
type clock struct{ ahead atomic.Int64 }

func (c *clock) now() time.Time          { return time.Now().Add(time.Duration(c.ahead.Load())) }
func (c *clock) set(ahead time.Duration) { c.ahead.Store(int64(ahead)) }

// fixture is a world with a copy and a keeper that looks only when told to.
func fixture(t *testing.T) (*demotest.World, *clock, *keeper.Keeper, site.Site) {
	t.Helper()
	c := &clock{}
	w := demotest.New(t, func(o *desk.Options) { o.Now = c.now })
	w.Keep()
	s := w.Copy(origin, "leased")
	w.Stop()
	k, err := keeper.Take(w.Desk)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	k.Sweep = time.Hour
	done := make(chan error, 1)
	go func() { done <- k.Run(ctx) }()
	t.Cleanup(func() { cancel(); <-done })
	time.Sleep(100 * time.Millisecond) // its first look, at nothing
	return w, c, k, s
}

// look has the keeper look twice: the first time after the clock was set counts
// as a jump, in which nothing is done.
func look(t *testing.T, k *keeper.Keeper) {
	t.Helper()
	for range 2 {
		require.NoError(t, k.Leases(context.Background()))
	}
}

func TestALeaseEndsByItself(t *testing.T) {
	w, c, k, s := fixture(t)
	look(t, k)
	assert.Equal(t, site.Ready, w.Site("leased").State)
	c.set(73 * time.Hour)
	require.NoError(t, k.Leases(context.Background()))
	assert.Equal(t, site.Ready, w.Site("leased").State, "nothing is ended in the look after a jump of the clock")
	require.NoError(t, k.Leases(context.Background()))
	e := w.Site("leased")
	assert.Equal(t, site.Expired, e.State)
	assert.DirExists(t, s.Root, "its files stay for the grace")
	c.set(73*time.Hour + 47*time.Hour)
	look(t, k)
	assert.DirExists(t, s.Root)
	c.set(73*time.Hour + 49*time.Hour)
	look(t, k)
	require.Eventually(t, func() bool {
		_, err := w.Desk.Fleet.Find(context.Background(), "leased")
		return err != nil
	},
		60*time.Second, 50*time.Millisecond)
	assert.NoDirExists(t, w.Desk.Workings().Env.CopyDir("leased"))
	left, err := w.Desk.Fleet.Leftovers(context.Background())
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestALongSleepGivesAllOfTheGrace(t *testing.T) {
	w, c, k, s := fixture(t)
	c.set(3000 * time.Hour)
	look(t, k)
	e := w.Site("leased")
	assert.Equal(t, site.Expired, e.State)
	assert.Equal(t, site.Over, e.Lease.Phase(c.now().Add(47*time.Hour)))
	look(t, k)
	assert.DirExists(t, s.Root)
}

func TestAWrongClockIsForgiven(t *testing.T) {
	w, c, k, _ := fixture(t)
	c.set(10000 * time.Hour)
	look(t, k)
	require.Equal(t, site.Expired, w.Site("leased").State)
	c.set(0) // somebody set the clock right
	look(t, k)
	s := w.Site("leased")
	assert.Equal(t, site.Ready, s.State)
	assert.InDelta(t, 72, s.Lease.Left(c.now()).Hours(), 1)
}

func TestWhatIsHeldOrExpiredByHandStays(t *testing.T) {
	w, c, k, s := fixture(t)
	ctx := context.Background()
	_, err := w.Desk.Copies.Hold(ctx, s.ID, "sign-off")
	require.NoError(t, err)
	c.set(9000 * time.Hour)
	look(t, k)
	assert.Equal(t, site.Ready, w.Site("leased").State)
	_, err = w.Desk.Copies.Expire(ctx, s.ID, s.Name)
	require.NoError(t, err)
	look(t, k)
	assert.Equal(t, site.Expired, w.Site("leased").State, "it is not brought back by itself")
}

func TestAWarningAheadSaysWhatWouldBeLost(t *testing.T) {
	w, c, k, s := fixture(t)
	ctx := context.Background()
	require.NoError(t, w.Spoil("row-changed", s))
	c.set(62 * time.Hour)
	look(t, k)
	look(t, k)
	past, err := w.Desk.Fleet.History(ctx, s.ID, 10)
	require.NoError(t, err)
	n := 0
	for _, e := range past {
		if e.Kind == "ending" {
			n++
			assert.Contains(t, e.Text, "ends in 10 h; 1 changes made here are nowhere else")
		}
	}
	assert.Equal(t, 1, n, "it is said once")
}

func TestWorkOnACopyIsCountedByItself(t *testing.T) {
	w, c, k, s := fixture(t)
	require.NoError(t, w.Spoil("row-changed", s))
	c.set(20 * time.Second)
	look(t, k)
	assert.Zero(t, w.Site("leased").Apart.Copy, "not at every look")
	c.set(50 * time.Second)
	look(t, k)
	counted := w.Site("leased").Apart
	assert.Equal(t, 1, counted.Copy)
	c.set(40 * time.Minute)
	look(t, k)
	assert.Equal(t, counted.At.Unix(), w.Site("leased").Apart.At.Unix(), "and not again while nobody writes to it")
}

func TestOneKeeperAtATime(t *testing.T) {
	w := demotest.New(t)
	assert.False(t, keeper.Taken(w.Home))
	w.Keep()
	assert.True(t, keeper.Taken(w.Home))
	_, err := keeper.Take(w.Desk)
	assert.ErrorIs(t, err, keeper.ErrTaken)
	w.Stop()
	assert.False(t, keeper.Taken(w.Home))
	assert.False(t, keeper.Taken(t.TempDir()))
}

func TestThePortIsTaken(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	other, err := desk.Open(context.Background(), desk.Options{Home: t.TempDir()})
	require.NoError(t, err)
	defer other.Close()
	other.Workings().Env.Port = w.Desk.Workings().Env.Port
	_, err = keeper.Take(other)
	assert.ErrorContains(t, err, "another program has it, so set another one as gateway.port")
	assert.False(t, keeper.Taken(other.Home()), "and the lock is let go")
}

func TestWhoWaitsTakesOver(t *testing.T) {
	ctx := context.Background()
	w := demotest.New(t)
	first, err := keeper.Stand(ctx, w.Desk, nil)
	require.NoError(t, err)
	require.NoError(t, first.First)
	other, err := desk.Open(ctx, desk.Options{Home: w.Home})
	require.NoError(t, err)
	defer other.Close()
	works := make(chan bool, 100)
	holder := ""
	second, err := keeper.Stand(ctx, other, func(yes bool, who string) {
		if !yes {
			holder = who
		}
		works <- yes
	})
	require.NoError(t, err)
	assert.ErrorIs(t, second.First, keeper.ErrTaken)
	assert.False(t, <-works)
	assert.Contains(t, holder, "process "+strconv.Itoa(os.Getpid()), "who has it is said")
	require.NoError(t, first.End())
	began := time.Now()
	for !<-works {
	}
	assert.Less(t, time.Since(began), 20*time.Second)
	p := w.Plan("crew", "after")
	r, err := other.Runs.StartTyped(ctx, p, p.Confirm)
	require.NoError(t, err)
	r, err = other.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Done, r.State, r.Error)
	require.NoError(t, second.End())
	assert.Empty(t, keeper.Holder(w.Home))
}
