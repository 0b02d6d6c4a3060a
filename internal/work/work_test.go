package work

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/site"
)

var (
	errFlaky = errors.New("the line broke")
	errHard  = errors.New("the disk is full")
)

// bench is a record and a queue whose operation is made by the test.
type bench struct {
	t      *testing.T
	path   string
	record *inventory.Inventory
	queue  *Queue
	mu     sync.Mutex
	log    []string
	op     func(b *bench, r plan.Run) *Operation
}

func (b *bench) did(s string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.log = append(b.log, s)
}

func (b *bench) seen() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]string(nil), b.log...)
}

func newBench(t *testing.T, op func(b *bench, r plan.Run) *Operation) *bench {
	b := &bench{t: t, op: op, path: filepath.Join(t.TempDir(), "record.db")}
	b.open()
	return b
}

func (b *bench) open() {
	var err error
	b.record, err = inventory.Open(b.path)
	require.NoError(b.t, err)
	d := Definition{
		Kind:   "test",
		Claims: plan.Plan.FromOriginTo,
		Begin:  func(_ context.Context, r plan.Run) (*Operation, error) { return b.op(b, r), nil },
	}
	b.queue, err = New(context.Background(), Options{
		Record: b.record, Log: slog.New(slog.DiscardHandler), Operations: []Definition{d},
		Transient: func(err error) bool { return errors.Is(err, errFlaky) },
	})
	require.NoError(b.t, err)
	rec, q := b.record, b.queue
	b.t.Cleanup(func() { _ = q.Stop(context.Background()); rec.Close() })
}

func (b *bench) add(steps ...string) plan.Run {
	p := plan.Plan{Kind: "test", Target: site.Site{ID: "s1", Name: "one"}, Detail: []byte("{}")}
	for _, s := range steps {
		p.Steps = append(p.Steps, plan.Step{Name: s, Title: s, Work: 10, Unit: plan.Rows})
	}
	r, err := b.queue.Add(context.Background(), p, "runa", "")
	require.NoError(b.t, err)
	return r
}

func (b *bench) await(id string, want plan.RunState) plan.Run {
	b.t.Helper()
	var r plan.Run
	require.Eventually(b.t, func() bool {
		var err error
		r, err = b.record.Run(context.Background(), id)
		require.NoError(b.t, err)
		return r.State.Over()
	}, 20*time.Second, 20*time.Millisecond)
	require.Equal(b.t, want, r.State, r.Error)
	return r
}

func (b *bench) start() { require.NoError(b.t, b.queue.Start(context.Background())) }

// history gives what the site's history says, the latest first.
func (b *bench) history() (out []string) {
	list, err := b.record.Events(context.Background(), "s1", 0)
	require.NoError(b.t, err)
	for _, e := range list {
		out = append(out, e.Text)
	}
	return out
}

// simple makes an operation whose steps note that they ran.
func simple(
	extra func(b *bench, name string, ctx context.Context, t *Task) error,
) func(b *bench, r plan.Run) *Operation {
	return func(b *bench, r plan.Run) *Operation {
		steps := Steps{}
		for _, s := range r.Plan.Steps {
			steps[s.Name] = Step{Do: func(ctx context.Context, t *Task) error {
				b.did(s.Name)
				if extra != nil {
					return extra(b, s.Name, ctx, t)
				}
				return nil
			}}
		}
		return &Operation{Steps: steps, Undo: func(context.Context) error { b.did("undo"); return nil }}
	}
}

func TestStepsRunInOrder(t *testing.T) {
	b := newBench(t, simple(func(_ *bench, name string, _ context.Context, task *Task) error {
		task.Add(7, 1)
		task.Add(3, 0)
		task.Note("at %s", name)
		task.Result("came out well")
		return nil
	}))
	b.start()
	r := b.await(b.add("a", "b", "c").ID, plan.Done)
	assert.Equal(t, []string{"a", "b", "c"}, b.seen())
	assert.EqualValues(t, 10, r.Steps[1].Done)
	assert.EqualValues(t, 1, r.Steps[1].Items)
	assert.Equal(t, "at b", r.Steps[1].Note)
	assert.Equal(t, "came out well", r.Result)
	assert.Equal(t, []string{"came out well"}, b.history(), "the site's history has it")
	assert.Equal(t, 1, r.Tries)
	assert.False(t, r.Ended.IsZero())
}

func TestFailureKeepsWhatWasDoneAndResumes(t *testing.T) {
	fail := true
	b := newBench(t, simple(func(_ *bench, name string, _ context.Context, _ *Task) error {
		if name == "b" && fail {
			return errHard
		}
		return nil
	}))
	b.start()
	id := b.add("a", "b", "c").ID
	r := b.await(id, plan.Stopped)
	assert.Contains(t, r.Error, "the disk is full")
	assert.Contains(t, r.Remedy, "resume the run")
	fail = false
	_, err := b.queue.Resume(context.Background(), id)
	require.NoError(t, err)
	b.await(id, plan.Done)
	assert.Equal(t, []string{"a", "b", "b", "c"}, b.seen(), "what was done is not done again")
	_, err = b.queue.Resume(context.Background(), id)
	assert.ErrorContains(t, err, "only a run that failed")
}

