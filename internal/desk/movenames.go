package desk

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"alibi/internal/dns"
	"alibi/internal/gateway"
	"alibi/internal/op/move"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// short is how long others may keep names while a site is moved.
const short = time.Minute

// zone finds the configured zone that a name is in.
func (d *core) zone(name string) (Zone, bool) {
	var best Zone
	for _, z := range d.config.Names {
		if n := strings.TrimSuffix(z.Zone, "."); name == n || strings.HasSuffix(name, "."+n) {
			if len(n) > len(best.Zone) {
				best = z
			}
		}
	}
	return best, best.Zone != ""
}

// provider gives who changes a zone, and the servers that are responsible for it, the one that is asked first.
func (d *core) provider(zone string) (dns.Provider, []dns.Server, error) {
	z, known := d.zone(zone)
	if !known || z.Server == "" {
		r, err := dns.Resolver()
		if err != nil {
			return nil, nil, err
		}
		_, servers, err := dns.Responsible(context.Background(), r, zone)
		return dns.ByHand{}, servers, err
	}
	servers := []dns.Server{dns.Server(z.Server)}
	if z.Key == "" {
		return dns.ByHand{}, servers, nil
	}
	secret, err := d.safe().Read(z.KeyFile)
	if err != nil {
		return nil, nil, fmt.Errorf("reading the key of zone %s: %w", zone, err)
	}
	return dns.Updater{Server: servers[0], Key: dns.Key{Name: z.Key, Algorithm: z.Algorithm, Secret: secret}}, servers, nil
}

// findNames reads the records by which visitors come to a site, and says what they are to be; nil where no new address
// is told.
func (d *Moves) findNames(ctx context.Context, s site.Site, web []string) (*plan.Names, error) {
	if len(web) == 0 {
		return nil, nil
	}
	n := &plan.Names{Zone: s.Address().Host}
	if z, known := d.zone(n.Zone); known {
		n.Zone = strings.TrimSuffix(z.Zone, ".")
	} else if r, err := dns.Resolver(); err == nil {
		if n.Zone, _, err = dns.Responsible(ctx, r, n.Zone); err != nil {
			return nil, err
		}
	}
	p, servers, err := d.provider(n.Zone)
	if err != nil {
		return nil, err
	}
	_, n.ByHand = p.(dns.ByHand)
	for _, sv := range servers {
		n.Servers = append(n.Servers, string(sv))
	}
	for _, name := range namesOf(s) {
		if name != n.Zone && !strings.HasSuffix(name, "."+n.Zone) {
			continue
		}
		sets, err := servers[0].Web(ctx, name)
		if err != nil {
			return nil, fmt.Errorf("reading the names of %s: %w", s.Name, err)
		}
		for _, r := range sets {
			if r.Type == "CNAME" {
				n.Follow = append(n.Follow, r)
			} else {
				n.Old = append(n.Old, r)
			}
		}
		if len(sets) > 0 && sets[0].Type != "CNAME" {
			n.New = append(n.New, newSets(name, sets[0].TTL, web)...)
		}
	}
	n.Short = min(short, max(n.Longest(), time.Second))
	n.Around, n.Whole, err = servers[0].Around(ctx, n.Zone, theirNames(*n))
	return n, err
}

// anchor holds hosts where they are that are reached by a name of the site, or where it leads: it will lead elsewhere.
func (d *Moves) anchor(ctx context.Context, s site.Site, m plan.Move) error {
	if move.Redirects(m) && m.To.Address.Host != s.Address().Host {
		return nil
	}
	return d.env.Anchor(ctx, namesOf(s), m.Names.Leads())
}

