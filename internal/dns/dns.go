// Package dns reads and changes names of the domain name system: what the servers that are responsible for a zone
// say, what resolvers say, and what is changed by dynamic updates (RFC 2136) that are signed (RFC 8945), or by hand.
package dns

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"alibi/internal/site"
)

// Errors that callers decide on.
var (
	ErrNoAnswer = errors.New("the name server does not answer")
	ErrRefused  = errors.New("the name server refuses it")
	ErrChanged  = errors.New("its records are not what they were")
)

// patience is how long one question may take.
const patience = 4 * time.Second

// Provider changes the records of zones.
type Provider interface {
	// Change puts record sets in the place of others, all at once, if those are there as they are said to be, but for
	// their lifetimes: ErrChanged else. Sets of want without values go, and sets of was without values are not to be
	// there.
	Change(ctx context.Context, zone string, was, want []site.RecordSet) error
}

// Server is a name server, as HOST or HOST:PORT.
type Server string

func (s Server) addr() string {
	if _, _, err := net.SplitHostPort(string(s)); err == nil {
		return string(s)
	}
	return net.JoinHostPort(strings.Trim(string(s), "[]"), "53")
}

// ask puts one question, by TCP where the answer is too long.
func (s Server) ask(ctx context.Context, m *dns.Msg) (*dns.Msg, error) {
	m.SetEdns0(1232, false)
	var last error
	for _, network := range []string{"udp", "udp", "tcp"} {
		c := dns.Client{Net: network, Timeout: patience}
		in, _, err := c.ExchangeContext(ctx, m, s.addr())
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err == nil && !in.Truncated {
			return in, nil
		}
		if last = err; err == nil {
			last = errors.New("the answer is cut off")
		}
	}
	return nil, fmt.Errorf("%s: %w: %w", s, ErrNoAnswer, last)
}

func (s Server) question(ctx context.Context, name string, kind uint16, recurse bool) (*dns.Msg, error) {
	m := new(dns.Msg)
	m.SetQuestion(dns.Fqdn(name), kind)
	m.RecursionDesired = recurse
	in, err := s.ask(ctx, m)
	if err != nil {
		return nil, err
	}
	if in.Rcode != dns.RcodeSuccess && in.Rcode != dns.RcodeNameError {
		return nil, fmt.Errorf("%s about %s: %w (%s)", s, name, ErrRefused, dns.RcodeToString[in.Rcode])
	}
	return in, nil
}

// Set asks a responsible server for one set; it has no values where there is none.
func (s Server) Set(ctx context.Context, name, kind string) (site.RecordSet, error) {
	return s.set(ctx, name, kind, false)
}

// Resolve asks a resolver for one set; the lifetime is how long it will keep it still.
func (s Server) Resolve(ctx context.Context, name, kind string) (site.RecordSet, error) {
	return s.set(ctx, name, kind, true)
}

func (s Server) set(ctx context.Context, name, kind string, recurse bool) (site.RecordSet, error) {
	out := site.RecordSet{Name: strings.TrimSuffix(name, "."), Type: kind}
	t, known := dns.StringToType[kind]
	if !known {
		return out, fmt.Errorf("records of type %q are not known", kind)
	}
	in, err := s.question(ctx, name, t, recurse)
	if err != nil {
		return out, err
	}
	for _, rr := range in.Answer {
		if rr.Header().Rrtype == t && (recurse || strings.EqualFold(rr.Header().Name, dns.Fqdn(name))) {
			out.TTL = time.Duration(rr.Header().Ttl) * time.Second
			out.Values = append(out.Values, value(rr))
		}
	}
	slices.Sort(out.Values)
	return out, nil
}

// value is what stands behind name, lifetime and type.
func value(rr dns.RR) string {
	text := strings.TrimPrefix(rr.String(), rr.Header().String())
	switch rr.(type) {
	case *dns.A, *dns.AAAA:
		return text
	}
	return strings.TrimSpace(text)
}

// Web gives the sets by which a name leads to its web server: the alias, or else the addresses.
func (s Server) Web(ctx context.Context, name string) (out []site.RecordSet, err error) {
	for _, kind := range []string{"CNAME", "A", "AAAA"} {
		r, err := s.Set(ctx, name, kind)
		if err != nil {
			return nil, err
		}
		if len(r.Values) > 0 {
			out = append(out, r)
		}
		if kind == "CNAME" && len(out) > 0 {
			break
		}
	}
	return out, nil
}

