// Package keeper is the process that runs it all: it works on the queue, ends
// leases on time, and serves the copies. One keeper at a time has a home; who
// has it is told by a lock on a file, which the system lets go when the process
// ends, however it ends.
package keeper

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"alibi/internal/desk"
	"alibi/internal/gateway"
	"alibi/internal/inventory"
	"alibi/internal/op/remove"
	"alibi/internal/runtime/pool"
	"alibi/internal/runtime/process"
	"alibi/internal/site"
)

// ErrTaken is given when another process is the keeper of this home.
var ErrTaken = errors.New("another Alibi process is the keeper of this home")

// Keeper works for one home.
type Keeper struct {
	desk *desk.Desk
	lock *os.File
	ln   net.Listener
	// Sweep is how often leases are looked at.
	Sweep time.Duration

	looking sync.Mutex // one look at the leases at a time
	last    struct {
		wall, steady time.Time
	}
	warned map[site.ID]time.Time
	pool   *pool.Pool
}

// Take becomes the keeper of the desk's home: the lock and the gateway's port
// are had when it returns.
func Take(d *desk.Desk) (*Keeper, error) {
	f, err := os.OpenFile(filepath.Join(d.Home(), "keeper.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("taking the keeper's lock: %w", err)
	}
	if err := take(f, d.Home()); err != nil {
		f.Close()
		return nil, err
	}
	if err := desk.EnsureRunDir(d.Home()); err != nil {
		f.Close()
		return nil, err
	}
	k := &Keeper{desk: d, lock: f, Sweep: 2 * time.Second, warned: map[site.ID]time.Time{},
		pool: &pool.Pool{Run: desk.RunDir(d.Home()), Log: d.Workings().Log, PHP: d.PHP, Local: d.Config().Machine,
			Hosts: d.Workings().Hosts, Sealed: d.Workings().Env.Sealed, Behind: d.Workings().Env.Behind}}
	d.Workings().Env.Stop = k.pool.Stop
	if k.ln = d.TakePort(); k.ln == nil {
		if k.ln, err = gateway.Listen(d.Workings().Env.Port); err != nil {
			f.Close()
			return nil, err
		}
	}
	return k, nil
}

// take locks the keeper's file. A program that was just being started by a keeper that died can have the lock for a
// moment more, and is waited for.
func take(f *os.File, home string) error {
	for until := time.Now().Add(5 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
			return nil
		}
		if pid := holder(home); pid > 0 && unix.Kill(pid, 0) == nil {
			return fmt.Errorf("%w: %s", ErrTaken, Holder(home))
		}
		if time.Now().After(until) {
			return ErrTaken
		}
	}
}

// Taken tells whether some process is the keeper of a home.
func Taken(home string) bool {
	f, err := os.OpenFile(filepath.Join(home, "keeper.lock"), os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB) != nil
}

// Run works until the context ends. Runs under way are then left as they are,
// to be taken up again by the next keeper.
func (k *Keeper) Run(ctx context.Context) error {
	defer k.lock.Close()
	d := k.desk
	process.Gentle()
	for _, p := range d.Workings().Env.DeadTemps() {
		if err := os.RemoveAll(p); err != nil {
			d.Workings().Log.Warn("clearing what a dead process left", "err", err)
		}
	}
	// Before any run is taken up: what still runs of a dead keeper's copies may write
	// to them.
	all, err := d.Workings().Record.Sites(ctx)
	if err != nil {
		k.ln.Close()
		return err
	}
	k.pool.Reap(all)
	if err := d.Workings().Queue.Start(ctx); err != nil {
		k.ln.Close()
		return err
	}
	defer k.pool.Close()
	g := &gateway.Gateway{
		Sites:  d.Workings().Record.Listed,
		Used:   k.used,
		Run:    k.run,
		Trying: k.pool.Trying,
		Behind: d.Workings().Env.Behind,
		Secret: d.Workings().Secret,
		Port:   d.Workings().Env.Port,
		Now:    d.Now,
		Log:    d.Workings().Log,
	}
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() error { return g.Serve(gctx, k.ln) })
	group.Go(func() error { return k.sweepOn(gctx) })
	err = group.Wait()
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	return errors.Join(err, d.Workings().Queue.Stop(stop))
}

// run gives a running copy.
func (k *Keeper) run(ctx context.Context, s site.Site) (gateway.Dialer, error) {
	if s.Host == k.desk.Config().Machine {
		if _, err := k.desk.Workings().Env.Server(ctx, s.Host); err != nil {
			return nil, err
		}
	}
	w, err := k.pool.Get(ctx, s)
	if err != nil {
		return nil, err
	}
	return w.Dial, nil
}

// used notes a latchkey's nonce and tells whether it was noted before.
func (k *Keeper) used(ctx context.Context, nonce string) (bool, error) {
	v, err := k.desk.Workings().Record.Note(ctx, "key "+nonce)
	if err != nil || v != "" {
		return true, err
	}
	return false, k.desk.Workings().Record.SetNote(ctx, "key "+nonce, k.desk.Now().Format(time.RFC3339))
}

