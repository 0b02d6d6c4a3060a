package work

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/site"
)

func TestARunWithTwoJobsIsCarriedOutOnce(t *testing.T) {
	b := newBench(t, simple(nil))
	const runs = 40
	var ids []string
	for i := range runs { // as a queue does that finds them waiting when it starts
		p := plan.Plan{
			Kind:   "test",
			Target: site.Site{ID: site.ID(fmt.Sprintf("s%d", i))},
			Detail: []byte("{}"),
			Steps:  []plan.Step{{Name: "lift"}},
		}
		r, err := b.queue.Add(context.Background(), p, "runa", "")
		require.NoError(t, err)
		require.NoError(t, b.queue.insert(context.Background(), r.ID))
		require.NoError(t, b.queue.insert(context.Background(), r.ID))
		ids = append(ids, r.ID)
	}
	b.start()
	for _, id := range ids {
		b.await(id, plan.Done)
	}
	lifted := 0
	for _, s := range b.seen() {
		if s == "lift" {
			lifted++
		}
	}
	assert.Equal(t, runs, lifted)
}

// also defines an operation that does what the test's does, of another kind.
func (b *bench) also(k plan.Kind, change func(*Definition)) {
	d := *b.queue.kinds["test"]
	d.Kind = k
	change(&d)
	b.queue.kinds[k] = &d
}

// queued adds a plan.
func (b *bench) queued(
	kind plan.Kind,
	origin, target site.Site,
	typed string,
	change ...func(*plan.Plan),
) (plan.Run, error) {
	p := plan.Plan{Kind: kind, Origin: origin, Target: target, Detail: []byte("{}"), Steps: []plan.Step{{Name: "a"}}}
	for _, c := range change {
		c(&p)
	}
	return b.queue.Add(context.Background(), p, "runa", typed)
}

func TestARunTakesWhatItNeedsAsItIsQueued(t *testing.T) {
	ctx := context.Background()
	wait := make(chan struct{})
	b := newBench(t, simple(func(_ *bench, _ string, ctx context.Context, _ *Task) error {
		select {
		case <-wait:
		case <-ctx.Done():
		}
		return ctx.Err()
	}))
	b.also(plan.Copy, func(d *Definition) { d.Makes = true })
	b.also(plan.Keep, func(d *Definition) { d.Claims = plan.Plan.FromOrigin })
	b.also(plan.Refresh, func(d *Definition) { d.Consent = plan.Plan.OverConsent })
	b.also(plan.Remove, func(d *Definition) { d.Consent = plan.Plan.OverConsent })
	b.also(plan.Restore, func(d *Definition) { d.Consent = plan.Plan.OverConsent })
	live := site.Site{ID: "l", Name: "ferry", Role: site.Live, State: site.Ready}
	held := site.Site{ID: "c", Name: "winter", Role: site.Copy, State: site.Ready, Lease: site.Lease{Held: true}}
	for _, s := range []site.Site{live, held} {
		require.NoError(t, b.record.PutSite(ctx, s))
	}
	one, err := b.queued(plan.Copy, live, site.Site{ID: "n1", Name: "dup", Role: site.Copy}, "")
	require.NoError(t, err)
	_, err = b.queued(plan.Copy, live, site.Site{ID: "n2", Name: "dup", Role: site.Copy}, "")
	assert.ErrorIs(t, err, ErrNameTaken, "a name is had by one")
	_, err = b.queued(plan.Keep, live, live, "")
	require.NoError(t, err, "several may read at once")
	_, err = b.queued(plan.Restore, live, live, "ferry")
	assert.ErrorIs(t, err, inventory.ErrClaimed, "who writes waits for those who read")
	_, err = b.queued(plan.Remove, held, held, "")
	assert.ErrorIs(t, err, ErrNoConsent)
	_, err = b.queued(plan.Remove, held, site.Site{ID: "c", Name: "winter", Role: site.Copy}, "")
	assert.ErrorIs(t, err, ErrNoConsent, "the record tells, and not the plan, that it is held")
	_, err = b.queued(plan.Restore, live, live, "winter")
	assert.ErrorIs(t, err, ErrNoConsent, "another name is none")
	_, err = b.queued(plan.Refresh, live, held, "winter")
	require.NoError(t, err)
	_, err = b.queued(plan.Keep, held, held, "")
	assert.ErrorIs(t, err, inventory.ErrClaimed, "what is being written to is not read")
	_, err = b.queued(plan.Remove, held, held, "winter")
	assert.ErrorIs(t, err, inventory.ErrClaimed)
	s, err := b.record.Site(ctx, "n1")
	require.NoError(t, err)
	assert.Equal(t, site.Making, s.State, "the name is taken before the run begins")
	list, err := b.record.Unfinished(ctx)
	require.NoError(t, err)
	assert.Len(t, list, 3, "what was refused is not in the queue")
	b.start()
	close(wait)
	for _, r := range list {
		b.await(r.ID, plan.Done)
	}
	_, err = b.queued(plan.Restore, live, live, "ferry")
	assert.NoError(t, err, "all is given back: %s", one.ID)
}

