package sqlite

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/sshd"
	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/host/ssh"
	"alibi/internal/tables"
	"alibi/internal/tables/tablestest"
)

var schema = []string{
	`CREATE TABLE posts (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT, body LONGTEXT DEFAULT '', n BIGINT,
		f DOUBLE, b BLOB, made DATETIME, up TEXT GENERATED ALWAYS AS (upper(title)) VIRTUAL)`,
	`CREATE TABLE pairs (a INTEGER, b TEXT, v TEXT, PRIMARY KEY (a, b)) WITHOUT ROWID`,
	`CREATE TABLE loose (v TEXT)`,
	`CREATE TABLE "odd ""name" ("a column" TEXT)`,
	`CREATE TABLE seen (n INTEGER)`,
	`CREATE INDEX by_title ON posts (title)`,
	`CREATE VIEW titles AS SELECT title FROM posts`,
	`CREATE TRIGGER count_posts AFTER INSERT ON posts BEGIN INSERT INTO seen VALUES (new.id); END`,
}

// file makes a database of statements in dir and opens it by way of root.
func file(t *testing.T, root host.Root, path string, statements ...string) *File {
	t.Helper()
	db, err := connect(path, "rwc")
	require.NoError(t, err)
	for _, s := range statements {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
	require.NoError(t, db.Close())
	return Open(root, filepath.Base(path), t.TempDir())
}

func at(t *testing.T, dir string) host.Root {
	t.Helper()
	r, err := local.New("slipway").Write(context.Background(), dir)
	require.NoError(t, err)
	return r
}

func target(_ *testing.T, place string) tables.Target { return NewTarget(filepath.Join(place, "c.db")) }

func open(t *testing.T, place string) tables.Writable { return Open(at(t, place), "c.db", t.TempDir()) }

func TestConformance(t *testing.T) {
	tablestest.Run(
		t,
		tablestest.Engine{
			Schema: schema,
			Far:    true,
			Target: target,
			Open:   open,
			Make: func(t *testing.T, st ...string) tables.Writable {
				dir := t.TempDir()
				return file(t, at(t, dir), filepath.Join(dir, "o.db"), st...)
			},
		},
	)
}

var editEngine = tablestest.EditEngine{
	Schema: schema,
	Make: func(t *testing.T, st ...string) (tables.Writable, func() tables.Edit) {
		dir, temp := t.TempDir(), t.TempDir()
		f := file(t, at(t, dir), filepath.Join(dir, "o.db"), st...)
		return f, func() tables.Edit { return NewEdit(at(t, dir), "o.db", ".edit", temp, time.Now(), nil) }
	},
}

func TestEdit(t *testing.T) { tablestest.RunEdit(t, editEngine) }

func TestConformanceWithALog(t *testing.T) {
	tablestest.Run(
		t,
		tablestest.Engine{
			Schema: schema,
			Target: target,
			Open:   open,
			Make: func(t *testing.T, st ...string) tables.Writable {
				dir := t.TempDir()
				path := filepath.Join(dir, "o.db")
				f := file(t, at(t, dir), path, append([]string{"PRAGMA journal_mode = WAL"}, st...)...)
				db, err := connect(path, "rw") // somebody has the site open, so the log stays
				require.NoError(t, err)
				require.NoError(t, db.Ping())
				t.Cleanup(func() { db.Close() })
				return f
			},
		},
	)
}

// remote is a database on an SSH host; writes take the short way.
type remote struct {
	*File
	near *File
}

func (r remote) Exec(ctx context.Context, sql string, args ...any) error {
	return r.near.Exec(ctx, sql, args...)
}

func TestConformanceOverSSH(t *testing.T) {
	t.Setenv("SSH_AUTH_SOCK", "")
	dir := t.TempDir()
	srv, err := sshd.Start(sshd.Config{Dir: dir, User: "ops", Password: "tide"})
	require.NoError(t, err)
	defer srv.Close()
	h := ssh.New("pier", ssh.Target{Addr: "127.0.0.1", Port: srv.Port(), User: "ops", Key: "/none"},
		ssh.Options{Asker: yes{}, KnownHosts: []string{filepath.Join(t.TempDir(), "kh")}})
	defer h.Close()
	tablestest.Run(
		t,
		tablestest.Engine{
			Schema: schema,
			Far:    true,
			Target: target,
			Open:   open,
			Make: func(t *testing.T, st ...string) tables.Writable {
				sub, err := os.MkdirTemp(dir, "")
				require.NoError(t, err)
				near := file(t, at(t, sub), filepath.Join(sub, "o.db"), st...)
				r, err := h.Open(context.Background(), "/"+filepath.Base(sub))
				require.NoError(t, err)
				return remote{Open(r, "o.db", t.TempDir()), near}
			},
		},
	)
}

type yes struct{}

func (yes) HostKey(string, string) (bool, error) { return true, nil }
func (yes) Secret(string) (string, error)        { return "tide", nil }

func TestRefusals(t *testing.T) {
	dir := t.TempDir()
	r := at(t, dir)
	ctx := context.Background()
	_, err := Open(r, "none.db", dir).Snapshot(ctx)
	assert.ErrorContains(t, err, "is not there")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "text.db"), make([]byte, 4096), 0o644))
	_, err = Open(r, "text.db", dir).Snapshot(ctx)
	assert.ErrorIs(t, err, tables.ErrRefused)
	assert.False(t, Is(r, "text.db"))

	file(
		t,
		r,
		filepath.Join(dir, "o.db"),
		"CREATE TABLE t (v TEXT)",
		"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 3000) INSERT INTO t SELECT 'value ' "+
			"|| i FROM n",
	)
	b, err := os.ReadFile(filepath.Join(dir, "o.db"))
	require.NoError(t, err)
	for i := 4096; i < 8192; i++ {
		b[i] = 0xff
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bad.db"), b, 0o644))
	_, err = Open(r, "bad.db", dir).Snapshot(ctx)
	assert.ErrorIs(t, err, tables.ErrDamaged)
	left, err := filepath.Glob(filepath.Join(dir, "image-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "no image is left behind")
}

func TestHotJournalMeansBusy(t *testing.T) {
	dir := t.TempDir()
	f := file(t, at(t, dir), filepath.Join(dir, "o.db"), "CREATE TABLE t (v TEXT)")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "o.db-journal"),
		[]byte("\xd9\xd5\x05\xf9\x20\xa1\x63\xd7 and more"), 0o644))
	_, err := f.Snapshot(context.Background())
	assert.ErrorIs(t, err, tables.ErrBusy)
}

