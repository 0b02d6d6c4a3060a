package ftp_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host/ftp"
	"alibi/internal/host/ftp/ftptest"
	"alibi/internal/tree"
)

// Each folder and each file takes a connection of its own, and the host wants each to go on with the session of the
// first.
func TestManyFoldersAndFiles(t *testing.T) {
	ctx := context.Background()
	dir := folder(t)
	for n := range 120 {
		p := filepath.Join(dir, fmt.Sprintf("folder-%d", n))
		require.NoError(t, os.Mkdir(p, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(p, "file"), []byte(p), 0o644))
	}
	s := ftptest.ProFTPD(t, dir)
	h := ftp.New("moor", s.Target, s.Options())
	defer h.Close()
	r, err := h.Open(ctx, s.At)
	require.NoError(t, err)
	list, err := tree.Scan(ctx, r, tree.Filter{})
	require.NoError(t, err)
	files := tree.OnlyFiles(list.Entries)
	require.Len(t, files, 120)
	require.NoError(t, tree.Digest(ctx, r, files, nil, func(int64, int) {}))
	for _, f := range files {
		assert.NotEqual(t, tree.Hash{}, f.Hash, f.Path)
	}
}

// Who reads no further than a file is long, as what writes an archive does, is through with it too.
func TestAConnectionIsUsedAgainAfterAFile(t *testing.T) {
	ctx := context.Background()
	dir, log := folder(t), filepath.Join(t.TempDir(), "log")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), []byte("as long as it is"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "empty"), nil, 0o644))
	s := ftptest.ProFTPD(t, dir, "TLSRequired on", "ExtendedLog "+log+" AUTH")
	h := ftp.New("moor", s.Target, s.Options())
	defer h.Close()
	r, err := h.Open(ctx, s.At)
	require.NoError(t, err)
	for _, name := range []string{"file", "empty", "file", "empty", "file"} {
		f, err := r.Open(name)
		require.NoError(t, err)
		fi, err := f.Stat()
		require.NoError(t, err)
		n, err := io.Copy(io.Discard, io.LimitReader(f, fi.Size()))
		require.NoError(t, err)
		assert.Equal(t, fi.Size(), n)
		require.NoError(t, f.Close())
	}
	said, err := os.ReadFile(log)
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(said), "PASS"), "it signed in once: %s", said)
}
