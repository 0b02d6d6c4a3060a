package names

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const theirs = "127.0.0.1\tlocalhost\n# a remark about ferry.example\n\n::1 localhost ip6-localhost\r\n10.1.2.3 " +
	"intranet.example # alibi is a word too\n192.0.2.7 printer"

func file(t *testing.T, text string) File {
	f := File{filepath.Join(t.TempDir(), "hosts")}
	require.NoError(t, os.WriteFile(f.Path, []byte(text), 0o640))
	return f
}

func text(t *testing.T, f File) string {
	b, err := os.ReadFile(f.Path)
	require.NoError(t, err)
	return string(b)
}

func TestOnlyOurLinesAreTouched(t *testing.T) {
	f := file(t, theirs)
	require.NoError(t, f.Add("spring", []string{"ferry.example", "www.ferry.example"}))
	assert.Equal(
		t,
		theirs+"\n127.0.0.1 ferry.example www.ferry.example # alibi spring\n::1 ferry.example www.ferry.example # "+
			"alibi spring\n",
		text(t, f),
	)
	fi, err := os.Stat(f.Path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), fi.Mode().Perm())
	for _, n := range []string{"ferry.example", "WWW.ferry.example"} {
		got, err := f.Lookup(n)
		require.NoError(t, err)
		assert.Equal(t, loopback, got, "both families")
	}
	require.NoError(t, f.Add("autumn", []string{"dock.example"}))
	require.NoError(t, f.Add("spring", []string{"ferry.example"}), "again, with other names")
	marks, err := f.Marks()
	require.NoError(t, err)
	assert.Equal(t, map[string][]string{"spring": {"ferry.example"}, "autumn": {"dock.example"}}, marks)
	require.NoError(t, f.Remove("spring"))
	require.NoError(t, f.Remove("spring"))
	require.NoError(t, f.Remove("spri"), "a part of a mark is another mark")
	require.NoError(t, f.Remove("autumn"))
	assert.Equal(t, theirs+"\n", text(t, f), "nothing but the end of the last line is left")
	got, err := f.Lookup("ferry.example")
	require.NoError(t, err)
	assert.Empty(t, got)
}

func TestNamesThatLeadSomewhereAlready(t *testing.T) {
	f := file(t, theirs)
	err := f.Add("spring", []string{"Printer"})
	require.ErrorIs(t, err, ErrTaken)
	assert.ErrorContains(t, err, "192.0.2.7 printer")
	require.NoError(t, f.Add("spring", []string{"ferry.example"}))
	assert.ErrorIs(t, f.Add("autumn", []string{"ferry.example"}), ErrTaken, "one copy at a time")
	assert.True(t, strings.HasPrefix(text(t, f), theirs))
}

func TestSeveralAtOnceLoseNothing(t *testing.T) {
	f := file(t, theirs)
	var wg sync.WaitGroup
	for _, m := range strings.Split("abcdefghij", "") {
		wg.Go(func() { assert.NoError(t, f.Add(m, []string{m + ".example"})) })
	}
	wg.Wait()
	marks, err := f.Marks()
	require.NoError(t, err)
	assert.Len(t, marks, 10)
	left, err := filepath.Glob(filepath.Join(filepath.Dir(f.Path), ".hosts-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestAFileThatIsNotThere(t *testing.T) {
	f := File{filepath.Join(t.TempDir(), "hosts")}
	require.NoError(t, f.Remove("x"))
	assert.NoFileExists(t, f.Path)
	require.NoError(t, f.Add("x", []string{"x.example"}))
	assert.Equal(t, "127.0.0.1 x.example # alibi x\n::1 x.example # alibi x\n", text(t, f))
}
