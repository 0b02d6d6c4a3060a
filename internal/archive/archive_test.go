package archive

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// fake is a snapshot of rows in memory.
type fake struct {
	tables.Snapshot
	schema tables.Schema
	rows   map[string][]tables.Row
}

func (f fake) Schema() tables.Schema { return f.schema }
func (f fake) Read(_ context.Context, table string, _ tables.Range, give func(tables.Row) error) error {
	for _, r := range f.rows[table] {
		if err := give(r); err != nil {
			return err
		}
	}
	return nil
}

// got remembers what a reader was told of.
type got struct {
	m     Manifest
	files map[string]string

	entries map[string]tree.Entry
	rows    map[string][]tables.Row
	ended   bool
}

func (g *got) Begin(m Manifest) error {
	g.m, g.files, g.entries, g.rows = m, map[string]string{}, map[string]tree.Entry{}, map[string][]tables.Row{}
	return nil
}
func (g *got) File(e tree.Entry, r io.Reader) error {
	g.files[e.Path], g.entries[e.Path] = e.Link, e
	if r != nil {
		b, err := io.ReadAll(r)
		g.files[e.Path] = string(b)
		return err
	}
	return nil
}
func (g *got) Rows(t tables.Table, next func(func(tables.Row) error) error) error {
	return next(func(r tables.Row) error {
		g.rows[t.Name] = append(g.rows[t.Name], tables.Row{Key: tables.Keep(r.Key), Values: tables.Keep(r.Values)})
		return nil
	})
}
func (g *got) End() error { g.ended = true; return nil }

var at = time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC)

func manifest() Manifest {
	return Manifest{
		Format:  "alibi-archive",
		Version: Version,
		Site:    site.Site{ID: "abcde", Name: "ferry", Root: "/srv/ferry", Facts: &site.Facts{}},
		Taken:   at,
	}
}

// source is a small site.
func source(engine string, rows ...tables.Row) Source {
	tab := tables.Table{
		Name: "sk_posts",
		Columns: []tables.Column{
			{Name: "ID", Type: "INTEGER"},
			{Name: "body", Type: "longtext", Charset: "utf8mb4"},
			{Name: "raw", Type: "longblob"},
		},
		Key:    []string{"ID"},
		Create: "CREATE TABLE `sk_posts` (`ID` int, `body` longtext, `raw` longblob) ENGINE=InnoDB",
	}
	if engine == "mysql" {
		tab.Columns[0].Type = "int(11)"
	}
	m := manifest()
	m.Schema = &tables.Schema{Engine: engine, Tables: []tables.Table{tab}}
	m.Rows, m.Files, m.Bytes = int64(len(rows)), 2, 1<<20
	texts := map[string]string{"index.php": "<?php echo 'tide';", "wp-content/a b\n.txt": strings.Repeat("x", 100000)}
	src := Source{
		Manifest: m,
		Snapshot: fake{schema: *m.Schema, rows: map[string][]tables.Row{"sk_posts": rows}},
		Open:     func(n string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(texts[n])), nil },
	}
	src.Entries = []tree.Entry{
		{Path: "index.php", Mode: 0o644, Size: int64(len(texts["index.php"])), MTime: at},
		{Path: "wp-content", Mode: os.ModeDir | 0o755},
		{Path: "wp-content/a b\n.txt", Mode: 0o600, Size: 100000, MTime: at},
		{Path: "wp-content/link", Mode: os.ModeSymlink, Link: "../index.php"},
	}
	return src
}

func write(t testing.TB, src Source) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, Write(context.Background(), &b, src, func(int64) {}))
	return b.Bytes()
}

func read(b []byte) (*got, error) {
	g := &got{}
	_, err := Read(context.Background(), bytes.NewReader(b), g, Limits{}, func(int64) {})
	return g, err
}

