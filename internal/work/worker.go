package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"
	"golang.org/x/sync/errgroup"

	"alibi/internal/inventory"
	"alibi/internal/plan"
)

type rivertypeJobRow = rivertype.JobRow

type worker struct {
	river.WorkerDefaults[args]
	q *Queue
}

// Work carries one run on as far as it goes.
func (w *worker) Work(ctx context.Context, j *river.Job[args]) error {
	q := w.q
	t, ok := q.claim(ctx, j.Args.Run)
	if !ok {
		return nil // it is being worked on
	}
	defer q.letGo(t)
	r, err := q.opt.Record.Run(ctx, t.run.ID) // not before: another job of this run may just have ended it
	if err != nil {
		return river.JobCancel(err)
	}
	if r.State.Over() || q.atRest(ctx, r) {
		return nil
	}
	t.change(func(run *plan.Run) { *run = r })
	err = t.carryOut()
	g, paused := atGate(err)
	switch {
	case err == nil, errors.Is(context.Cause(t.ctx), errShutdown):
		return nil
	case paused:
		return t.pause(g)
	case q.opt.Transient(err) && !t.tired():
		t.note(fmt.Sprintf("taken up again soon, after: %v", err))
		return err
	}
	t.fail(err)
	return river.JobCancel(err)
}

// claim makes the task of a run, unless there is one.
func (q *Queue) claim(ctx context.Context, id string) (*Task, bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.running[id] != nil {
		return nil, false
	}
	t := &Task{job: &job{q: q, open: ctx, run: plan.Run{ID: id}}}
	t.ctx, t.cancel = context.WithCancelCause(ctx)
	q.running[id] = t
	return t, true
}

func (q *Queue) release(t *Task) {
	t.cancel(nil)
	q.mu.Lock()
	delete(q.running, t.run.ID)
	q.mu.Unlock()
}

// letGo ends the work on a run. One that was taken up again in the very moment had its job
// passed by, since somebody was at it still: it gets another one.
func (q *Queue) letGo(t *Task) {
	q.release(t)
	ctx := context.WithoutCancel(t.ctx)
	r, err := q.opt.Record.Run(ctx, t.run.ID)
	if err == nil && r.State == plan.Waiting {
		err = q.insert(ctx, r.ID)
	}
	if err != nil && !errors.Is(err, inventory.ErrUnknown) {
		q.opt.Log.Error("leaving a run", "run", t.run.ID, "err", err)
	}
}

// atRest tells whether a run is paused, and neither its time has come nor a cancel was asked for:
// a job that was left over does not wake it.
func (q *Queue) atRest(ctx context.Context, r plan.Run) bool {
	if r.State != plan.Paused || r.Gate == nil || r.Gate.Ask == "" && !q.opt.Now().Before(r.Gate.From) {
		return false
	}
	asked, err := q.opt.Record.CancelAsked(ctx, r.ID)
	return err == nil && !asked
}

// Task is a run that is being worked on, as one of its steps sees it.
type Task struct {
	*job
	step int
}

// job is what the steps of a run share.
type job struct {
	q      *Queue
	open   context.Context // until the queue is closed
	ctx    context.Context // until the run is cancelled
	cancel context.CancelCauseFunc
	def    *Definition
	op     *Operation

	memory sync.Mutex // over op.Memory
	mu     sync.Mutex
	run    plan.Run
	saved  time.Time
}

// saveEvery is how often progress is written to the record.
const saveEvery = 150 * time.Millisecond

// carryOut does the steps that are not done.
func (t *Task) carryOut() error {
	def := t.q.kinds[t.run.Plan.Kind]
	if def == nil {
		return fmt.Errorf("%w: it does not know what %q is; use the version that planned it, or cancel the run",
			ErrOtherVersion, t.run.Plan.Kind)
	}
	begin := context.WithoutCancel(t.ctx) // who cancels now has the run taken back, for which it must be known
	op, err := def.Begin(begin, t.run)
	if err != nil {
		return err
	}
	if op.Close != nil {
		defer op.Close()
	}
	t.mu.Lock()
	t.def, t.op = def, op
	t.mu.Unlock()
	if op.Memory != nil {
		if err := t.q.opt.Record.Checkpoint(begin, t.run.ID, op.Memory); err != nil {
			return err
		}
	}
	if !def.Forward {
		stopWatching := t.watch()
		defer stopWatching()
	}
	t.change(func(r *plan.Run) {
		r.State, r.Error, r.Gate = plan.Running, "", nil
		r.Tries++
		if r.Began.IsZero() {
			r.Began = t.q.opt.Now()
		}
	})
	t.save()
	if err := t.fits(); err != nil {
		if asked, aerr := t.q.opt.Record.CancelAsked(t.ctx, t.run.ID); aerr == nil && asked {
			return t.undo()
		}
		return err
	}
	for i := 0; i < len(t.run.Steps); {
		n := 1
		for i+n < len(t.run.Steps) && op.Steps[t.run.Steps[i+n].Name].Beside {
			n++
		}
		if err := t.group(i, n); err != nil {
			if errors.Is(context.Cause(t.ctx), ErrCancelled) {
				return t.undo()
			}
			return err
		}
		i += n
	}
	return t.end(plan.Done)
}

