// Package work carries plans out: it queues runs, does their steps in order,
// tells of progress, and takes a run up again where it stopped, whether by a
// broken line, a cancel, or the death of the process.
//
// The queue is River's, in the record's own database. A job holds nothing but a
// run's ID; what is to be done and how far it is stands in the record, where any
// process can read it. One process at a time works (see Queue.Start).
package work

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"crypto/rand"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riversqlite"
	"github.com/riverqueue/river/rivermigrate"

	"database/sql"

	"alibi/internal/inventory"
	"alibi/internal/plan"
)

// Moment is what an observer is told of: a step begins, moves on or ends.
type Moment struct {
	Run   string
	Step  string
	Phase string // "begin", "progress", "end"
}

// Options of a queue.
type Options struct {
	Record *inventory.Inventory
	// Operations are what can be carried out.
	Operations []Definition
	Log        *slog.Logger
	Workers    int // runs at once; 2 if 0
	Now        func() time.Time
	// Transient tells whether an error may go away by itself.
	Transient func(error) bool
	// Patience is for how long a step is tried again that fails for such a reason,
	// without getting on; 2 minutes if 0.
	Patience time.Duration
	// Pause is how long a step that failed so often waits for its next try; DefaultPause if nil.
	Pause func(tries int) time.Duration
	// Unstick breaks off what a run waits for that does not end by itself within a
	// moment of being cancelled, such as an answer of a host; nil: nothing can be.
	Unstick func(plan.Plan)
	// Observe is told of each moment, in the goroutine that does the work.
	Observe func(Moment)
	// Ended is told of each run that is over, once that is in the record; nil: nobody is.
	Ended func(context.Context, plan.Run)
}

// Queue is where runs wait and are worked on.
type Queue struct {
	opt    Options
	kinds  map[plan.Kind]*Definition
	client *river.Client[*sql.Tx]

	mu      sync.Mutex
	running map[string]*Task
	started bool
	stop    context.CancelFunc
}

// errShutdown ends a run's context when the process is closing: the run is not
// over, it is taken up again by the next process.
var errShutdown = errors.New("the keeper is closing")

// ErrCancelled ends a run's context when a person asked for it.
var ErrCancelled = errors.New("cancelled")

// ErrOtherVersion is given for a run that was planned by an Alibi whose operation
// has other steps.
var ErrOtherVersion = errors.New("it was planned by another version of Alibi")

type args struct {
	Run string `json:"run"`
}

func (args) Kind() string { return "run" }

// New prepares the queue's tables and a client that can insert.
func New(ctx context.Context, opt Options) (*Queue, error) {
	if opt.Workers == 0 {
		opt.Workers = 2
	}
	if opt.Patience == 0 {
		opt.Patience = DefaultPatience
	}
	if opt.Pause == nil {
		opt.Pause = DefaultPause
	}
	if opt.Now == nil {
		opt.Now = time.Now
	}
	if opt.Observe == nil {
		opt.Observe = func(Moment) {}
	}
	if opt.Transient == nil {
		opt.Transient = func(error) bool { return false }
	}
	q := &Queue{opt: opt, kinds: map[plan.Kind]*Definition{}, running: map[string]*Task{}}
	for i := range opt.Operations {
		q.kinds[opt.Operations[i].Kind] = &opt.Operations[i]
	}
	if opt.Record.ReadOnly() {
		return q, nil // without a client: what would be queued is refused
	}
	driver := riversqlite.New(opt.Record.DB())
	quiet := slog.New(slog.DiscardHandler)
	m, err := rivermigrate.New(driver, &rivermigrate.Config{Logger: quiet})
	if err != nil {
		return nil, fmt.Errorf("preparing the queue: %w", err)
	}
	if _, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return nil, fmt.Errorf("preparing the queue: %w", err)
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{q: q})
	q.client, err = river.NewClient(driver, &river.Config{
		Queues: map[string]river.QueueConfig{
			river.QueueDefault: {MaxWorkers: opt.Workers},
		}, Workers: workers, Logger: quiet,
		FetchCooldown: 50 * time.Millisecond, FetchPollInterval: 200 * time.Millisecond, JobTimeout: -1,
		MaxAttempts: tries,
		RetryPolicy: retries{q}, RescueStuckJobsAfter: 24 * time.Hour,
	})
	if err != nil {
		return nil, fmt.Errorf("preparing the queue: %w", err)
	}
	return q, nil
}

