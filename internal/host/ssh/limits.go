package ssh

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"
)

// Limits are how much of a host may be used. The zero value of each is no bound.
type Limits struct {
	Bandwidth int64   // bytes a second, each way
	Streams   int     // files or streams at once
	Load      float64 // of the last minute; above it Alibi waits
	Compress  string  // one of the Compress constants
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
