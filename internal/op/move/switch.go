package move

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"alibi/internal/dns"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/work"
)

// hold keeps visitors from writing, and waits for those who had begun.
func (x *runner) hold(ctx context.Context, t *work.Task) error {
	here, _, err := x.sides(ctx)
	if err != nil {
		return err
	}
	t.Memorize(func() {
		if x.mem.Held.IsZero() {
			x.mem.Held = x.env.Now()
		}
	})
	if err := t.Remember(); err != nil {
		return err
	}
	if here.Front == nil {
		err = x.env.Shut(ctx, x.run, here, site.Front{Kind: site.FrontMaintenance, At: x.env.Now(), By: x.run})
		if errors.Is(err, op.ErrNoNotice) {
			t.Note("visitors see it as it is: no notice can be put before this kind of site")
			return nil
		}
		if err != nil {
			return err
		}
	}
	return x.drain(ctx, t, here)
}

// A request that began before the notice stood goes on: grace is how long it may take from then until it is seen at the
// database, and longest how long those are waited for that are seen there.
const (
	grace   = 300 * time.Millisecond
	longest = 30 * time.Second
)

// drain waits until those who were connected to the site's database when the notice stood have gone.
func (x *runner) drain(ctx context.Context, t *work.Task, here site.Site) error {
	if err := pause(ctx, grace); err != nil || !here.Database.Served() {
		return err
	}
	began := x.env.Now()
	var first map[int64]bool
	for {
		others, err := x.env.Others(ctx, here)
		if err != nil {
			return fmt.Errorf("seeing who writes to the site still: %w", err)
		}
		left := 0
		now := map[int64]bool{}
		for _, id := range others {
			now[id] = true
			if first == nil || first[id] {
				left++
			}
		}
		if first == nil {
			first = now
		}
		if left == 0 {
			return nil
		}
		if x.env.Now().Sub(began) > longest {
			return fmt.Errorf("%s to its database, from before the notice, %s not end: see what they do, and switch "+
				"over again", site.Plural(int64(left), "connection", "connections"), site.Either(left == 1, "does", "do"))
		}
		t.Note("waiting for %s that had begun", site.Plural(int64(left), "request", "requests"))
		if err := pause(ctx, 50*time.Millisecond); err != nil {
			return err
		}
	}
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// prove sees whether the other place has all that the site has, while nobody can write. What somebody wrote all the
// same is brought too; who does not stop makes the run fail.
func (x *runner) prove(ctx context.Context, t *work.Task) error {
	for try := 1; ; try++ {
		wrong, err := x.behind(ctx, t)
		if err != nil {
			return err
		}
		if wrong == "" {
			break
		}
		if try == tries {
			return fmt.Errorf("%w: something writes to the site past the notice: %s", state.ErrDiffers, wrong)
		}
		t.Note("%s; bringing it again", wrong)
		if err := x.again(ctx, t); err != nil {
			return err
		}
	}
	_, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	x.count(t)
	return x.final(ctx, t, there)
}

// again takes back what this run brought, and brings all that differs.
func (x *runner) again(ctx context.Context, t *work.Task) error {
	_, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	if err := x.maker(there, nothing).RollBack(ctx); err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Memory = state.Memory{} })
	if err := t.Remember(); err != nil {
		return err
	}
	for _, step := range []work.Do{x.stage, x.tables, x.files} {
		if err := step(ctx, t); err != nil {
			return err
		}
	}
	return nil
}

// behind names the first part that the site has and the other place has not; "" if there is none.
func (x *runner) behind(ctx context.Context, t *work.Task) (string, error) {
	x.listing = nil
	var files, rows string
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() (err error) { files, err = x.filesBehind(ctx, t); return err })
	g.Go(func() (err error) { rows, err = x.rowsBehind(ctx, t); return err })
	err := g.Wait()
	return cmp.Or(files, rows), err
}

func (x *runner) filesBehind(ctx context.Context, t *work.Task) (string, error) {
	_, there, err := x.sides(ctx)
	if err != nil {
		return "", err
	}
	e, err := x.open(ctx, fileParts)
	if err != nil {
		return "", err
	}
	defer e.close()
	_, err = x.maker(there, fileParts).Compare(ctx, t, e.sides())
	if errors.Is(err, state.ErrDiffers) {
		return strings.TrimPrefix(err.Error(), state.ErrDiffers.Error()+": "), nil
	}
	return "", err
}

