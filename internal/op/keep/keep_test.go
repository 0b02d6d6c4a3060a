package keep_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/demo/resettest"
	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/op/clone"
	"alibi/internal/op/keep"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/work"
)

const origin = "https://skerryline.example"

func TestMain(m *testing.M) { demotest.Main(m, mariadbtest.Main) }

// keepNow takes a restore point and gives the newest of the site.
func keepNow(t *testing.T, w *demotest.World, s site.Site, name string) desk.Point {
	t.Helper()
	r := w.Run(planOf(t, w, s, name))
	require.Equal(t, plan.Done, r.State, r.Error)
	return resettest.Newest(t, w, s)
}

func planOf(t *testing.T, w *demotest.World, s site.Site, name string) plan.Plan {
	t.Helper()
	p, err := w.Desk.Points.PlanKeep(context.Background(), s.ID, keep.Choices{Kind: depot.ByHand, Name: name})
	require.NoError(t, err)
	return p
}

// rehearsed wants the point to restore, and nothing left of the rehearsal.
func rehearsed(t *testing.T, w *demotest.World, p desk.Point) {
	t.Helper()
	ctx := context.Background()
	pl, err := w.Desk.Points.PlanRehearse(ctx, p)
	require.NoError(t, err)
	r := w.Run(pl)
	require.Equal(t, plan.Done, r.State, r.Error)
	p, err = w.Desk.Points.FindPoint(ctx, p.ID)
	require.NoError(t, err)
	assert.True(t, p.Proof.Holds, p.Proof.Text)
	assert.False(t, p.Proof.At.IsZero())
	nothingLeft(t, w)
}

func nothingLeft(t *testing.T, w *demotest.World) {
	t.Helper()
	left, err := w.Desk.Fleet.Leftovers(context.Background())
	require.NoError(t, err)
	assert.Empty(t, left)
	all, err := w.Desk.Workings().Record.Sites(context.Background())
	require.NoError(t, err)
	for _, s := range all {
		assert.NotContains(t, s.Name, "rehearsal")
	}
}

// fromPoint makes a copy of a point.
func fromPoint(t *testing.T, w *demotest.World, p desk.Point, name string) site.Site {
	t.Helper()
	pl, err := w.Desk.Points.PlanFromPoint(context.Background(), p, func(c *clone.Choices) error {
		c.Name = name
		return nil
	})
	require.NoError(t, err)
	r := w.Run(pl)
	require.Equal(t, plan.Done, r.State, r.Error)
	s := w.Site(name)
	assert.True(t, s.Proof.Holds)
	return s
}

func TestARealSiteIsKeptAndComesBack(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	on := func(q string) {
		t.Helper()
		require.NoError(t, mariadbtest.DB(live.Database.Name).Exec(context.Background(), q))
	}
	on(
		"CREATE TABLE sk_odd (b BLOB, bits BIT(9), d DECIMAL(20,3), f FLOAT, y YEAR, z INT(6) ZEROFILL, v VARCHAR(9) " +
			"CHARACTER SET latin1)",
	)
	on(
		`INSERT INTO sk_odd VALUES (x'00090a5c27ff', b'101010101', 12345678901234567.125, 1.1, 1999, 42, x'e9ff'),
			(NULL, NULL, NULL, NULL, NULL, NULL, NULL), ('', 0, 0, 0, 2000, 0, '')`,
	)
	w.Keep()
	first := keepNow(t, w.World, live, "before the tide")
	on("UPDATE sk_posts SET post_title = 'After the tide' WHERE post_name = 'post-3'")
	require.NoError(t, os.WriteFile(filepath.Join(live.Root, "new.txt"), []byte("new"), 0o644))
	second := keepNow(t, w.World, live, "")
	assert.Less(t, second.Added, first.Added/5)
	rehearsed(t, w.World, first)
	rehearsed(t, w.World, second)
	old, now := fromPoint(t, w.World, first, "then"), fromPoint(t, w.World, second, "now")
	title := func(s site.Site) (out string) {
		db, err := sql.Open("mysql", "root@unix("+mariadbtest.Socket()+")/"+s.Database.Name)
		require.NoError(t, err)
		defer db.Close()
		require.NoError(t, db.QueryRow("SELECT post_title FROM sk_posts WHERE post_name = 'post-3'").Scan(&out))
		return out
	}
	assert.NotEqual(t, "After the tide", title(old))
	assert.Equal(t, "After the tide", title(now))
	assert.NoFileExists(t, filepath.Join(old.Root, "new.txt"))
	assert.FileExists(t, filepath.Join(now.Root, "new.txt"))
	faults, err := w.Desk.Points.VerifyDepot(context.Background(), func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, faults)

	// A copy is kept as any site is, and shares what is equal.
	of := keepNow(t, w.World, old, "")
	assert.Less(t, of.Added, first.Added/3)
	rehearsed(t, w.World, of)

	// A point of a site whose code does not run is what it is, and does not hold.
	ctx := context.Background()
	require.NoError(t, os.WriteFile(filepath.Join(old.Root, "wp-content/plugins/tide-table/tide-table.php"),
		[]byte("<?php\nno_such_tide();\n"), 0o644))
	broken := keepNow(t, w.World, old, "")
	pl, err := w.Desk.Points.PlanRehearse(ctx, broken)
	require.NoError(t, err)
	r := w.Run(pl)
	require.Equal(t, plan.Done, r.State, r.Error)
	broken, err = w.Desk.Points.FindPoint(ctx, broken.ID)
	require.NoError(t, err)
	assert.False(t, broken.Proof.Holds)
	assert.Contains(t, broken.Proof.Text, "no_such_tide")
	nothingLeft(t, w.World)
}