func TestTransientErrorsAreTriedAgain(t *testing.T) {
	n := 0
	b := newBench(t, simple(func(*bench, string, context.Context, *Task) error {
		if n++; n < 2 {
			return errFlaky
		}
		return nil
	}))
	b.start()
	r := b.await(b.add("a").ID, plan.Done)
	assert.Equal(t, 2, r.Tries)
}

func TestWhatFailsForTooLongEndsAndWaitsNoLongerToBeCancelled(t *testing.T) {
	fails := simple(func(*bench, string, context.Context, *Task) error { return errFlaky })
	b := newBench(t, fails)
	b.queue.opt.Patience = time.Millisecond
	b.queue.opt.Pause = func(int) time.Duration { return 10 * time.Millisecond }
	b.start()
	r := b.await(b.add("a").ID, plan.Stopped)
	assert.Greater(t, r.Tries, 1)
	assert.Contains(t, r.Error, errFlaky.Error())

	b.queue.opt.Patience = time.Hour
	b.queue.opt.Pause = func(tries int) time.Duration { return time.Duration(tries-1) * time.Hour }
	id := b.add("a").ID
	require.Eventually(t, func() bool {
		r, err := b.record.Run(context.Background(), id)
		return err == nil && r.Tries >= 2
	}, 60*time.Second, 10*time.Millisecond)
	began := time.Now() // the next try is an hour away
	require.NoError(t, b.queue.Cancel(context.Background(), id))
	b.await(id, plan.Cancelled)
	assert.Less(t, time.Since(began), time.Minute)
}

func TestCancelUndoesSoon(t *testing.T) {
	b := newBench(t, simple(func(_ *bench, _ string, ctx context.Context, _ *Task) error {
		<-ctx.Done()
		return ctx.Err()
	}))
	b.start()
	id := b.add("a").ID
	require.Eventually(t, func() bool { return len(b.seen()) == 1 }, 60*time.Second, 10*time.Millisecond)
	began := time.Now()
	require.NoError(t, b.queue.Cancel(context.Background(), id))
	b.await(id, plan.Cancelled)
	assert.Less(t, time.Since(began), time.Minute)
	assert.Equal(t, []string{"a", "undo"}, b.seen())
	assert.ErrorContains(t, b.queue.Cancel(context.Background(), id), "cancelled already")
}

func TestCancelFromAnotherProcess(t *testing.T) {
	b := newBench(t, simple(func(_ *bench, _ string, ctx context.Context, _ *Task) error {
		<-ctx.Done()
		return ctx.Err()
	}))
	b.start()
	id := b.add("a").ID
	require.Eventually(t, func() bool { return len(b.seen()) == 1 }, 60*time.Second, 10*time.Millisecond)
	other, err := inventory.Open(b.path)
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, other.AskCancel(context.Background(), id, time.Now()))
	b.await(id, plan.Cancelled)
}

func TestCancelBeforeItBegins(t *testing.T) {
	b := newBench(t, simple(nil))
	id := b.add("a").ID
	require.NoError(t, b.queue.Cancel(context.Background(), id))
	b.start()
	b.await(id, plan.Cancelled)
	assert.Equal(t, []string{"undo"}, b.seen())
}

func TestCancelAfterAFailureTakesItBack(t *testing.T) {
	b := newBench(t, simple(func(*bench, string, context.Context, *Task) error { return errHard }))
	b.start()
	id := b.add("a").ID
	b.await(id, plan.Stopped)
	require.NoError(t, b.queue.Cancel(context.Background(), id))
	b.await(id, plan.Cancelled)
	assert.Contains(t, b.seen(), "undo")
}

func TestClosingLeavesTheRunToBeTakenUpAgain(t *testing.T) {
	hang := true
	b := newBench(t, simple(func(_ *bench, name string, ctx context.Context, _ *Task) error {
		if name == "b" && hang {
			<-ctx.Done()
			return ctx.Err()
		}
		return nil
	}))
	b.start()
	id := b.add("a", "b").ID
	require.Eventually(t, func() bool { return len(b.seen()) == 2 }, 60*time.Second, 10*time.Millisecond)
	began := time.Now()
	require.NoError(t, b.queue.Stop(context.Background()))
	assert.Less(t, time.Since(began), 20*time.Second)
	r, err := b.record.Run(context.Background(), id)
	require.NoError(t, err)
	assert.Equal(t, plan.Running, r.State, "it is not over, only nobody works on it")
	require.NoError(t, b.record.Close())
	hang = false
	b.open()
	b.start()
	r = b.await(id, plan.Done)
	assert.Equal(t, []string{"a", "b", "b"}, b.seen())
	assert.Equal(t, 2, r.Tries)
}

