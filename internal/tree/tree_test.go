package tree

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"alibi/internal/host"
	"alibi/internal/host/local"
)

func roots(t *testing.T) (src, dst host.Root, on string) {
	t.Helper()
	h := local.New("slipway")
	on = t.TempDir()
	a, err := h.Write(context.Background(), on)
	require.NoError(t, err)
	b, err := h.Write(context.Background(), t.TempDir())
	require.NoError(t, err)
	return a, b, on
}

func put(t *testing.T, dir, name, text string) {
	t.Helper()
	p := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
	require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
}

func none(int64, int) {}

func TestScanListsAndReports(t *testing.T) {
	src, _, on := roots(t)
	put(t, on, "index.php", "<?php")
	put(t, on, "up/a.png", "12345")
	put(t, on, "up-b", "x")
	put(t, on, "cache/c", "x")
	put(t, on, "big", "0123456789")
	put(t, on, host.TempPrefix+"1", "x")
	require.NoError(t, os.Symlink("up/a.png", filepath.Join(on, "in")))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(on, "out")))
	require.NoError(t, os.Symlink("loop", filepath.Join(on, "loop")))
	require.NoError(t, unix.Mkfifo(filepath.Join(on, "pipe"), 0o644))
	l, err := Scan(context.Background(), src, Filter{Folders: []string{"cache"}, Larger: 9})
	require.NoError(t, err)
	var paths []string
	for _, e := range l.Entries {
		paths = append(paths, e.Path)
	}
	assert.Equal(t, []string{"in", "index.php", "loop", "up", "up/a.png", "up-b"}, paths)
	require.Len(t, l.TooLarge, 1, "what is left out for its size is told")
	assert.Equal(t, "big", l.TooLarge[0].Path)
	files, bytes := l.Totals()
	assert.Equal(t, 5, files)
	assert.EqualValues(t, 11, bytes)
	assert.Equal(
		t,
		[]Problem{
			{"out", "leads out of the site, to /etc/passwd", "link-out"},
			{"pipe", "is a device, pipe or socket", "special"},
		},
		l.Problems,
	)
}

func TestFilesWhoseWritingWasBrokenOffAreSwept(t *testing.T) {
	_, dst, _ := roots(t)
	on := dst.Path()
	half, run := host.TempName("next/up/a.png"), "next/"+host.TempPrefix+"0123456789abcdef0"
	put(t, on, half, "half of")
	put(t, on, run+"/new/wp-config.php", "of a run that is at work")
	put(t, on, "next/"+host.TempPrefix+"aside-.maintenance", "a notice of the person's own")
	put(t, on, "next/index.php", "<?php")
	other := host.TempName("now/index.php")
	put(t, on, other, "of another folder")
	require.NoError(t, Sweep(context.Background(), dst, "next"))
	assert.NoFileExists(t, filepath.Join(on, half))
	for _, name := range []string{run + "/new/wp-config.php", "next/" + host.TempPrefix + "aside-.maintenance",
		"next/index.php", other} {
		assert.FileExists(t, filepath.Join(on, name))
	}
}

// ways are those in which files are brought, and whether they are read then.
var ways = map[string]struct {
	bring func(context.Context, host.Tree, host.Root, []Entry, Progress) ([]Entry, []Problem, error)
	reads bool
}{"copy": {Copy, true}, "duplicate": {Duplicate, false}}

func TestCopyIsFaithful(t *testing.T) {
	for name, way := range ways {
		t.Run(name, func(t *testing.T) { copyIsFaithful(t, way.bring, way.reads) })
	}
}

func copyIsFaithful(t *testing.T, bring func(context.Context, host.Tree, host.Root, []Entry, Progress) ([]Entry,
	[]Problem, error), reads bool) {
	src, dst, on := roots(t)
	put(t, on, "a/b/c.txt", "hello")
	put(t, on, "empty", "")
	put(t, on, "odd\nname", "x")
	require.NoError(t, os.Chmod(filepath.Join(on, "a/b/c.txt"), 0o440))
	require.NoError(t, os.Symlink("a/b/c.txt", filepath.Join(on, "l")))
	require.NoError(t, os.Symlink(filepath.Join(on, "a"), filepath.Join(on, "abs")))
	l, err := Scan(context.Background(), src, Filter{})
	require.NoError(t, err)
	var bytes, files atomic.Int64
	got, problems, err := bring(context.Background(), src, dst, l.Entries,
		func(b int64, f int) { bytes.Add(b); files.Add(int64(f)) })
	require.NoError(t, err)
	assert.Empty(t, problems)
	assert.EqualValues(t, 6, bytes.Load())
	assert.EqualValues(t, 5, files.Load())
	copied, err := Scan(context.Background(), dst, Filter{})
	require.NoError(t, err)
	require.NoError(t, Digest(context.Background(), dst, copied.Entries, nil, none))
	for _, e := range got {
		assert.Equal(t, reads && e.Regular(), e.Hash != Hash{}, e.Path)
	}
	diff := Compare(got, copied.Entries)
	require.Len(t, diff, 1, "only the absolute link, which points into the copy now")
	assert.Equal(t, "a", diff[0].B.Link)
	fi, err := dst.Lstat("a/b/c.txt")
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o440), fi.Mode().Perm())
}