// fits tells whether the operation is the one that the run was planned for: of the
// same version, and with something to do for each step.
func (t *Task) fits() error {
	known := func(p plan.Progress) bool { return t.op.Steps[p.Name].Do != nil }
	if t.def.Version == t.run.Plan.Version && len(t.run.Steps) > 0 && !slices.ContainsFunc(t.run.Steps, not(known)) {
		return nil
	}
	return fmt.Errorf("%w: use that version to finish it, or cancel it and plan it again with this one",
		ErrOtherVersion)
}

func not[T any](f func(T) bool) func(T) bool { return func(v T) bool { return !f(v) } }

// group does n steps from the i-th on, side by side.
func (t *Task) group(i, n int) error {
	t.step = i
	g, ctx := errgroup.WithContext(t.ctx)
	for k := i; k < i+n; k++ {
		if t.run.Steps[k].Ended.IsZero() {
			st := &Task{job: t.job, step: k}
			g.Go(func() error { return st.do(ctx) })
		}
	}
	done := make(chan error, 1)
	go func() { done <- g.Wait() }()
	select {
	case err := <-done:
		return err
	case <-t.ctx.Done():
	}
	select {
	case err := <-done:
		return err
	case <-time.After(moment):
		if t.q.opt.Unstick != nil {
			t.q.opt.Unstick(t.run.Plan)
		}
	}
	return <-done
}

// moment is how long a step that is cancelled may take to end by itself.
const moment = 500 * time.Millisecond

func (t *Task) do(ctx context.Context) error {
	i := t.step
	name := t.run.Steps[i].Name
	if asked, err := t.q.opt.Record.CancelAsked(t.ctx, t.run.ID); err == nil && asked && !t.begun() {
		t.cancel(ErrCancelled)
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	t.change(func(r *plan.Run) {
		p := &r.Steps[i]
		p.Began, p.Done, p.Items = t.q.opt.Now(), 0, 0
	})
	t.save()
	t.q.opt.Observe(Moment{t.run.ID, name, "begin"})
	if err := t.op.Steps[name].Do(ctx, t); err != nil {
		return err
	}
	if err := t.Remember(); err != nil {
		return err
	}
	t.change(func(r *plan.Run) { r.Steps[i].Ended = t.q.opt.Now() })
	t.save()
	t.q.opt.Observe(Moment{t.run.ID, name, "end"})
	return nil
}

// begun tells whether an operation that only goes forward has begun a step.
func (t *Task) begun() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.def != nil && t.def.Forward &&
		slices.ContainsFunc(t.run.Steps, func(p plan.Progress) bool { return !p.Began.IsZero() })
}

// watch looks for a wish to cancel from another process.
func (t *Task) watch() func() {
	done := make(chan struct{})
	go func() {
		tick := time.NewTicker(250 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				if asked, err := t.q.opt.Record.CancelAsked(context.Background(), t.run.ID); err == nil && asked {
					t.cancel(ErrCancelled)
				}
			}
		}
	}()
	return sync.OnceFunc(func() { close(done) })
}

// tired tells whether a run has failed for too long without getting on.
func (t *Task) tired() bool {
	now, done := t.q.opt.Now(), 0
	for _, s := range t.run.Steps {
		if !s.Ended.IsZero() {
			done++
		}
	}
	t.change(func(r *plan.Run) {
		if r.FailsSince.IsZero() || r.FailsAfter != done {
			r.FailsSince, r.FailsAfter = now, done
		}
	})
	return now.Sub(t.run.FailsSince) > t.q.opt.Patience
}

// undo brings back the state before the run. It is not cancelled itself.
func (t *Task) undo() error {
	ctx := context.WithoutCancel(t.ctx)
	t.note("undoing")
	if t.op.Undo != nil {
		if err := t.op.Undo(ctx); err != nil {
			return fmt.Errorf("undoing: %w", err)
		}
	}
	return t.end(plan.Cancelled)
}

// end writes down what became of the run. Where the disk is full, and other runs have filled
// the room that was set aside, that is tried until there is some.
func (t *Task) end(s plan.RunState) error {
	t.change(func(r *plan.Run) {
		r.State, r.Ended = s, t.q.opt.Now()
	})
	for {
		err := t.q.leave(context.WithoutCancel(t.ctx), t.Run(), t.def != nil && t.def.TakesBack)
		if err == nil && t.q.opt.Ended != nil {
			t.q.opt.Ended(context.WithoutCancel(t.ctx), t.Run())
		}
		if !errors.Is(err, inventory.ErrNoRoom) {
			return err
		}
		select {
		case <-t.open.Done():
			return err
		case <-time.After(time.Second):
		}
	}
}