func TestASiteOnAnotherHostIsKept(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	live := w.Site(origin)
	p := keepNow(t, w, live, "")
	assert.Positive(t, p.Files)
	assert.Positive(t, p.Rows)
	rehearsed(t, w, p)
	again := keepNow(t, w, live, "")
	assert.Less(t, again.Added, p.Added/10)
	pruned, err := w.Desk.Points.ForgetPoints(context.Background(), []desk.Point{p})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, pruned.Bytes, int64(0))
	rehearsed(t, w, again)
}

func TestKilledWhileKeepingAndRehearsing(t *testing.T) {
	w := demotest.New(t)
	live := w.Site(origin)
	ctx := context.Background()
	for _, m := range []string{"keep begin", "keep progress", "keep end"} {
		t.Run(m, func(t *testing.T) {
			before, _, err := w.Desk.Points.Points(ctx, live.ID)
			require.NoError(t, err)
			r, err := w.Desk.Runs.Start(ctx, planOf(t, w, live, m))
			require.NoError(t, err)
			demotest.KilledAt(t, w, m)
			demotest.Resumed(t, w, r.ID)
			list, bad, err := w.Desk.Points.Points(ctx, live.ID)
			require.NoError(t, err)
			assert.Empty(t, bad)
			assert.Len(t, list, len(before)+1, "one run takes one point")
		})
	}
	p := resettest.Newest(t, w, live)
	for _, m := range []string{"reserve end", "files progress", "tables progress", "evidence progress", "evidence end",
		"clear begin", "clear end"} {
		t.Run("rehearsal "+m, func(t *testing.T) {
			pl, err := w.Desk.Points.PlanRehearse(ctx, p)
			require.NoError(t, err)
			r, err := w.Desk.Runs.Start(ctx, pl)
			require.NoError(t, err)
			demotest.KilledAt(t, w, m)
			demotest.Resumed(t, w, r.ID)
			nothingLeft(t, w)
		})
	}
	faults, err := w.Desk.Points.VerifyDepot(ctx, func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, faults)
}

func TestAFileThatChangesWhileItIsReadIsReadAgain(t *testing.T) {
	file := ""
	n := 0
	w := realtest.New(t, realtest.Options{Change: []func(*desk.Options){func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Step == "keep" && m.Phase == "progress" && n < 3 {
				n++
				assert.NoError(t, os.WriteFile(file, []byte(strings.Repeat("changed ", n)), 0o644))
			}
		}
	}}})
	live := w.Make("ferry")
	file = filepath.Join(live.Root, "0-changing.txt")
	require.NoError(t, os.WriteFile(file, []byte("first"), 0o644))
	w.Keep()
	p := keepNow(t, w.World, live, "")
	require.Positive(t, n)
	now, err := os.ReadFile(file)
	require.NoError(t, err)
	s := fromPoint(t, w.World, p, "late")
	got, err := os.ReadFile(filepath.Join(s.Root, "0-changing.txt"))
	require.NoError(t, err)
	assert.Equal(t, string(now), string(got))
}

