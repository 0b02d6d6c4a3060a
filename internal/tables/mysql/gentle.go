package mysql

import (
	"context"
	"database/sql"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"alibi/internal/host/pace"
)

// What nobody waits for is read gently (pace.Calm): while others ask the server for something, one short statement
// runs at a time, and then none for a while. The kernel gives a statement as much of a processor as it gives a
// visitor's page; so a page is slower by what runs beside it, and what is short and seldom is hardly felt.
const (
	// gentleTime is how long a statement may take that is read gently.
	gentleTime = 30 * time.Millisecond
	// gentleRest is how many times as long none is running then, and longestRest at most.
	gentleRest  = 4
	longestRest = 2 * time.Second
	// otherStatements of others in watchEvery are a sign that somebody is there; for visitedFor they are taken to be.
	otherStatements = 5
	visitedFor      = 3 * time.Second
)

// gentle paces the statements of one snapshot.
type gentle struct {
	calm    *pace.Calm
	turn    sync.Mutex
	own     atomic.Int64 // statements of the snapshot's connections, and of its guard's
	visited atomic.Int64 // until when others are taken to be there; nanoseconds
	known   atomic.Bool  // whether they are
	last    int64        // what the server had counted when it was asked last; 0: never
	lastOwn int64
}

// busy tells whether others are there.
func (g *gentle) busy() bool { return time.Now().UnixNano() < g.visited.Load() }

// look sees by the server's count whether others ask it for something. A server that does not tell is taken to be
// visited.
func (g *gentle) look(ctx context.Context, pool *sql.DB) {
	now, err := questions(ctx, pool)
	own := g.own.Load() // with this look; what is under way just now may be counted at the next
	if err != nil || g.last > 0 && now-g.last-(own-g.lastOwn) >= otherStatements {
		g.visited.Store(time.Now().Add(visitedFor).UnixNano())
	}
	g.known.Store(err != nil || g.last > 0)
	g.last, g.lastOwn = now, own
}

// questions is how many statements clients have put to a server since it was started.
func questions(ctx context.Context, pool *sql.DB) (n int64, err error) {
	var name, text string
	if err = pool.QueryRowContext(ctx, "SHOW GLOBAL STATUS LIKE 'Questions'").Scan(&name, &text); err == nil {
		n, err = strconv.ParseInt(text, 10, 64)
	}
	return n, err
}

// do runs a statement in its turn, and rests.
func (g *gentle) do(ctx context.Context, statement func() error) error {
	if !g.busy() {
		return statement()
	}
	g.turn.Lock()
	defer g.turn.Unlock()
	began := time.Now()
	if err := statement(); err != nil {
		return err
	}
	return g.calm.Rest(ctx, min(gentleRest*time.Since(began), longestRest))
}

// atMost is how long a statement of a snapshot may take: those of its pages and sums are made shorter or longer by it.
// As long as it is not known whether others are there, they are short.
func (s *snapshot) atMost() time.Duration {
	if g := s.guard.gentle; g != nil && (g.busy() || !g.known.Load()) {
		return gentleTime
	}
	return pageTime
}