func (k *Keeper) sweepOn(ctx context.Context) error {
	for {
		if err := k.Leases(ctx); err != nil && ctx.Err() == nil {
			k.desk.Workings().Log.Error("looking at leases", "err", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(k.Sweep):
		}
	}
}

// jumped tells whether the clock was set, or the machine slept, since the last look.
func (k *Keeper) jumped(now time.Time) bool {
	steady := time.Now()
	wall := now.Round(0)
	defer func() { k.last.wall, k.last.steady = wall, steady }()
	if k.last.wall.IsZero() {
		return false
	}
	drift := wall.Sub(k.last.wall) - steady.Sub(k.last.steady)
	return drift > time.Minute || drift < -time.Minute
}

// Leases looks at every copy's lease once: warns of ends that are near, takes
// copies off the air whose time is over, removes those whose grace is over too.
// Nothing is removed in the look in which its end is first noticed, nor in one
// before which the clock jumped.
func (k *Keeper) Leases(ctx context.Context) error {
	k.looking.Lock()
	defer k.looking.Unlock()
	d := k.desk
	now := d.Now()
	if k.jumped(now) {
		d.Workings().Log.Warn("the clock jumped; leases are looked at again in a moment")
		return nil
	}
	all, err := d.Workings().Record.Listed(ctx)
	if err != nil {
		return err
	}
	k.pool.Sweep(all)
	var errs []error
	for _, s := range all {
		if s.Role == site.Copy && s.Run == "" {
			errs = append(errs, k.lease(ctx, s, now))
			k.recount(ctx, s, now)
		}
		if s.Keep != (site.KeepRule{}) && s.Run == "" && (s.State == site.Ready || s.State == site.Parked) {
			errs = append(errs, d.Points.KeepOnSchedule(ctx, s))
		}
	}
	return errors.Join(errs...)
}

func (k *Keeper) lease(ctx context.Context, s site.Site, now time.Time) error {
	d := k.desk
	switch phase := s.Lease.Phase(now); {
	case s.State == site.Expired && s.Lease.Ends.After(now):
		_, err := remove.BringBack(ctx, d.Workings().Env, s.ID, s.Lease.Ends.Sub(now), "keeper (the clock was wrong)")
		return err
	case phase == site.Over && s.State != site.Expired:
		_, err := remove.Expire(ctx, d.Workings().Env, s.ID, "keeper", "its time was over")
		return err
	case phase == site.Done && s.State == site.Expired:
		p, err := remove.Plan(d.Workings().Env, s, 0)
		if err != nil {
			return err
		}
		p.Ends = true
		_, err = d.Workings().Queue.Add(ctx, p, "keeper", "")
		if errors.Is(err, inventory.ErrClaimed) {
			return nil // in a later look
		}
		return err
	case phase == site.Ending && s.State == site.Ready:
		return k.warn(ctx, s, now)
	}
	return nil
}

// recountAfter is how long a count of changes is good for, if the copy changed.
const recountAfter = 30 * time.Second

// recount counts anew how far a copy and its origin are apart, if somebody
// wrote to the copy's database since the last count. Copies that nobody works
// on cost their origins nothing.
func (k *Keeper) recount(ctx context.Context, s site.Site, now time.Time) {
	if s.State != site.Ready || now.Sub(s.Apart.At) < recountAfter {
		return
	}
	fi, err := os.Stat(s.Database.Path)
	if err != nil || !fi.ModTime().After(s.Apart.At) {
		return
	}
	if _, err := k.desk.Copies.Apart(ctx, s.ID); err != nil {
		k.desk.Workings().Log.Warn("counting changes", "site", s.Name, "err", err)
	}
}

// warn notes once that an end is near, and what would be lost by it.
func (k *Keeper) warn(ctx context.Context, s site.Site, now time.Time) error {
	if k.warned[s.ID].Equal(s.Lease.Ends) {
		return nil
	}
	k.warned[s.ID] = s.Lease.Ends
	key := "warned " + string(s.ID)
	if v, err := k.desk.Workings().Record.Note(ctx, key); err != nil || v == s.Lease.Ends.UTC().Format(time.RFC3339) {
		return err
	}
	text := "ends in " + site.Span(s.Lease.Left(now))
	if apart, err := k.desk.Copies.Apart(ctx, s.ID); err == nil && apart.Copy > 0 {
		text += fmt.Sprintf("; %d changes made here are nowhere else", apart.Copy)
	}
	if err := k.desk.Workings().Record.Log(ctx, inventory.Event{At: now, Who: "keeper", Site: s.ID, Kind: "ending",
		Text: text}); err != nil {
		return err
	}
	return k.desk.Workings().Record.SetNote(ctx, key, s.Lease.Ends.UTC().Format(time.RFC3339))
}
