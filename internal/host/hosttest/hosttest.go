// Package hosttest is the conformance test of host.Host: a new way to reach a
// machine is done when it passes.
package hosttest

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"alibi/internal/host"
)

// Lacks says what a way to reach a host can't do, by its protocol.
type Lacks struct {
	Links  bool // it makes none
	Owners bool // it gives no files to other accounts
	Room   bool // it does not tell how much there is
	Modes  bool // it sets none
	Bytes  bool // it can't say names with line breaks or the byte 255
}

// Run tests h. dir is an empty directory as the host names it, and real is the
// same directory as this process does.
func Run(t *testing.T, h host.Host, dir, real string) { RunWithout(t, h, dir, real, Lacks{}) }

// RunWithout tests a host that can't do everything.
func RunWithout(t *testing.T, h host.Host, dir, real string, l Lacks) {
	ctx := context.Background()
	fresh := func(t *testing.T) (host.Root, string) {
		t.Helper()
		name := strings.ReplaceAll(t.Name(), "/", "_")
		r, err := h.Make(ctx, dir+"/"+name)
		require.NoError(t, err)
		t.Cleanup(func() { r.Close() })
		return r, filepath.Join(real, name)
	}
	t.Run("write and read", func(t *testing.T) {
		r, on := fresh(t)
		when := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
		require.NoError(t, host.MkdirAll(r, "a/b", 0o755))
		perm := fs.FileMode(0o640)
		if l.Modes {
			perm = 0o644
		}
		n, err := host.Put(r, "a/b/c.txt", perm, when, strings.NewReader("hello"))
		require.NoError(t, err)
		assert.EqualValues(t, 5, n)
		fi, err := os.Stat(filepath.Join(on, "a/b/c.txt"))
		require.NoError(t, err)
		assert.Equal(t, perm, fi.Mode().Perm())
		assert.True(t, fi.ModTime().Equal(when))
		b, err := host.ReadFile(r, "a/b/c.txt", 100)
		require.NoError(t, err)
		assert.Equal(t, "hello", string(b))
		_, err = host.ReadFile(r, "a/b/c.txt", 4)
		assert.ErrorContains(t, err, "larger than")
		_, err = host.Put(r, "a/b/c.txt", perm, when, strings.NewReader("again"))
		require.NoError(t, err, "Put replaces")
		list, err := r.ReadDir("a/b")
		require.NoError(t, err)
		require.Len(t, list, 1, "nothing is left beside the file")
		assert.Equal(t, "c.txt", list[0].Name())
	})
	t.Run("read at", func(t *testing.T) {
		r, on := fresh(t)
		big := bytes.Repeat([]byte("0123456789"), 100_000)
		require.NoError(t, os.WriteFile(filepath.Join(on, "big"), big, 0o644))
		f, err := r.Open("big")
		require.NoError(t, err)
		defer f.Close()
		part := make([]byte, 7)
		_, err = f.ReadAt(part, 500_003)
		require.NoError(t, err)
		assert.Equal(t, "3456789", string(part))
		all, err := io.ReadAll(f)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(big, all))
	})
	t.Run("odd names", func(t *testing.T) {
		r, on := fresh(t)
		for _, name := range []string{"-rf", "with space", "new\nline", "'quote'", "\xff\xfe", strings.Repeat("n", 250),
			"é"} {
			if l.Bytes && (strings.Contains(name, "\n") || strings.Contains(name, "\xff")) {
				_, err := r.Open(name)
				require.Error(t, err)
				continue
			}
			require.NoError(t, os.WriteFile(filepath.Join(on, name), []byte(name), 0o644))
			b, err := host.ReadFile(r, name, 1000)
			require.NoError(t, err, "%q", name)
			assert.Equal(t, name, string(b))
		}
	})
	t.Run("errors", func(t *testing.T) { testErrors(t, h, dir, fresh) })
	t.Run("nothing leads out", func(t *testing.T) { testConfinement(t, fresh) })
	t.Run("owners and modes", func(t *testing.T) { testAccess(t, fresh, l) })
	t.Run("links inside", func(t *testing.T) {
		r, on := fresh(t)
		require.NoError(t, os.WriteFile(filepath.Join(on, "target"), []byte("x"), 0o644))
		if l.Links {
			require.ErrorIs(t, r.Symlink("target", "link"), errors.ErrUnsupported)
			require.NoError(t, os.Symlink("target", filepath.Join(on, "link")))
		} else {
			require.NoError(t, r.Symlink("target", "link"))
		}
		s, err := r.Readlink("link")
		require.NoError(t, err)
		assert.Equal(t, "target", s)
		b, err := host.ReadFile(r, "link", 10)
		require.NoError(t, err)
		assert.Equal(t, "x", string(b))
		require.NoError(t, r.Remove("link"))
		assert.FileExists(t, filepath.Join(on, "target"))
	})
	t.Run("remove and rename", func(t *testing.T) {
		r, on := fresh(t)
		require.NoError(t, os.MkdirAll(filepath.Join(on, "d/e/f"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(on, "d/e/x"), nil, 0o644))
		require.NoError(t, r.Rename("d", "g"))
		require.NoError(t, r.RemoveAll("g"))
		assert.NoDirExists(t, filepath.Join(on, "g"))
		require.NoError(t, r.RemoveAll("g"), "what is gone can be removed again")
	})
	t.Run("room", func(t *testing.T) {
		n, err := h.Free(ctx, dir)
		require.NoError(t, err)
		if l.Room {
			assert.Zero(t, n, "it is not known")
			return
		}
		assert.Positive(t, n)
	})
}

