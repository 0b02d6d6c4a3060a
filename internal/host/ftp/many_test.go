package ftp_test

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/ftp"
	"alibi/internal/host/ftp/ftptest"
	"alibi/internal/host/local"
	"alibi/internal/host/trust"
	"alibi/internal/site"
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

// A host whose name leads elsewhere is reached at its machine, and has the certificate of its name.
func TestAHostIsReachedAtItsMachine(t *testing.T) {
	s := ftptest.ProFTPD(t, folder(t))
	to := s.Target
	to.Host, to.At = "moor.invalid", s.Target.Host
	h := ftp.New("moor", to, s.Options())
	defer h.Close()
	_, err := h.Open(context.Background(), s.At)
	assert.ErrorContains(t, err, "moor.invalid", "the certificate is another name's")
	to.Pin = trust.Fingerprint(s.Certificate)
	pinned := ftp.New("moor", to, s.Options())
	defer pinned.Close()
	_, err = pinned.Open(context.Background(), s.At)
	require.NoError(t, err)
	assert.Equal(t, s.Target.Host, pinned.Address())
}

// Who reads no further than a file is long, as what writes an archive does, is through with it too.
func TestAConnectionIsUsedAgainAfterAFile(t *testing.T) {
	dir := folder(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), []byte("as long as it is"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "empty"), nil, 0o644))
	r, said := counting(t, dir)
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
	assert.Equal(t, 1, said("PASS"), "it signed in once")
}

// counting opens a folder on a server, and gives how often a command was said to that.
func counting(t *testing.T, dir string, lines ...string) (host.Root, func(command string) int) {
	t.Helper()
	log := filepath.Join(t.TempDir(), "log")
	s := ftptest.ProFTPD(t, dir, append(lines, "TLSRequired on", "ExtendedLog "+log+" ALL")...)
	h := ftp.New("moor", s.Target, s.Options())
	t.Cleanup(func() { h.Close() })
	r, err := h.Write(context.Background(), s.At)
	require.NoError(t, err)
	return r, func(command string) int {
		said, err := os.ReadFile(log)
		require.NoError(t, err)
		return strings.Count(string(said), `"`+command)
	}
}

// Folders are not listed for each file that comes or goes.
func TestManyFilesComeAndGo(t *testing.T) {
	ctx := context.Background()
	from, dir := filepath.Join(t.TempDir(), "from"), folder(t)
	for n := range 40 {
		p := filepath.Join(from, "deep", fmt.Sprintf("folder-%d", n%2), fmt.Sprintf("file-%d", n))
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(p), site.Either[fs.FileMode](n == 0, 0o600, 0o644)))
	}
	src, err := local.New("here").Open(ctx, from)
	require.NoError(t, err)
	list, err := tree.Scan(ctx, src, tree.Filter{})
	require.NoError(t, err)
	r, said := counting(t, dir)
	_, problems, err := tree.Copy(ctx, src, r, list.Entries, func(int64, int) {})
	require.NoError(t, err)
	assert.Empty(t, problems)
	there, err := tree.Scan(ctx, r, tree.Filter{})
	require.NoError(t, err)
	assert.Empty(t, tree.Compare(list.Entries, there.Entries))
	fi, err := os.Stat(filepath.Join(dir, "deep", "folder-0", "file-0"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), fi.Mode())
	assert.Equal(t, 41, said("STOR"), "what nobody else may read is made empty first")
	assert.Less(t, said("LIST"), 25)

	before := said("LIST")
	require.NoError(t, r.RemoveAll("deep"))
	assert.NoDirExists(t, filepath.Join(dir, "deep"))
	assert.Equal(t, 40, said("DELE"))
	assert.LessOrEqual(t, said("LIST")-before, 4)
	require.NoError(t, r.RemoveAll("deep"), "it is gone already")
}

// What the host does not remove is named, and the rest is gone.
func TestAFileThatStays(t *testing.T) {
	dir := folder(t)
	for _, name := range []string{"a/1", "a/2", "a/b/3"} {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, nil, 0o644))
	}
	r, _ := counting(t, dir, `PathDenyFilter "a/2$"`)
	require.ErrorContains(t, r.RemoveAll("a"), "removing "+dir+"/a/2")
	assert.NoFileExists(t, filepath.Join(dir, "a", "1"))
	assert.NoDirExists(t, filepath.Join(dir, "a", "b"))
	assert.FileExists(t, filepath.Join(dir, "a", "2"))
}