// others are the types that are looked at to see that nothing else of a zone was changed.
var others = []string{"NS", "MX", "TXT", "CAA", "SRV", "DS", "DNSKEY", "HTTPS", "A", "AAAA", "CNAME"}

// Around gives what stands in a zone beside some names' web addresses: all of it, where the server hands the zone out
// to us (RFC 5936), else what is under the zone's own name, under these names, and under those at which mail is looked
// for. whole tells which.
func (s Server) Around(ctx context.Context, zone string, names []string) (out []site.RecordSet, whole bool,
	err error) {
	mine := func(r site.RecordSet) bool {
		return slices.Contains([]string{"A", "AAAA", "CNAME"}, r.Type) &&
			slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, r.Name) })
	}
	if all, err := s.transfer(ctx, zone); err == nil {
		return slices.DeleteFunc(all, mine), true, nil
	}
	look := slices.Clone(names)
	for _, sub := range []string{"", "_dmarc.", "mail.", "autoconfig.", "autodiscover."} {
		look = append(look, sub+strings.TrimSuffix(zone, "."))
	}
	slices.Sort(look)
	for _, name := range slices.Compact(look) {
		for _, kind := range others {
			r, err := s.Set(ctx, name, kind)
			if err != nil {
				return nil, false, err
			}
			if len(r.Values) > 0 && !mine(r) {
				out = append(out, r)
			}
		}
	}
	return out, false, nil
}

// transfer reads a whole zone, but for what changes with each change.
func (s Server) transfer(ctx context.Context, zone string) ([]site.RecordSet, error) {
	m := new(dns.Msg)
	m.SetAxfr(dns.Fqdn(zone))
	t := dns.Transfer{DialTimeout: patience, ReadTimeout: patience, WriteTimeout: patience}
	parts, err := t.In(m, s.addr())
	if err != nil {
		return nil, err
	}
	sets := map[[2]string]*site.RecordSet{}
	for p := range parts {
		if p.Error != nil {
			err = p.Error
		}
		for _, rr := range p.RR {
			h := rr.Header()
			if h.Rrtype == dns.TypeSOA || h.Rrtype == dns.TypeRRSIG || h.Rrtype == dns.TypeNSEC {
				continue
			}
			name, kind := strings.TrimSuffix(h.Name, "."), dns.TypeToString[h.Rrtype]
			r := sets[[2]string{name, kind}]
			if r == nil {
				r = &site.RecordSet{Name: name, Type: kind, TTL: time.Duration(h.Ttl) * time.Second}
				sets[[2]string{name, kind}] = r
			}
			r.Values = append(r.Values, value(rr))
		}
	}
	if err != nil {
		return nil, err
	}
	out := make([]site.RecordSet, 0, len(sets))
	for _, r := range sets {
		slices.Sort(r.Values)
		out = append(out, *r)
	}
	slices.SortFunc(out, func(a, b site.RecordSet) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Type, b.Type))
	})
	return out, ctx.Err()
}

// Responsible finds the zone that a name is in and the servers that are responsible for it, by asking a resolver.
func Responsible(ctx context.Context, resolver Server, name string) (zone string, servers []Server, err error) {
	for at := strings.TrimSuffix(name, "."); at != ""; {
		in, err := resolver.question(ctx, at, dns.TypeNS, true)
		if err != nil {
			return "", nil, err
		}
		for _, rr := range in.Answer {
			if ns, is := rr.(*dns.NS); is {
				servers = append(servers, Server(strings.TrimSuffix(ns.Ns, ".")))
			}
		}
		if len(servers) > 0 {
			slices.Sort(servers)
			return at, servers, nil
		}
		_, at, _ = strings.Cut(at, ".")
	}
	return "", nil, fmt.Errorf("no name server is responsible for %s, as %s knows", name, resolver)
}

// Resolver is the one that this machine asks, by its resolv.conf(5).
func Resolver() (Server, error) {
	c, err := dns.ClientConfigFromFile("/etc/resolv.conf")
	if err != nil || len(c.Servers) == 0 {
		return "", errors.Join(errors.New("this machine knows no name server"), err)
	}
	return Server(net.JoinHostPort(c.Servers[0], c.Port)), nil
}
