package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"path"
	"slices"
	"strings"

	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/op/move"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// NewMove is what is told of a move that is to begin.
type NewMove struct {
	Site site.ID
	Name string // "": one is found
	Host string
	Root string // absolute, on that host; "": as where the site stands
	// Database is where the tables come; without a name one is made on the spot.
	Database     site.Database
	PasswordFile string   // of this machine, with the password of the account that owns that database
	Relay        string   // the address at which the folder answers, if its database is reached through a relay
	Web          []string // addresses of the internet protocol at which visitors reach the new web server
	// Address is where the site is to answer there; "": it keeps its own.
	Address string
	// Collations are those that tables are to get there in place of their own.
	Collations map[string]string
}

// All lists the sites that are on their way.
func (d *Moves) All(ctx context.Context) ([]plan.Move, error) { return d.record.Moves(ctx) }

// Find gives a move by its name, or by that of its site, if that has one only.
func (d *Moves) Find(ctx context.Context, name string) (plan.Move, error) {
	m, err := d.record.Move(ctx, name)
	if err == nil {
		return m, nil
	}
	all, aerr := d.record.Moves(ctx)
	if aerr != nil {
		return m, aerr
	}
	var found []plan.Move
	for _, one := range all {
		if s, serr := d.record.Site(ctx, one.Site); serr == nil && (s.Name == name || string(s.ID) == name) {
			found = append(found, one)
		}
	}
	if len(found) == 1 {
		return found[0], nil
	}
	return m, fmt.Errorf("%w; see: alibi moves", err)
}

// ErrMoved is given where a site is on its way already.
var ErrMoved = errors.New("it is on its way already")

// Begin saves a move, with what the destination lacks. Nothing is written anywhere but in the record.
func (d *Moves) Begin(ctx context.Context, n NewMove) (plan.Move, error) {
	s, err := d.fresh(ctx, n.Site)
	if err != nil {
		return plan.Move{}, err
	}
	all, err := d.record.Moves(ctx)
	if err != nil {
		return plan.Move{}, err
	}
	switch i := slices.IndexFunc(all, func(m plan.Move) bool { return m.Site == s.ID }); {
	case i >= 0:
		return all[i], fmt.Errorf("%s: %w: alibi move %s", s.Name, ErrMoved, all[i].Name)
	case s.Role != site.Live:
		return plan.Move{}, fmt.Errorf("%s is a copy: only live sites are moved; make a copy on another host instead: "+
			"alibi copy ORIGIN --host HOST", s.Name)
	case s.State != site.Ready:
		why, first := s.Unready()
		return plan.Move{}, fmt.Errorf("%s, so that it can't be moved now: %s", why, first)
	}
	if err := d.besides(ctx, s); err != nil {
		return plan.Move{}, err
	}
	if err := whole(&n.PasswordFile); err != nil {
		return plan.Move{}, err
	}
	m := plan.Move{Site: s.ID, Made: d.now(), By: d.who, PasswordFile: n.PasswordFile, Collations: n.Collations,
		From: plan.Stand{Host: s.Host, Root: s.Root, Database: s.Database}}
	place, err := d.place(ctx, s, n, &m)
	if err != nil {
		return m, err
	}
	m.Name = n.Name
	if m.Name == "" {
		label, _, _ := strings.Cut(s.Name, ".")
		m.Name = site.FreeName(site.Slug(label)+"-to-"+m.To.Host, func(name string) bool {
			return slices.ContainsFunc(all, func(o plan.Move) bool { return o.Name == name })
		})
	}
	if slices.ContainsFunc(all, func(o plan.Move) bool { return o.Name == m.Name }) {
		return m, fmt.Errorf("another move is called %s", m.Name)
	}
	if !move.Redirects(m) || m.To.Address.Host == s.Address().Host {
		if m.Names, err = d.findNames(ctx, s, m.To.Web); err != nil {
			return m, err
		}
	}
	if err := d.anchor(ctx, s, m); err != nil {
		return m, err
	}
	if m.Panel, err = d.findPanel(ctx, m, s); err != nil {
		return m, err
	}
	if err := d.record.NewMove(ctx, m, place); err != nil {
		return m, err
	}
	if err := d.log(ctx, s.ID, "move", "is to move to %s (%s)", m.To, m.Name); err != nil {
		return m, err
	}
	return d.Survey(ctx, m.Name)
}

