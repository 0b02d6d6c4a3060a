package pace

import (
	"context"
	"sync/atomic"
	"time"
)

// Calm is work for which nobody waits: what a host does for it yields to what it does for others. Programs that are
// started for it have the lowest priority, and a database server is read for a share of the time only while others use
// it. The zero value is ready for use.
type Calm struct{ rested atomic.Int64 }

type calmly struct{}

// Context has what is done with it be calm.
func (c *Calm) Context(ctx context.Context) context.Context {
	return context.WithValue(ctx, calmly{}, c)
}

// CalmOf gives whose context it is; nil where somebody waits.
func CalmOf(ctx context.Context) *Calm {
	c, _ := ctx.Value(calmly{}).(*Calm)
	return c
}

// Rest waits for others, and adds that up.
func (c *Calm) Rest(ctx context.Context, d time.Duration) error {
	began := time.Now()
	defer func() { c.rested.Add(int64(time.Since(began))) }()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// Rested is how long all of the work has waited for others; what is done side by side counts twice.
func (c *Calm) Rested() time.Duration { return time.Duration(c.rested.Load()) }
