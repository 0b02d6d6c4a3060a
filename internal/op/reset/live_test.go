package reset_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"alibi/internal/demo/real/realtest"
	"alibi/internal/demo/resettest"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// access is who may use each file of a folder: owner, group, mode, and one
// extended attribute.
func access(t *testing.T, dir string) map[string][4]string {
	t.Helper()
	out := map[string][4]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, _ fs.DirEntry, err error) error {
		require.NoError(t, err)
		fi, err := os.Lstat(p)
		require.NoError(t, err)
		st := fi.Sys().(*syscall.Stat_t)
		value := make([]byte, 100)
		n, err := unix.Lgetxattr(p, "user.tide", value)
		if err != nil {
			n = 0
		}
		rel, _ := filepath.Rel(dir, p)
		out[rel] = [4]string{owner(st), fi.Mode().String(), string(value[:n])}
		return nil
	}))
	return out
}

func owner(st *syscall.Stat_t) string {
	return site.Number(int(st.Uid)) + ":" + site.Number(int(st.Gid))
}

func TestALiveSiteKeepsItsOwnersAndStaysOnTheAir(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	l := w.Live("ferry")
	s, root := l.Site, l.Spec.Root
	config := filepath.Join(root, "wp-config.php")
	uploads := filepath.Join(root, "wp-content/uploads")
	require.NoError(t, os.Chmod(uploads, 0o775|fs.ModeSetgid))
	require.NoError(t, unix.Lsetxattr(config, "user.tide", []byte("high"), 0))
	require.NoError(t, os.Symlink("wp-config-sample.php", filepath.Join(root, "sample")))
	require.NoError(t, os.Lchown(filepath.Join(root, "sample"), 33, 33))
	w.Keep()
	p := resettest.Kept(t, w.World, s)
	before := access(t, root)

	text, err := os.ReadFile(config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(config, append(text, "// a note\n"...), 0o640)) // stays www-data's
	require.NoError(t, unix.Lremovexattr(config, "user.tide"))
	require.NoError(t, os.Chmod(uploads, 0o700))
	require.NoError(t, os.Chown(filepath.Join(root, "index.php"), 0, 0))
	require.NoError(t, os.RemoveAll(filepath.Join(root, "wp-content/plugins/tide-table")))
	require.NoError(t, os.Remove(filepath.Join(root, "sample")))
	damaged := access(t, root)

	r := resettest.Restore(t, w.World, p, resettest.Whole)
	assert.Equal(t, 200, l.Get("/"))
	assert.Equal(t, 200, l.Get("/post-0/"))
	assert.Contains(t, r.Result, "none is worse than before")
	assert.Equal(t, before, access(t, root))

	undo := resettest.Newest(t, w.World, s)
	resettest.Restore(t, w.World, undo, resettest.Whole)
	assert.Equal(t, 200, l.Get("/"))
	assert.Equal(t, damaged, access(t, root))
}

func TestWhatComesIntoALiveSiteBelongsToItsAccount(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	l := w.Live("ferry")
	s, root := l.Site, l.Spec.Root
	w.Keep()
	before := access(t, root)
	for name, text := range map[string][]byte{"wp-content/new/deep.php": []byte("<?php // new\n"),
		"wp-config.php": edited(t, root)} {
		pl, err := w.Desk.Hands.PlanEdit(context.Background(), s.ID, name, text, false)
		require.NoError(t, err)
		r := resettest.Await(t, w.World, resettest.Start(t, w.World, pl))
		require.Equal(t, plan.Done, r.State, r.Error)
	}
	assert.Equal(t, 200, l.Get("/"))
	after := access(t, root)
	assert.Equal(t, before["wp-config.php"], after["wp-config.php"])
	assert.Equal(t, before["index.php"][0], after["wp-content/new/deep.php"][0])
	assert.Equal(t, before["index.php"][0], after["wp-content/new"][0])
}

func edited(t *testing.T, root string) []byte {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(root, "wp-config.php"))
	require.NoError(t, err)
	return append(text, "// edited\n"...)
}

func TestALiveSiteWhosePagesGetWorseIsTakenBack(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	l := w.Live("ferry")
	s, root := l.Site, l.Spec.Root
	w.Keep()
	mu := filepath.Join(root, "wp-content/mu-plugins")
	require.NoError(t, os.MkdirAll(mu, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(mu, "breaks.php"), []byte("<?php no_such_function();\n"), 0o644))
	bad := resettest.Kept(t, w.World, s)
	require.NoError(t, os.RemoveAll(mu))
	require.Equal(t, 200, l.Get("/"))
	before := access(t, root)
	r := resettest.Await(t, w.World, resettest.Begin(t, w.World, bad, resettest.Whole))
	assert.Equal(t, plan.Cancelled, r.State)
	assert.Contains(t, r.Error, "worse than before")
	assert.Equal(t, 200, l.Get("/"))
	assert.Equal(t, before, access(t, root))
	resettest.Clear(t, w.World, s.ID)
}

func TestNobodyWaitsWhileALiveSiteIsBroughtBack(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	l := w.Live("ferry")
	on(t, l.Site, "CREATE TABLE sk_log (id INT AUTO_INCREMENT PRIMARY KEY, n INT DEFAULT 0, v TEXT)",
		"INSERT INTO sk_log (v) SELECT REPEAT('tide and wind ', 50) FROM seq_1_to_20000")
	w.Keep()
	p := resettest.Kept(t, w.World, l.Site)
	on(t, l.Site, "UPDATE sk_log SET v = 'ebb' WHERE id % 3 = 0", "ALTER TABLE sk_options ADD x INT",
		"CREATE TABLE sk_more (n INT)")
	stop := l.Visit("sk_log", false)
	resettest.Restore(t, w.World, p, resettest.Whole)
	waits := stop()
	t.Logf("%+v", waits)
	assert.Less(t, waits.Longest, waits.Within(2*time.Second))
	assert.Equal(t, "0", value(t, l.Site, "SELECT COUNT(*) FROM sk_log WHERE v = 'ebb'"))
	assert.Equal(t, 200, l.Get("/"))
}
