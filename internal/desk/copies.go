package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"alibi/internal/gateway"
	"alibi/internal/op"
	"alibi/internal/op/clone"
	"alibi/internal/op/remove"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/work"
)

// Inspect brings a site's facts up to date.
func (d *Fleet) Inspect(ctx context.Context, id site.ID) (site.Site, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return s, err
	}
	f, err := d.env.Inspect(ctx, s.Host, s.Root, s.Stack)
	if err != nil {
		return s, err
	}
	return d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		if f.PHP == "" && s.Facts != nil {
			f.PHP = s.Facts.PHP
		}
		if s.Role == site.Copy && s.Facts != nil {
			f.PHP, f.PHPAsked = s.Facts.PHP, s.Facts.PHPAsked // what it was seen to run on, else what its origin does
		}
		if len(f.Addresses) == 0 {
			f.Addresses = s.Addresses
		}
		s.Facts, s.Title = f, f.Title
		return nil
	})
}

// CopyDefaults are the choices that give the usual copy of a site.
func (d *Copies) CopyDefaults(ctx context.Context, origin site.Site, purpose string) (clone.Choices, error) {
	all, err := d.record.Sites(ctx)
	if err != nil {
		return clone.Choices{}, err
	}
	c := clone.Defaults(origin, purpose, d.config.Machine, nameTaken(all))
	c.Lease = d.lease
	c.Runtime.Bounds = d.config.Runtime.Bounds
	return c, nil
}

// maxFactsAge is from when a plan is not made on old facts.
const maxFactsAge = 10 * time.Minute

// fresh gives a site with facts that are not old.
func (d *core) fresh(ctx context.Context, id site.ID) (site.Site, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil || s.Facts != nil && d.now().Sub(s.Facts.At) < maxFactsAge {
		return s, err
	}
	return d.fleet.Inspect(ctx, id)
}

// CopyInput gathers everything that a plan of a copy is made of. The plan
// itself is then clone.Plan, which may be called again with other choices
// without any I/O.
func (d *Copies) CopyInput(ctx context.Context, origin site.ID) (clone.Input, error) {
	s, err := d.record.Site(ctx, origin)
	if err == nil && s.State != site.Ready && s.State != site.Parked { // what is not whole can't be inspected either
		err = notNow(s)
	}
	if err != nil {
		return clone.Input{}, err
	}
	if s, err = d.fresh(ctx, origin); err != nil {
		return clone.Input{}, err
	}
	in, err := d.copyInput(ctx, s)
	if err != nil {
		return in, err
	}
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return in, err
	}
	in.Media = stack.LayoutOf(st).Uploads
	return in, nil
}

// onlyCopies says why something can't be done with a site that is done with copies that answer.
func onlyCopies(s site.Site, done string) error {
	why, first := s.Unready()
	if s.Role != site.Copy {
		why, first = s.Name+" is a live site", "make a copy of it: alibi copy "+s.Name
	}
	return fmt.Errorf("%s, and only a copy that answers can be %s; %s", why, done, first)
}

// notNow says why a site can't be copied now, and what to do.
func notNow(s site.Site) error {
	why, first := s.Unready()
	return fmt.Errorf("%s, so that it can't be copied now: %s", why, first)
}

func (d *core) copyInput(ctx context.Context, origin site.Site) (clone.Input, error) {
	in := clone.Input{
		Origin: origin,
		Local:  d.config.Machine,
		Places: map[string]clone.Place{},
		Port:   d.env.Port,
		Grace:  d.env.Grace,
		Quota:  d.config.Quota,
		By:     d.who,
		Now:    d.now(),
	}
	if in.Origin.State != site.Ready && in.Origin.State != site.Parked {
		return in, notNow(in.Origin)
	}
	all, err := d.record.Sites(ctx)
	if err != nil {
		return in, err
	}
	in.Taken = nameTaken(all)
	if in.Pins, err = d.pinned(); err != nil {
		return in, err
	}
	in.Use = use(all, origin.ID)
	if in.Past, err = d.record.Runs(ctx, 200); err != nil {
		return in, err
	}
	return in, d.places(ctx, &in)
}

// places says where copies may be made. Machines other than this one are not
// asked for anything: what is known of them must do for a plan.
func (d *core) places(ctx context.Context, in *clone.Input) error {
	hosts, err := d.fleet.Hosts(ctx)
	if err != nil {
		return err
	}
	for _, h := range hosts {
		pl := clone.Place{Folder: h.Copies, Server: h.Server.Address}
		if h.Name == d.config.Machine {
			pl.Folder = filepath.Join(d.home(), "copies")
			m, err := d.host(ctx, h.Name)
			if err != nil {
				return err
			}
			if pl.Free, err = m.Free(ctx, d.home()); err != nil {
				return err
			}
			pl.Server = d.serverAddress()
			for _, v := range d.php() {
				pl.PHP = append(pl.PHP, v.Series())
			}
		} else if h.Name == in.Origin.Host && in.Origin.Facts != nil {
			pl.Free = in.Origin.Facts.Free
		}
		if pl.Server == "" {
			pl.NoServer = op.ErrNoServer.Error()
		}
		pl.Unsealed, pl.Closed = cmp.Or(d.env.Unsealed(h.Name), h.Open), d.env.Sealed
		in.Places[h.Name] = pl
	}
	return nil
}

