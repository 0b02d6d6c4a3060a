package desk

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/relay"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// Site finds a site by its ID, also one that is gone.
func (d *Fleet) Site(ctx context.Context, id site.ID) (site.Site, error) {
	return d.record.Site(ctx, id)
}

// Sites lists all sites that are not gone, by name.
func (d *Fleet) Sites(ctx context.Context) ([]site.Site, error) { return d.record.Sites(ctx) }

// NewSite is what is told of a live site that is to be added.
type NewSite struct {
	Host, Root, Name string
	Address          string // "" takes what the site says of itself
	Database         string // of those that its configuration names; "": the one that it is found to use
	Client, Owner    string
	// Relay is the address at which the folder answers, if its database is to be reached through a relay; "": it is
	// reached as the site reaches it.
	Relay string
}

// shown takes what is not told of a site from its host, where that is known by the site.
func (d *Fleet) shown(ctx context.Context, n *NewSite) error {
	kept, err := d.record.Host(ctx, n.Host)
	if err == nil && kept.BySite() && n.Root == "" { // a host that is not known is said where it is asked for
		h, err := d.host(ctx, n.Host)
		if err == nil {
			n.Root, err = host.Start(ctx, h)
		}
		if err != nil {
			return err
		}
	}
	n.Relay, err = relayOf(kept, n.Relay)
	return err
}

// relayOf is the address at which a folder on a host answers for a relay: the one that was named, or that of the site
// by which the host is known.
func relayOf(h inventory.Host, named string) (string, error) {
	if named == "" && h.BySite() {
		h.User = ""
		named = h.Where() + site.Either(h.Pin == "", "", "#"+h.Pin)
	}
	if named == "" {
		return "", nil
	}
	_, _, err := relay.ParseAddress(named)
	return named, err
}

// AddSite inspects a folder and adds the live site in it.
func (d *Fleet) AddSite(ctx context.Context, n NewSite) (site.Site, error) {
	if n.Host == "" {
		n.Host = d.config.Machine
	}
	if err := d.shown(ctx, &n); err != nil {
		return site.Site{}, err
	}
	if !strings.HasPrefix(n.Root, "/") {
		return site.Site{}, fmt.Errorf("%q is no absolute path: name the document root on %s, such as /srv/www/example",
			n.Root, n.Host)
	}
	err := d.besideCopies(ctx, site.Site{Host: n.Host, Root: n.Root})
	if err != nil {
		return site.Site{}, err
	}
	k := stack.Known{Database: n.Database, Relay: n.Relay}
	var given []site.Address
	if n.Address != "" {
		a, err := site.ParseAddress(n.Address)
		if err != nil {
			return site.Site{}, err
		}
		k.HostPort, given = a.HostPort(), []site.Address{a}
	}
	f, err := d.env.Inspect(op.For(ctx, k), n.Host, n.Root, "")
	if errors.Is(err, host.ErrNoForward) || errors.Is(err, host.ErrNoConnect) {
		return site.Site{}, fmt.Errorf("%w; where a database can't be reached from here, name the address at which the "+
			"folder answers, and it is reached through a PHP file that is put there for that time: --relay https://ADDRESS", err)
	}
	if err != nil {
		return site.Site{}, err
	}
	if n.Database != "" && n.Database != f.Database.Name {
		return site.Site{}, fmt.Errorf(
			"the site's configuration does not name a database %q: as it reads, the site uses %s; name that one, or "+
				"leave the database out",
			n.Database,
			f.Database.Text(),
		)
	}
	s := site.Site{
		ID:        site.NewID(),
		Name:      n.Name,
		Role:      site.Live,
		State:     site.Ready,
		Client:    n.Client,
		Owner:     n.Owner,
		Host:      n.Host,
		Root:      filepath.Clean(n.Root),
		Stack:     f.Stack,
		Addresses: f.Addresses,
		Database:  f.Database,
		Title:     f.Title,
		Relay:     n.Relay,
		MadeAt:    d.now(),
		Facts:     f,
	}
	s.Addresses = append(given, s.Addresses...)
	f.Addresses = s.Addresses
	if len(s.Addresses) == 0 {
		return s, fmt.Errorf("this %s site does not say at which address it answers: name it with --address", f.Stack)
	}
	all, err := d.record.Sites(ctx)
	if err != nil {
		return s, err
	}
	for _, o := range all {
		if o.Host == s.Host && o.Root == s.Root {
			return s, fmt.Errorf("%s on %s is in the record already, as %s", s.Root, s.Host, o.Name)
		}
	}
	if s.Name == "" {
		s.Name = site.FreeName(s.Address().Short(), nameTaken(all))
	}
	if nameTaken(all)(s.Name) {
		return s, fmt.Errorf("the name %q is in use; try %q", s.Name, site.FreeName(s.Name, nameTaken(all)))
	}
	if err := d.record.PutSite(ctx, s); err != nil {
		return s, err
	}
	return s, d.log(ctx, s.ID, "add", "added as live: %s, %s", f.Stack, s.Address())
}

