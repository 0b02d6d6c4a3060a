package pace

import "context"

type gently struct{}

// Gently marks work for which nobody waits: what a host does for it yields to what it does for others. Programs that
// are started with such a context have the lowest priority, and a database server is read for a share of the time only
// while others use it.
func Gently(ctx context.Context) context.Context { return context.WithValue(ctx, gently{}, true) }

// IsGentle tells whether a context is Gently's.
func IsGentle(ctx context.Context) bool { return ctx.Value(gently{}) != nil }
