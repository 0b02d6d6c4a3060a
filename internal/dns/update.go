package dns

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/miekg/dns"

	"alibi/internal/site"
)

// Key signs updates (TSIG, RFC 8945).
type Key struct {
	Name      string
	Algorithm string // "hmac-sha256" if empty
	Secret    string // base64
}

// Updater changes zones by dynamic updates of one server.
type Updater struct {
	Server Server
	Key    Key
}

// Change sends one update: all of it is done or nothing.
func (u Updater) Change(ctx context.Context, zone string, was, want []site.RecordSet) error {
	m, err := update(zone, was, want)
	if err != nil {
		return err
	}
	c := dns.Client{Net: "tcp", Timeout: patience}
	if u.Key.Name != "" {
		name, algorithm := dns.Fqdn(u.Key.Name), dns.Fqdn(u.Key.Algorithm)
		if u.Key.Algorithm == "" {
			algorithm = dns.HmacSHA256
		}
		c.TsigSecret = map[string]string{name: u.Key.Secret}
		m.SetTsig(name, algorithm, 300, time.Now().Unix())
	}
	in, _, err := c.ExchangeContext(ctx, m, u.Server.addr())
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case in != nil && in.Rcode != dns.RcodeSuccess:
		return refused(u.Server, zone, in.Rcode)
	case errors.Is(err, dns.ErrKey), errors.Is(err, dns.ErrKeyAlg), errors.Is(err, dns.ErrAuth),
		errors.Is(err, dns.ErrSig), errors.Is(err, dns.ErrSecret), errors.Is(err, dns.ErrTime):
		return fmt.Errorf("%s, zone %s: %w: its answer is not signed as the key says: %w", u.Server, zone, ErrRefused, err)
	case err != nil:
		return fmt.Errorf("%s: %w: %w", u.Server, ErrNoAnswer, err)
	}
	return nil
}

// refused gives an answer's code its meaning (RFC 2136, section 2.2).
func refused(s Server, zone string, code int) error {
	switch code {
	case dns.RcodeNXRrset, dns.RcodeYXRrset, dns.RcodeNameError, dns.RcodeYXDomain:
		return fmt.Errorf("%s, zone %s: %w: somebody changed them meanwhile; look at them, and plan it again", s, zone,
			ErrChanged)
	case dns.RcodeNotAuth, dns.RcodeNotZone:
		return fmt.Errorf("%s: %w: it is not responsible for %s, or does not know the key", s, ErrRefused, zone)
	}
	return fmt.Errorf("%s, zone %s: %w (%s): check the key, and what it may change", s, zone, ErrRefused,
		dns.RcodeToString[code])
}

// update is the message.
func update(zone string, was, want []site.RecordSet) (*dns.Msg, error) {
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(zone))
	for _, r := range was {
		rrs, err := records(r)
		if err != nil {
			return nil, err
		}
		if len(rrs) == 0 {
			m.RRsetNotUsed([]dns.RR{&dns.ANY{Hdr: header(r)}})
			continue
		}
		m.Used(rrs)
	}
	for _, r := range want {
		m.RemoveRRset([]dns.RR{&dns.ANY{Hdr: header(r)}})
		rrs, err := records(r)
		if err != nil {
			return nil, err
		}
		m.Insert(rrs)
	}
	return m, nil
}

func header(r site.RecordSet) dns.RR_Header {
	return dns.RR_Header{Name: dns.Fqdn(r.Name), Rrtype: dns.StringToType[r.Type], Class: dns.ClassINET}
}

func records(r site.RecordSet) (out []dns.RR, err error) {
	for _, v := range r.Values {
		rr, err := dns.NewRR(fmt.Sprintf("%s %d IN %s %s", dns.Fqdn(r.Name), int(r.TTL.Seconds()), r.Type, v))
		if err != nil || rr == nil {
			return nil, fmt.Errorf("%s is no record: %w", strings.TrimSpace(r.String()), errors.Join(err))
		}
		out = append(out, rr)
	}
	return out, nil
}

// ByHand is where a person enters records: it changes nothing.
type ByHand struct{}

// ErrByHand says that a person has to enter what is wanted.
var ErrByHand = errors.New("its records are entered by hand")

// Change tells that a person has to.
func (ByHand) Change(context.Context, string, []site.RecordSet, []site.RecordSet) error {
	return ErrByHand
}