func TestADamagedDepotSaysSo(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	live := w.Site(origin)
	p := keepNow(t, w, live, "")
	packs, err := filepath.Glob(filepath.Join(w.Desk.Points.DepotPath(), "packs", "*", "*.zst"))
	require.NoError(t, err)
	require.NotEmpty(t, packs)
	for _, f := range packs {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		text[len(text)/3] ^= 1
		require.NoError(t, os.WriteFile(f, text, 0o600))
	}
	ctx := context.Background()
	faults, err := w.Desk.Points.VerifyDepot(ctx, func(int64) {})
	require.NoError(t, err)
	assert.NotEmpty(t, faults)
	pl, err := w.Desk.Points.PlanRehearse(ctx, p)
	if err == nil {
		r := w.Run(pl)
		require.Equal(t, plan.Stopped, r.State)
		err = assert.AnError
		assert.Contains(t, r.Error, depot.ErrDamaged.Error())
		require.NoError(t, w.Desk.Workings().Queue.Cancel(ctx, r.ID))
		_, cerr := w.Desk.Runs.Await(ctx, r.ID, nil)
		require.NoError(t, cerr)
	}
	require.Error(t, err)
	nothingLeft(t, w)
	out, err := w.Desk.Points.MendDepot(ctx)
	require.NoError(t, err)
	assert.Len(t, out.Packs, len(packs))
	keepNow(t, w, live, "") // the site still has what was lost
	faults, err = w.Desk.Points.VerifyDepot(ctx, func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, faults)
	rehearsed(t, w, p)
}

func TestAFullDepotDisk(t *testing.T) {
	w := demotest.New(t)
	dir := w.Desk.Points.DepotPath()
	require.NoError(t, os.MkdirAll(dir, 0o700))
	require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=16k"),
		"this test needs to mount a small file system, as root")
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	w.Keep()
	live := w.Site(origin)
	r := w.Run(planOf(t, w, live, ""))
	require.Equal(t, plan.Stopped, r.State)
	assert.Contains(t, r.Error, "no space left on device")
	list, bad, err := w.Desk.Points.Points(context.Background(), "")
	require.NoError(t, err)
	assert.Empty(t, bad)
	assert.Empty(t, list)
}

func TestACopyIsBroughtBackToARestorePointOfItsOrigin(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	p := keepNow(t, w.World, live, "")
	require.NoError(t, mariadbtest.DB(live.Database.Name).Exec(ctx,
		"UPDATE sk_posts SET post_title = 'Later' WHERE post_name = 'post-3'"))
	s := w.Copy(live.Name, "worked-on")
	require.NoError(t, mariadbtest.DB(s.Database.Name).Exec(ctx, "DELETE FROM sk_posts WHERE post_name = 'post-4'"))
	pl, err := w.Desk.Points.PlanBack(ctx, s.ID, p)
	require.NoError(t, err)
	r := w.Run(pl)
	require.Equal(t, plan.Done, r.State, r.Error)
	s = w.Site("worked-on")
	assert.True(t, s.Proof.Holds)
	db, err := sql.Open("mysql", "root@unix("+mariadbtest.Socket()+")/"+s.Database.Name)
	require.NoError(t, err)
	defer db.Close()
	n := 0
	require.NoError(
		t, db.QueryRow("SELECT COUNT(*) FROM sk_posts WHERE post_name = 'post-4' OR post_title = 'Later'").Scan(&n),
	)
	assert.Equal(t, 1, n, "as the point holds it")
	apart, err := w.Desk.Copies.Apart(ctx, s.ID)
	require.NoError(t, err)
	assert.Positive(t, apart.Origin, "the origin went on since")
	pl, err = w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(pl).State, "and to the present again")
	nothingLeft(t, w.World)

	other := keepNow(t, w.World, s, "")
	_, err = w.Desk.Points.PlanBack(ctx, s.ID, other)
	assert.ErrorContains(t, err, "make a copy of the point instead")
}

