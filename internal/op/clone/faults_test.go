package clone_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/work"
)

// exec1 runs one statement on a database file.
func exec1(t *testing.T, path, statement string, args ...any) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)")
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(statement, args...)
	require.NoError(t, err)
}

func TestABrokenLineIsTakenUpAgain(t *testing.T) {
	var w *demotest.World
	var cut atomic.Int32
	w = demotest.New(t, func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Step == "files" && m.Phase == "progress" && cut.Add(1) == 3 {
				w.Cut("pier")
			}
		}
	})
	w.Keep()
	r := w.Run(w.Plan(origin, "cut"))
	assert.Equal(t, plan.Done, r.State, r.Error)
	assert.Equal(t, 2, r.Tries)
	assert.NoError(t, filepath.WalkDir(w.Site("cut").Root, func(name string, _ os.DirEntry, err error) error {
		assert.False(t, host.Half(name), name)
		return err
	}))
}

func TestAFullDiskFailsWithASentence(t *testing.T) {
	w := demotest.New(t)
	dir := w.Desk.Workings().Env.CopyDir("full")
	require.NoError(t, os.MkdirAll(dir, 0o700))
	require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=200k"),
		"this test needs to mount a small file system, as root")
	mounted := true
	defer func() {
		if mounted {
			_ = syscall.Unmount(dir, syscall.MNT_DETACH)
		}
	}()
	w.Keep()
	p := w.Plan(origin, "full")
	r := w.Run(p)
	assert.Equal(t, plan.Stopped, r.State)
	assert.Regexp(t, "no space left on device|disk is full", r.Error)
	assert.Equal(t, site.Failed, w.Site("full").State)
	require.NoError(t, syscall.Unmount(dir, syscall.MNT_DETACH)) // room was made
	mounted = false
	_, err := w.Desk.Workings().Queue.Resume(context.Background(), r.ID)
	require.NoError(t, err)
	r, err = w.Desk.Runs.Await(context.Background(), r.ID, nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Stopped, r.State, "what the lost disk held is missing")
	require.NoError(t, w.Desk.Workings().Queue.Cancel(context.Background(), r.ID))
	r, err = w.Desk.Runs.Await(context.Background(), r.ID, nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Cancelled, r.State)
	assert.Equal(t, plan.Done, w.Run(w.Plan(origin, "full")).State, "and then it can be made")
}

func TestHostileAndOddFiles(t *testing.T) {
	w := demotest.New(t)
	root := w.Dir("pier", "/srv/skerryline/public")
	odd := []string{"-rf", "with space", "new\nline", "quote'\"", "\xff\xfe", "é", "..dots", "a\\b"}
	for _, n := range odd {
		require.NoError(t, os.WriteFile(filepath.Join(root, n), []byte(n), 0o644))
	}
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(root, "out")))
	require.NoError(t, os.Symlink("../../..", filepath.Join(root, "up")))
	require.NoError(t, os.Symlink("index.php", filepath.Join(root, "in")))
	require.NoError(t, os.Symlink("loop", filepath.Join(root, "loop")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(root, "pipe"), 0o644))
	_, err := w.Desk.Fleet.Inspect(context.Background(), w.Site(origin).ID)
	require.NoError(t, err)
	p := w.Plan(origin, "odd")
	found := map[string]bool{}
	for _, f := range p.Findings {
		found[f.Code] = true
	}
	assert.True(t, found["link-out"])
	assert.True(t, found["special"])
	w.Keep()
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	s := w.Site("odd")
	for _, n := range odd {
		b, err := os.ReadFile(filepath.Join(s.Root, n))
		require.NoError(t, err, "%q", n)
		assert.Equal(t, n, string(b))
	}
	for _, n := range []string{"out", "up", "pipe"} {
		_, err := os.Lstat(filepath.Join(s.Root, n))
		assert.ErrorIs(t, err, os.ErrNotExist, n)
	}
	target, err := os.Readlink(filepath.Join(s.Root, "in"))
	require.NoError(t, err)
	assert.Equal(t, "index.php", target)
}

func TestWhatIsLeftOutForItsSizeIsNamed(t *testing.T) {
	w := demotest.New(t)
	root := w.Dir("pier", "/srv/skerryline/public/wp-content/uploads")
	require.NoError(t, os.WriteFile(filepath.Join(root, "deck-plan.tif"), make([]byte, 3<<20), 0o644))
	ctx := context.Background()
	o, err := w.Desk.Fleet.Inspect(ctx, w.Site(origin).ID)
	require.NoError(t, err)
	c, err := w.Desk.Copies.CopyDefaults(ctx, o, "")
	require.NoError(t, err)
	c.Name, c.Larger = "slim", 1<<20
	p, err := w.Desk.Copies.PlanCopy(ctx, o.ID, c)
	require.NoError(t, err)
	w.Keep()
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Equal(t, "1 file left out for size", r.Steps[1].Note)
	assert.NoFileExists(t, filepath.Join(w.Site("slim").Root, "wp-content/uploads/deck-plan.tif"))
	past, err := w.Desk.Fleet.History(ctx, r.Plan.Target.ID, 10)
	require.NoError(t, err)
	named := ""
	for _, e := range past {
		if e.Kind == "left-out" {
			named = e.Text
		}
	}
	assert.Contains(t, named, "wp-content/uploads/deck-plan.tif (3.0 MiB)")
}

