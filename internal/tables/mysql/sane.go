package mysql

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync/atomic"
	"syscall"
)

// errNonsense is given for what no server says. The driver takes the number of columns on a server's word.
var errNonsense = errors.New("the database server answers with what makes no sense")

// nonsense makes an error of the driver's giving up on an answer.
func nonsense(err *error) {
	if p := recover(); p != nil {
		*err = fmt.Errorf("%w: %v", errNonsense, p)
	}
}

// sane is a connection on which an answer that announces more columns than a table can have is the end
// (https://mariadb.com/kb/en/result-set-packets/). It sees what is neither encrypted nor compressed.
type sane struct {
	net.Conn
	asked atomic.Bool // the next packet is the first of an answer
	head  [4]byte
	have  int // bytes of the head
	left  int // bytes of the packet that are still to come
	first bool
}

// saneSystem is one of the system's, of which the driver asks whether it is still open.
type saneSystem struct {
	*sane
	syscall.Conn
}

// dialSane connects by dial, or as usual, to a server that is not taken at its word.
func dialSane(dial func(context.Context, string, string) (net.Conn, error)) func(context.Context, string,
	string) (net.Conn, error) {
	if dial == nil {
		dial = new(net.Dialer).DialContext
	}
	return func(ctx context.Context, network, addr string) (net.Conn, error) {
		c, err := dial(ctx, network, addr)
		if err != nil {
			return nil, err
		}
		if sys, ok := c.(syscall.Conn); ok {
			return &saneSystem{&sane{Conn: c}, sys}, nil
		}
		return &sane{Conn: c}, nil
	}
}

func (s *sane) Write(b []byte) (int, error) {
	s.asked.Store(true)
	return s.Conn.Write(b)
}

func (s *sane) Read(b []byte) (int, error) {
	n, err := s.Conn.Read(b)
	for rest := b[:n]; len(rest) > 0; {
		if s.left == 0 {
			took := copy(s.head[s.have:], rest)
			if s.have, rest = s.have+took, rest[took:]; s.have < 4 {
				break
			}
			s.have, s.first = 0, s.asked.Swap(false) && s.head[3] == 1
			s.left = int(s.head[0]) | int(s.head[1])<<8 | int(s.head[2])<<16
			continue
		}
		// 0xfd and 0xfe begin numbers of three and of eight bytes; a short packet with 0xfe is another one.
		if s.first && (rest[0] == 0xfd || rest[0] == 0xfe && s.left >= 9) {
			return 0, fmt.Errorf("%w: more columns than a table can have", errNonsense)
		}
		s.first = false
		took := min(s.left, len(rest))
		s.left, rest = s.left-took, rest[took:]
	}
	return n, err
}
