// Package nameserver is a stand-in name server of the demo: it is responsible for one zone, takes signed updates (RFC
// 2136), and has a resolver beside it that keeps answers for as long as it may, as those of visitors do.
package nameserver

import (
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// Server is one, running.
type Server struct {
	Addr     string // HOST:PORT of the server that is responsible
	Resolver string // HOST:PORT of the resolver

	zone string
	mu   sync.Mutex
	all  map[question][]dns.RR
	kept map[question]kept
	run  []*dns.Server

	closed chan struct{}
}

type question struct {
	name string // in lower case, with the dot at its end
	kind uint16
}

// kept is an answer that the resolver has.
type kept struct {
	rrs   []dns.RR
	until time.Time
}

// forNothing is how long the resolver keeps it that there is no such record.
const forNothing = 5 * time.Second

// Start starts one for a zone. records are as in a zone file, with $ORIGIN; key and secret (base64) sign updates.
func Start(zone, records, key, secret string) (*Server, error) {
	s := &Server{zone: dns.Fqdn(zone), all: map[question][]dns.RR{}, kept: map[question]kept{},
		closed: make(chan struct{})}
	p := dns.NewZoneParser(strings.NewReader(records), s.zone, "")
	for rr, ok := p.Next(); ok; rr, ok = p.Next() {
		q := of(rr)
		s.all[q] = append(s.all[q], rr)
	}
	if err := p.Err(); err != nil {
		return nil, fmt.Errorf("the stand-in's zone: %w", err)
	}
	secrets := map[string]string{dns.Fqdn(key): secret}
	var err error
	if s.Addr, err = s.listen(dns.HandlerFunc(s.responsible), secrets); err == nil {
		s.Resolver, err = s.listen(dns.HandlerFunc(s.resolver), nil)
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	go s.visited()
	return s, nil
}

func of(rr dns.RR) question { return question{strings.ToLower(rr.Header().Name), rr.Header().Rrtype} }

// listen answers at one port, by UDP and TCP.
func (s *Server) listen(h dns.Handler, secrets map[string]string) (string, error) {
	var last error
	for range 20 {
		pc, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			return "", err
		}
		ln, err := net.Listen("tcp", pc.LocalAddr().String())
		if err != nil { // another program has that port for TCP
			pc.Close()
			last = err
			continue
		}
		for _, sv := range []*dns.Server{
			{PacketConn: pc, Handler: h, TsigSecret: secrets, MsgAcceptFunc: accept},
			{Listener: ln, Handler: h, TsigSecret: secrets, MsgAcceptFunc: accept},
		} {
			up := make(chan struct{})
			sv.NotifyStartedFunc = func() { close(up) }
			s.run = append(s.run, sv)
			go func() { _ = sv.ActivateAndServe() }() // it ends when it is closed
			<-up
		}
		return pc.LocalAddr().String(), nil
	}
	return "", last
}

// accept takes updates beside questions.
func accept(h dns.Header) dns.MsgAcceptAction {
	if opcode := int(h.Bits>>11) & 0xF; opcode == dns.OpcodeUpdate {
		return dns.MsgAccept
	}
	return dns.DefaultMsgAcceptFunc(h)
}

// Close ends it.
func (s *Server) Close() {
	close(s.closed)
	for _, sv := range s.run {
		_ = sv.Shutdown()
	}
}

func (s *Server) responsible(w dns.ResponseWriter, m *dns.Msg) {
	out := new(dns.Msg)
	out.SetReply(m)
	switch {
	case m.Opcode == dns.OpcodeUpdate:
		out.Rcode = s.update(w, m)
		if t := m.IsTsig(); t != nil && w.TsigStatus() == nil {
			out.SetTsig(t.Hdr.Name, t.Algorithm, 300, time.Now().Unix())
		}
	case len(m.Question) != 1 || !dns.IsSubDomain(s.zone, strings.ToLower(m.Question[0].Name)):
		out.Rcode = dns.RcodeRefused
	default:
		out.Authoritative = true
		q := question{strings.ToLower(m.Question[0].Name), m.Question[0].Qtype}
		s.mu.Lock()
		out.Answer = s.answer(q)
		s.mu.Unlock()
	}
	_ = w.WriteMsg(out) // who has gone is not told
}

// answer is what stands under a name, or the alias that does.
func (s *Server) answer(q question) []dns.RR {
	if rrs := s.all[q]; len(rrs) > 0 || q.kind == dns.TypeCNAME {
		return slices.Clone(rrs)
	}
	alias := s.all[question{q.name, dns.TypeCNAME}]
	if len(alias) == 0 {
		return nil
	}
	to := strings.ToLower(alias[0].(*dns.CNAME).Target)
	return append(slices.Clone(alias), s.all[question{to, q.kind}]...)
}

// update carries an update out, all of it or nothing (RFC 2136, section 3).
func (s *Server) update(w dns.ResponseWriter, m *dns.Msg) int {
	switch {
	case m.IsTsig() == nil || w.TsigStatus() != nil:
		return dns.RcodeNotAuth
	case len(m.Question) != 1 || !strings.EqualFold(m.Question[0].Name, s.zone):
		return dns.RcodeNotZone
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	want := map[question][]dns.RR{}
	for _, rr := range m.Answer { // what is to be there
		switch h := rr.Header(); h.Class {
		case dns.ClassNONE:
			if len(s.all[of(rr)]) > 0 {
				return dns.RcodeYXRrset
			}
		case dns.ClassANY:
			if len(s.all[of(rr)]) == 0 {
				return dns.RcodeNXRrset
			}
		default:
			want[of(rr)] = append(want[of(rr)], rr)
		}
	}
	for q, rrs := range want {
		if !slices.Equal(values(rrs), values(s.all[q])) {
			return dns.RcodeNXRrset
		}
	}
	for _, rr := range m.Ns {
		switch h := rr.Header(); h.Class {
		case dns.ClassANY:
			delete(s.all, of(rr))
		case dns.ClassINET:
			s.all[of(rr)] = append(s.all[of(rr)], rr)
		}
	}
	return dns.RcodeSuccess
}

func values(rrs []dns.RR) (out []string) {
	for _, rr := range rrs {
		c := dns.Copy(rr)
		c.Header().Ttl, c.Header().Class, c.Header().Name = 0, dns.ClassINET, strings.ToLower(rr.Header().Name)
		out = append(out, c.String())
	}
	slices.Sort(out)
	return out
}

// resolver answers from what it has kept, with the time that is left of it.
func (s *Server) resolver(w dns.ResponseWriter, m *dns.Msg) {
	out := new(dns.Msg)
	out.SetReply(m)
	out.RecursionAvailable = true
	if len(m.Question) == 1 {
		q := question{strings.ToLower(m.Question[0].Name), m.Question[0].Qtype}
		now := time.Now()
		s.mu.Lock()
		k := s.resolve(q, now)
		s.mu.Unlock()
		for _, rr := range k.rrs {
			c := dns.Copy(rr)
			c.Header().Ttl = uint32(k.until.Sub(now).Seconds())
			out.Answer = append(out.Answer, c)
		}
	}
	_ = w.WriteMsg(out) // who has gone is not told
}

// resolve gives what is kept of a question, or asks anew.
func (s *Server) resolve(q question, now time.Time) kept {
	k, has := s.kept[q]
	if has && now.Before(k.until) {
		return k
	}
	k = kept{rrs: s.answer(q), until: now.Add(forNothing)}
	if len(k.rrs) > 0 {
		k.until = now.Add(time.Duration(k.rrs[0].Header().Ttl) * time.Second)
	}
	s.kept[q] = k
	return k
}

// visited has the resolver asked for all names all the time, as visitors do, until it is closed.
func (s *Server) visited() {
	for {
		select {
		case <-s.closed:
			return
		case now := <-time.After(time.Second):
			s.mu.Lock()
			for q := range s.all {
				if q.kind == dns.TypeA {
					s.resolve(q, now)
				}
			}
			s.mu.Unlock()
		}
	}
}