// besides refuses a site in whose database copies have their tables: they would be left behind.
func (d *Moves) besides(ctx context.Context, s site.Site) error {
	all, err := d.record.Sites(ctx)
	if err != nil {
		return err
	}
	for _, c := range all {
		if c.Origin == s.ID && c.Database.Beside() {
			return fmt.Errorf("the tables of the copy %s stand in the database of %s: remove it first, or give it a database "+
				"of its own", c.Name, s.Name)
		}
	}
	return nil
}

// place is the site's other place, as the record has it while it is moved.
func (d *Moves) place(ctx context.Context, s site.Site, n NewMove, m *plan.Move) (site.Site, error) {
	out := site.Site{ID: site.NewID(), Role: site.Live, State: site.Aside, Client: s.Client, Owner: s.Owner,
		Host: cmp.Or(n.Host, d.config.Machine), Root: path.Clean(cmp.Or(n.Root, s.Root)), Stack: s.Stack,
		Addresses: s.Addresses, Title: s.Title, MadeAt: d.now()}
	out.Name = s.Name + " on " + out.Host
	h, err := d.host(ctx, out.Host)
	if err != nil {
		return out, err
	}
	known, err := d.record.Host(ctx, out.Host)
	if err != nil && out.Host != d.config.Machine {
		return out, err
	}
	if !strings.HasPrefix(out.Root, "/") {
		return out, fmt.Errorf("%q is no absolute path: name the document root on %s", n.Root, out.Host)
	}
	if err := d.besideCopies(ctx, out); err != nil {
		return out, err
	}
	if move.Contains(s, out) || move.Contains(out, s) {
		return out, fmt.Errorf("%s on %s is where %s stands, or a part of that: name another folder", out.Root, out.Host,
			s.Name)
	}
	all, err := d.record.Sites(ctx)
	if err != nil {
		return out, err
	}
	for _, o := range all {
		if move.Contains(o, out) || move.Contains(out, o) {
			return out, fmt.Errorf("%s stands in %s on %s: name another folder, or take that site out of the record "+
				"first, and what it has is kept as a restore point: alibi forget %s", o.Name, o.Root, o.Host, o.Name)
		}
	}
	if out.Relay, err = relayOf(known, n.Relay); err != nil {
		return out, err
	}
	if err := d.found(op.For(ctx, stack.Known{Relay: out.Relay}), h, s, &out, m); err != nil {
		return out, err
	}
	if !m.Own {
		if err := d.newDatabase(known.Server, s, n, &out, m); err != nil {
			return out, err
		}
	}
	for _, a := range n.Web {
		if net.ParseIP(a) == nil {
			return out, fmt.Errorf("%q is no address of the internet protocol, such as 192.0.2.7", a)
		}
	}
	m.Place, out.Web = out.ID, n.Web
	m.To = plan.Stand{Host: out.Host, Root: out.Root, Database: out.Database, Web: n.Web}
	return out, addressThere(s, n.Address, all, m, &out)
}

// addressThere has the site answer at another address at its new place.
func addressThere(s site.Site, typed string, all []site.Site, m *plan.Move, place *site.Site) error {
	if typed == "" {
		return nil
	}
	a, err := site.ParseAddress(typed)
	if err != nil {
		return err
	}
	if a == s.Address() {
		return nil
	}
	if s.Facts != nil && s.Facts.Network != nil {
		return fmt.Errorf("%s is a network: its address stays as it is in a move", s.Name)
	}
	for _, o := range all {
		if o.ID != s.ID && o.State != site.Gone && slices.Contains(o.Addresses, a) {
			return fmt.Errorf("%s answers at %s: name another address", o.Name, a)
		}
	}
	m.From.Address, m.To.Address, place.Addresses = s.Address(), a, []site.Address{a}
	return nil
}

