package state

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

var errBroken = errors.New("the line broke")

// brittle is a folder whose host is gone from the n-th change on.
type brittle struct {
	host.Root
	left *int
}

func (b brittle) may() error {
	if *b.left--; *b.left < 0 {
		return errBroken
	}
	return nil
}

func (b brittle) Rename(from, to string) error {
	if err := b.may(); err != nil {
		return err
	}
	return b.Root.Rename(from, to)
}

func (b brittle) Remove(name string) error {
	if err := b.may(); err != nil {
		return err
	}
	return b.Root.Remove(name)
}

func (b brittle) Mkdir(name string, perm os.FileMode) error {
	if err := b.may(); err != nil {
		return err
	}
	return b.Root.Mkdir(name, perm)
}

func (b brittle) Chmod(name string, perm os.FileMode) error {
	if err := b.may(); err != nil {
		return err
	}
	return b.Root.Chmod(name, perm)
}

// silent is a task that nobody looks at.
type silent struct{}

func (silent) Add(int64, int64)       {}
func (silent) Expect(int64)           {}
func (silent) Note(string, ...any)    {}
func (silent) Memorize(change func()) { change() }
func (silent) Remember() error        { return nil }

// files lays files out: by path, with their texts.
func files(t *testing.T, list map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range list {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
	}
	return dir
}

// as gives what is in a folder, by path.
func as(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		require.NoError(t, err)
		rel, err := filepath.Rel(dir, p)
		require.NoError(t, err)
		if e.IsDir() {
			out[rel+"/"] = ""
			return nil
		}
		b, err := os.ReadFile(p)
		out[rel] = string(b)
		return err
	}))
	return out
}

// making brings the folder at to what is in the folder like; it may be changed left times.
func making(at, like string, memory *Memory, left *int) *Maker {
	ctx := context.Background()
	here := local.New("here")
	look := func(_ context.Context, dir string) (host.Tree, error) { return here.Open(ctx, filepath.Join(at, dir)) }
	return &Maker{
		ID:     "r1",
		Memory: memory,
		Open: func(context.Context) (*Ends, error) {
			from, err := here.Open(ctx, like)
			if err != nil {
				return nil, err
			}
			root, err := look(ctx, ".")
			if err != nil {
				return nil, err
			}
			list, err := tree.Scan(ctx, from, tree.Filter{})
			if err != nil {
				return nil, err
			}
			all := func(string) bool { return true }
			return &Ends{
				Root: root, Want: &Wanted{From: from, Entries: list.Entries, InScope: all},
				Close: func() { from.Close(); root.Close() },
			}, nil
		},
		Look: look,
		Write: func(_ context.Context, dir string) (host.Root, error) {
			r, err := here.Write(ctx, filepath.Join(at, dir))
			return brittle{r, left}, err
		},
		Edit:   func(context.Context, string) (tables.Edit, error) { return nil, errors.ErrUnsupported },
		Schema: func(context.Context) (tables.Schema, error) { return tables.Schema{}, errors.ErrUnsupported },
	}
}

// A site is what it was, or what it was to be, wherever its host goes away; and it goes on from there.
func TestFilesAreExchangedWholeOrNotAtAll(t *testing.T) {
	before := map[string]string{
		"index.php": "<?php 1;", "theme/style.css": "a{}", "theme/old/deep.css": "b{}", "same.txt": "same",
		"turns": "a file that becomes a folder", "folder/x": "in a folder that becomes a file",
	}
	after := map[string]string{
		"index.php": "<?php 22;", "theme/style.css": "a{color:red}", "theme/new/deep.css": "c{}", "same.txt": "same",
		"turns/inside": "now a folder", "folder": "now a file",
	}
	ctx := context.Background()
	broken := 0
	for n := 0; ; n++ {
		at, like := files(t, before), files(t, after)
		was, will := as(t, at), as(t, like)
		memory, left := &Memory{}, n
		m := making(at, like, memory, &left)
		err := m.Stage(ctx, silent{})
		if err == nil {
			err = m.Files(ctx, silent{})
		}
		if err == nil {
			break
		}
		broken++
		require.ErrorIs(t, err, errBroken, "%d", n)
		if n%2 == 0 { // the line is back: it goes on
			left = 1 << 20
			require.NoError(t, m.Stage(ctx, silent{}), "%d", n)
			require.NoError(t, m.Files(ctx, silent{}), "%d", n)
			e, err := m.Open(ctx)
			require.NoError(t, err)
			_, err = m.Compare(ctx, silent{}, e)
			e.Close()
			require.NoError(t, err, "%d", n)
			require.NoError(t, m.Commit(ctx))
			require.NoError(t, m.Clear(ctx))
			assert.Equal(t, will, as(t, at), "%d", n)
			continue
		}
		for k := 0; ; k++ { // it is taken back, and the line breaks again and again meanwhile
			left = k
			if err = m.RollBack(ctx); err == nil {
				break
			}
			require.ErrorIs(t, err, errBroken)
			require.Less(t, k, 1000)
		}
		assert.Equal(t, was, as(t, at), "%d", n)
	}
	assert.Greater(t, broken, 15)
}

