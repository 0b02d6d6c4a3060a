package stack

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host/local"
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/tables"
)

func place(t *testing.T, files map[string]int) Place {
	t.Helper()
	dir := t.TempDir()
	for name, size := range files {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, make([]byte, size), 0o644))
	}
	h := local.New("slipway")
	r, err := h.Open(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { r.Close() })
	return Place{Host: h, Root: r, Temp: t.TempDir()}
}

func TestMeasure(t *testing.T) {
	p := place(t, map[string]int{
		"index.php":                10,
		"a/b/c/deep.txt":           100,
		"a/b/other.txt":            50,
		"a/top.txt":                5,
		"cache/x/y":                1000,
		"logs/error.log":           7,
		"db/site.sqlite":           5000,
		"db/site.sqlite-wal":       5000,
		"uploads/old.tar.gz":       300,
		"uploads/picture.jpg":      20,
		"uploads/2026/another.jpg": 30,
	})
	db := site.Database{Engine: "sqlite", Path: filepath.Join(p.Root.Path(), "db/site.sqlite")}
	w, err := Measure(context.Background(), p, db, 2, func(name string) string {
		if name == "cache" {
			return "cache"
		}
		return SpareByName(name)
	})
	require.NoError(t, err)
	var f site.Facts
	w.Tell(&f, nil)
	got := map[string]int64{}
	spare := map[string]string{}
	for _, x := range f.Folders {
		got[x.Path] = x.Bytes
		if x.Spare != "" {
			spare[x.Path] = x.Spare
		}
	}
	assert.Equal(
		t,
		map[string]int64{
			".":                  10,
			"a/b":                150,
			"a":                  5,
			"cache":              1000,
			"logs/error.log":     7,
			"uploads/old.tar.gz": 300,
			"uploads":            20,
			"uploads/2026":       30,
		},
		got,
	)
	assert.Equal(t, map[string]string{"cache": "cache", "logs/error.log": "log", "uploads/old.tar.gz": "archive"},
		spare)
	assert.Equal(t, 9, f.Files, "the database is not one of the files")
	assert.EqualValues(t, 1522, f.Bytes)
	assert.Equal(t, "cache", f.Folders[0].Path, "the heaviest first")
}

func TestMeasureRemarks(t *testing.T) {
	p := place(t, map[string]int{"index.php": 1})
	big := filepath.Join(p.Root.Path(), "plan.tif")
	require.NoError(t, os.WriteFile(big, nil, 0o644))
	require.NoError(t, os.Truncate(big, Largest+1))
	require.NoError(t, os.Symlink("/etc", filepath.Join(p.Root.Path(), "etc")))
	require.NoError(t, os.Symlink("/usr", filepath.Join(p.Root.Path(), "usr")))
	w, err := Measure(context.Background(), p, site.Database{}, 1, SpareByName)
	require.NoError(t, err)
	var f site.Facts
	w.Tell(&f, nil)
	text := map[string]string{}
	for _, x := range f.Findings {
		text[x.Code] = x.Text
		assert.NotEmpty(t, x.Remedy)
	}
	assert.Contains(t, text["large-file"], "1 file is larger than 64 MiB: plan.tif")
	assert.Contains(t, text["link-out"], "2 links lead out of the site's folder: etc")
}

func TestInside(t *testing.T) {
	rel, ok := Inside("/srv/site", "/srv/site/db/x.db")
	assert.True(t, ok)
	assert.Equal(t, "db/x.db", rel)
	for _, out := range []string{"/srv/site2/x", "/srv/x", "/srv/site", "/srv/site/../x"} {
		_, ok = Inside("/srv/site", out)
		assert.False(t, ok, out)
	}
	assert.Equal(t, []string{
		".maintenance",
	}, DatabaseFilter("/site", site.Database{Engine: "sqlite", Path: "/data/x.db"}).Folders,
		"a database elsewhere is not among the files")
}

func TestOnlyKnownEnginesAreOpened(t *testing.T) {
	_, err := OpenDatabase(context.Background(), plainStack{}, Place{Host: local.New("slipway"), Temp: t.TempDir()},
		site.Database{Engine: "oracle"})
	assert.ErrorIs(t, err, tables.ErrRefused)
}

// plainStack takes one column for settings and adjusts nothing.
type plainStack struct {
	Stack
	noSettings
}

func (plainStack) Scope(_, column string) rewrite.Scope {
	if column == "settings" {
		return rewrite.Settings
	}
	return rewrite.Prose
}

func (plainStack) Adjust(_ Change, _ tables.Table, row tables.Row) int {
	if row.Values[0].Int == 9 {
		row.Values[1] = tables.Value{Kind: tables.Text, Bytes: []byte("adjusted")}
		return 1
	}
	return 0
}

func TestTransform(t *testing.T) {
	from, err := site.ParseAddress("https://skerryline.example")
	require.NoError(t, err)
	to, err := site.ParseAddress("http://winter.localhost:7700")
	require.NoError(t, err)
	rw, err := rewrite.New([]rewrite.Pair{{From: from, To: to}}, []rewrite.PathPair{{From: "/srv/site", To: "/copy"}})
	require.NoError(t, err)
	x := &Transform{
		Stack:  plainStack{},
		Change: Change{Rewriter: rw, Copy: site.Site{Quiet: []site.Rule{site.QuietMail}}},
	}
	tab := tables.Table{
		Name:    "t",
		Columns: []tables.Column{{Name: "id"}, {Name: "prose"}, {Name: "settings"}, {Name: "blob"}},
	}
	text := func(s string) tables.Value { return tables.Value{Kind: tables.Text, Bytes: []byte(s)} }
	row := tables.Row{
		Key: []tables.Value{{Kind: tables.Int, Int: 1}},
		Values: []tables.Value{
			{Kind: tables.Int, Int: 1},
			text("at https://skerryline.example in /srv/site"),
			text("/srv/site/x"),
			{Kind: tables.Blob, Bytes: []byte("skerryline.example")},
		},
	}
	var c Changed
	x.Row(tab, row, &c)
	assert.Equal(t, "at http://winter.localhost:7700 in /srv/site", row.Values[1].String(), "a path in prose stays")
	assert.Equal(t, "/copy/x", row.Values[2].String())
	assert.Equal(t, "winter.localhost:7700", row.Values[3].String())
	assert.Equal(t, 3, c.Addresses)
	assert.Empty(t, c.Kept)
	row.Values[0].Int, row.Values[1] = 9, text(`s:5:"https://skerryline.example";`)
	x.Row(tab, row, &c)
	assert.Equal(t, "adjusted", row.Values[1].String())
	assert.Equal(t, 1, c.Adjusted)
	require.Len(t, c.Kept, 1)
	assert.Equal(t, Kept{"t", "1", "prose", rewrite.Broken}, c.Kept[0])
	assert.True(t, x.Change.Quiet(site.QuietMail))
	assert.False(t, x.Change.Quiet(site.QuietTasks))
}
