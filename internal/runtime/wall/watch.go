package wall

import (
	"encoding/binary"
	"net/netip"
	"os"
	"slices"
	"time"

	"golang.org/x/sys/unix"
)

// watch tells of every call in a world for which no way is open: it sees the first packet of each.
func (c *carrier) watch(f *os.File) {
	raw, err := f.SyscallConn()
	if err != nil {
		return
	}
	b := make([]byte, 128)
	for {
		var n int
		var from unix.Sockaddr
		var rerr error
		if err := raw.Read(func(fd uintptr) bool {
			n, from, rerr = unix.Recvfrom(int(fd), b, 0)
			return rerr != unix.EAGAIN
		}); err != nil {
			return // it is closed
		}
		if l, ok := from.(*unix.SockaddrLinklayer); rerr != nil || !ok || l.Pkttype != unix.PACKET_OUTGOING {
			continue // on a loopback everything comes by twice
		}
		if call, to, ok := called(b[:n]); ok && !c.carries(to, call) {
			call.At, call.Host = time.Now(), c.names.of(to)
			c.ways.tell(call)
		}
	}
}

// carries tells whether a call is carried, and told when it is over.
func (c *carrier) carries(to netip.Addr, call Call) bool {
	host := c.names.of(to)
	switch {
	case call.Network == "udp":
		return call.Port == 53 && to.IsLoopback()
	case call.Network != "tcp" || !slices.Contains(c.ports, call.Port):
		return false
	}
	return c.ways.taker(host, call.Port, to.IsLoopback()) != nil
}

// called reads the beginning of a packet (RFC 791, RFC 8200, RFC 9293, RFC 768): what is called by it, if it
// begins a call.
func called(b []byte) (call Call, to netip.Addr, ok bool) {
	if len(b) < 20 {
		return call, to, false
	}
	var protocol byte
	var rest, from []byte
	switch {
	case b[0]>>4 == 4:
		head := int(b[0]&15) * 4
		if len(b) < head {
			return call, to, false
		}
		protocol, rest, from = b[9], b[head:], b[12:16]
		to = netip.AddrFrom4([4]byte(b[16:20]))
	case b[0]>>4 == 6 && len(b) >= 40:
		protocol, rest, from = b[6], b[40:], b[8:24]
		to = netip.AddrFrom16([16]byte(b[24:40]))
	default:
		return call, to, false
	}
	switch {
	case protocol == unix.IPPROTO_TCP && len(rest) >= 14:
		const syn, ack = 2, 16
		call.Network, call.Port = "tcp", int(binary.BigEndian.Uint16(rest[2:]))
		return call, to, rest[13]&(syn|ack) == syn
	case protocol == unix.IPPROTO_UDP && len(rest) >= 8:
		call.Network, call.Port = "udp", int(binary.BigEndian.Uint16(rest[2:]))
		// An answer of our own to a question for a name is no call.
		return call, to, !(binary.BigEndian.Uint16(rest) == 53 && from[0] == 127)
	case (protocol == unix.IPPROTO_ICMP || protocol == unix.IPPROTO_ICMPV6) && len(rest) > 0:
		const echo, echo6 = 8, 128 // what ping sends; the rest is the world's own answers
		call.Network = "icmp"
		return call, to, rest[0] == echo || rest[0] == echo6
	}
	return call, to, false
}
