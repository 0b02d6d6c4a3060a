package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"modernc.org/sqlite"

	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// A process of its own carries out a run, and is killed at its n-th moment: before each
// transaction of the record or of the queue is committed, and within each step.
const (
	diesIn   = "ALIBI_TEST_DIES_IN"
	diesAt   = "ALIBI_TEST_DIES_AT"
	diesWhat = "ALIBI_TEST_DIES_WHAT"
)

func TestMain(m *testing.M) {
	if dir := os.Getenv(diesIn); dir != "" {
		at, _ := strconv.ParseInt(os.Getenv(diesAt), 10, 64)
		w := &mortal{dir: dir, at: at, what: os.Getenv(diesWhat)}
		if err := w.live(context.Background()); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// mortal is a process that adds a run, works on it and ends when the run is over.
type mortal struct {
	dir, what string
	at        int64
	moments   atomic.Int64
	queue     *Queue
}

// moment is where the process may be killed.
func (w *mortal) moment() {
	if w.moments.Add(1) == w.at {
		_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		select {}
	}
}

func (w *mortal) file(name string) string { return filepath.Join(w.dir, name) }

func (w *mortal) live(ctx context.Context) error {
	sqlite.RegisterConnectionHook(func(c sqlite.ExecQuerierContext, _ string) error {
		c.(sqlite.HookRegisterer).RegisterCommitHook(func() int32 { w.moment(); return 0 })
		return nil
	})
	rec, err := inventory.Open(w.file("record.db"))
	if err != nil {
		return err
	}
	w.queue, err = New(ctx, Options{
		Record: rec, Log: slog.New(slog.DiscardHandler), Operations: []Definition{{
			Kind: "test", Claims: plan.Plan.AloneOn, TakesBack: w.what == "taken back",
			Begin: func(context.Context, plan.Run) (*Operation, error) { return w.operation(), nil },
		}},
	})
	if err != nil {
		return err
	}
	if err := w.add(ctx, rec); err != nil {
		return err
	}
	if err := w.queue.Start(ctx); err != nil {
		return err
	}
	for {
		list, err := rec.Runs(ctx, 1)
		if err != nil {
			return err
		}
		switch r := list[0]; {
		case r.State == plan.Paused, r.State == plan.Stopped:
			if err := os.WriteFile(w.file("fixed"), nil, 0o600); err != nil {
				return err
			}
			if _, err := w.queue.Resume(ctx, r.ID); err != nil {
				return err
			}
		case r.State.Over():
			return w.queue.Stop(ctx)
		}
		time.Sleep(2 * time.Millisecond)
	}
}

// add queues the run, unless it is in the record.
func (w *mortal) add(ctx context.Context, rec *inventory.Inventory) error {
	list, err := rec.Runs(ctx, 1)
	if err != nil || len(list) > 0 {
		return err
	}
	s := site.Site{ID: "s1", Name: "winter", Role: site.Copy, State: site.Ready}
	if err := rec.PutSite(ctx, s); err != nil {
		return err
	}
	_, err = w.queue.Add(ctx, plan.Plan{
		Kind: "test", Target: s, Steps: []plan.Step{{Name: "a"}, {Name: "b"}, {Name: "c"}},
	}, "runa", "")
	return err
}

// operation writes a file in each step; b is where what the test is about happens.
func (w *mortal) operation() *Operation {
	write := func(name string) error {
		w.moment()
		defer w.moment()
		return os.WriteFile(w.file(name), []byte(name), 0o600)
	}
	memory := &struct{ Done []string }{}
	step := func(name string) Do {
		return func(ctx context.Context, t *Task) error {
			t.Memorize(func() { memory.Done = append(memory.Done, name) })
			if err := write(name); err != nil {
				return err
			}
			_, missing := os.Stat(w.file("fixed"))
			switch {
			case name == "c":
				t.Entry("carried out")
				return nil
			case name != "b":
				return nil
			case w.what == "cancelled":
				if err := w.queue.Cancel(ctx, t.Run().ID); err != nil {
					return err
				}
				<-ctx.Done()
				return ctx.Err()
			case w.what == "resumed" && missing != nil, w.what == "taken back":
				return errHard
			case w.what == "paused":
				return t.Gate(plan.Gate{Ask: "may it go on?"})
			}
			return nil
		}
	}
	return &Operation{
		Memory: memory,
		Steps:  Steps{"a": {Do: step("a")}, "b": {Do: step("b"), Beside: w.what == ""}, "c": {Do: step("c")}},
		Undo: func(context.Context) error {
			for _, name := range []string{"a", "b", "c"} {
				w.moment()
				if err := os.Remove(w.file(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
			return nil
		},
	}
}

func TestARunOutlivesTheProcessAtEachMoment(t *testing.T) {
	for what, ends := range map[string]struct {
		state   plan.RunState
		history []string // latest first
	}{
		"":           {plan.Done, []string{"carried out"}},
		"cancelled":  {plan.Cancelled, []string{"cancelled, and taken back"}},
		"taken back": {plan.Cancelled, []string{"failed: " + errHard.Error()}},
		"resumed":    {plan.Done, []string{"carried out", "failed: " + errHard.Error()}},
		"paused":     {plan.Done, []string{"carried out"}},
	} {
		t.Run("run "+what, func(t *testing.T) {
			t.Parallel()
			for at := 1; ; at++ {
				dir := t.TempDir()
				if lived(t, dir, what, at) {
					assert.Greater(t, at, 15, "moments at which it was killed")
					return
				}
				require.True(t, lived(t, dir, what, 0), "killed at moment %d", at)
				checkEnd(t, dir, ends.state, ends.history, at)
			}
		})
	}
}

// lived has a process carry out the run, and tells whether it came to the run's end.
func lived(t *testing.T, dir, what string, at int) bool {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, os.Args[0])
	c.Env = append(os.Environ(), diesIn+"="+dir, diesWhat+"="+what, diesAt+"="+strconv.Itoa(at))
	out, err := c.CombinedOutput()
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.Sys().(syscall.WaitStatus).Signal() == syscall.SIGKILL && ctx.Err() == nil {
		return false
	}
	require.NoError(t, err, "moment %d: %s", at, out)
	return true
}

// checkEnd checks that a run ended once, whole, and that nothing is held any more.
func checkEnd(t *testing.T, dir string, state plan.RunState, history []string, at int) {
	t.Helper()
	ctx := context.Background()
	rec, err := inventory.Open(filepath.Join(dir, "record.db"))
	require.NoError(t, err)
	defer rec.Close()
	list, err := rec.Runs(ctx, 0)
	require.NoError(t, err)
	require.Len(t, list, 1, "killed at moment %d", at)
	assert.Equal(t, state, list[0].State, "killed at moment %d", at)
	s, err := rec.Site(ctx, "s1")
	require.NoError(t, err)
	assert.Empty(t, s.Run, "killed at moment %d", at)
	held, err := rec.Claimed(ctx, "s1")
	require.NoError(t, err)
	assert.Empty(t, held, "killed at moment %d", at)
	var told []string
	events, err := rec.Events(ctx, "s1", 0)
	require.NoError(t, err)
	for _, e := range events {
		told = append(told, e.Text)
	}
	assert.Equal(t, history, told, "killed at moment %d", at)
	files, err := filepath.Glob(filepath.Join(dir, "[abc]"))
	require.NoError(t, err)
	for i := range files {
		files[i] = filepath.Base(files[i])
	}
	want := ""
	if state == plan.Done {
		want = "a b c"
	}
	assert.Equal(t, want, strings.Join(files, " "), "killed at moment %d", at)
}