func (x *runner) rowsBehind(ctx context.Context, t *work.Task) (string, error) {
	here, _, err := x.sides(ctx)
	if err != nil || here.Database.Engine == "" {
		return "", err
	}
	var wrong []string
	err = x.env.Tables(ctx, here, func(_ stack.Stack, snap tables.Snapshot) error {
		now, err := tables.Quiet(ctx, snap)
		if err != nil {
			return err
		}
		wrong, err = differing(ctx, snap, x.mem.At, func(a plan.At) plan.Sum { return a.Site }, t,
			func(name string) bool { return tables.Same(x.mem.Quiet.Site[name], now[name]) })
		return err
	})
	if err != nil || len(wrong) > 0 {
		return strings.Join(wrong, ", "), err
	}
	return "", x.compareTables(ctx, t)
}

// names has visitors led to the other place.
func (x *runner) names(ctx context.Context, t *work.Task) error {
	m, err := x.env.Record.Move(ctx, x.c.Move)
	if err != nil || m.Names == nil || len(m.Names.Old) == 0 {
		return err
	}
	now, want := m.Names.To(!m.Moved)
	if err := x.env.Anchor(ctx, m.Names.All(), plan.Addresses(now)); err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Renamed = true })
	if err := t.Remember(); err != nil {
		return err
	}
	err = x.rename(ctx)
	if !errors.Is(err, dns.ErrByHand) {
		return err
	}
	if err := t.Gate(plan.Gate{Ask: "enter these records, then go on: " + setsText(want)}); err != nil {
		return err
	}
	for began := x.env.Now(); ; {
		if err := x.rename(ctx); !errors.Is(err, dns.ErrByHand) || x.env.Now().Sub(began) > entered {
			return err
		}
		t.Note("waiting until the zone's server says so")
		if err := pause(ctx, time.Second); err != nil {
			return err
		}
	}
}

// entered is how long is waited until a zone's server says what a person has entered.
const entered = 3 * time.Minute

func setsText(list []site.RecordSet) string {
	var out []string
	for _, r := range list {
		out = append(out, r.String())
	}
	return strings.Join(out, "; ")
}

// rename changes the names to lead to the other place.
func (x *runner) rename(ctx context.Context) error {
	m, err := x.env.Record.Move(ctx, x.c.Move)
	if err != nil {
		return err
	}
	was, want := m.Names.To(!m.Moved)
	return Rename(ctx, x.provider, *m.Names, was, want)
}

// renameBack changes the names back, if they lead to the other place. What somebody else has made of them stays.
func (x *runner) renameBack(ctx context.Context) error {
	m, err := x.env.Record.Move(ctx, x.c.Move)
	if err != nil {
		return err
	}
	_, servers, err := x.provider(m.Names.Zone)
	if err != nil || len(servers) == 0 {
		return errors.Join(errors.New("no server of zone "+m.Names.Zone+" is known"), err)
	}
	want, was := m.Names.To(!m.Moved)
	changed, err := asThere(ctx, servers[0], was, true)
	if err != nil || !changed {
		return err
	}
	return Rename(ctx, x.provider, *m.Names, was, want)
}

// Rename changes record sets of a zone, unless they are as wanted, and sees whether its server says so then.
func Rename(ctx context.Context, names Provider, n plan.Names, was, want []site.RecordSet) error {
	p, servers, err := names(n.Zone)
	if err != nil {
		return err
	}
	if len(servers) == 0 {
		return fmt.Errorf("no server of zone %s is known", n.Zone)
	}
	is, err := asThere(ctx, servers[0], want, n.ByHand)
	if err != nil || is {
		return err
	}
	if err := p.Change(ctx, n.Zone, was, want); err != nil {
		return err
	}
	if is, err = asThere(ctx, servers[0], want, false); err == nil && !is {
		err = fmt.Errorf("%s took the change of %s, and does not say so", servers[0], n.Zone)
	}
	return err
}

