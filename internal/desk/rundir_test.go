package desk

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheFolderOfSocketsIsOursAlone(t *testing.T) {
	ctx := context.Background()
	short, err := os.MkdirTemp("", "h")
	require.NoError(t, err)
	defer os.RemoveAll(short)
	d, err := Open(ctx, Options{Home: filepath.Join(short, "a")})
	require.NoError(t, err)
	require.NoError(t, d.Close())
	assert.Equal(t, filepath.Join(short, "a", "run"), RunDir(d.Home()), "below a folder of ours")

	long := filepath.Join(t.TempDir(), strings.Repeat("x", 60))
	d, err = Open(ctx, Options{Home: long})
	require.NoError(t, err)
	require.NoError(t, d.Close())
	run := RunDir(long)
	assert.LessOrEqual(t, len(run), longestRun)
	assert.Equal(t, run, RunDir(long), "always the same")
	defer os.RemoveAll(run)

	require.NoError(t, os.Mkdir(run, 0o777)) // somebody knew the name, and was first
	require.NoError(t, os.Chmod(run, 0o777))
	assert.ErrorContains(t, EnsureRunDir(long), "no folder of ours")
	require.NoError(t, os.Remove(run))
	require.NoError(t, os.Symlink(short, run))
	assert.ErrorContains(t, EnsureRunDir(long), "no folder of ours")
	require.NoError(t, os.Remove(run))
	if os.Getuid() == 0 {
		require.NoError(t, os.Mkdir(run, 0o700))
		require.NoError(t, os.Chown(run, 33, 33))
		assert.ErrorContains(t, EnsureRunDir(long), "belongs to account 33")
		require.NoError(t, os.Remove(run))
	}
	require.NoError(t, EnsureRunDir(long))
	require.NoError(t, EnsureRunDir(long), "it is there, and ours")

	open := filepath.Join(short, "open")
	require.NoError(t, os.Mkdir(open, 0o777))
	require.NoError(t, os.Chmod(open, 0o777))
	_, err = Open(ctx, Options{Home: open})
	assert.ErrorContains(t, err, "only we may write to")
}
