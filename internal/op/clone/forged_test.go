package clone_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/plan"
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