// Proof is an error of a run that did all that it had to, and whose proof found something.
type Proof interface {
	error
	// Acceptable tells whether a person may let what was made stand all the same.
	Acceptable() bool
}

// fail ends the run with an error, leaving what was done for a resume, or taking
// it back where the operation says so.
func (t *Task) fail(err error) {
	t.change(func(r *plan.Run) {
		r.Error = err.Error()
		r.Remedy = "what was done so far is kept; resume the run when the cause is fixed, or cancel it to take " +
			"everything back"
		var proof Proof
		if r.Acceptable = errors.As(err, &proof) && proof.Acceptable(); r.Acceptable {
			r.Remedy += "; or let it stand as it is, to be worked on: alibi runs resume " + r.ID + " --anyway"
		}
	})
	state := plan.Stopped
	if t.def != nil && t.def.TakesBack {
		if uerr := t.op.Undo(context.WithoutCancel(t.ctx)); uerr == nil {
			state = plan.Cancelled
			t.change(func(r *plan.Run) { r.Remedy = "everything was taken back: the site is as it was before the run" })
		} else {
			t.change(func(r *plan.Run) {
				r.Error += "; and taking it back: " + uerr.Error()
				r.Remedy = "resume the run when the cause is fixed, or cancel it to take everything back"
			})
		}
	}
	p := t.run.Plan
	t.q.opt.Log.Error("run failed", "run", t.run.ID, "kind", p.Kind, "site", p.Target.Name, "err", err)
	if eerr := t.end(state); eerr != nil {
		t.q.opt.Log.Error("noting a failure", "run", t.run.ID, "err", eerr)
	}
}

func (t *Task) change(f func(*plan.Run)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	f(&t.run)
}

// Detached is a task that nobody is told of, for doing an operation's steps as a
// part of undoing another one.
func Detached(r plan.Run) *Task {
	return &Task{
		job: &job{
			ctx: context.Background(),
			op:  &Operation{},
			run: plan.Run{ID: r.ID, Plan: r.Plan, Steps: make([]plan.Progress, 1)},
		},
	}
}

// save writes the run as it stands to the record.
func (t *Task) save() {
	if t.q == nil {
		return
	}
	t.mu.Lock()
	r := t.run
	r.Steps = append([]plan.Progress(nil), r.Steps...)
	t.saved = time.Now()
	t.mu.Unlock()
	if err := t.q.opt.Record.PutRun(context.WithoutCancel(t.ctx), r); err != nil {
		t.q.opt.Log.Error("saving progress", "run", r.ID, "err", err)
	}
}

func (t *Task) note(text string) {
	t.change(func(r *plan.Run) {
		if t.step < len(r.Steps) { // a plan of another version may have none
			r.Steps[t.step].Note = text
		}
	})
	t.save()
}

// Add tells of units and items that were done. It may be called from several
// goroutines, as often as there is something to tell.
func (t *Task) Add(units, items int64) {
	t.mu.Lock()
	p := &t.run.Steps[t.step]
	p.Done += units
	p.Items += items
	name := p.Name
	due := time.Since(t.saved) > saveEvery
	if due {
		t.saved = time.Now()
	}
	t.mu.Unlock()
	if t.q != nil {
		t.q.opt.Observe(Moment{t.run.ID, name, "progress"})
	}
	if due {
		t.save()
	}
}

// Expect sets how much work the present step is, when that is known better now.
func (t *Task) Expect(units int64) {
	t.change(func(r *plan.Run) { r.Steps[t.step].Work = units })
}

// Note says what the present step is at.
func (t *Task) Note(format string, a ...any) { t.note(fmt.Sprintf(format, a...)) }

// Result says what came of the run.
func (t *Task) Result(format string, a ...any) {
	t.change(func(r *plan.Run) { r.Result = fmt.Sprintf(format, a...) })
}

// Entry says what the site's history is to tell of the run when it is done; without
// one, that is the result.
func (t *Task) Entry(format string, a ...any) {
	t.change(func(r *plan.Run) { r.Entry = fmt.Sprintf(format, a...) })
}

// Run is the run as it stands.
func (t *Task) Run() plan.Run {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.run
}

// Memorize changes the operation's memory; steps may run side by side.
func (t *Task) Memorize(change func()) {
	t.memory.Lock()
	defer t.memory.Unlock()
	change()
}

// Remember keeps the operation's memory now, rather than at the step's end.
func (t *Task) Remember() error {
	if t.op.Memory == nil {
		return nil
	}
	t.memory.Lock()
	defer t.memory.Unlock()
	return t.q.opt.Record.SetCheckpoint(context.WithoutCancel(t.ctx), t.run.ID, t.op.Memory)
}