func testErrors(t *testing.T, h host.Host, dir string, fresh func(*testing.T) (host.Root, string)) {
	r, on := fresh(t)
	_, err := r.Open("nowhere")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = r.Lstat("no/where")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = h.Open(context.Background(), dir+"/nowhere")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, os.WriteFile(filepath.Join(on, "there"), []byte("x"), 0o644))
	_, err = r.Create("there", 0o644)
	assert.ErrorIs(t, err, fs.ErrExist)
	assert.ErrorIs(t, r.Mkdir("there", 0o755), fs.ErrExist)
	broken := io.MultiReader(strings.NewReader("some"), errReader{})
	_, err = host.Put(r, "there", 0o644, time.Time{}, broken)
	assert.ErrorIs(t, err, errBroken)
	b, err := os.ReadFile(filepath.Join(on, "there"))
	require.NoError(t, err)
	assert.Equal(t, "x", string(b), "a failed Put leaves the old file")
	list, err := r.ReadDir(".")
	require.NoError(t, err)
	assert.Len(t, list, 1)
}

var errBroken = errors.New("broken reader")

type errReader struct{}

func (errReader) Read([]byte) (int, error) { return 0, errBroken }

func testConfinement(t *testing.T, fresh func(*testing.T) (host.Root, string)) {
	r, on := fresh(t)
	outside := filepath.Join(filepath.Dir(on), "outside")
	require.NoError(t, os.MkdirAll(outside, 0o755))
	secret := filepath.Join(outside, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("s"), 0o600))
	require.NoError(t, os.Symlink("../outside/secret", filepath.Join(on, "link")))
	require.NoError(t, os.Symlink("../outside", filepath.Join(on, "dir")))
	require.NoError(t, os.Symlink(outside, filepath.Join(on, "abs")))
	for _, name := range []string{"../outside/secret", "link", "dir/secret", "abs/secret", "a/../../outside/secret"} {
		_, err := r.Open(name)
		assert.Error(t, err, "open %s", name)
	}
	for _, name := range []string{"../outside/new", "dir/new", "abs/new", "/etc/new"} {
		_, err := r.Create(name, 0o644)
		assert.Error(t, err, "create %s", name)
		assert.Error(t, r.Mkdir(name, 0o755), "mkdir %s", name)
		assert.Error(t, r.Symlink("x", name), "symlink %s", name)
	}
	_, err := r.Create("link", 0o644)
	assert.ErrorIs(t, err, fs.ErrExist, "a link is not written through")
	_, err = host.Put(r, "link", 0o644, time.Time{}, strings.NewReader("mine"))
	require.NoError(t, err, "a link is replaced, not followed")
	assert.ErrorIs(t, r.Symlink("../outside", "new"), host.ErrEscapes)
	assert.ErrorIs(t, r.Symlink("/etc", "new"), host.ErrEscapes)
	assert.Error(t, r.Rename("link", "dir/moved"))
	assert.Error(t, r.Rename("dir/secret", "stolen"))
	assert.Error(t, r.RemoveAll("dir/secret"))
	require.NoError(t, r.RemoveAll("dir"), "the link itself may go")
	b, err := os.ReadFile(secret)
	require.NoError(t, err)
	assert.Equal(t, "s", string(b))
	names, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Len(t, names, 1, "nothing was made outside")
}

// testAccess sees that whose a file is and its modes are told, and can be set.
func testAccess(t *testing.T, fresh func(*testing.T) (host.Root, string), l Lacks) {
	r, on := fresh(t)
	name := filepath.Join(on, "f")
	require.NoError(t, os.WriteFile(name, []byte("x"), 0o640))
	require.NoError(t, os.Mkdir(filepath.Join(on, "d"), 0o755))
	st, err := os.Stat(name)
	require.NoError(t, err)
	fi, err := r.Lstat("f")
	require.NoError(t, err)
	require.Equal(t, host.OwnerOf(st), host.OwnerOf(fi))
	list, err := r.ReadDir(".")
	require.NoError(t, err)
	assert.Equal(t, host.OwnerOf(st), host.OwnerOf(list[1]))
	if err := unix.Setxattr(name, "user.tide", []byte("high"), 0); err == nil {
		if a, err := host.AttrsOf(r, "f"); assert.NoError(t, err) &&
			len(a) > 0 { // a host without getfattr knows of none
			assert.Equal(t, host.Attrs{"user.tide": []byte("high")}, a)
		}
	}
	if l.Modes {
		_, err := host.Put(r, "closed", 0o600, time.Time{}, strings.NewReader("a secret"))
		require.Error(t, err, "what it can't keep from others it does not take")
		require.NoFileExists(t, filepath.Join(on, "closed"))
		return
	}
	require.NoError(t, r.Chmod("d", 0o770|fs.ModeSetgid))
	st, err = os.Stat(filepath.Join(on, "d"))
	require.NoError(t, err)
	assert.Equal(t, 0o770|fs.ModeSetgid|fs.ModeDir, st.Mode())
	o, ok := r.(host.Owning)
	require.Equal(t, !l.Owners, ok)
	if !ok {
		return
	}
	err = o.Chown("f", host.Owner{User: 33, Group: 33})
	if os.Getuid() != 0 {
		assert.ErrorIs(t, err, fs.ErrPermission)
		return
	}
	require.NoError(t, err)
	fi, err = r.Lstat("f")
	require.NoError(t, err)
	assert.Equal(t, &host.Owner{User: 33, Group: 33}, host.OwnerOf(fi))
	require.NoError(t, os.Symlink("f", filepath.Join(on, "l")))
	require.NoError(t, os.Chown(name, 0, 0))
	_ = o.Chown("l", host.Owner{User: 33, Group: 33}) // a host without commands can't
	st, err = os.Stat(name)
	require.NoError(t, err)
	assert.Equal(t, &host.Owner{}, host.OwnerOf(st), "a link is not followed")
}