// Add puts a plan into the queue, with all that it needs (see enter), in one
// transaction. typed is the name that a person typed for it, or "".
func (q *Queue) Add(ctx context.Context, p plan.Plan, by, typed string) (plan.Run, error) {
	if q.client == nil {
		return plan.Run{}, inventory.ErrReadOnly
	}
	r := plan.Run{ID: newID(), Plan: p, State: plan.Waiting, By: by, Made: q.opt.Now()}
	for _, s := range p.Steps {
		r.Steps = append(r.Steps, plan.Progress{Name: s.Name, Title: s.Title, Unit: s.Unit, Work: s.Work})
	}
	return r, q.opt.Record.In(ctx, func(tx *inventory.Tx) error {
		if err := q.enter(ctx, tx, r, typed); err != nil {
			return err
		}
		if err := tx.PutRun(ctx, r); err != nil {
			return err
		}
		return q.insertIn(ctx, tx, r.ID, now)
	})
}

func newID() string {
	var b [5]byte
	_, _ = rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// insert queues a run that is in the record.
func (q *Queue) insert(ctx context.Context, id string) error {
	return q.opt.Record.In(ctx, func(tx *inventory.Tx) error { return q.insertIn(ctx, tx, id, now) })
}

// now is when a job is carried out that is queued for no other time.
var now time.Time

func (q *Queue) insertIn(ctx context.Context, tx *inventory.Tx, id string, from time.Time) error {
	if q.client == nil {
		return inventory.ErrReadOnly
	}
	if _, err := q.client.InsertTx(ctx, tx.SQL(), args{id}, &river.InsertOpts{ScheduledAt: from}); err != nil {
		return fmt.Errorf("queueing run %s: %w", id, err)
	}
	return nil
}

// Resume takes up a run that failed, or opens the gate at which it is paused.
func (q *Queue) Resume(ctx context.Context, id string) (plan.Run, error) {
	return q.resume(ctx, id, false)
}

// Accept takes up a run that only its proof stopped, and lets what it made stand as it is.
func (q *Queue) Accept(ctx context.Context, id string) (plan.Run, error) {
	return q.resume(ctx, id, true)
}

func (q *Queue) resume(ctx context.Context, id string, accept bool) (plan.Run, error) {
	r, err := q.opt.Record.Run(ctx, id)
	if err != nil {
		return r, err
	}
	switch {
	case r.State == plan.Paused:
		if err := pass(&r); err != nil {
			return r, err
		}
	case r.State != plan.Stopped:
		return r, fmt.Errorf("run %s is %s: only a run that failed can be taken up again", r.ID, r.State)
	}
	if accept && !r.Acceptable {
		return r, fmt.Errorf("run %s was stopped by something that can't be let stand: %s", r.ID, r.Error)
	}
	r.Accepted, r.Acceptable = accept, false
	r.State, r.Error, r.Remedy, r.Ended, r.FailsSince = plan.Waiting, "", "", time.Time{}, time.Time{}
	return r, q.opt.Record.In(ctx, func(tx *inventory.Tx) error {
		gone, err := q.superseded(ctx, tx, r)
		if err != nil {
			return err
		}
		if gone {
			return fmt.Errorf("run %s: %w: another run has been at work on %s since; cancel this one, and "+
				"make a new plan",
				r.ID, ErrSuperseded, r.Plan.Target.Name)
		}
		if err := q.take(ctx, tx, r, true); err != nil {
			return err
		}
		if err := tx.Withdraw(ctx, r.ID); err != nil {
			return err
		}
		if err := tx.PutRun(ctx, r); err != nil {
			return err
		}
		return q.insertIn(ctx, tx, r.ID, now)
	})
}

// Cancel asks that a run stop and be undone, whichever process works on it. A
// run that failed is undone by the same.
func (q *Queue) Cancel(ctx context.Context, id string) error {
	r, err := q.opt.Record.Run(ctx, id)
	if err != nil {
		return err
	}
	if r.State == plan.Done || r.State == plan.Cancelled {
		return fmt.Errorf("run %s is %s already", r.ID, r.State)
	}
	if r.State == plan.Stopped {
		_, err := q.Resume(ctx, r.ID)
		if errors.Is(err, ErrSuperseded) { // what it left is not its own any more
			r.State = plan.Cancelled
			r.Remedy = "another run has been at work on its site since: nothing of it was left to take back"
			return q.leave(ctx, r, false)
		}
		if err != nil {
			return err
		}
	}
	if err := q.opt.Record.AskCancel(ctx, r.ID, q.opt.Now()); err != nil {
		return err
	}
	q.mu.Lock()
	t := q.running[r.ID]
	q.mu.Unlock()
	if t != nil && t.begun() {
		return fmt.Errorf("run %s goes on to its end: what it has begun can't be taken back", r.ID)
	}
	if t != nil {
		t.cancel(ErrCancelled)
		return nil
	}
	return q.insert(ctx, r.ID) // it may be waiting for its next try; who works on it already sees the wish
}

// Start begins to work. The caller sees to it that no other process does (the
// keeper's lock): runs that the record has under way are then nobody's, and are
// taken up again. What is paused stays so.
func (q *Queue) Start(ctx context.Context) error {
	if q.client == nil {
		return inventory.ErrReadOnly
	}
	if err := q.clear(ctx); err != nil {
		return err
	}
	orphans, err := q.opt.Record.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, r := range orphans {
		asked, err := q.opt.Record.CancelAsked(ctx, r.ID)
		if err != nil {
			return err
		}
		if r.State == plan.Paused && !asked {
			continue // it waits for a person, or has its job queued for its time
		}
		err = q.opt.Record.In(ctx, func(tx *inventory.Tx) error {
			for _, c := range q.kinds[r.Plan.Kind].claims(r.Plan) { // a run of an older Alibi has taken nothing
				if err := tx.Claim(ctx, r.ID, c, r.Plan.After); err != nil && !errors.Is(err, inventory.ErrClaimed) {
					return err
				}
			}
			return q.insertIn(ctx, tx, r.ID, now)
		})
		if err != nil {
			return err
		}
	}
	ctx, q.stop = context.WithCancel(context.WithoutCancel(ctx))
	if err := q.client.Start(ctx); err != nil {
		return fmt.Errorf("starting the queue: %w", err)
	}
	q.started = true
	return nil
}

// Stop ends the work within a second or so; runs under way are left to be taken
// up again.
func (q *Queue) Stop(ctx context.Context) error {
	if !q.started {
		return nil
	}
	q.mu.Lock()
	for _, t := range q.running {
		t.cancel(errShutdown)
	}
	q.mu.Unlock()
	err := q.client.StopAndCancel(ctx)
	q.stop()
	q.started = false
	return err
}

// DefaultPatience is for how long a run is tried again while a host or a database
// is away.
const DefaultPatience = 2 * time.Minute

// tries is more often than patience lasts for.
const tries = 1000

// DefaultPause is a little longer each time, up to ten seconds: a line that broke is
// often back soon.
func DefaultPause(tries int) time.Duration {
	return min(time.Duration(tries*tries)*time.Second, 10*time.Second)
}

type retries struct{ q *Queue }

func (r retries) NextRetry(job *rivertypeJobRow) time.Time {
	return time.Now().Add(r.q.opt.Pause(job.Attempt))
}