func TestAFailedRunHasNothingAndDoesNotGoOnOverAnothersWork(t *testing.T) {
	ctx := context.Background()
	fails := true
	b := newBench(t, simple(func(*bench, string, context.Context, *Task) error {
		if fails {
			return errors.New("it broke")
		}
		return nil
	}))
	c := site.Site{ID: "c", Name: "winter", Role: site.Copy, State: site.Ready}
	require.NoError(t, b.record.PutSite(ctx, c))
	b.start()
	first, err := b.queued("test", site.Site{}, c, "")
	require.NoError(t, err)
	b.await(first.ID, plan.Stopped)
	s, err := b.record.Site(ctx, "c")
	require.NoError(t, err)
	assert.Empty(t, s.Run)
	fails = false
	second, err := b.queued("test", site.Site{}, c, "")
	require.NoError(t, err)
	b.await(second.ID, plan.Done)
	_, err = b.queue.Resume(ctx, first.ID)
	assert.ErrorIs(t, err, ErrSuperseded)
	b.log = nil
	require.NoError(t, b.queue.Cancel(ctx, first.ID))
	r := b.await(first.ID, plan.Cancelled)
	assert.Contains(t, r.Remedy, "another run has been at work")
	assert.Empty(t, b.seen(), "nothing of the other run's work is undone")
}

func TestARunOfAnotherVersionIsNotCarriedOut(t *testing.T) {
	ctx := context.Background()
	b := newBench(t, simple(func(*bench, string, context.Context, *Task) error { return nil }))
	b.start()
	for name, change := range map[string]func(*plan.Plan){
		"other steps": func(p *plan.Plan) { p.Steps = []plan.Step{{Name: "b"}} },
		"no steps":    func(p *plan.Plan) { p.Steps = nil },
		"version":     func(p *plan.Plan) { p.Version = 7 },
	} {
		b.op = func(*bench, plan.Run) *Operation {
			return &Operation{Steps: Each(map[string]Do{"a": func(context.Context, *Task) error { return nil }})}
		}
		r, err := b.queued("test", site.Site{}, site.Site{ID: site.ID(name), Name: name}, "", change)
		require.NoError(t, err)
		r = b.await(r.ID, plan.Stopped)
		assert.Contains(t, r.Error, ErrOtherVersion.Error(), name)
		require.NoError(t, b.queue.Cancel(ctx, r.ID))
		b.await(r.ID, plan.Cancelled)
	}
	_, err := b.queued("sail", site.Site{}, site.Site{ID: "s"}, "")
	assert.ErrorIs(t, err, ErrOtherVersion, "what is not known is not queued")
	require.NoError(t, b.record.PutRun(ctx, plan.Run{ID: "newer", Plan: plan.Plan{Kind: "sail"}, State: plan.Waiting}))
	require.NoError(t, b.queue.insert(ctx, "newer"))
	assert.Contains(t, b.await("newer", plan.Stopped).Error, ErrOtherVersion.Error(), "a newer Alibi queued it")
}

func TestWhatOnlyGoesForwardIsNotCancelledHalfWay(t *testing.T) {
	wait, begun := make(chan struct{}), make(chan struct{})
	b := newBench(t, func(b *bench, r plan.Run) *Operation {
		return &Operation{Steps: Each(map[string]Do{"a": func(ctx context.Context, _ *Task) error {
			close(begun)
			<-wait
			return ctx.Err()
		}})}
	})
	b.queue.kinds["test"].Forward = true
	b.start()
	r := b.add("a")
	<-begun
	assert.ErrorContains(t, b.queue.Cancel(context.Background(), r.ID), "goes on to its end")
	close(wait)
	b.await(r.ID, plan.Done)
}

