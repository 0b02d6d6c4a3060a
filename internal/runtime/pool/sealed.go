package pool

import (
	"alibi/internal/host"
	"alibi/internal/runtime/outbox"
	"alibi/internal/runtime/wall"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
	"alibi/internal/tables/engines"
)

// Sealed gives what the code of a copy has of a machine and of the world outside, where it runs; what it
// tries to reach, and the bounds that it meets, are noted. It is nil where no wall can be had.
func Sealed(h host.Host, s site.Site, n *outbox.Notes) *web.Sealed {
	if wall.Missing() != "" {
		return nil
	}
	out := sealed(h, s)
	out.Tell, out.Met = n.Call, n.Met
	return out
}

// sealed is as Sealed, for a host of which it is not known.
func sealed(h host.Host, s site.Site) *web.Sealed {
	out := &web.Sealed{
		ID:      string(s.ID),
		Bounds:  s.Bounds(),
		Port:    s.Address().Port,
		Allowed: s.Allowed(),
	}
	for _, a := range s.Addresses {
		out.Names = append(out.Names, a.Host)
	}
	if s.Database.Served() {
		out.Database = &web.Server{Account: s.Database.User}
		out.Database.Network, out.Database.Addr, out.Database.Dial = engines.Reach(h, s.Database.Server)
	}
	return out
}

// notes gives what notes down what a copy tries to reach.
func (p *Pool) notes(s site.Site, dir string) *outbox.Notes {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.noted == nil {
		p.noted = map[site.ID]*outbox.Notes{}
	}
	n := p.noted[s.ID]
	if n == nil || n.Dir != dir {
		n = &outbox.Notes{Dir: dir}
		p.noted[s.ID] = n
	}
	return n
}

// Trying says that a copy's code tries for Alibi what it can reach, until done is called: that is not noted.
func (p *Pool) Trying(id site.ID) (done func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if n := p.noted[id]; n != nil {
		return n.Trying()
	}
	if e := p.running[id]; e != nil {
		if x, ok := e.web.(sent); ok {
			return x.trying()
		}
	}
	return func() {}
}