func TestWhatChangedSinceARestorePoint(t *testing.T) {
	t.Cleanup(tables.InShardsOf(7)) // a table is compared in parts
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	ctx := context.Background()
	on := func(q string) {
		t.Helper()
		require.NoError(t, mariadbtest.DB(live.Database.Name).Exec(ctx, q))
	}
	for _, q := range []string{"CREATE TABLE sk_loose (v VARCHAR(9))",
		"INSERT INTO sk_loose VALUES ('a'), ('a'), ('b')", "CREATE TABLE sk_gone (n INT)",
		"INSERT INTO sk_gone VALUES (1), (2)"} {
		on(q)
	}
	w.Keep()
	p := keepNow(t, w.World, live, "")
	c, err := w.Desk.Points.Since(ctx, p)
	require.NoError(t, err)
	assert.Empty(t, c.Files)
	assert.Empty(t, c.Tables)
	assert.Equal(t, p.Files, c.Same.Files)
	assert.Equal(t, p.Rows, c.Same.Rows)
	for _, q := range []string{"UPDATE sk_posts SET post_title = 'x' WHERE post_name IN ('post-3', 'post-4')",
		"DELETE FROM sk_posts WHERE post_name = 'post-5'", "DELETE FROM sk_loose WHERE v = 'a' LIMIT 1",
		"INSERT INTO sk_loose VALUES ('c')",
		"DROP TABLE sk_gone", "CREATE TABLE sk_new (n INT)", "INSERT INTO sk_new VALUES (1)",
		"ALTER TABLE sk_links ADD COLUMN tide INT"} {
		on(q)
	}
	style := filepath.Join(live.Root, "readme.html")
	text, err := os.ReadFile(style)
	require.NoError(t, err)
	text[0] ^= 1
	require.NoError(t, os.WriteFile(style, text, 0o644)) // of the same length
	require.NoError(t, os.WriteFile(filepath.Join(live.Root, "new.txt"), nil, 0o644))
	require.NoError(t, os.Remove(filepath.Join(live.Root, "wp-mail.php")))
	c, err = w.Desk.Points.Since(ctx, p)
	require.NoError(t, err)
	for i := range c.Files {
		c.Files[i].Was = nil // whoever runs the tests
	}
	assert.ElementsMatch(
		t,
		[]keep.FileChange{
			{Path: "readme.html", What: keep.Changed},
			{Path: "new.txt", What: keep.Added},
			{Path: "wp-mail.php", What: keep.Removed},
		},
		c.Files,
	)
	assert.Equal(
		t,
		[]keep.TableChange{
			{Name: "sk_gone", Removed: 2},
			{Name: "sk_links", Shape: true},
			{Name: "sk_loose", Added: 1, Removed: 1},
			{Name: "sk_new", Added: 1},
			{Name: "sk_posts", Changed: 2, Removed: 1},
		},
		c.Tables,
	)

	dir := t.TempDir()
	size, err := w.Desk.Points.Dump(ctx, p, filepath.Join(dir, "site.sql"))
	require.NoError(t, err)
	text, err = os.ReadFile(filepath.Join(dir, "site.sql"))
	require.NoError(t, err)
	assert.EqualValues(t, len(text), size)
	assert.Contains(t, string(text), "CREATE TABLE `sk_gone`", "as it was then")
	assert.NotContains(t, string(text), "sk_new")
	_, err = w.Desk.Points.Dump(ctx, p, filepath.Join(dir, "site.sql"))
	assert.ErrorContains(t, err, "nothing is written over")
	files, _, err := w.Desk.Points.Extract(ctx, p, "wp-mail.php", filepath.Join(dir, "back.php"))
	require.NoError(t, err)
	assert.Equal(t, 1, files)
	assert.FileExists(t, filepath.Join(dir, "back.php"))
	_, _, err = w.Desk.Points.Extract(ctx, p, "wp-mail.php", filepath.Join(dir, "back.php"))
	assert.ErrorContains(t, err, "nothing is written over")
	files, _, err = w.Desk.Points.Extract(ctx, p, "wp-content/uploads", filepath.Join(dir, "uploads"))
	require.NoError(t, err)
	assert.Positive(t, files)
	files, _, err = w.Desk.Points.Extract(ctx, p, "", filepath.Join(dir, "all"))
	require.NoError(t, err)
	assert.EqualValues(t, p.Files, files)
	for _, bad := range []string{"../etc", "none"} {
		_, _, err = w.Desk.Points.Extract(ctx, p, bad, filepath.Join(dir, "bad"))
		assert.Error(t, err, bad)
	}
	left, err := filepath.Glob(filepath.Join(dir, ".alibi-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestAHeldCopyIsKeptBeforeItIsRefreshed(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "counted-on")
	_, err := w.Desk.Copies.Hold(ctx, s.ID, "sign-off")
	require.NoError(t, err)
	require.NoError(t, w.Spoil("row-extra", s))
	mine := filepath.Join(s.Root, "mine.txt")
	require.NoError(t, os.WriteFile(mine, []byte("work"), 0o644))
	w.Stop()
	for _, m := range []string{"keep progress", "keep end", "files end"} {
		require.NoError(t, os.WriteFile(mine, []byte("work"), 0o644)) // else there is nothing to bring, and nothing to keep
		pl, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
		require.NoError(t, err)
		r, err := w.Desk.Runs.StartTyped(ctx, pl, s.Name)
		require.NoError(t, err)
		demotest.KilledAt(t, w, m)
		demotest.Resumed(t, w, r.ID)
		list, _, err := w.Desk.Points.Points(ctx, s.ID)
		require.NoError(t, err)
		n := 0
		for _, p := range list {
			if p.Run == r.ID {
				n++
				assert.Equal(t, depot.BeforeOp, p.Kind)
			}
		}
		assert.Equal(t, 1, n, "one point a run: %s", m)
	}
	assert.NoFileExists(t, mine)
	list, _, err := w.Desk.Points.Points(ctx, s.ID)
	require.NoError(t, err)
	w.Keep()
	back := fromPoint(t, w, list[len(list)-1], "as-it-was")
	assert.FileExists(t, filepath.Join(back.Root, "mine.txt"), "nothing is lost")
}
