package export_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/archive"
	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/op/clone"
	"alibi/internal/op/export"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
	"alibi/internal/tables"
)

const origin = "https://skerryline.example"

func TestMain(m *testing.M) { demotest.Main(m, mariadbtest.Main) }

func done(t *testing.T, w *demotest.World, p plan.Plan, err error) plan.Run {
	t.Helper()
	require.NoError(t, err)
	r, err := w.Desk.Runs.StartTyped(context.Background(), p, p.Confirm)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	require.Equal(t, plan.Done, r.State, r.Error)
	return r
}

// made writes a site into an archive.
func made(t *testing.T, w *demotest.World, s site.Site, c export.Choices) string {
	t.Helper()
	p, err := w.Desk.Points.PlanArchive(context.Background(), s, nil, c)
	done(t, w, p, err)
	return p.Words
}

// read reads an archive into a desk's depot, and gives its restore point.
func read(t *testing.T, w *demotest.World, file, key string, as *site.Site) desk.Point {
	t.Helper()
	ctx := context.Background()
	p, err := w.Desk.Points.PlanImport(ctx, file, key, as)
	r := done(t, w, p, err)
	list, bad, err := w.Desk.Points.Points(ctx, "")
	require.NoError(t, err)
	require.Empty(t, bad)
	for _, x := range list {
		if x.Run == r.ID {
			return x
		}
	}
	t.Fatal("no restore point came of it")
	return desk.Point{}
}

// fromPoint makes a running copy and wants its evidence to hold.
func fromPoint(t *testing.T, w *demotest.World, p desk.Point, name string) site.Site {
	t.Helper()
	pl, err := w.Desk.Points.PlanFromPoint(context.Background(), p,
		func(c *clone.Choices) error { c.Name = name; return nil })
	r := done(t, w, pl, err)
	assert.Contains(t, r.Result, "evidence holds")
	return w.Site(name)
}

