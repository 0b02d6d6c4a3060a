package pointhost_test

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/depot"
	"alibi/internal/depot/pointhost"
	"alibi/internal/host"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

func TestAPointIsASiteThatCanOnlyBeRead(t *testing.T) {
	ctx := context.Background()
	d, err := depot.Open(ctx, depot.Folder(t.TempDir()))
	require.NoError(t, err)
	k, err := d.Take(ctx)
	require.NoError(t, err)
	at := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	long := bytes.Repeat([]byte("tide and time "), 100_000)
	p := depot.Point{Site: site.Site{Name: "ferry", Root: "/srv/ferry"}, Taken: at}
	var list []depot.File
	for _, e := range []tree.Entry{{Path: "a", Mode: fs.ModeDir | 0o755, MTime: at},
		{Path: "a/long.txt", Mode: 0o640, Size: int64(len(long)), MTime: at},
		{Path: "a/to", Mode: fs.ModeSymlink | 0o777, Link: "long.txt", MTime: at},
		{Path: "b\xff", Mode: 0o600, MTime: at}} {
		f := depot.File{Entry: e}
		if e.Size > 0 {
			f.Chunks, err = k.Stream(bytes.NewReader(long), new([]byte))
			require.NoError(t, err)
		}
		list = append(list, f)
	}
	p.List, err = k.Files(list)
	require.NoError(t, err)
	p, err = k.Seal(p)
	require.NoError(t, err)
	k.Close()

	_, err = pointhost.Open(ctx, d, "none")
	assert.ErrorIs(t, err, depot.ErrUnknown)
	h, err := pointhost.Open(ctx, d, p.ID)
	require.NoError(t, err)
	id, ok := pointhost.IsHost(h.Name())
	assert.True(t, ok)
	assert.Equal(t, p.ID, id)
	_, err = h.Open(ctx, "/etc")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	r, err := h.Open(ctx, "/srv/ferry/")
	require.NoError(t, err)
	got, err := tree.Scan(ctx, r, tree.Filter{})
	require.NoError(t, err)
	require.Empty(t, got.Problems)
	var names []string
	for _, e := range got.Entries {
		names = append(names, e.Path)
	}
	assert.Equal(t, []string{"a", "a/long.txt", "a/to", "b\xff"}, names)
	f, err := r.Open("a/long.txt")
	require.NoError(t, err)
	text, err := io.ReadAll(f)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(long, text))
	part := make([]byte, 4)
	_, err = f.ReadAt(part, 14*99_999)
	require.NoError(t, err)
	assert.Equal(t, "tide", string(part))
	link, err := r.Readlink("a/to")
	require.NoError(t, err)
	assert.Equal(t, "long.txt", link)
	for what, err := range map[string]error{"out": err2(r.Lstat("../x")), "gone": err2(r.Lstat("x")),
		"no folder": err2(r.ReadDir("a/long.txt")), "a folder": err2(r.Open("a")), "no link": err2(r.Readlink("a"))} {
		assert.Error(t, err, what)
	}
	assert.NotImplements(t, (*host.Root)(nil), r, "nothing of it can be changed")
	assert.ErrorIs(t, err2(h.Make(ctx, "/srv/x")), pointhost.ErrReadOnly)
	assert.ErrorIs(t, err2(h.Write(ctx, "/srv/ferry")), pointhost.ErrReadOnly)
	_, err = h.Command(ctx, "php")
	assert.ErrorIs(t, err, host.ErrNoCommands)
	_, err = h.Dial(ctx, "tcp", "127.0.0.1:3306")
	assert.ErrorIs(t, err, host.ErrNoForward)
	_, err = h.Database(ctx, site.Database{})
	assert.ErrorIs(t, err, tables.ErrRefused, "it has no tables")
}

func err2[T any](_ T, err error) error { return err }