// asThere tells whether a server says what is wanted, with the lifetimes or with any.
func asThere(ctx context.Context, server dns.Server, want []site.RecordSet, any bool) (bool, error) {
	for _, w := range want {
		is, err := server.Set(ctx, w.Name, w.Type)
		if err != nil {
			return false, err
		}
		if !is.Same(w) || !any && len(w.Values) > 0 && is.TTL != w.TTL {
			return false, nil
		}
	}
	return true, nil
}

// swap has the record say that the site stands at the other place.
func (x *runner) swap(ctx context.Context, t *work.Task) error {
	t.Memorize(func() { x.mem.Swapped = true })
	if err := t.Remember(); err != nil {
		return err
	}
	now := x.env.Now()
	return x.env.Record.SwapPlaces(ctx, x.c.Move, x.run, func(m *plan.Move) error {
		m.Switches = append(m.Switches, plan.Switched{Run: x.run, At: now, Back: m.Moved, Held: now.Sub(x.mem.Held)})
		m.Moved, m.Watch, m.Files = !m.Moved, nil, ""
		m.Sums = map[string]plan.At{}
		for name, at := range x.mem.At {
			m.Sums[name] = plan.At{Site: at.Place, Place: at.Site}
		}
		q := x.mem.lastQuiet()
		m.Quiet = plan.Quiet{Site: q.Place, Place: q.Site}
		return nil
	})
}

// serve lets visitors in at the new place.
func (x *runner) serve(ctx context.Context, t *work.Task) error {
	ctx = context.WithoutCancel(ctx)
	here, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	if here.Front != nil {
		if err := x.env.Lift(ctx, x.run, here); err != nil {
			return err
		}
	}
	held := x.env.Now().Sub(x.mem.Held)
	if err := x.handOn(ctx, here, there); err != nil {
		return err
	}
	files, err := listed(ctx, x.env, there)
	if err != nil {
		return err
	}
	m, err := x.env.Record.ChangeMove(ctx, x.c.Move, func(m *plan.Move) error {
		if last := &m.Switches[len(m.Switches)-1]; last.Run == x.run {
			if here.Front == nil { // it served from the moment on in which the names were changed
				held = last.Held
			}
			last.Held = held
		}
		m.Files = files
		return nil
	})
	if err != nil {
		return err
	}
	if err := x.unmake(ctx, m); err != nil {
		return err
	}
	facts, err := x.env.Inspect(ctx, here.Host, here.Root, here.Stack)
	if err != nil {
		return fmt.Errorf("inspecting the site at its new place: %w", err)
	}
	_, err = x.env.Record.ChangeSite(ctx, here.ID, func(s *site.Site) error {
		if len(facts.Addresses) == 0 {
			facts.Addresses = s.Addresses
		}
		s.Facts, s.PlacedAt = facts, x.env.Now()
		return nil
	})
	if err != nil {
		return err
	}
	t.Result("it stands on %s; nobody could write for %s; %s", here.Host, site.Seconds(held), x.brought())
	t.Entry("moved from %s to %s on %s; nobody could write for %s", there.Host, here.Root, here.Host, site.Seconds(held))
	return nil
}

// handOn has who still comes to the old place handed on to the new one, where its address is known.
func (x *runner) handOn(ctx context.Context, here, there site.Site) error {
	m, err := x.env.Record.Move(ctx, x.c.Move)
	if err != nil || there.Front == nil {
		return err
	}
	if Redirects(m) {
		f := sent(here.Address(), there.Address())
		f.At, f.By = x.env.Now(), x.run
		return x.env.Shut(ctx, x.run, there, f)
	}
	to := m.Here().Web
	if len(to) == 0 && m.Names != nil && !m.Moved {
		for _, r := range m.Names.Old {
			if r.Name == here.Address().Host {
				to = append(to, r.Values...)
			}
		}
	}
	if len(to) == 0 {
		return nil
	}
	a := here.Address()
	tls := a.Scheme == "https"
	return x.env.Shut(ctx, x.run, there, site.Front{Kind: site.FrontMoved, At: x.env.Now(), By: x.run, To: to, TLS: tls,
		Port: cmp.Or(a.Port, site.Either(tls, "443", "80"))})
}
