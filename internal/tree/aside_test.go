package tree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/local"
)

// sibling is a root whose host copies by itself: it is a local one, and tar is
// this test.
type sibling struct {
	host.Root
	from  string
	asked int
	can   bool
	fail  error
	after func(names []string) // what happens on the host after a portion
}

func (s *sibling) Streams() bool { return true }

func (s *sibling) SendTar(context.Context, []string, io.Writer) error {
	return errors.New("nothing is read from there")
}

func (s *sibling) TakeTar(context.Context, io.Reader) error {
	return errors.New("nothing is sent there")
}

func (s *sibling) TakeFrom(_ context.Context, _ host.Tree, names []string) (bool, error) {
	s.asked++
	if !s.can || s.fail != nil {
		return s.can, s.fail
	}
	for _, n := range names {
		from := filepath.Join(s.from, n)
		fi, err := os.Stat(from)
		if err != nil {
			continue // it is gone
		}
		text, err := os.ReadFile(from)
		if err != nil {
			return true, err
		}
		to := filepath.Join(s.Path(), n)
		if err := os.WriteFile(to, text, fi.Mode().Perm()); err != nil {
			return true, err
		}
		if err := os.Chtimes(to, fi.ModTime(), fi.ModTime()); err != nil {
			return true, err
		}
	}
	if s.after != nil {
		s.after(names)
	}
	return true, nil
}

func TestAHostCopiesByItself(t *testing.T) {
	ctx := context.Background()
	make2 := func(t *testing.T) (src host.Tree, dst *sibling, entries []Entry) {
		t.Helper()
		dir := t.TempDir()
		past := time.Now().Add(-time.Hour).Truncate(time.Second)
		for i := range 40 {
			p := filepath.Join(dir, fmt.Sprintf("f%02d", i))
			require.NoError(t, os.WriteFile(p, []byte(strings.Repeat("x", i)), 0o640))
			require.NoError(t, os.Chtimes(p, past, past))
		}
		src, err := local.New("a").Open(ctx, dir)
		require.NoError(t, err)
		to, err := local.New("a").Write(ctx, t.TempDir())
		require.NoError(t, err)
		list, err := Scan(ctx, src, Filter{})
		require.NoError(t, err)
		return src, &sibling{Root: to, from: dir, can: true}, list.Entries
	}
	same := func(t *testing.T, src host.Tree, dst *sibling, got []Entry) {
		t.Helper()
		there, err := Scan(ctx, dst.Root, Filter{})
		require.NoError(t, err)
		require.NoError(t, Digest(ctx, dst.Root, there.Entries, nil, func(int64, int) {}))
		assert.Empty(t, Compare(got, there.Entries))
		is, err := Scan(ctx, src, Filter{})
		require.NoError(t, err)
		require.NoError(t, Digest(ctx, src, is.Entries, nil, func(int64, int) {}))
		assert.Empty(t, Compare(is.Entries, there.Entries))
	}
	t.Run("all", func(t *testing.T) {
		src, dst, entries := make2(t)
		var bytes, files atomic.Int64
		got, problems, err := Copy(ctx, src, dst, entries, func(b int64, n int) {
			bytes.Add(b)
			files.Add(int64(n))
		})
		require.NoError(t, err)
		assert.Empty(t, problems)
		assert.Equal(t, 1, dst.asked)
		assert.EqualValues(t, 40, files.Load())
		assert.EqualValues(t, 39*40/2, bytes.Load())
		same(t, src, dst, got)
	})
	t.Run("a file changes between copying and reading", func(t *testing.T) {
		src, dst, entries := make2(t)
		dst.after = func([]string) {
			assert.NoError(t, os.WriteFile(filepath.Join(dst.from, "f07"), []byte("another text"), 0o640))
		}
		got, problems, err := Copy(ctx, src, dst, entries, func(int64, int) {})
		require.NoError(t, err)
		assert.Empty(t, problems)
		same(t, src, dst, got)
	})
	t.Run("a file vanishes", func(t *testing.T) {
		src, dst, entries := make2(t)
		require.NoError(t, os.Remove(filepath.Join(dst.from, "f08")))
		got, problems, err := Copy(ctx, src, dst, entries, func(int64, int) {})
		require.NoError(t, err)
		require.Len(t, problems, 1)
		assert.Equal(t, "f08", problems[0].Path)
		same(t, src, dst, got)
	})
	t.Run("the host fails", func(t *testing.T) {
		src, dst, entries := make2(t)
		dst.fail = errors.New("no tar today")
		_, _, err := Copy(ctx, src, dst, entries, func(int64, int) {})
		assert.ErrorContains(t, err, "no tar today")
	})
}

func TestPortionsAreBounded(t *testing.T) {
	var list []Entry
	for i := range 2500 {
		list = append(list, Entry{Path: fmt.Sprint(i), Size: 10})
	}
	list = append(list, Entry{Path: "huge", Size: 1 << 40}, Entry{Path: "last", Size: 1})
	got := portions(list)
	require.Len(t, got, 5)
	n := 0
	for _, p := range got {
		assert.LessOrEqual(t, len(p), portionFiles)
		n += len(p)
	}
	assert.Equal(t, len(list), n)
	assert.Equal(t, []string{"huge"}, got[3])
}