// theirNames are the names whose records are changed.
func theirNames(n plan.Names) (out []string) {
	for _, r := range n.Old {
		out = append(out, r.Name)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// namesOf are the names of a site, with www and without.
func namesOf(s site.Site) (out []string) {
	for _, a := range s.Addresses {
		for _, name := range []string{a.Host, a.Sibling().Host} {
			if net.ParseIP(name) == nil && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

func newSets(name string, ttl time.Duration, web []string) (out []site.RecordSet) {
	for _, kind := range []string{"A", "AAAA"} {
		r := site.RecordSet{Name: name, Type: kind, TTL: ttl}
		for _, a := range web {
			if (net.ParseIP(a).To4() != nil) == (kind == "A") {
				r.Values = append(r.Values, a)
			}
		}
		if len(r.Values) > 0 {
			out = append(out, r)
		}
	}
	return out
}

// aboutNames says what is to be known of a site's names before it is moved.
func (d *Moves) aboutNames(ctx context.Context, m plan.Move) (out []site.Finding) {
	note := func(sev site.Severity, code, text, remedy string) {
		out = append(out, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
	}
	switch n := m.Names; {
	case n == nil && move.Redirects(m):
		note(site.Note, "names", "no record is changed: "+m.To.Address.Host+" has to lead to the new web server, and "+
			m.From.Address.Host+" to the old one for as long as visitors are to be sent on", "")
	case n == nil:
		note(site.Warn, "names", "the names of the site stay as they are: no address of the new web server was told",
			"begin again with --web ADDRESS, or change them yourself after the switch")
	case len(n.Old) == 0:
		note(site.Warn, "names", n.Servers[0]+" has no address of the site's names", "change them yourself after the switch")
	default:
		if n.ByHand {
			note(site.Note, "by-hand", "nobody told how zone "+n.Zone+" is changed: you enter the records, and Alibi waits "+
				"until they are there", "or name its server and key in config.toml, under [[names]]")
		}
		for _, r := range n.Follow {
			note(site.Note, "alias", r.Name+" is another name of "+strings.TrimSuffix(r.Values[0], "."),
				"it follows that one, and is not changed")
		}
	}
	s, err := d.record.Site(ctx, m.Site)
	if err == nil && s.Address().Scheme == "https" && m.Names != nil {
		d.certificates(ctx, m, note)
	}
	return out
}

// certificates sees whether the new web server has one for each name that leads to it.
func (d *Moves) certificates(ctx context.Context, m plan.Move,
	note func(sev site.Severity, code, text, remedy string)) {
	var all sync.WaitGroup
	var mu sync.Mutex
	for _, name := range theirNames(*m.Names) {
		for _, a := range m.To.Web {
			all.Go(func() {
				dialer := tls.Dialer{NetDialer: &net.Dialer{Timeout: 3 * time.Second}, Config: &tls.Config{ServerName: name}}
				c, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(a, "443"))
				mu.Lock()
				defer mu.Unlock()
				var bad *tls.CertificateVerificationError
				switch {
				case err == nil:
					c.Close()
				case errors.As(err, &bad):
					note(site.Warn, certificate, a+" has no certificate that holds for "+name+" ("+bad.Err.Error()+")",
						"let it have one before the switch, or have one issued: alibi move "+m.Name+
							" certificate; visitors would see a warning")
				default:
					note(site.Warn, certificate, a+" does not answer by https for "+name,
						"see that its web server does before the switch")
				}
			})
		}
	}
	all.Wait()
}

// Lower makes ready what visitors come by: it shortens how long others keep a site's names, so that a switch is seen
// soon, and attaches them at the new place, where its host has a panel. Done again it sees how far that is. The site's
// name is typed where something is changed.
func (d *Moves) Lower(ctx context.Context, name, typed string) (plan.Move, error) {
	m, err := d.record.Move(ctx, name)
	if err != nil {
		return m, err
	}
	s, err := d.record.Site(ctx, m.Site)
	if err != nil {
		return m, err
	}
	lowers, attaches := m.Names != nil && len(m.Names.Old) > 0, m.Panel != nil && m.Panel.New
	switch {
	case !lowers && !attaches:
		return m, fmt.Errorf("no names are changed by %s: there is nothing to shorten", name)
	case lowers && !attaches && !m.Names.Lowered.IsZero():
		return m, fmt.Errorf("%s did that already, at %s", name, m.Names.Lowered.Local().Format("15:04 on 2 Jan"))
	case !m.Cleared.IsZero():
		return m, fmt.Errorf("%s is over: the other place is empty", name)
	case m.Moved:
		return m, fmt.Errorf("%s was switched over already: its names are as they are to be", name)
	case m.Asks() && typed != s.Name:
		return m, fmt.Errorf("%w: names of the live site %s are changed, though not where they lead; its name must be "+
			"typed: %s", ErrNotTyped, s.Name, s.Name)
	}
	if attaches { // first: nobody comes by them yet
		if m, err = d.attach(ctx, m); err != nil {
			return m, err
		}
	}
	if !lowers || !m.Names.Lowered.IsZero() {
		return m, nil
	}
	was, want := m.Names.Lowering()
	err = move.Rename(ctx, d.provider, *m.Names, was, want)
	if errors.Is(err, dns.ErrByHand) {
		return m, d.lowerByHand(ctx, m)
	}
	if err != nil {
		return m, err
	}
	m, err = d.record.ChangeMove(ctx, name, func(m *plan.Move) error {
		m.Names.Lowered = d.now()
		m.Names.Until = d.now().Add(m.Names.Longest())
		return nil
	})
	if err != nil {
		return m, err
	}
	d.gate(ctx, m, "names", fmt.Sprintf("its names are kept for %s only from now on; it can be switched from %s on",
		site.Seconds(m.Names.Short), m.Names.Until.Local().Format("15:04 on 2 Jan")))
	return m, d.log(ctx, s.ID, "move", "its names are kept for %s only from now on", site.Seconds(m.Names.Short))
}

// lowerByHand says what a person has to enter; it passes once the zone's server says so.
func (d *Moves) lowerByHand(ctx context.Context, m plan.Move) error {
	_, servers, err := d.provider(m.Names.Zone)
	if err != nil {
		return err
	}
	for _, r := range m.Names.Old {
		is, err := servers[0].Set(ctx, r.Name, r.Type)
		if err != nil {
			return err
		}
		if is.TTL > m.Names.Short {
			return fmt.Errorf("enter %d s as the lifetime of %s %s at whoever keeps zone %s (it is %d s now), and do this "+
				"again", int(m.Names.Short.Seconds()), r.Type, r.Name, m.Names.Zone, int(is.TTL.Seconds()))
		}
	}
	_, err = d.record.ChangeMove(ctx, m.Name, func(m *plan.Move) error {
		m.Names.Lowered = d.now()
		m.Names.Until = d.now().Add(m.Names.Longest())
		return nil
	})
	return err
}

// Watch asks the servers that are responsible, and resolvers, where they lead visitors now, and sees whether anything
// was written at the other place since the switch.
func (d *Moves) Watch(ctx context.Context, name string) (plan.Move, error) {
	m, err := d.record.Move(ctx, name)
	if err != nil {
		return m, err
	}
	if !m.Moved {
		return m, fmt.Errorf("%s stands on %s still: there is nothing to watch", name, m.From.Host)
	}
	w := plan.Watch{At: d.now(), Done: true}
	if n := m.Names; n != nil && len(n.Old) > 0 {
		if err := d.answers(ctx, m, &w); err != nil {
			return m, err
		}
		if last := m.Switches[len(m.Switches)-1]; d.now().Before(last.At.Add(n.Short)) {
			w.Done = false
		}
	}
	if w.Written, err = move.Written(ctx, d.env, m); err != nil {
		return m, err
	}
	seen := m.Watch != nil && m.Watch.Done
	m, err = d.record.ChangeMove(ctx, name, func(m *plan.Move) error {
		m.Watch = &w
		return nil
	})
	if err == nil && w.Done && !seen {
		d.gate(ctx, m, "watch", "nobody is led to "+m.From.Host+" any more: what is left there can be cleared up")
	}
	return m, err
}

// answers asks who is to be asked.
func (d *Moves) answers(ctx context.Context, m plan.Move, w *plan.Watch) error {
	n := m.Names
	z, _ := d.zone(n.Zone)
	_, servers, err := d.provider(n.Zone)
	if err != nil {
		return err
	}
	// A resolver that does not answer leads nobody anywhere.
	ask := func(sv dns.Server, r site.RecordSet, responsible bool) {
		is, err := sv.Set(ctx, r.Name, r.Type)
		if !responsible {
			is, err = sv.Resolve(ctx, r.Name, r.Type)
		}
		a := plan.Answer{Server: string(sv), Name: r.Name, Says: strings.Join(is.Values, ", "), New: is.Same(r),
			Keeps: is.TTL}
		if err != nil {
			a.Says, a.New = "no answer: "+err.Error(), false
		}
		w.Answers = append(w.Answers, a)
		w.Done = w.Done && (a.New || err != nil && !responsible)
	}
	resolvers := z.Watch
	if len(resolvers) == 0 && z.Server == "" {
		if r, err := dns.Resolver(); err == nil {
			resolvers = []string{string(r)}
		}
	}
	for _, r := range n.New {
		for _, sv := range servers {
			ask(sv, r, true)
		}
		for _, name := range resolvers {
			ask(dns.Server(name), r, false)
		}
	}
	now, _, err := servers[0].Around(ctx, n.Zone, theirNames(*n))
	if err != nil {
		return err
	}
	w.Around = otherThan(n.Around, now)
	return nil
}

// otherThan names the sets that are not what they were.
func otherThan(was, now []site.RecordSet) (out []string) {
	has := func(list []site.RecordSet, r site.RecordSet) bool {
		return slices.ContainsFunc(list, func(o site.RecordSet) bool { return o.Same(r) })
	}
	for _, r := range was {
		if !has(now, r) {
			out = append(out, r.Type+" of "+r.Name)
		}
	}
	for _, r := range now {
		if text := r.Type + " of " + r.Name; !has(was, r) && !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return out
}

// Ahead shows the other place of a site under its names to a browser that uses a proxy, before everybody sees it there.
func (d *Moves) Ahead(ctx context.Context, m plan.Move) (*gateway.Ahead, error) {
	place, err := d.record.Site(ctx, m.Place)
	if err != nil {
		return nil, err
	}
	if len(place.Web) == 0 {
		return nil, fmt.Errorf("nobody told at which address the web server on %s is reached: begin the move again with "+
			"--web ADDRESS", place.Host)
	}
	h, err := d.host(ctx, place.Host)
	if err != nil {
		return nil, err
	}
	return &gateway.Ahead{Names: namesOf(place), Log: d.logger,
		Dial: func(ctx context.Context, port string) (net.Conn, error) {
			addr := net.JoinHostPort(place.Web[0], port)
			c, err := (&net.Dialer{Timeout: 3 * time.Second}).DialContext(ctx, "tcp", addr)
			if err == nil {
				return c, nil
			}
			return h.Dial(ctx, "tcp", addr) // only its own host may reach it
		}}, nil
}