// value draws a value of a kind.
func value(t *rapid.T, kind tables.Kind) tables.Value {
	switch kind {
	case tables.Int:
		return tables.Value{Kind: kind, Int: rapid.Int64().Draw(t, "int")}
	case tables.Float:
		return tables.Value{
			Kind:  kind,
			Float: rapid.Float64().Filter(func(f float64) bool { return !math.IsNaN(f) }).Draw(t, "float"),
		}
	case tables.Text, tables.Blob:
		return tables.Value{
			Kind: kind,
			Bytes: append([]byte{},
				rapid.SliceOf(rapid.SampledFrom([]byte("a'\"\\\x00\n\r\t;,()\x1a`%_-- é\xff"))).Draw(t, "bytes")...),
		}
	}
	return tables.Value{}
}

func TestRowsComeBackToTheBit(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var rows []tables.Row
		for i := range rapid.IntRange(0, 450).Draw(rt, "rows") {
			v := []tables.Value{
				{Kind: tables.Int, Int: int64(i)},
				value(rt, rapid.SampledFrom([]tables.Kind{tables.Null, tables.Text, tables.Int, tables.Float}).Draw(rt,
					"kind")),
				value(rt, rapid.SampledFrom([]tables.Kind{tables.Null, tables.Blob}).Draw(rt, "kind")),
			}
			rows = append(rows, tables.Row{Key: v[:1], Values: v})
		}
		g, err := read(write(t, source("sqlite", rows...)))
		require.NoError(rt, err)
		require.True(rt, g.ended)
		require.Len(rt, g.rows["sk_posts"], len(rows))
		for i, r := range rows {
			a, _ := r.Digest(nil)
			b, _ := g.rows["sk_posts"][i].Digest(nil)
			require.Equal(rt, a, b, "%v %v", r, g.rows["sk_posts"][i])
		}
	})
}

func TestMariaDBsRowsComeBackToTheByte(t *testing.T) {
	text := func(k tables.Kind, s string) tables.Value { return tables.Value{Kind: k, Bytes: []byte(s)} }
	number := func(n int64) tables.Value {
		return tables.Value{Kind: tables.Int, Int: n, Bytes: fmt.Append(nil, n)}
	}
	rows := []tables.Row{
		{
			Values: []tables.Value{
				number(1),
				text(tables.Text, "it's a \"tide\";\n(x),\\ `b` é\x00\x1a"),
				text(tables.Blob, "\x00\xff'\\"),
			},
		},
		{Values: []tables.Value{number(-7), {}, text(tables.Blob, "")}},
	}
	g, err := read(write(t, source("mysql", rows...)))
	require.NoError(t, err)
	for i, r := range rows {
		for j, v := range r.Values {
			is := g.rows["sk_posts"][i].Values[j]
			assert.Equal(t, v.Kind, is.Kind, "%d %d", i, j)
			assert.Equal(t, string(v.Bytes), string(is.Bytes))
		}
	}
	assert.Equal(t, "<?php echo 'tide';", g.files["index.php"])
	assert.Len(t, g.files["wp-content/a b\n.txt"], 100000)
	assert.Equal(t, "../index.php", g.files["wp-content/link"])
	assert.Equal(t, manifest().Site.ID, g.m.Site.ID)
}

func TestEveryFlippedBitAndMissingEndIsFound(t *testing.T) {
	whole := write(t, source("sqlite", tables.Row{Values: []tables.Value{{Kind: tables.Int, Int: 1}, {}, {}}}))
	good, err := read(whole)
	require.NoError(t, err)
	found := 0
	for i := 0; i < len(whole); i += 3 {
		bad := bytes.Clone(whole)
		bad[i] ^= 1 << (i % 8)
		g, err := read(bad)
		if err == nil { // the compression may say the same in two ways
			assert.Equal(t, good, g, "byte %d", i)
			continue
		}
		found++
		assert.False(t, g.ended, "nothing of a damaged archive is used")
	}
	assert.Greater(t, found, len(whole)/3*9/10)
	for _, n := range []int{0, 1, 10, len(whole) / 2, len(whole) - 1} {
		g, err := read(whole[:n])
		assert.Error(t, err, "%d bytes", n)
		assert.False(t, g.ended)
	}
}