func use(all []site.Site, origin site.ID) site.Use {
	u := site.Use{Hosts: map[string]site.Bound{}}
	for _, s := range all {
		if s.Role == site.Copy {
			u.Copies++
			u.Bytes += s.Bytes()
			on := u.Hosts[s.Host]
			u.Hosts[s.Host] = site.Bound{Copies: on.Copies + 1, Bytes: on.Bytes + s.Bytes()}
			if s.Origin == origin {
				u.OfOrigin++
			}
		}
	}
	return u
}

// PlanCopy says what copying a site with these choices will do.
func (d *Copies) PlanCopy(ctx context.Context, origin site.ID, c clone.Choices) (plan.Plan, error) {
	in, err := d.CopyInput(ctx, origin)
	if err != nil {
		return plan.Plan{}, err
	}
	return d.PlanFrom(in, c), nil
}

// PlanFrom makes the plan from what CopyInput gathered.
func (d *Copies) PlanFrom(in clone.Input, c clone.Choices) plan.Plan {
	in.Choices = c
	return clone.Plan(in)
}

// RefreshInput gathers what a plan of bringing a copy in line is made of, with
// the choices that made the copy.
func (d *Copies) RefreshInput(ctx context.Context, id site.ID) (clone.Input, clone.Choices, error) {
	return d.refreshInput(ctx, id, func(s site.Site) (clone.Input, error) { return d.CopyInput(ctx, s.Origin) })
}

func (d *core) refreshInput(
	ctx context.Context,
	id site.ID,
	gather func(site.Site) (clone.Input, error),
) (clone.Input, clone.Choices, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return clone.Input{}, clone.Choices{}, err
	}
	if s.Role != site.Copy || s.State != site.Ready {
		return clone.Input{}, clone.Choices{}, onlyCopies(s, "brought in line with its origin")
	}
	if s.Origin == "" {
		return clone.Input{}, clone.Choices{},
			fmt.Errorf("%s was %w: there is nothing to bring it in line with; clean it instead: alibi reset %s", s.Name,
				ErrNoOrigin, s.Name)
	}
	apart := make(chan *site.Apart, 1)
	go func() { // both take a while
		a, err := d.copies.Apart(ctx, id)
		apart <- site.Either(err == nil, &a, nil)
	}()
	in, err := gather(s)
	in.Over, in.Lost = &s, <-apart
	if err != nil {
		return in, clone.Choices{}, err
	}
	c, err := d.choices(ctx, s)
	in.Made = &c
	return in, c, err
}

// choices are those of the run that made or last refreshed a copy.
func (d *core) choices(ctx context.Context, s site.Site) (clone.Choices, error) {
	runs, err := d.record.RunsOf(ctx, s.ID)
	if err != nil {
		return clone.Choices{}, err
	}
	for _, r := range runs {
		if r.Plan.Target.ID == s.ID && (r.Plan.Kind == plan.Copy || r.Plan.Kind == plan.Refresh) {
			_, c, err := clone.ChoicesOf(r.Plan)
			c.Fresh = false // that was for one time
			return c, err
		}
	}
	return clone.Choices{Name: s.Name, Purpose: s.Purpose, Quiet: s.Quiet, Title: true, Lease: d.lease}, nil
}

// PlanRefresh says what bringing a copy in line with its origin will do.
func (d *Copies) PlanRefresh(ctx context.Context, id site.ID) (plan.Plan, error) {
	return d.planRefresh(ctx, id, false)
}

// PlanFreshRefresh is PlanRefresh, and everything is read, whatever sizes and times say.
func (d *Copies) PlanFreshRefresh(ctx context.Context, id site.ID) (plan.Plan, error) {
	return d.planRefresh(ctx, id, true)
}

func (d *core) planRefresh(ctx context.Context, id site.ID, fresh bool) (plan.Plan, error) {
	in, c, err := d.copies.RefreshInput(ctx, id)
	if err != nil {
		return plan.Plan{}, err
	}
	c.Fresh = fresh
	return d.copies.PlanFrom(in, c), nil
}

// ErrNoOrigin is given for a site that is a copy of nothing.
var ErrNoOrigin = errors.New("made without an origin")