// found sees what is at the new place already: nothing, or a site with a configuration of its own.
func (d *Moves) found(ctx context.Context, h host.Host, s site.Site, place *site.Site, m *plan.Move) error {
	root, err := h.Open(ctx, place.Root)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer root.Close()
	in, err := root.ReadDir(".")
	if err != nil || len(in) == 0 {
		return err
	}
	f, err := d.env.Inspect(ctx, place.Host, place.Root, "")
	if err != nil || f.Stack != s.Stack {
		return fmt.Errorf("%s on %s is not empty, and holds no site of the same kind that could be read: empty it, or name "+
			"another folder (%w)", place.Root, place.Host, errors.Join(err))
	}
	m.Own, m.Over = true, true
	place.Database, place.Facts = f.Database, f
	return nil
}

// newDatabase says where the tables come at a place that has no configuration.
func (d *Moves) newDatabase(on site.Server, s site.Site, n NewMove, place *site.Site, m *plan.Move) error {
	db := n.Database
	db.Engine, db.Prefix = s.Database.Engine, s.Database.Prefix
	switch {
	case s.Database.InFile():
		rel, inside := stack.Inside(s.Root, s.Database.Path)
		if !inside {
			return fmt.Errorf("the database %s lies outside of the site's folder: move it into that first", s.Database.Path)
		}
		db = site.Database{Engine: s.Database.Engine, Path: path.Join(place.Root, rel), Prefix: s.Database.Prefix}
	case !s.Database.Served():
		db = site.Database{}
	case db.Name != "":
		db.Server, db.User = cmp.Or(db.Server, "localhost"), cmp.Or(db.User, db.Name)
		if place.Host == s.Host && db.Name == s.Database.Name {
			return fmt.Errorf("the database %s is the site's own: name another one", db.Name)
		}
		if n.PasswordFile == "" {
			return fmt.Errorf("name a file with the password of %s, which owns the database %s: --database-password-file",
				db.User, db.Name)
		}
	default:
		if on.Address == "" && place.Host == d.config.Machine {
			on.Address = d.serverAddress()
		}
		if on.Address == "" {
			return fmt.Errorf("where on %s do the tables come? Name a database there (--database, --database-user, "+
				"--database-password-file), or a server on which one can be made: alibi host set %s --database ADDRESS "+
				"--database-user NAME", place.Host, place.Host)
		}
		m.Server = true
		db.Server, db.Name = on.Address, op.DatabaseName(*place)
		db.User = db.Name
	}
	place.Database = db
	return nil
}

// Collate chooses collations that tables are to get at the new place in place of their own, and sees again what that
// lacks.
func (d *Moves) Collate(ctx context.Context, name string, to map[string]string) (plan.Move, error) {
	_, err := d.record.ChangeMove(ctx, name, func(m *plan.Move) error {
		if m.Moved {
			return fmt.Errorf("%s stands on %s already: its tables have theirs", name, m.To.Host)
		}
		all := map[string]string{}
		maps.Copy(all, m.Collations)
		maps.Copy(all, to)
		m.Collations = all
		return nil
	})
	if err != nil {
		return plan.Move{}, err
	}
	return d.Survey(ctx, name)
}

// Survey sees again what the destination lacks.
func (d *Moves) Survey(ctx context.Context, name string) (plan.Move, error) {
	m, err := d.record.Move(ctx, name)
	if err != nil {
		return m, err
	}
	if m.Moved {
		return m, fmt.Errorf("%s stands on %s already: there is nothing to survey", name, m.To.Host)
	}
	v, err := move.Survey(ctx, d.env, m)
	if err != nil {
		return m, err
	}
	v.Findings = slices.Concat(v.Findings, d.aboutNames(ctx, m), d.aboutPanel(m))
	return d.record.ChangeMove(ctx, name, func(m *plan.Move) error {
		m.Survey = &v
		return nil
	})
}