func TestMemoryOutlivesAFailure(t *testing.T) {
	type memory struct{ Seen []string }
	fail := true
	b := newBench(t, nil)
	b.op = func(b *bench, r plan.Run) *Operation {
		m := &memory{}
		return &Operation{Memory: m, Steps: Each(map[string]Do{
			"a": func(context.Context, *Task) error { m.Seen = append(m.Seen, "a"); return nil },
			"b": func(_ context.Context, task *Task) error {
				m.Seen = append(m.Seen, "b")
				if err := task.Remember(); err != nil {
					return err
				}
				if fail {
					return errHard
				}
				task.Result("%v", m.Seen)
				return nil
			},
		})}
	}
	b.start()
	id := b.add("a", "b").ID
	b.await(id, plan.Stopped)
	fail = false
	_, err := b.queue.Resume(context.Background(), id)
	require.NoError(t, err)
	assert.Equal(t, "[a b b]", b.await(id, plan.Done).Result)
}

func TestUnknownRun(t *testing.T) {
	b := newBench(t, simple(nil))
	_, err := b.queue.Resume(context.Background(), "nothing")
	assert.ErrorIs(t, err, inventory.ErrUnknown)
	assert.ErrorIs(t, b.queue.Cancel(context.Background(), "nothing"), inventory.ErrUnknown)
}

func TestStepsSideBySide(t *testing.T) {
	met := make(chan string, 1)
	var fail error
	b := newBench(t, func(b *bench, r plan.Run) *Operation {
		meet := func(name string) func(context.Context, *Task) error {
			return func(ctx context.Context, task *Task) error {
				task.Add(4, 1)
				task.Note("%s was here", name)
				if name == "b" {
					met <- name
				} else {
					select {
					case <-met: // it can only be here if b runs at the same time
					case <-ctx.Done():
						return ctx.Err()
					}
				}
				if name == "b" && fail != nil {
					return fail
				}
				return ctx.Err()
			}
		}
		return &Operation{
			Steps: Steps{
				"a": {Do: meet("a")},
				"b": {Beside: true, Do: meet("b")},
				"c": {Do: func(context.Context, *Task) error { b.did("c"); return nil }},
			},
		}
	})
	b.start()
	r := b.await(b.add("a", "b", "c").ID, plan.Done)
	assert.Equal(t, "a was here", r.Steps[0].Note)
	assert.Equal(t, "b was here", r.Steps[1].Note)
	assert.EqualValues(t, 4, r.Steps[0].Done, "each counts its own")
	assert.Equal(t, []string{"c"}, b.seen(), "what comes after waits for both")
	fail = errHard
	r = b.await(b.add("a", "b", "c").ID, plan.Stopped)
	assert.Contains(t, r.Error, errHard.Error())
	assert.True(t, r.Steps[1].Ended.IsZero())
	assert.Len(t, b.seen(), 1)
}

func TestAGateWaitsForATimeOrForAPerson(t *testing.T) {
	ctx := context.Background()
	opens := time.Now().Add(1500 * time.Millisecond)
	b := newBench(t, simple(func(_ *bench, name string, _ context.Context, task *Task) error {
		switch name {
		case "time":
			return task.Gate(plan.Gate{From: opens})
		case "person":
			return task.Gate(plan.Gate{Ask: "is the name's time to live over?"})
		}
		return nil
	}))
	b.start()
	paused := func(id string) (r plan.Run) {
		require.Eventually(t, func() bool {
			var err error
			r, err = b.record.Run(ctx, id)
			require.NoError(t, err)
			return r.State == plan.Paused
		}, 20*time.Second, 5*time.Millisecond)
		return r
	}
	id := b.add("a", "time", "b").ID
	_, err := b.queue.Resume(ctx, paused(id).ID)
	assert.ErrorContains(t, err, "goes on by itself: it waits until")
	_, err = b.queued("test", site.Site{}, site.Site{ID: "s1"}, "")
	assert.ErrorIs(t, err, inventory.ErrClaimed, "it keeps what it has")
	r := b.await(id, plan.Done)
	assert.False(t, r.Ended.Before(opens))
	assert.Equal(t, []string{"a", "time", "time", "b"}, b.seen())

	id = b.add("person").ID
	assert.Equal(t, "it waits for a person: is the name's time to live over?", paused(id).Gate.String())
	_, err = b.queue.Resume(ctx, id)
	require.NoError(t, err)
	assert.Nil(t, b.await(id, plan.Done).Gate)

	id = b.add("person").ID
	paused(id)
	require.NoError(t, b.queue.Cancel(ctx, id))
	b.await(id, plan.Cancelled)
	assert.Contains(t, b.seen(), "undo")
}
