package far_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/wall"
	"alibi/internal/site"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// on puts a site on a machine.
func on(m *real.Machine) func(*real.Spec) {
	return func(s *real.Spec) {
		s.Host, s.Root, s.Server, s.Admin = m.Name, filepath.Join(m.Dir, "www", filepath.Base(s.Root)), m.Server(),
			m.Admin()
	}
}

func TestBetweenRealHosts(t *testing.T) {
	w := realtest.New(t, realtest.Options{Own: true})
	pier := w.Machine("pier")
	drydock := w.Machine("drydock")
	live := w.Make("ferry", on(pier))
	w.Keep()
	ctx := context.Background()
	for name, host := range map[string]string{"to this machine": "", "to the same host": pier.Name,
		"to another host": drydock.Name} {
		t.Run(name, func(t *testing.T) {
			s := clonetest.CopyOf(w, live, "on-"+map[string]string{"": "slipway"}[host]+host,
				func(c *clone.Choices) { c.Host = host })
			clonetest.Holds(t, w, s)
			clonetest.Judged(t, live, s)
			_, page := clonetest.Ask(t, s, "/post-3/")
			clonetest.Has(t, page, s.Address().String()+"/tides/")
			clonetest.Lacks(t, page, "://ferry.skerryline.example")
			clonetest.Quiet(t, s)
			p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
			require.NoError(t, err)
			r := w.Run(p)
			require.Equal(t, plan.Done, r.State, r.Error)
			clonetest.Holds(t, w, w.Site(s.Name))
			p, err = w.Desk.Copies.PlanRemove(ctx, s.ID)
			require.NoError(t, err)
			r = w.Run(p)
			require.Equal(t, plan.Done, r.State, r.Error)
			for _, m := range []*real.Machine{pier, drydock} {
				left, err := filepath.Glob(filepath.Join(m.Dir, "copies", "*"))
				require.NoError(t, err)
				assert.Empty(t, left, "nothing of ours stays")
				list, err := m.Admin().Databases(ctx)
				require.NoError(t, err)
				assert.NotContains(t, strings.Join(list, " "), "alibi_")
			}
		})
	}
}

// A host on which no wall can be had is known before a copy is made there.
func TestAHostWithoutAWallIsSaidBefore(t *testing.T) {
	w := realtest.New(t, realtest.Options{Own: true})
	live := w.Make("ferry")
	drydock := w.Machine("drydock")
	ctx := context.Background()
	warned := func() bool {
		c, err := w.Desk.Copies.CopyDefaults(ctx, live, "a test")
		require.NoError(t, err)
		c.Name, c.Host = "said", drydock.Name
		p, err := w.Desk.Copies.PlanCopy(ctx, live.ID, c)
		require.NoError(t, err)
		return slices.ContainsFunc(p.Findings, func(f site.Finding) bool { return f.Code == "unsealed" })
	}
	assert.False(t, warned())
	try := wall.Try
	defer func() { wall.Try = try }()
	wall.Try = "exit 1"
	h, err := w.Desk.Fleet.SetHost(ctx, drydock.Name, desk.HostSettings{})
	require.NoError(t, err)
	assert.Equal(t, "host drydock has no bubblewrap, or gives no namespaces", h.Open)
	assert.True(t, warned())
}

func TestConnectionsThatAreCutAreTakenUpAgain(t *testing.T) {
	var w *realtest.World
	var pier, drydock *real.Machine
	cut := map[string]int{}
	w = realtest.New(t, realtest.Options{Own: true, Change: []func(*desk.Options){func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Phase != "progress" || cut[m.Step] > 0 ||
				m.Step != "files" && m.Step != "tables" && m.Step != "evidence" {
				return
			}
			for _, x := range []*real.Machine{pier, drydock} {
				n, err := x.Cut()
				assert.NoError(t, err)
				cut[m.Step] += n
			}
		}
	}}})
	pier, drydock = w.Machine("pier"), w.Machine("drydock")
	live := w.Make("ferry", on(pier))
	w.Keep()
	c, err := w.Desk.Copies.CopyDefaults(context.Background(), live, "a test")
	require.NoError(t, err)
	c.Name, c.Host, c.Scrub = "cut", drydock.Name, "off"
	p, err := w.Desk.Copies.PlanCopy(context.Background(), live.ID, c)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Greater(t, r.Tries, 1)
	assert.Positive(t, cut["files"], "connections were cut")
	clonetest.Holds(t, w, w.Site("cut"))
}

// small mounts a small file system for the test.
func small(t *testing.T, dir, size string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(dir, 0o700))
	require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", 0, "size="+size),
		"this test needs to mount a small file system, as root")
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
}