// Plan says what going through a gate will do that is done by a run: carry, check, switch or clear. back is switch
// where the site has moved.
func (d *Moves) Plan(ctx context.Context, m plan.Move, leg string) (plan.Plan, error) {
	in := move.Input{Move: m, Now: d.now(), By: d.who}
	var err error
	if in.Site, err = d.fresh(ctx, m.Site); err != nil {
		return plan.Plan{}, err
	}
	if in.Place, err = d.record.Site(ctx, m.Place); err != nil {
		return plan.Plan{}, err
	}
	if err := d.mayPlan(m, leg); err != nil {
		return plan.Plan{}, err
	}
	switch leg {
	case plan.LegCarry:
		return move.PlanPass(in), nil
	case plan.LegCheck:
		return move.PlanCheck(in), nil
	case plan.LegSwitch, plan.LegBack:
		p := move.PlanSwitch(in)
		p.Findings = slices.Concat(p.Findings, d.writtenThere(ctx, m), d.unattached(ctx, m))
		if leg == plan.LegSwitch {
			p.Findings = append(p.Findings, uncertified(m)...)
		}
		p.Sort()
		return p, nil
	case plan.LegClear:
		in.Written = len(m.Passes) > 0 && len(d.writtenThere(ctx, m)) > 0
		return move.PlanClear(in), nil
	}
	return plan.Plan{}, fmt.Errorf("%q is no part of a move that is planned", leg)
}

// mayPlan says why a gate can't be gone through now.
func (d *Moves) mayPlan(m plan.Move, leg string) error {
	if !m.Cleared.IsZero() {
		return fmt.Errorf("%s is over: the other place is empty", m.Name)
	}
	if leg == plan.LegBack {
		if !m.Moved {
			return fmt.Errorf("%s stands where it was, on %s: there is nothing to go back from", m.Name, m.From.Host)
		}
		return nil
	}
	if leg == plan.LegClear && !m.Moved { // the move is given up
		if !m.Left() {
			return fmt.Errorf("nothing was brought to %s yet, so that nothing there is %s's to remove; to give it up: alibi "+
				"move %s forget", m.To, m.Name, m.Name)
		}
		return nil
	}
	if m.Moved && leg != plan.LegClear {
		return fmt.Errorf("%s stands on %s already; to go back: alibi move %s back", m.Name, m.To.Host, m.Name)
	}
	for _, l := range m.Legs(d.now()) {
		if l.Name == leg {
			break
		}
		if l.State != plan.Passed {
			return fmt.Errorf("%w: %s (%s)%s", ErrShut, l.Title, l.Name, site.Either(l.Why == "", "", ": "+l.Why))
		}
	}
	return nil
}

// ErrShut is given for a gate before which another one is not passed yet.
var ErrShut = errors.New("another gate comes first")

// writtenThere says what was written at the other place since both were the same.
func (d *Moves) writtenThere(ctx context.Context, m plan.Move) []site.Finding {
	list, err := move.Written(ctx, d.env, m)
	if err != nil {
		return []site.Finding{{Severity: site.Warn, Code: "written", Text: "what is at the other place can't be read: " +
			err.Error(), Remedy: "see that it is there"}}
	}
	if len(list) == 0 {
		return nil
	}
	return []site.Finding{{Severity: site.Warn, Code: "written", Text: "something was written at the other place since " +
		"both were the same: " + list[0], Remedy: "it goes; a restore point of it is taken first if the site comes back"}}
}

// Forget takes a move out of the record that is over, or of which nothing was brought yet.
func (d *Moves) Forget(ctx context.Context, name string) error {
	m, err := d.record.Move(ctx, name)
	if err != nil {
		return err
	}
	if m.Left() {
		return fmt.Errorf("%s: remove that first: alibi move %s clear", site.Either(len(m.Passes) == 0, "its names are "+
			"attached on "+m.There().Host+" still", "what was brought stands in "+m.There().String()+" still"), name)
	}
	place, err := d.record.Site(ctx, m.Place)
	if err != nil {
		return err
	}
	if place.Run != "" {
		return fmt.Errorf("a run (%s) of it is at work: wait for it or cancel it", place.Run)
	}
	if err := d.record.DropMove(ctx, name); err != nil {
		return err
	}
	return d.log(ctx, m.Site, "move", "the move %s is over", name)
}
