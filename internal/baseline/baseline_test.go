package baseline

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

func TestBaseline(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "b.db")
	b, err := Create(path)
	require.NoError(t, err)
	w, err := b.Rows(ctx, "posts")
	require.NoError(t, err)
	for i := range uint64(20000) {
		require.NoError(t, w.Put(ctx, i, Pair{i + 1, i + 2}))
	}
	require.NoError(t, w.Close(ctx))
	m, err := b.Table(ctx, "posts")
	require.NoError(t, err)
	require.Len(t, m, 20000)
	assert.Equal(t, Pair{778, 779}, m[777])
	w, err = b.Rows(ctx, "posts")
	require.NoError(t, err)
	require.NoError(t, w.Close(ctx))
	m, err = b.Table(ctx, "posts")
	require.NoError(t, err)
	assert.Empty(t, m, "beginning a table forgets what was there")

	odd := "up/\xff\nname"
	files := []File{
		{Origin: tree.Entry{Path: odd, Hash: tree.Hash{1}}, Copy: tree.Entry{Path: odd, Hash: tree.Hash{1}}},
		{Copy: tree.Entry{Path: "own"}, Own: true},
	}
	require.NoError(t, b.PutFiles(ctx, files))
	require.NoError(t, b.PutMeta(ctx, Meta{At: time.Unix(5, 0).UTC(), Stamp: "s"}))
	require.NoError(t, b.Close())
	b, err = Open(path)
	require.NoError(t, err)
	defer b.Close()
	got, err := b.Files(ctx)
	require.NoError(t, err)
	assert.Equal(t, odd, got[odd].Origin.Path, "a name that is not UTF-8 survives")
	assert.True(t, got["own"].Own)
	meta, err := b.Meta(ctx)
	require.NoError(t, err)
	assert.Equal(t, "s", meta.Stamp)
	_, err = Open(filepath.Join(t.TempDir(), "none"))
	assert.ErrorContains(t, err, "opening the baseline")
}

func TestKey(t *testing.T) {
	tab := tables.Table{Columns: []tables.Column{{Name: "id"}, {Name: "u"}}, Key: []string{"u"}}
	text := func(s string) tables.Value { return tables.Value{Kind: tables.Text, Bytes: []byte(s)} }
	was := tables.Row{Key: []tables.Value{text("https://a")}, Values: []tables.Value{text("1"), text("http://b")}}
	is := tables.Row{Key: []tables.Value{text("http://b")}, Values: []tables.Value{text("1"), text("http://b")}}
	assert.Equal(t, tables.Keys(nil, tab).Of(is), tables.Keys(nil, tab).Of(was),
		"a key that was rewritten is the copy's")
	assert.Equal(t, tables.Keys(nil, tab).Of(is), tables.Keys(nil, tab).OfKey(is.Key), "a key is enough")
	tab.Key, tab.Hidden = []string{"rowid"}, true
	assert.NotEqual(t, tables.Keys(nil, tab).Of(is), tables.Keys(nil, tab).Of(was))
}

func TestSomeRowsAreNotedAnew(t *testing.T) {
	ctx := context.Background()
	b, err := Create(filepath.Join(t.TempDir(), "b.db"))
	require.NoError(t, err)
	defer b.Close()
	for _, part := range []string{"1", "2"} {
		w, err := b.Part(ctx, "posts", part)
		require.NoError(t, err)
		for k := range uint64(3) {
			key := k + 10*uint64(part[0]-'0')
			require.NoError(t, w.Put(ctx, key, Pair{key, key + 1}))
		}
		require.NoError(t, w.Close(ctx))
	}
	other, err := b.Rows(ctx, "postmeta")
	require.NoError(t, err)
	require.NoError(t, other.Put(ctx, 11, Pair{7, 7}))
	require.NoError(t, other.Close(ctx))
	require.NoError(t, b.Amend(ctx, "posts", map[uint64]Pair{11: {5, 6}, 30: {8, 9}}, []uint64{20, 99}))
	got, err := b.Table(ctx, "posts")
	require.NoError(t, err)
	assert.Equal(t, map[uint64]Pair{10: {10, 11}, 11: {5, 6}, 12: {12, 13}, 21: {21, 22}, 22: {22, 23}, 30: {8, 9}}, got)
	n, err := b.Count(ctx, "posts")
	require.NoError(t, err)
	assert.EqualValues(t, 6, n, "each row is noted once")
	require.NoError(t, b.Amend(ctx, "posts", nil, []uint64{10, 11, 12, 30}), "a part of which nothing is left")
	n, err = b.Count(ctx, "posts")
	require.NoError(t, err)
	assert.EqualValues(t, 2, n)
	same, err := b.Table(ctx, "postmeta")
	require.NoError(t, err)
	assert.Equal(t, map[uint64]Pair{11: {7, 7}}, same)
}

