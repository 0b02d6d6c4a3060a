package desk_test

import (
	"context"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/work"
)

func TestADiskThatFillsInTheMiddleIsSaidAndCanBeResumed(t *testing.T) {
	ctx := context.Background()
	w := demotest.New(t)
	home := filepath.Join(t.TempDir(), "small")
	require.NoError(t, os.Mkdir(home, 0o700))
	require.NoError(t, syscall.Mount("tmpfs", home, "tmpfs", 0, "size=16m,mode=700"),
		"this test needs to mount a small file system, as root")
	t.Cleanup(func() { _ = syscall.Unmount(home, syscall.MNT_DETACH) })
	// Larger than what is freed meanwhile, such as by the record's own tidying up.
	large := w.Dir("pier", "/srv/skerryline/public/wp-content/large.bin")
	require.NoError(t, os.WriteFile(large, make([]byte, 4<<20), 0o644))
	filler := filepath.Join(home, "filler")
	fill := func() { // to the last byte
		f, err := os.Create(filler)
		require.NoError(t, err)
		defer f.Close()
		for _, n := range []int{1 << 16, 512, 1} {
			for err == nil {
				_, err = f.Write(make([]byte, n))
			}
			err = nil
		}
	}
	for _, f := range []string{"known_hosts", "config.toml"} {
		b, err := os.ReadFile(filepath.Join(w.Base, f))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(home, f), b, 0o600))
	}
	x := demotest.At(t, home)
	x.World = w.World
	full := true
	x.Open(func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if full && m.Step == "tables" && m.Phase == "begin" {
				full = false
				fill()
			}
		}
	})
	require.NoError(t, w.Settle(ctx, x.Desk))
	x.Keep()
	r, err := x.Desk.Runs.StartTyped(ctx, x.Plan("https://skerryline.example", "cramped"), "")
	require.NoError(t, err)
	waiting, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	r, err = x.Desk.Runs.Await(waiting, r.ID, nil)
	require.NoError(t, err, "its end is written down, with the room that was set aside")
	require.Equal(t, plan.Stopped, r.State)
	assert.Regexp(t, "no space left on device|disk.* is full", r.Error)

	x.Stop()
	require.NoError(t, x.Desk.Close())
	fill()
	_, err = desk.Open(ctx, desk.Options{Home: home})
	assert.ErrorIs(t, err, inventory.ErrNoRoom, "a full disk is called one")
	require.NoError(t, os.Remove(filler))
	x.Open()
	x.Keep()
	_, err = x.Desk.Workings().Queue.Resume(ctx, r.ID)
	require.NoError(t, err)
	r, err = x.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Done, r.State, r.Error)
}

func TestAHomeThatCanOnlyBeReadIsRead(t *testing.T) {
	ctx := context.Background()
	w := demotest.New(t)
	w.Keep()
	w.Copy("crew", "seen")
	w.Stop()
	p := w.Plan("crew", "never")
	require.NoError(t, w.Desk.Close())
	require.NoError(t, syscall.Mount(w.Base, w.Base, "", syscall.MS_BIND, ""),
		"this test needs to mount a folder, as root")
	t.Cleanup(func() { _ = syscall.Unmount(w.Base, syscall.MNT_DETACH) })
	require.NoError(t, syscall.Mount("", w.Base, "", syscall.MS_BIND|syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	d, err := desk.Open(ctx, desk.Options{Home: w.Base})
	require.NoError(t, err)
	defer d.Close()
	b, err := d.Fleet.Board(ctx)
	require.NoError(t, err)
	assert.Equal(t, 1, b.Copies)
	_, err = d.Runs.StartTyped(ctx, p, p.Confirm)
	assert.ErrorIs(t, err, inventory.ErrReadOnly)
	_, err = d.Fleet.SetOwner(ctx, b.Families[0].Live.ID, "edda")
	assert.ErrorIs(t, err, inventory.ErrReadOnly)
}
