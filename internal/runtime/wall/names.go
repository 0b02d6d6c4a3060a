package wall

import (
	"net"
	"net/netip"
	"strings"
	"sync"

	"golang.org/x/net/dns/dnsmessage"
)

// names answers the questions for names in a world. Nothing is asked outside: every name has an address that
// stands for it in this world alone, so that what is called can be told by its name.
type names struct {
	w    *Ways
	mu   sync.Mutex
	next uint32
	by   map[string]netip.Addr
	back map[netip.Addr]string
}

// first begins the addresses that stand for names: a network that is nobody's (RFC 2544).
var first = netip.AddrFrom4([4]byte{198, 18, 0, 0})

// mostNames is how many names a world can ask for; further ones have none.
const mostNames = 1 << 16

// address gives what stands for a name.
func (n *names) address(name string) (netip.Addr, bool) {
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	if name == "localhost" || strings.HasSuffix(name, ".localhost") || n.w.IsOwn(name) {
		return netip.AddrFrom4([4]byte{127, 0, 0, 1}), true
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if a, ok := n.by[name]; ok {
		return a, true
	}
	if n.by == nil {
		n.by, n.back = map[string]netip.Addr{}, map[netip.Addr]string{}
	}
	if n.next++; n.next >= mostNames {
		return netip.Addr{}, false
	}
	b := first.As4()
	b[2], b[3] = byte(n.next>>8), byte(n.next)
	a := netip.AddrFrom4(b)
	n.by[name], n.back[a] = a, name
	return a, true
}

// of gives the name for which an address stands, or the address itself.
func (n *names) of(a netip.Addr) string {
	n.mu.Lock()
	defer n.mu.Unlock()
	if name, ok := n.back[a]; ok {
		return name
	}
	return a.String()
}

// serve answers questions (RFC 1035) until the socket is closed.
func (n *names) serve(c net.PacketConn) {
	b := make([]byte, 1500)
	for {
		size, from, err := c.ReadFrom(b)
		if err != nil {
			return
		}
		if answer := n.answer(b[:size]); answer != nil {
			_, _ = c.WriteTo(answer, from) // who asked may be gone
		}
	}
}

// answer gives the answer to a message, or nil if it is no question.
func (n *names) answer(question []byte) []byte {
	var p dnsmessage.Parser
	h, err := p.Start(question)
	if err != nil || h.Response {
		return nil
	}
	q, err := p.Question()
	if err != nil {
		return nil
	}
	h.Response, h.Authoritative, h.RecursionAvailable = true, true, true
	addr, known := n.address(q.Name.String())
	if !known {
		h.RCode = dnsmessage.RCodeNameError
	}
	b := dnsmessage.NewBuilder(nil, h)
	if b.StartQuestions() != nil || b.Question(q) != nil || b.StartAnswers() != nil {
		return nil
	}
	if known && q.Type == dnsmessage.TypeA {
		head := dnsmessage.ResourceHeader{Name: q.Name, Class: dnsmessage.ClassINET, TTL: 1}
		if b.AResource(head, dnsmessage.AResource{A: addr.As4()}) != nil {
			return nil
		}
	}
	out, err := b.Finish()
	if err != nil {
		return nil
	}
	return out
}