func TestRowsAreKeptAsTheyWere(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "v.db")
	_, err := OpenValues(path, false)
	require.Error(t, err, "there are none, and none were to be made")
	v, err := OpenValues(path, true)
	require.NoError(t, err)
	defer v.Close()
	posts := tables.Table{Name: "posts", Key: []string{"id"}, Columns: []tables.Column{{Name: "id"}, {Name: "v"}}}
	row := func(id int64, text string) tables.Row {
		n := tables.Value{Kind: tables.Int, Int: id}
		return tables.Row{Key: []tables.Value{n},
			Values: []tables.Value{n, {Kind: tables.Text, Bytes: []byte(text)}}}
	}
	many := func(give func(tables.Row) error) error {
		for i := range int64(3000) {
			if err := give(row(i, strings.Repeat("line\n", 200))); err != nil {
				return err
			}
		}
		return nil
	}
	find := func(tab tables.Table, keys ...int64) (out []string) {
		var list [][]tables.Value
		for _, k := range keys {
			list = append(list, row(k, "").Key)
		}
		require.NoError(t, v.Find(ctx, tab, list, func(r tables.Row) error {
			text, _, _ := strings.Cut(r.Values[1].String(), "\n")
			out = append(out, r.Address()+" "+text)
			return nil
		}))
		return out
	}
	require.NoError(t, v.Replace(ctx, posts, many))
	assert.Equal(t, []string{"7 line", "2999 line"}, find(posts, 2999, 7, 4000))
	require.NoError(t, v.Add(ctx, posts, []tables.Row{row(7, "later"), row(4000, "new")}))
	assert.Equal(t, []string{"7 line", "7 later", "4000 new"}, find(posts, 7, 4000), "both are, for the digest to tell")
	other := posts
	other.Columns = append(other.Columns[:2:2], tables.Column{Name: "more"})
	assert.Empty(t, find(other, 7), "of another shape")
	broken := errors.New("the reading broke off")
	require.ErrorIs(t, v.Replace(ctx, posts, func(give func(tables.Row) error) error {
		require.NoError(t, give(row(1, "half")))
		return broken
	}), broken)
	assert.Equal(t, []string{"7 line", "7 later"}, find(posts, 7), "what was there stays")
	require.NoError(t, v.Replace(ctx, posts, func(give func(tables.Row) error) error { return give(row(1, "anew")) }))
	assert.Equal(t, []string{"1 anew"}, find(posts, 1, 7))
}

func TestABaselineWithFilesAsJSONIsTakenOver(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "b.db")
	b, err := Create(path)
	require.NoError(t, err)
	for _, q := range []string{"DROP TABLE entries",
		"CREATE TABLE files (path BLOB PRIMARY KEY, doc TEXT NOT NULL) WITHOUT ROWID"} {
		_, err := b.db.Exec(q)
		require.NoError(t, err)
	}
	at := time.Date(2026, 3, 1, 10, 0, 0, 77, time.UTC)
	odd := "up/\xff name"
	was := map[string]File{
		odd: {Origin: tree.Entry{Path: odd, Mode: 0o640, Size: 7, MTime: at, Hash: tree.Hash{1}, Changed: at,
			Owner: &host.Owner{User: 33, Group: 33}, Attrs: host.Attrs{"user.a": []byte("b")}}, Own: true},
		"now": {Copy: tree.Entry{Path: "now", Mode: 0o777 | fs.ModeSymlink, Link: odd, MTime: at}},
	}
	for name, f := range was {
		doc, err := json.Marshal(f)
		require.NoError(t, err)
		_, err = b.db.Exec("INSERT INTO files VALUES (?, ?)", []byte(name), doc)
		require.NoError(t, err)
	}
	require.NoError(t, b.Close())
	for range 2 {
		b, err = Open(path)
		require.NoError(t, err)
		got, err := b.Files(ctx)
		require.NoError(t, err)
		assert.Equal(t, was[odd], got[odd])
		assert.Equal(t, was["now"].Copy.Path, got["now"].Copy.Path)
		assert.Zero(t, got["now"].Origin)
		brought, err := b.Brought(ctx, func(string) bool { return true })
		require.NoError(t, err)
		assert.Equal(t, []string{odd}, brought)
		require.NoError(t, b.Close())
	}
}