func TestASiteIsCarriedToAnotherHome(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	live := w.Site(origin)
	dir := t.TempDir()
	file := made(t, w, live, export.Choices{To: dir})
	assert.Equal(t, dir, filepath.Dir(file), "it got a name of its own")
	m, err := w.Desk.Points.CheckArchive(ctx, file, "", func(int64) {})
	require.NoError(t, err)
	assert.Equal(t, live.Name, m.Site.Name)
	assert.False(t, m.Secrets)
	list, err := w.Desk.Points.Archives(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.True(t, list[0].There)
	assert.False(t, list[0].Checked.IsZero())
	_, err = w.Desk.Points.PlanArchive(ctx, live, nil, export.Choices{To: file})
	assert.ErrorContains(t, err, "nothing is written over")

	other := demotest.New(t)
	other.Keep()
	p := read(t, other, file, "", nil)
	assert.Equal(t, depot.FromArchive, p.Kind)
	fromPoint(t, other, p, "carried")

	// Damaged, it is found out, and nothing comes of it.
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	text[len(text)*2/3] ^= 4
	bad := filepath.Join(dir, "bad.tar.zst")
	require.NoError(t, os.WriteFile(bad, text, 0o600))
	_, err = w.Desk.Points.CheckArchive(ctx, bad, "", func(int64) {})
	assert.Error(t, err)
	pl, err := other.Desk.Points.PlanImport(ctx, bad, "", nil)
	if err == nil {
		r := other.Run(pl)
		assert.Equal(t, plan.Stopped, r.State)
	}
	points, _, err := other.Desk.Points.Points(ctx, "")
	require.NoError(t, err)
	for _, x := range points {
		assert.NotEqual(t, "bad.tar.zst", x.Name)
	}
}

func TestStandardToolsReadAnArchive(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	dir := t.TempDir()
	file := made(t, w.World, live, export.Choices{To: filepath.Join(dir, "ferry.tar.zst"), Part: 1 << 20})
	require.NoError(t, mariadbtest.Root().MakeDatabase(context.Background(), "by_hand", "utf8mb4", "",
		tables.Account{}))
	script := `set -eu
cd ` + dir + `
sha256sum -c --quiet ferry.tar.zst.sha256
mkdir x && cd x
cat ../ferry.tar.zst.[0-9]* | zstd -dc | tar -x
sha256sum -c --quiet SHA256SUMS
cat database/*.sql | mariadb --socket=` + mariadbtest.Socket() + ` -u root by_hand
mariadb --socket=` + mariadbtest.Socket() +
		` -u root -N -e "SELECT COUNT(*) FROM by_hand.sk_posts; SELECT COUNT(*) FROM by_hand.sk_users WHERE user_pass <> ''"
diff files/index.php ` + live.Root + `/index.php
grep -c made-up-secret files/wp-config.php || true`
	out, err := exec.Command("bash", "-c", script).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Regexp(t, `(?m)^[1-9]\d*\n0\n0$`, string(out), "rows, no digest of a password, no password")
	require.NoError(t, mariadbtest.Root().DropDatabase(context.Background(), "by_hand"))
	_ = file
}

func TestARealSiteComesBackFromAnEncryptedArchive(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	on := func(q string) {
		t.Helper()
		require.NoError(t, mariadbtest.DB(live.Database.Name).Exec(context.Background(), q))
	}
	on(
		"CREATE TABLE sk_odd (b BLOB, bits BIT(9), d DECIMAL(20,3), f FLOAT, y YEAR, z INT(6) ZEROFILL, v VARCHAR(9) " +
			"CHARACTER SET latin1, w VARCHAR(9) CHARACTER SET utf16)",
	)
	on(
		`INSERT INTO sk_odd VALUES (x'00090a5c27ff', b'101010101', 12345678901234567.125, 1.1, 1999, 42, x'e9ff',
			'é'), (NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL), ('', 0, 0, 0, 2000, 0, '', '')`,
	)
	w.Keep()
	ctx := context.Background()
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	dir := t.TempDir()
	keyFile := filepath.Join(dir, "key.txt")
	require.NoError(t, os.WriteFile(keyFile, []byte(key.String()+"\n"), 0o600))
	file := made(t, w.World, live, export.Choices{To: dir, For: []string{key.Recipient().String()}})
	_, err = w.Desk.Points.PlanImport(ctx, file, "", nil)
	assert.ErrorIs(t, err, archive.ErrLocked)
	p := read(t, w.World, file, keyFile, &live)
	assert.Equal(t, live.ID, p.Site.ID)

	// It is the site's own state, to the byte.
	c, err := w.Desk.Points.Since(ctx, p)
	require.NoError(t, err)
	assert.Empty(t, c.Tables)
	assert.Empty(t, c.Files)
	fromPoint(t, w.World, p, "carried")
	on("UPDATE sk_posts SET post_title = 'broken'")
	pl, err := w.Desk.Points.PlanRestore(ctx, p, reset.Choices{Files: true, Database: true})
	done(t, w.World, pl, err)
	c, err = w.Desk.Points.Since(ctx, p)
	require.NoError(t, err)
	assert.Empty(t, c.Tables)

	other := w.Make("gulls")
	_, err = w.Desk.Points.PlanImport(ctx, file, keyFile, &other)
	assert.ErrorContains(t, err, "make a copy of it instead")
}

func TestAnArchiveKilledWhileItIsWrittenAndRead(t *testing.T) {
	w := demotest.New(t)
	live := w.Site(origin)
	ctx := context.Background()
	dir := t.TempDir()
	var file string
	for _, m := range []string{"keep end", "write progress", "write end", "check progress", "check begin"} {
		t.Run(m, func(t *testing.T) {
			file = filepath.Join(dir, m+".tar.zst")
			p, err := w.Desk.Points.PlanArchive(ctx, live, nil, export.Choices{To: file})
			require.NoError(t, err)
			r, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
			require.NoError(t, err)
			demotest.KilledAt(t, w, m)
			assert.NoFileExists(t, filepath.Join(dir, "none"))
			demotest.Resumed(t, w, r.ID)
			_, err = w.Desk.Points.CheckArchive(ctx, file, "", func(int64) {})
			assert.NoError(t, err)
			left, err := filepath.Glob(filepath.Join(dir, "*.unfinished"))
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
	for _, m := range []string{"import begin", "import progress", "import end"} {
		t.Run(m, func(t *testing.T) {
			p, err := w.Desk.Points.PlanImport(ctx, file, "", nil)
			require.NoError(t, err)
			r, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
			require.NoError(t, err)
			demotest.KilledAt(t, w, m)
			demotest.Resumed(t, w, r.ID)
			list, _, err := w.Desk.Points.Points(ctx, live.ID)
			require.NoError(t, err)
			n := 0
			for _, x := range list {
				if x.Run == r.ID {
					n++
				}
			}
			assert.Equal(t, 1, n)
			faults, err := w.Desk.Points.VerifyDepot(ctx, func(int64) {})
			require.NoError(t, err)
			assert.Empty(t, faults)
		})
	}
}

func TestAnArchiveWithoutPasswordsLeavesThoseOfALiveSiteAlone(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	l := w.Live("ferry")
	w.Keep()
	ctx := context.Background()
	ask := func(q string) string {
		t.Helper()
		v, err := mariadbtest.Text(l.Spec.Database, q)
		require.NoError(t, err)
		return v
	}
	change := func(q string) {
		t.Helper()
		require.NoError(t, mariadbtest.DB(l.Spec.Database).Exec(ctx, q))
	}
	const secrets = "SELECT CONCAT_WS(' ', (SELECT GROUP_CONCAT(user_pass ORDER BY ID) FROM sk_users), (SELECT " +
		"GROUP_CONCAT(option_value ORDER BY option_id) FROM sk_options WHERE option_name LIKE '%secret%'))"
	change("INSERT INTO sk_options (option_name, option_value) VALUES ('harbour_secret', 'high water')")
	file := made(t, w.World, l.Site, export.Choices{To: filepath.Join(t.TempDir(), "ferry.tar.zst")})
	before := ask(secrets)
	require.Contains(t, before, "high water")
	config, err := os.ReadFile(filepath.Join(l.Spec.Root, "wp-config.php"))
	require.NoError(t, err)
	change("UPDATE sk_posts SET post_title = 'Broken' WHERE post_name = 'post-1'")
	p := read(t, w.World, file, "", nil)
	pl, err := w.Desk.Points.PlanRestore(ctx, p, reset.Choices{Files: true, Database: true})
	require.NoError(t, err)
	require.Len(t, pl.Goes, 1, "%v: nothing but the post differs", pl.Goes)
	done(t, w.World, pl, nil)
	assert.Equal(t, before, ask(secrets))
	now, err := os.ReadFile(filepath.Join(l.Spec.Root, "wp-config.php"))
	require.NoError(t, err)
	assert.Equal(t, string(config), string(now))
	assert.NotEqual(t, "Broken", ask("SELECT post_title FROM sk_posts WHERE post_name = 'post-1'"))
	assert.Equal(t, 200, l.Get("/"))

	// Other accounts at the same numbers get nobody's password.
	change("UPDATE sk_users SET user_login = 'another' WHERE ID = 1")
	pl, err = w.Desk.Points.PlanRestore(ctx, p, reset.Choices{Database: true, Tables: []string{"sk_users"}})
	done(t, w.World, pl, err)
	assert.Empty(t, ask("SELECT user_pass FROM sk_users WHERE ID = 1"))
}