func TestReadingWritesNothingBesideTheFile(t *testing.T) {
	dir := t.TempDir()
	f := file(t, at(t, dir), filepath.Join(dir, "o.db"), "PRAGMA journal_mode = WAL", "CREATE TABLE t (v TEXT)")
	before, err := os.ReadDir(dir)
	require.NoError(t, err)
	s, err := f.Snapshot(context.Background())
	require.NoError(t, err)
	require.NoError(t, s.Close())
	after, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Equal(t, len(before), len(after))
}

func TestFullTextTablesAreCopied(t *testing.T) {
	dir := t.TempDir()
	f := file(t, at(t, dir), filepath.Join(dir, "o.db"), "CREATE VIRTUAL TABLE ft USING fts5(body)",
		"INSERT INTO ft VALUES ('the ferry calls at noon')")
	ctx := context.Background()
	s, err := f.Snapshot(ctx)
	require.NoError(t, err)
	defer s.Close()
	to := NewTarget(filepath.Join(dir, "c.db"))
	_, err = to.Begin(ctx, s.Schema())
	require.NoError(t, err)
	for _, tab := range s.Schema().Tables {
		require.NoError(t, to.Load(ctx, tab.Name, func(put func(tables.Row) error) error {
			return s.Read(ctx, tab.Name, tables.Range{}, put)
		}))
	}
	require.NoError(t, to.Finish(ctx))
	db, err := connect(filepath.Join(dir, "c.db"), "ro")
	require.NoError(t, err)
	defer db.Close()
	var body string
	require.NoError(t, db.QueryRow("SELECT body FROM ft WHERE ft MATCH 'ferry'").Scan(&body))
	assert.Equal(t, "the ferry calls at noon", body)
}