// forge writes a tar of our form with other entries.
func forge(t *testing.T, m Manifest, entries ...*tar.Header) []byte {
	t.Helper()
	var b, sums bytes.Buffer
	z, err := zstd.NewWriter(&b)
	require.NoError(t, err)
	w := tar.NewWriter(z)
	text, err := json.Marshal(m)
	require.NoError(t, err)
	put := func(h *tar.Header, body []byte) {
		if h.Typeflag == tar.TypeReg {
			h.Size = int64(len(body))
			fmt.Fprintf(&sums, "%x  %s\n", sha256.Sum256(body), h.Name)
		}
		require.NoError(t, w.WriteHeader(h))
		_, err := w.Write(body)
		require.NoError(t, err)
	}
	put(&tar.Header{Name: manifestName, Typeflag: tar.TypeReg}, text)
	for _, e := range entries {
		body := make([]byte, e.Size)
		put(e, body)
	}
	put(&tar.Header{Name: sumsName, Typeflag: tar.TypeReg}, bytes.Clone(sums.Bytes()))
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestHostileAndForeignArchivesAreRefused(t *testing.T) {
	link := func(name, to string) *tar.Header {
		return &tar.Header{Name: name, Typeflag: tar.TypeSymlink, Linkname: to}
	}
	file := func(name string) *tar.Header { return &tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644} }
	m := manifest()
	m.Files = 1
	for name, e := range map[string]*tar.Header{
		"absolute": file("/etc/passwd"), "upwards": file("files/../../etc/passwd"), "elsewhere": file("other/x"),
		"device": {Name: "files/null", Typeflag: tar.TypeChar}, "pipe": {Name: "files/p", Typeflag: tar.TypeFifo},
		"hard link": {Name: "files/h", Typeflag: tar.TypeLink, Linkname: "files/index.php"},
		"link out":  link("files/l", "/etc/passwd"), "link up": link("files/a/l", "../../../etc"),
		"double": file(manifestName), "no sql": file("database/1.sql"),
	} {
		g, err := read(forge(t, m, e))
		assert.ErrorIs(t, err, ErrHostile, name)
		assert.False(t, g.ended, name)
	}
	_, err := read(forge(t, m, file("files/a"), file("files/b")))
	assert.ErrorIs(t, err, ErrHostile, "more files than were told")
	_, err = read(forge(t, m))
	assert.ErrorIs(t, err, ErrDamaged, "fewer files than were told")
	bomb := file("files/bomb")
	bomb.Size = 300 << 20
	_, err = read(forge(t, m, bomb))
	assert.ErrorIs(t, err, ErrHostile, "a bomb")
	_, err = Read(context.Background(), bytes.NewReader(forge(t, m, file("files/a"))), Discard{}, Limits{Bytes: 100},
		func(int64) {})
	assert.ErrorIs(t, err, ErrHostile, "no room")
	for _, text := range []string{"", "hello", "PK\x03\x04 a zip", string(write(t, source("sqlite")))[:3]} {
		_, err := read([]byte(text))
		assert.Error(t, err)
	}
	other := m
	other.Format = "something"
	_, err = read(forge(t, other, file("files/a")))
	assert.ErrorIs(t, err, ErrForeign)
	other = m
	other.Version = 9
	_, err = read(forge(t, other, file("files/a")))
	assert.ErrorContains(t, err, "use a newer one")
}