func TestACancelWhileARunIsTakenUpTakesItBack(t *testing.T) {
	ctx := context.Background()
	asked := make(chan string, 1)
	b := newBench(t, func(b *bench, r plan.Run) *Operation {
		id := <-asked
		assert.NoError(t, b.queue.Cancel(ctx, id))
		op := simple(nil)(b, r)
		op.Memory = &struct{ N int }{}
		return op
	})
	b.start()
	r := b.add("lift")
	asked <- r.ID
	b.await(r.ID, plan.Cancelled)
	assert.Equal(t, []string{"undo"}, b.seen())
}

func TestWhatIsDoneByHandHasTheSiteForItself(t *testing.T) {
	ctx := context.Background()
	b := newBench(t, simple(nil))
	b.also(plan.Keep, func(d *Definition) { d.Claims = plan.Plan.FromOrigin })
	s := site.Site{ID: "s1", Name: "winter", Role: site.Copy, State: site.Ready}
	require.NoError(t, b.record.PutSite(ctx, s))
	_, err := b.queued(plan.Keep, s, s, "")
	require.NoError(t, err)
	require.NoError(t, b.queue.Alone(ctx, s, func(claim string) error {
		has, err := b.record.ClaimedAlone(ctx, claim, s.ID)
		assert.True(t, has, "also while a run reads the site")
		_, other := b.queued("test", site.Site{}, s, "")
		assert.ErrorIs(t, other, inventory.ErrClaimed)
		assert.ErrorIs(t, b.queue.Alone(ctx, s, nil), inventory.ErrClaimed)
		return err
	}))
	assert.ErrorIs(t, b.queue.Alone(ctx, s, func(string) error { return errHard }), errHard)
	dead := func(tx *inventory.Tx) error { // a process that was killed meanwhile
		return tx.Claim(ctx, plan.ByHand+"2147483647-ab", plan.Claim{Site: s.ID, Name: s.Name, Alone: true, Read: true},
			"")
	}
	require.NoError(t, b.record.In(ctx, dead))
	assert.ErrorIs(t, b.queue.Alone(ctx, s, nil), inventory.ErrClaimed)
	b.start()
	assert.NoError(t, b.queue.Alone(ctx, s, func(string) error { return nil }))
}

func TestAResumeInTheMomentInWhichARunIsLeftIsNotLost(t *testing.T) {
	ctx := context.Background()
	fails := true
	b := newBench(t, simple(func(*bench, string, context.Context, *Task) error {
		if fails {
			return errHard
		}
		return nil
	}))
	b.start()
	id := b.add("a").ID
	b.await(id, plan.Stopped)
	fails = false
	var left *Task
	require.Eventually(t, func() (ok bool) { left, ok = b.queue.claim(ctx, id); return ok }, time.Minute,
		time.Millisecond)
	_, err := b.queue.Resume(ctx, id)
	require.NoError(t, err)
	time.Sleep(500 * time.Millisecond) // its job comes and is passed by
	r, err := b.record.Run(ctx, id)
	require.NoError(t, err)
	require.Equal(t, plan.Waiting, r.State)
	b.queue.letGo(left)
	b.await(id, plan.Done)
}

func TestAJobThatIsLeftOverDoesNotWakeARunThatIsPaused(t *testing.T) {
	ctx := context.Background()
	b := newBench(t, simple(func(_ *bench, _ string, _ context.Context, task *Task) error {
		return task.Gate(plan.Gate{Ask: "may it go on?"})
	}))
	b.start()
	id := b.add("a").ID
	paused := func() bool { r, err := b.record.Run(ctx, id); return err == nil && r.State == plan.Paused }
	require.Eventually(t, paused, time.Minute, time.Millisecond)
	for range 5 {
		require.NoError(t, b.queue.insert(ctx, id))
	}
	time.Sleep(500 * time.Millisecond)
	assert.True(t, paused())
	assert.Equal(t, []string{"a"}, b.seen())
	_, err := b.queue.Resume(ctx, id)
	require.NoError(t, err)
	b.await(id, plan.Done)
}