func TestASiteThatIsNotWhatItShouldBeIsSaid(t *testing.T) {
	ctx := context.Background()
	at, like := files(t, map[string]string{"a": "1", "b": "2"}), files(t, map[string]string{"a": "1", "b": "33"})
	left := 1 << 20
	m := making(at, like, &Memory{}, &left)
	require.NoError(t, m.Stage(ctx, silent{}))
	e, err := m.Open(ctx)
	require.NoError(t, err)
	defer e.Close()
	_, err = m.Compare(ctx, silent{}, e)
	assert.ErrorIs(t, err, ErrDiffers)
	assert.ErrorContains(t, err, "is b")
}

// What was digested before is not read again, unless it was changed since, whatever its times say.
func TestOnlyFilesThatWereChangedAreReadAgain(t *testing.T) {
	ctx := context.Background()
	at, like := files(t, map[string]string{"a": "one", "b": "two"}), files(t, map[string]string{"a": "one", "b": "two"})
	for _, name := range []string{"a", "b"} {
		fi, err := os.Stat(filepath.Join(like, name))
		require.NoError(t, err)
		require.NoError(t, os.Chtimes(filepath.Join(at, name), fi.ModTime(), fi.ModTime()))
	}
	left := 100
	m := making(at, like, &Memory{}, &left)
	e, err := m.Open(ctx)
	require.NoError(t, err)
	defer e.Close()
	sums := map[string]tree.Hash{}
	require.NoError(t, tree.Digest(ctx, e.Want.From, e.Want.Entries, nil, func(int64, int) {}))
	for _, w := range e.Want.Entries {
		sums[w.Path] = w.Hash
	}
	e.Want.Hash = func(path string) tree.Hash { return sums[path] }
	known := map[string]tree.Entry{}
	e.Want.Known = func(context.Context) (map[string]tree.Entry, error) { return known, nil }
	list, err := tree.Scan(ctx, e.Root, tree.Filter{})
	require.NoError(t, err)
	for _, is := range list.Entries {
		is.Hash = sums[is.Path]
		known[is.Path] = is
	}
	watched := &reads{Tree: e.Root}
	e.Root = watched
	forged, err := m.forged(ctx, e)
	require.NoError(t, err)
	assert.Empty(t, forged)
	assert.Empty(t, watched.read, "nothing was changed")

	time.Sleep(20 * time.Millisecond) // the clock of change times
	fi, err := os.Stat(filepath.Join(at, "b"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(at, "b"), []byte("won"), 0o644))
	require.NoError(t, os.Chtimes(filepath.Join(at, "b"), fi.ModTime(), fi.ModTime())) // as those do who hide
	forged, err = m.forged(ctx, e)
	require.NoError(t, err)
	assert.Equal(t, []string{"b"}, forged)
	assert.Equal(t, []string{"b"}, watched.read)

	for name, is := range known { // a host that does not tell when a file was changed
		is.Changed = time.Time{}
		known[name] = is
	}
	watched.read = nil
	_, err = m.forged(ctx, e)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"a", "b"}, watched.read)
}

// reads notes which files are opened.
type reads struct {
	host.Tree
	mu   sync.Mutex
	read []string
}

func (r *reads) Open(name string) (host.File, error) {
	r.mu.Lock()
	r.read = append(r.read, name)
	r.mu.Unlock()
	return r.Tree.Open(name)
}