func TestAFullDiskOnTheOtherHost(t *testing.T) {
	for name, room := range map[string]string{"the copies' disk": "3m", "the database server's disk": "100m"} {
		t.Run(name, func(t *testing.T) {
			ballast := ""
			w := realtest.New(t, realtest.Options{Own: true, Change: []func(*desk.Options){func(o *desk.Options) {
				o.Observe = func(m work.Moment) {
					if ballast != "" && m.Step == "tables" {
						fill(t, ballast, 64<<10) // again and again: a server gives back room of its own
					}
				}
			}}})
			pier := w.Machine("pier", func(o *real.MachineOptions) { small(t, o.Dir, "400m") })
			live := w.Make("ferry")
			dir := filepath.Join(pier.Dir, "copies")
			small(t, dir, room)
			if strings.Contains(name, "server") {
				ballast = filepath.Join(pier.Dir, "ballast")
			}
			w.Keep()
			ctx := context.Background()
			c, err := w.Desk.Copies.CopyDefaults(ctx, live, "a test")
			require.NoError(t, err)
			c.Name, c.Host, c.Scrub = "full", pier.Name, "off"
			in, err := w.Desk.Copies.CopyInput(ctx, live.ID)
			require.NoError(t, err)
			there := in.Places[pier.Name]
			there.Free = 0 // how much is free there is not known
			in.Places[pier.Name] = there
			r := w.Run(w.Desk.Copies.PlanFrom(in, c))
			require.Equal(t, plan.Stopped, r.State, r.Error)
			assert.Regexp(t, "[Nn]o space left on device|disk is full", r.Error)
			require.NoError(t, w.Desk.Workings().Queue.Cancel(ctx, r.ID))
			r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
			require.NoError(t, err)
			require.Equal(t, plan.Cancelled, r.State, r.Error)
			left, err := filepath.Glob(filepath.Join(dir, "*"))
			require.NoError(t, err)
			assert.Empty(t, left)
			list, err := pier.Admin().Databases(ctx)
			require.NoError(t, err)
			assert.NotContains(t, strings.Join(list, " "), "alibi_")
			if ballast != "" { // with room it goes
				require.NoError(t, os.Remove(ballast))
				ballast = ""
				clonetest.Holds(t, w, clonetest.CopyOf(w, live, "roomy", func(c *clone.Choices) { c.Host = pier.Name }))
			}
		})
	}
}

// fill leaves so many bytes on the disk of a file, which grows if it is there.
func fill(t *testing.T, file string, leave int64) {
	t.Helper()
	var st syscall.Statfs_t
	require.NoError(t, syscall.Statfs(filepath.Dir(file), &st))
	f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	if more := int64(st.Bavail)*st.Bsize - leave; more > 0 {
		require.NoError(t, syscall.Fallocate(int(f.Fd()), 0, info.Size(), more))
	}
}

func TestAHostThatHangsDoesNotHoldUpACancel(t *testing.T) {
	ctx := context.Background()
	var w *realtest.World
	var pier *real.Machine
	at, frozen := "", make(chan string, 1)
	w = realtest.New(t, realtest.Options{Own: true, Change: []func(*desk.Options){func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if at != "" && m.Step+" "+m.Phase == at {
				at = ""
				assert.NoError(t, pier.Freeze())
				frozen <- m.Run
			}
		}
	}}})
	pier = w.Machine("pier")
	live := w.Make("ferry", on(pier))
	w.Keep()
	for i, m := range []string{"files progress", "tables progress"} {
		p := w.Plan(live.Name, []string{"first", "second"}[i])
		at = m
		r, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
		require.NoError(t, err)
		require.Equal(t, r.ID, <-frozen)
		time.Sleep(300 * time.Millisecond)
		began := time.Now()
		require.NoError(t, w.Desk.Workings().Queue.Cancel(ctx, r.ID))
		r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
		took := time.Since(began)
		require.NoError(t, pier.Thaw())
		require.NoError(t, err)
		assert.Equal(t, plan.Cancelled, r.State, "%s: %s", m, r.Error)
		assert.Less(t, took, 20*time.Second, "%s: a host that is silent is waited for half a minute", m)
		time.Sleep(3 * time.Second) // it is not asked for a moment
	}
	clonetest.NothingLeft(t, w)
	w.Copy(live.Name, "after")
}

func TestFilesOfACopyAreDigestedOnItsHost(t *testing.T) {
	w := realtest.New(t, realtest.Options{Own: true})
	drydock := w.Machine("drydock")
	live := w.Make("ferry")
	withMedia(t, live.Root)
	w.Keep()
	ctx := context.Background()
	s := clonetest.CopyOf(w, live, "far", func(c *clone.Choices) { c.Host = drydock.Name })
	clonetest.Holds(t, w, s)
	apart, err := w.Desk.Copies.Apart(ctx, s.ID)
	require.NoError(t, err)
	assert.Zero(t, apart.Copy, "its files were given to the account of its code, which is no change")

	const berth = "wp-content/uploads/2026/01/berth-1.png"
	text, err := os.ReadFile(filepath.Join(s.Root, berth))
	require.NoError(t, err)
	list := []tree.Entry{{Path: "none.png"}, {Path: berth}, {Path: "../../../outside"}}
	done, err := w.Desk.Workings().Env.Digest(ctx, s, s.Root, list, func(int64, int) {})
	require.NoError(t, err)
	require.True(t, done)
	assert.Equal(t, tree.Sum(text), list[1].Hash)
	assert.EqualValues(t, len(text), list[1].Size)
	assert.Equal(t, tree.Hash{}, list[0].Hash, "it is not there")
	assert.Equal(t, tree.Hash{}, list[2].Hash, "nothing leads out of the folder")

	fi, err := os.Stat(filepath.Join(s.Root, berth))
	require.NoError(t, err)
	text[20] ^= 1
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, berth), text, 0o644))
	require.NoError(t, os.Chtimes(filepath.Join(s.Root, berth), fi.ModTime(), fi.ModTime()))
	rep, err := w.Desk.Copies.Prove(ctx, s.ID, false, nil)
	require.NoError(t, err)
	for _, c := range rep.Checks {
		if c.Name == "files" {
			assert.Equal(t, berth+" is different", strings.Join(c.Where, " "), "it is found by its digest")
		}
	}

	m, err := w.Desk.Workings().Record.Host(ctx, drydock.Name)
	require.NoError(t, err)
	m.Open = "no bubblewrap"
	require.NoError(t, w.Desk.Workings().Record.PutHost(ctx, m))
	done, err = w.Desk.Workings().Env.Digest(ctx, s, s.Root, list, func(int64, int) {})
	require.NoError(t, err)
	assert.False(t, done, "without a wall the copy's code could say what it wants")
}