// Forget takes a live site out of the record. Nothing of it is touched.
func (d *Fleet) Forget(ctx context.Context, id site.ID) error {
	all, err := d.record.Sites(ctx)
	if err != nil {
		return err
	}
	for _, c := range all {
		if c.Origin == id {
			return fmt.Errorf("%s is a copy of it: remove its copies first", c.Name)
		}
	}
	moves, err := d.record.Moves(ctx)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(moves, func(m plan.Move) bool { return m.Site == id }); i >= 0 {
		return fmt.Errorf("it is on its way to another place: end that first: alibi move %s", moves[i].Name)
	}
	_, err = d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		if s.Role != site.Live {
			return fmt.Errorf("%s is a copy: remove it instead", s.Name)
		}
		s.State = site.Gone
		return nil
	})
	if err != nil {
		return err
	}
	return d.log(ctx, id, "forget", "taken out of the record; the site itself was not touched")
}

// SetOwner says who answers for a site.
func (d *Fleet) SetOwner(ctx context.Context, id site.ID, owner string) (site.Site, error) {
	s, err := d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		s.Owner = strings.TrimSpace(owner)
		return nil
	})
	if err != nil {
		return s, err
	}
	return s, d.log(ctx, id, "owner", "%s answers for it", s.Owner)
}

func nameTaken(all []site.Site) func(string) bool {
	m := make(map[string]bool, len(all))
	for _, s := range all {
		m[s.Name] = true
	}
	return func(n string) bool { return m[n] }
}

// ErrAmbiguous is given for a name that several sites have.
var ErrAmbiguous = errors.New("it is said of several sites")

// Find gives the site that a person names: by its name or ID, else by its
// address, else by a part of one of these. What fits several sites is refused
// with the choices.
func (d *Fleet) Find(ctx context.Context, what string) (site.Site, error) {
	all, err := d.record.Sites(ctx)
	if err != nil {
		return site.Site{}, err
	}
	address := strings.TrimRight(what, "/")
	for _, fits := range []func(site.Site) bool{
		func(s site.Site) bool { return string(s.ID) == what },
		func(s site.Site) bool { return s.Name == what },
		func(s site.Site) bool { return s.Address().Short() == address || s.Address().String() == address },
		func(s site.Site) bool {
			return what != "" && (strings.Contains(s.Name, what) || strings.Contains(s.Address().String(), what))
		},
	} {
		var found []site.Site
		for _, s := range all {
			if fits(s) {
				found = append(found, s)
			}
		}
		switch {
		case len(found) == 1:
			return found[0], nil
		case len(found) > 1:
			return site.Site{}, fmt.Errorf("%q fits %d sites: %s; say which by its name: %w", what, len(found),
				choices(found), ErrAmbiguous)
		}
	}
	return site.Site{}, fmt.Errorf("no site is called %q: %w; see: alibi list", what, inventory.ErrUnknown)
}

// choices names sites so that one can be chosen.
func choices(list []site.Site) string {
	var out []string
	for _, s := range list[:min(5, len(list))] {
		out = append(out, fmt.Sprintf("%s (%s, on %s)", s.Name, s.Role, s.Host))
	}
	sort.Strings(out)
	return strings.Join(out, ", ")
}