func TestTheOriginIsNotWrittenTo(t *testing.T) {
	w := demotest.New(t)
	root := w.Dir("pier", "/srv/skerryline/public")
	state := func() map[string]time.Time {
		m := map[string]time.Time{}
		require.NoError(t, filepath.Walk(root, func(p string, fi os.FileInfo, err error) error {
			require.NoError(t, err)
			m[p] = fi.ModTime()
			return nil
		}))
		return m
	}
	before := state()
	w.Keep()
	s := w.Copy(origin, "gentle")
	_, err := w.Desk.Copies.Prove(context.Background(), s.ID, true, nil)
	require.NoError(t, err)
	assert.Equal(t, before, state())
}

func TestTheOriginChangesWhileItIsCopied(t *testing.T) {
	var w *demotest.World
	var once atomic.Bool
	w = demotest.New(t, func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Step == "tables" && m.Phase == "end" && once.CompareAndSwap(false, true) {
				exec1(w.T.(*testing.T), w.Dir("pier", "/srv/skerryline/public/wp-content/database/.ht.sqlite"),
					"UPDATE sk_posts SET post_title = 'visited' WHERE ID = 4")
			}
		}
	})
	w.Keep()
	r := w.Run(w.Plan(origin, "meanwhile"))
	require.Equal(t, plan.Done, r.State, "a visitor's change is no damage: %s", r.Error)
	reps, err := w.Desk.Copies.Reports(context.Background(), r.Plan.Target.ID, 1)
	require.NoError(t, err)
	verdicts := map[string]string{}
	for _, c := range reps[0].Checks {
		verdicts[c.Name] = string(c.Verdict)
	}
	assert.Equal(t, "noted", verdicts["origin untouched"])
	assert.Equal(t, "changed", verdicts["table sk_posts"])
}

func TestABusyCopyIsNotTouchedTwice(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	s := w.Copy(origin, "busy")
	ctx := context.Background()
	p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	require.NoError(t, w.Desk.Workings().Record.In(ctx, func(tx *inventory.Tx) error {
		return tx.Claim(ctx, "another", plan.Claim{Site: s.ID, Alone: true}, "")
	}))
	theirs := filepath.Join(w.Desk.Workings().Env.CopyDir(s.Name), "next", "theirs")
	require.NoError(t, os.MkdirAll(theirs, 0o700))
	for range 2 {
		_, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
		require.ErrorIs(t, err, inventory.ErrClaimed)
		assert.ErrorContains(t, err, "busy; wait for it")
		assert.DirExists(t, theirs, "what the other run does is its own")
	}
}

func TestAnOriginThatVanishesStopsTheCopyAndIsBroughtWhenItIsBack(t *testing.T) {
	ctx := context.Background()
	var w *realtest.World
	var root string
	away := ""
	w = realtest.New(t, realtest.Options{Change: []func(*desk.Options){func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if away != "" && m.Step+" "+m.Phase == away {
				away = ""
				for _, d := range []string{"wp-includes", "wp-admin"} { // most of it is moved away
					assert.NoError(t, os.Rename(filepath.Join(root, d), filepath.Join(filepath.Dir(root), d)))
				}
			}
		}
	}}})
	live := w.Make("ferry")
	root = live.Root
	w.Keep()
	for name, moment := range map[string]string{"half": "files begin", "other-half": "files progress"} {
		away = moment
		r := w.Run(w.Plan(live.Name, name))
		require.Equal(t, plan.Stopped, r.State, moment)
		assert.Contains(t, r.Error, "vanish", moment)
		assert.Contains(t, r.Error, "resume the run when they are back")
		for _, d := range []string{"wp-includes", "wp-admin"} {
			require.NoError(t, os.Rename(filepath.Join(filepath.Dir(root), d), filepath.Join(root, d)))
		}
		if moment == "files progress" { // what was brought goes on the origin meanwhile
			require.FileExists(t, filepath.Join(w.Base, "copies", name, "next/site/readme.html"))
			require.NoError(t, os.Remove(filepath.Join(root, "readme.html")))
		}
		_, err := w.Desk.Workings().Queue.Resume(ctx, r.ID)
		require.NoError(t, err)
		r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
		require.NoError(t, err)
		require.Equal(t, plan.Done, r.State, r.Error)
		clonetest.Holds(t, w, w.Site(name))
	}
	assert.NoFileExists(t, filepath.Join(w.Site("other-half").Root, "readme.html"))
}
