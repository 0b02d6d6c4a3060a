// Package pace bounds how fast connections to a host are used.
package pace

import (
	"context"
	"net"

	"golang.org/x/time/rate"
)

// Pace is a bound that all connections to a host share, each way.
type Pace struct{ in, out *rate.Limiter }

// Of bounds to so many bytes a second; 0 is no bound.
func Of(bandwidth int64) *Pace {
	if bandwidth <= 0 {
		return nil
	}
	burst := int(min(bandwidth, 1<<16))
	return &Pace{rate.NewLimiter(rate.Limit(bandwidth), burst), rate.NewLimiter(rate.Limit(bandwidth), burst)}
}

// Conn bounds a connection.
func (p *Pace) Conn(c net.Conn) net.Conn {
	if p == nil {
		return c
	}
	return &paced{c, p}
}

type paced struct {
	net.Conn
	by *Pace
}

func (p *paced) Read(b []byte) (int, error) {
	if len(b) > p.by.in.Burst() {
		b = b[:p.by.in.Burst()]
	}
	n, err := p.Conn.Read(b)
	if n > 0 {
		_ = p.by.in.WaitN(context.Background(), n) // n is never more than the burst
	}
	return n, err
}

func (p *paced) Write(b []byte) (int, error) {
	done := 0
	for done < len(b) {
		n := min(len(b)-done, p.by.out.Burst())
		_ = p.by.out.WaitN(context.Background(), n)
		k, err := p.Conn.Write(b[done : done+n])
		done += k
		if err != nil {
			return done, err
		}
	}
	return done, nil
}