func TestDefinitionsThatReachOutAreRefused(t *testing.T) {
	for _, create := range []string{
		"CREATE TABLE `t` AS SELECT * FROM mysql.user", "CREATE TABLE `t` LIKE mysql.user",
		"CREATE TABLE `t` (n int) ENGINE=FEDERATED CONNECTION='mysql://x'", "CREATE TABLE `t` (n int) ENGINE=CONNECT",
		"CREATE TABLE `t` (n int) ENGINE=InnoDB DATA DIRECTORY='/tmp'", "CREATE TABLE `t` (n int); DROP TABLE x",
		"DROP TABLE `t`", "CREATE TABLE `t` (n int) /*!50000 UNION=(x) */", "CREATE USER x",
	} {
		m := manifest()
		m.Schema = &tables.Schema{Engine: "mysql", Tables: []tables.Table{{Name: "t", Create: create}}}
		assert.ErrorIs(t, m.check(), ErrHostile, create)
	}
	m := manifest()
	m.Schema = &tables.Schema{
		Engine: "mysql",
		Tables: []tables.Table{
			{
				Name: "t",
				Create: "CREATE TABLE `select` (`n` int COMMENT 'like; select', `v` varchar(9) DEFAULT 'a;b') " +
					"ENGINE=InnoDB DEFAULT CHARSET=utf8mb4",
			},
		},
	}
	assert.NoError(t, m.check())
	m.Schema.After = []tables.Object{{Kind: "trigger", Name: "x", SQL: "GRANT ALL ON *.* TO x"}}
	assert.ErrorIs(t, m.check(), ErrHostile)
}

func TestPartsAreNeededTogether(t *testing.T) {
	dir := t.TempDir()
	base := filepath.Join(dir, "ferry.tar.zst")
	var rows []tables.Row
	for i := range 4000 {
		rows = append(
			rows,
			tables.Row{
				Values: []tables.Value{
					{Kind: tables.Int, Int: int64(i)},
					{Kind: tables.Text, Bytes: fmt.Appendf(nil, "%x", sha256.Sum256(fmt.Append(nil, i)))},
					{},
				},
			},
		)
	}
	out, err := Create(base, 64<<10)
	require.NoError(t, err)
	require.NoError(t, Write(context.Background(), out, source("sqlite", rows...), func(int64) {}))
	made, err := out.Close()
	require.NoError(t, err)
	require.Greater(t, len(made), 2)
	check := func(name string) error {
		if err := CheckParts(name); err != nil {
			return err
		}
		in, err := Open(name, nil)
		if err != nil {
			return err
		}
		defer in.Close()
		_, err = Check(context.Background(), in, func(int64) {})
		return err
	}
	for _, name := range []string{base, made[0], made[1], base + Sums} {
		assert.NoError(t, check(name), name)
	}
	_, err = Create(base, 0)
	assert.ErrorContains(t, err, "nothing is written over")
	_, err = Create(filepath.Join(dir, "small"), 5)
	assert.ErrorContains(t, err, "too small")
	require.NoError(t, os.Rename(made[1], made[1]+".away"))
	assert.ErrorContains(t, check(base), filepath.Base(made[1])+" is missing")
	require.NoError(t, os.Rename(made[1]+".away", made[1]))
	last := made[len(made)-1]
	require.NoError(t, os.Rename(last, last+".away"))
	assert.ErrorContains(t, check(base), filepath.Base(last)+" is missing")
	require.NoError(t, os.Remove(base+Sums))
	assert.ErrorIs(t, check(base), ErrDamaged, "without the list its end is missed")
	require.NoError(t, os.Rename(last+".away", last))
	assert.NoError(t, check(base))
	_, err = Parts(filepath.Join(dir, "none"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestAnEncryptedArchiveOpensWithItsKeyOnly(t *testing.T) {
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	name := filepath.Join(t.TempDir(), "ferry.tar.zst.age")
	f, err := os.Create(name)
	require.NoError(t, err)
	w, err := age.Encrypt(f, key.Recipient())
	require.NoError(t, err)
	require.NoError(t, Write(context.Background(), w, source("sqlite"), func(int64) {}))
	require.NoError(t, errors.Join(w.Close(), f.Close()))
	in, err := Open(name, []age.Identity{key})
	require.NoError(t, err)
	_, err = Check(context.Background(), in, func(int64) {})
	require.NoError(t, err)
	in.Close()
	_, err = Open(name, []age.Identity{other})
	assert.ErrorIs(t, err, ErrLocked)
	_, err = Open(name, nil)
	assert.ErrorIs(t, err, ErrLocked)
}