// ErrNotTyped is given where a plan may only be carried out once a name was typed.
var ErrNotTyped = work.ErrNoConsent

// Obstacle says why a plan can't be carried out.
func Obstacle(p plan.Plan) error {
	return fmt.Errorf("the plan can't be carried out: %s; %s", p.Findings[0].Text, p.Findings[0].Remedy)
}

// Extend gives a copy more time. A held copy has no end: to give it one ends the
// hold, for which typed must be its name.
func (d *Copies) Extend(ctx context.Context, id site.ID, by time.Duration, typed string) (site.Site, error) {
	ends := ""
	s, err := d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		switch {
		case s.Role != site.Copy:
			return fmt.Errorf("%s is a live site: it has no lease", s.Name)
		case s.State == site.Expired:
			return fmt.Errorf("%s has expired; bring it back instead: alibi bring-back %s", s.Name, s.Name)
		case s.Lease.Held && typed != s.Name:
			return fmt.Errorf("%w: %s is held, by %s: %s. To give it an end ends that, and its name must be typed: %s",
				ErrNotTyped, s.Name, s.Lease.By, s.Lease.Reason, s.Name)
		case s.Lease.Held:
			ends = "; it was held: " + s.Lease.Reason
		}
		s.Lease = s.Lease.Extend(d.now(), by)
		return nil
	})
	if err != nil {
		return s, err
	}
	return s, d.log(ctx, id, "extend", "extended by %s%s", site.Span(by), ends)
}

// Hold takes the end of a copy's lease away, for a reason.
func (d *Copies) Hold(ctx context.Context, id site.ID, reason string) (site.Site, error) {
	s, err := d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		if s.Role != site.Copy || s.State == site.Expired {
			return onlyCopies(*s, "held")
		}
		l, err := s.Lease.Hold(reason, d.who)
		s.Lease = l
		return err
	})
	if err != nil {
		return s, err
	}
	return s, d.log(ctx, id, "hold", "held: %s", reason)
}

// Expire takes a copy off the air now; it can be brought back for a while. Where
// something would be lost by it, typed must be the copy's name.
func (d *Copies) Expire(ctx context.Context, id site.ID, typed string) (site.Site, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return s, err
	}
	if why := d.fleet.Precious(ctx, s); why != "" && typed != s.Name {
		return s, fmt.Errorf("%w: %s, and its name must be typed: %s", ErrNotTyped, why, s.Name)
	}
	return remove.Expire(ctx, d.env, id, d.who, "expired by hand")
}

// BringBack puts an expired copy on the air again; 0 is the usual lifetime.
func (d *Copies) BringBack(ctx context.Context, id site.ID, lease time.Duration) (site.Site, error) {
	if lease == 0 {
		lease = d.lease
	}
	return remove.BringBack(ctx, d.env, id, lease, d.who)
}

// PlanRemove says what removing a copy for good will do.
func (d *Copies) PlanRemove(ctx context.Context, id site.ID) (plan.Plan, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return plan.Plan{}, err
	}
	changes := s.Apart.Copy
	if a, err := d.Apart(ctx, id); err == nil {
		changes = a.Copy
	}
	return remove.Plan(d.env, s, changes)
}

// Leftovers lists what Alibi made and nothing needs any more.
func (d *Fleet) Leftovers(ctx context.Context) ([]remove.Leftover, error) {
	return remove.Leftovers(ctx, d.env)
}

// ClearLeftovers removes them.
func (d *Fleet) ClearLeftovers(ctx context.Context, list []remove.Leftover) error {
	return remove.Clear(ctx, d.env, list, d.who)
}

// Latchkey is an address that signs in once to a copy's inside, as an account
// or as the first one with a role ("" is the first administrator).
func (d *Copies) Latchkey(ctx context.Context, id site.ID, account string) (string, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return "", err
	}
	if s.Role != site.Copy || s.State != site.Ready {
		return "", onlyCopies(s, "signed in to")
	}
	if s.Stack != "wordpress" {
		return "", fmt.Errorf("%s is a %s site: Alibi knows of no accounts in it", s.Name, s.Stack)
	}
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return "", err
	}
	p, err := d.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return "", err
	}
	defer p.Root.Close()
	list, err := stack.ReadAccounts(ctx, st, p, s.Database)
	if err != nil {
		return "", err
	}
	var have []string
	for _, a := range list {
		if account == "" || a.Login == account || slices.Contains(a.Roles, account) {
			return gateway.Latchkey(d.secret, s, a.Login, d.now()), d.log(ctx, id, "latchkey", "made to sign in as %s",
				a.Login)
		}
		have = append(have, a.Login)
	}
	return "", fmt.Errorf("%s has no account and no role %q; it has %s", s.Name, account, strings.Join(have, ", "))
}