func TestOneWhoDiesLeavesTheBaselineAsItWas(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	path := filepath.Join(dir, "b.db")
	b, err := Create(path)
	require.NoError(t, err)
	defer b.Close()
	require.NoError(t, b.PutFiles(ctx, []File{{Copy: tree.Entry{Path: "kept"}}}))
	require.NoError(t, b.Close())
	b, err = Open(path)
	require.NoError(t, err)
	defer b.Close()
	_, err = b.db.Exec("PRAGMA cache_size = 1") // all that is written goes to the file at once
	require.NoError(t, err)
	tx, err := b.db.BeginTx(ctx, nil)
	require.NoError(t, err)
	defer tx.Rollback() //nolint:errcheck // it only ends the test
	for i := range 5000 {
		_, err := tx.Exec("INSERT INTO entries VALUES (?, NULL, ?, 0)", []byte(fmt.Sprint("new", i)), make([]byte, 50))
		require.NoError(t, err)
	}
	died := filepath.Join(t.TempDir(), "b.db") // its files, as they are when the process is killed now
	for _, end := range []string{"", "-journal"} {
		b, err := os.ReadFile(path + end)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(died+end, b, 0o600))
	}
	after, err := Open(died)
	require.NoError(t, err)
	defer after.Close()
	got, err := after.Files(ctx)
	require.NoError(t, err)
	assert.Len(t, got, 1)
	assert.Contains(t, got, "kept")
}

func TestTablesToWhichNobodyWroteSinceTheSidesParted(t *testing.T) {
	ctx := context.Background()
	b, err := Create(filepath.Join(t.TempDir(), "b.db"))
	require.NoError(t, err)
	defer b.Close()
	for _, table := range []string{"posts", "terms"} {
		w, err := b.Rows(ctx, table)
		require.NoError(t, err)
		for i := range uint64(3) {
			require.NoError(t, w.Put(ctx, i, Pair{i, i}))
		}
		require.NoError(t, w.Close(ctx))
	}
	meta := Meta{}
	meta.Quiet.Origin = map[string]string{"posts": "nine", "terms": "ten"}
	require.NoError(t, b.PutMeta(ctx, meta))
	got, err := b.Parted(ctx, "live", map[string]string{"posts": "nine", "terms": "eleven", "links": "nine"})
	require.NoError(t, err)
	assert.Equal(t, map[string]Mark{"posts": {Quiet: "nine", Rows: 3}}, got)
	got, err = b.Parted(ctx, "copy", map[string]string{"posts": "nine"})
	require.NoError(t, err)
	assert.Empty(t, got)

	seen := Mark{Quiet: "nine", Rows: 3, Changes: []Change{{Found: 1 << 63, What: "made", Key: []int64{-5, 7}},
		{Found: 2, What: "gone"}}}
	require.NoError(t, b.See(ctx, "live", map[string]Mark{"posts": seen}))
	got, err = b.Seen(ctx, "live")
	require.NoError(t, err)
	assert.Equal(t, map[string]Mark{"posts": seen}, got)
	require.NoError(t, b.Amend(ctx, "posts", map[uint64]Pair{1: {7, 7}}, nil))
	got, err = b.Seen(ctx, "live")
	require.NoError(t, err)
	assert.Equal(t, map[string]Mark{"posts": {Changes: []Change{}}}, got, "it is to be read, whatever was seen before")
}
