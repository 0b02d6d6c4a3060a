package clone_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/baseline"
	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/host"
	"alibi/internal/plan"
	"alibi/internal/work"
)

// forge changes a file's bytes and puts its time back, as those do who hide.
func forge(t *testing.T, file, text string) {
	t.Helper()
	fi, err := os.Stat(file)
	require.NoError(t, err)
	require.EqualValues(t, fi.Size(), len(text))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	require.NoError(t, os.Chtimes(file, fi.ModTime(), fi.ModTime()))
}

func TestARefreshHealsModesAndWhatSizesAndTimesDoNotTell(t *testing.T) {
	w := demotest.New(t)
	ctx := context.Background()
	live := w.Site("status.skerryline.example") // it stands on this machine, which tells change times
	file := func(root, name string) string { return filepath.Join(root, name) }
	for _, name := range []string{"mine.txt", "theirs.txt", "open.txt"} {
		require.NoError(t, os.WriteFile(file(live.Root, name), []byte("at first"), 0o644))
	}
	require.NoError(t, os.MkdirAll(file(live.Root, "folder"), 0o755))
	w.Keep()
	s := w.Copy(live.Name, "healed")
	refresh := func(fresh bool) {
		t.Helper()
		p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
		if fresh {
			p, err = w.Desk.Copies.PlanFreshRefresh(ctx, s.ID)
		}
		require.NoError(t, err)
		r, err := w.Desk.Runs.StartTyped(ctx, p, s.Name)
		require.NoError(t, err)
		r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
		require.NoError(t, err)
		require.Equal(t, plan.Done, r.State, r.Error)
	}
	text := func(name string) string {
		b, err := os.ReadFile(file(s.Root, name))
		require.NoError(t, err)
		return string(b)
	}
	for round := range 2 { // the second time from a refreshed copy, whose files were given other names
		forge(t, file(s.Root, "mine.txt"), "damaged!")
		forge(t, file(live.Root, "theirs.txt"), []string{"changed!", "changed?"}[round])
		require.NoError(t, os.Chmod(file(s.Root, "open.txt"), 0o777))
		require.NoError(t, os.Chmod(file(s.Root, "folder"), 0o777))
		refresh(false)
		assert.Equal(t, "at first", text("mine.txt"), "round %d", round)
		assert.Equal(t, []string{"changed!", "changed?"}[round], text("theirs.txt"), "round %d", round)
		for name, mode := range map[string]os.FileMode{"open.txt": 0o644, "folder": 0o755} {
			fi, err := os.Stat(file(s.Root, name))
			require.NoError(t, err)
			assert.Equal(t, mode, fi.Mode().Perm(), "%s, round %d", name, round)
		}
	}
	forge(t, file(s.Root, "mine.txt"), "damaged!")
	refresh(true)
	assert.Equal(t, "at first", text("mine.txt"))
}

// readBy is how many files a run's evidence read.
func readBy(r plan.Run) int64 {
	for _, p := range r.Steps {
		if p.Name == "evidence" {
			return p.Items
		}
	}
	return -1
}

func TestARefreshReadsNoFileAgainThatNobodyTouched(t *testing.T) {
	var w *demotest.World
	var do func()
	w = demotest.New(t, func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if now := do; now != nil && m.Step+" "+m.Phase == "files end" {
				do = nil
				now()
			}
		}
	})
	ctx := context.Background()
	live := w.Site("status.skerryline.example")
	for i := range 30 {
		require.NoError(t, os.WriteFile(filepath.Join(live.Root, fmt.Sprintf("berth-%d.png", i)), []byte("at first"), 0o644))
	}
	w.Keep()
	s := w.Copy(live.Name, "kept")
	refresh := func() plan.Run {
		t.Helper()
		require.NoError(t, os.WriteFile(filepath.Join(live.Root, "new.html"), []byte(t.Name()+time.Now().String()), 0o644))
		p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
		require.NoError(t, err)
		r, err := w.Desk.Runs.StartTyped(ctx, p, s.Name)
		require.NoError(t, err)
		r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
		require.NoError(t, err)
		return r
	}
	for range 2 { // the second time from a refreshed copy, whose files were given other names
		assert.Less(t, readBy(refresh()), int64(25), "pictures are not read: nobody has touched them, says the system")
	}

	b, err := baseline.Open(filepath.Join(w.Desk.Workings().Env.CopyDir("kept"), "now/baseline.db"))
	require.NoError(t, err)
	files, err := b.Files(ctx)
	require.NoError(t, err)
	require.NoError(t, b.Close())
	for name, f := range files {
		fi, err := os.Stat(filepath.Join(s.Root, name))
		require.NoError(t, err)
		assert.True(t, host.ChangedOf(fi).Equal(f.Copy.Changed), "%s need not be read when changes are counted", name)
	}

	do = func() { // what is damaged while it is kept looks as it did
		forge(t, filepath.Join(w.Desk.Workings().Env.CopyDir("kept"), "next/site/berth-3.png"), "damaged!")
	}
	r := refresh()
	require.Equal(t, plan.Stopped, r.State)
	assert.Contains(t, r.Error, "berth-3.png")
}
