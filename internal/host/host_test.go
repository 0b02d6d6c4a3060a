package host

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestClean(t *testing.T) {
	for in, want := range map[string]string{
		"a":          "a",
		"a/b":        "a/b",
		"./a//b/":    "a/b",
		"a/../b":     "b",
		".":          ".",
		"..a":        "..a",
		"a/..b/c...": "a/..b/c...",
		"-rf":        "-rf",
	} {
		got, err := Clean(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got, in)
	}
	for _, in := range []string{"", "/", "/a", "..", "../a", "a/../../b", "a\x00b", "./.."} {
		_, err := Clean(in)
		assert.ErrorIs(t, err, ErrEscapes, "%q", in)
	}
}

func TestCleanNeverLetsANameOut(t *testing.T) {
	part := rapid.SampledFrom([]string{"a", "b", "..", ".", "", "...", "a b", "\x00", "-"})
	rapid.Check(t, func(t *rapid.T) {
		name := strings.Join(rapid.SliceOfN(part, 1, 8).Draw(t, "parts"), "/")
		c, err := Clean(name)
		if err != nil {
			return
		}
		full := path.Join("/root/of/site", c)
		assert.True(t, full == "/root/of/site" || strings.HasPrefix(full, "/root/of/site/"), "%q became %q", name, full)
	})
}

func TestLinkInside(t *testing.T) {
	for _, c := range []struct {
		name, target string
		inside       bool
	}{
		{"l", "x", true},
		{"a/l", "../x", true},
		{"a/l", "../../x", false},
		{"l", "..", false},
		{"l", "/srv/site", true},
		{"l", "/srv/site/x", true},
		{"l", "/srv/site/../other", false},
		{"l", "/srv/sites/x", false},
		{"l", "/etc/passwd", false},
		{"a/b/l", "../../..", false},
		{"a/b/l", "../..", true},
	} {
		assert.Equal(t, c.inside, LinkInside("/srv/site", c.name, c.target), "%s -> %s", c.name, c.target)
	}
}

// broken is a Root in which one operation fails.
type broken struct {
	Root
	fails   string
	made    map[string]string
	removed []string
}

var errBroken = errors.New("it broke")

type file struct {
	b    *broken
	name string
}

func (f file) Read([]byte) (int, error)          { return 0, errBroken }
func (f file) ReadAt([]byte, int64) (int, error) { return 0, errBroken }
func (f file) Stat() (fs.FileInfo, error)        { return nil, errBroken }

func (f file) Write(p []byte) (int, error) {
	if f.b.fails == "write" {
		return 0, errBroken
	}
	f.b.made[f.name] += string(p)
	return len(p), nil
}

func (f file) Close() error {
	if f.b.fails == "close" {
		return errBroken
	}
	return nil
}

func (b *broken) Create(name string, _ fs.FileMode) (io.WriteCloser, error) {
	if b.fails == "create" {
		return nil, errBroken
	}
	b.made[name] = ""
	return file{b, name}, nil
}

func (b *broken) Chmod(string, fs.FileMode) error {
	if b.fails == "chmod" {
		return errBroken
	}
	return nil
}

func (b *broken) Chtimes(string, time.Time) error {
	if b.fails == "chtimes" {
		return errBroken
	}
	return nil
}

func (b *broken) Rename(from, to string) error {
	if b.fails == "rename" {
		return errBroken
	}
	b.made[to] = b.made[from]
	delete(b.made, from)
	return nil
}

func (b *broken) Remove(name string) error {
	delete(b.made, name)
	b.removed = append(b.removed, name)
	return nil
}

func TestPutLeavesNothingHalfWritten(t *testing.T) {
	for _, fails := range []string{"create", "write", "close", "chmod", "chtimes", "rename"} {
		b := &broken{fails: fails, made: map[string]string{"d/f": "old"}}
		_, err := Put(b, "d/f", 0o400, time.Unix(1, 0), strings.NewReader("new"))
		assert.ErrorIs(t, err, errBroken, fails)
		assert.Equal(t, map[string]string{"d/f": "old"}, b.made, fails)
	}
	b := &broken{made: map[string]string{"d/f": "old"}}
	n, err := Put(b, "d/f", 0o400, time.Time{}, strings.NewReader("new"))
	require.NoError(t, err)
	assert.EqualValues(t, 3, n)
	assert.Equal(t, map[string]string{"d/f": "new"}, b.made)
}

func TestTempNames(t *testing.T) {
	a, b := TempName("x/y"), TempName("x/y")
	assert.NotEqual(t, a, b)
	assert.Equal(t, "x", path.Dir(a), "beside the file, so that a rename is atomic")
	assert.True(t, strings.HasPrefix(path.Base(a), TempPrefix))
}
