package ftp_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
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