func TestCopyGoesOnWhereItStopped(t *testing.T) {
	src, dst, on := roots(t)
	put(t, on, "a", "one")
	put(t, on, "b", "two")
	l, err := Scan(context.Background(), src, Filter{})
	require.NoError(t, err)
	_, _, err = Copy(context.Background(), src, dst, l.Entries[:1], none)
	require.NoError(t, err)
	before, err := dst.Lstat("a")
	require.NoError(t, err)
	got, _, err := Copy(context.Background(), src, dst, l.Entries, none)
	require.NoError(t, err)
	after, err := dst.Lstat("a")
	require.NoError(t, err)
	assert.True(t, os.SameFile(before, after), "the file was not written again")
	assert.NotEqual(t, Hash{}, got[0].Hash)
}

func TestCopyStopsWhenCancelled(t *testing.T) {
	src, dst, on := roots(t)
	put(t, on, "a", "one")
	l, err := Scan(context.Background(), src, Filter{})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	for name, way := range ways {
		_, _, err = way.bring(ctx, src, dst, l.Entries, none)
		assert.ErrorIs(t, err, context.Canceled, name)
	}
	list, err := dst.ReadDir(".")
	require.NoError(t, err)
	assert.Empty(t, list)
}

func TestVanishedFileIsReported(t *testing.T) {
	src, dst, on := roots(t)
	put(t, on, "a", "one")
	put(t, on, "b", "two")
	l, err := Scan(context.Background(), src, Filter{})
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(on, "a")))
	got, problems, err := Copy(context.Background(), src, dst, l.Entries, none)
	require.NoError(t, err)
	assert.Len(t, got, 1)
	assert.Equal(t, []Problem{{"a", "can't be read: it is gone", "gone"}}, problems)
}

// growing changes a file each time it has been read, for a while.
type growing struct {
	host.Root
	on    string
	times int
}

func (g *growing) Open(name string) (host.File, error) {
	f, err := g.Root.Open(name)
	if g.times > 0 {
		g.times--
		p := filepath.Join(g.on, name)
		b, _ := os.ReadFile(p)
		_ = os.WriteFile(p, append(b, '+'), 0o644)
		_ = os.Chtimes(p, time.Now(), time.Now().Add(time.Duration(g.times)*time.Hour))
	}
	return f, err
}

func TestChangingFileIsReadAgain(t *testing.T) {
	src, dst, on := roots(t)
	put(t, on, "log", "x")
	l, err := Scan(context.Background(), src, Filter{})
	require.NoError(t, err)
	want := "x"
	for name, way := range ways {
		want += "++"
		_, _, err = way.bring(context.Background(), &growing{src, on, 2}, dst, l.Entries, none)
		require.NoError(t, err)
		b, err := host.ReadFile(dst, "log", 100)
		require.NoError(t, err)
		assert.Equal(t, want, string(b), name)
	}
}

func TestRelativeLink(t *testing.T) {
	assert.Equal(t, "../../x/y", RelativeLink("/srv/a", "p/q/l", "/srv/a/x/y"))
	assert.Equal(t, "x", RelativeLink("/srv/a", "l", "/srv/a/x"))
	assert.Equal(t, "../k", RelativeLink("/srv/a", "p/l", "../k"))
}

func TestCompare(t *testing.T) {
	a := []Entry{
		{Path: "same", Hash: Hash{1}},
		{Path: "other", Hash: Hash{1}},
		{Path: "gone", Hash: Hash{1}},
		{Path: "d", Mode: fs.ModeDir},
	}
	b := []Entry{{Path: "same", Hash: Hash{1}}, {Path: "other", Hash: Hash{2}}, {Path: "new", Hash: Hash{1}}}
	var paths []string
	for _, d := range Compare(a, b) {
		paths = append(paths, d.Path())
	}
	assert.Equal(t, []string{"other", "gone", "new"}, paths)
}

func TestWhatTheSystemCantReadIsReadHere(t *testing.T) {
	src, dst, on := roots(t)
	put(t, on, "a", "one")
	l, err := Scan(context.Background(), src, Filter{})
	require.NoError(t, err)
	got, _, err := Duplicate(context.Background(), distant{src}, dst, l.Entries, none)
	require.NoError(t, err)
	assert.Equal(t, Sum([]byte("one")), got[0].Hash)
}

// distant is a tree whose files are not the system's.
type distant struct{ host.Tree }

func (d distant) Open(name string) (host.File, error) {
	f, err := d.Tree.Open(name)
	return struct{ host.File }{f}, err
}
