package ssh

import (
	"context"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"golang.org/x/time/rate"
)

// Limits are how much of a host may be used. The zero value of each is no bound.
type Limits struct {
	Bandwidth int64   // bytes a second, each way
	Streams   int     // files or streams at once
	Load      float64 // of the last minute; above it Alibi waits
	Compress  string  // one of the Compress constants
}

// paced is a connection that keeps to a bandwidth.
type paced struct {
	net.Conn
	in, out *rate.Limiter
}

// pace bounds a connection.
func pace(c net.Conn, bandwidth int64) net.Conn {
	if bandwidth <= 0 {
		return c
	}
	burst := int(min(bandwidth, 1<<16))
	return &paced{c, rate.NewLimiter(rate.Limit(bandwidth), burst), rate.NewLimiter(rate.Limit(bandwidth), burst)}
}

func (p *paced) Read(b []byte) (int, error) {
	if len(b) > p.in.Burst() {
		b = b[:p.in.Burst()]
	}
	n, err := p.Conn.Read(b)
	if n > 0 {
		_ = p.in.WaitN(context.Background(), n) // n is never more than the burst
	}
	return n, err
}

func (p *paced) Write(b []byte) (int, error) {
	done := 0
	for done < len(b) {
		n := min(len(b)-done, p.out.Burst())
		_ = p.out.WaitN(context.Background(), n)
		k, err := p.Conn.Write(b[done : done+n])
		done += k
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// AtOnce is how many files or streams may be under way.
func (r *root) AtOnce(usual int) int {
	if n := r.h.opt.Limits.Streams; n > 0 {
		return min(n, usual)
	}
	return usual
}

// looksAtLoad is how often the load is asked for.
const looksAtLoad = 2 * time.Second

// Patience waits while the host is busier than it may be.
func (r *root) Patience(ctx context.Context) error {
	limit := r.h.opt.Limits.Load
	if limit <= 0 {
		return nil
	}
	for {
		r.h.mu.Lock()
		fresh := time.Since(r.h.loadAt) < looksAtLoad
		load := r.h.load
		if !fresh {
			r.h.loadAt = time.Now()
		}
		r.h.mu.Unlock()
		if !fresh {
			load = r.loadNow()
			r.h.mu.Lock()
			r.h.load = load
			r.h.mu.Unlock()
		}
		if load <= limit {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(looksAtLoad / 4):
		}
	}
}

// loadNow is the host's load of the last minute, 0 where it does not tell.
func (r *root) loadNow() float64 {
	f, err := r.c.Open("/proc/loadavg")
	if err != nil {
		return 0
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, 100))
	if err != nil {
		return 0
	}
	var load float64
	if _, err := fmt.Fscan(strings.NewReader(string(b)), &load); err != nil {
		return 0
	}
	return load
}
