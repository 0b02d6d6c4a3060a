package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"sync"
	"time"

	"alibi/internal/tables"
)

// Nobody waits for Alibi on a server that others use. A statement that reads a
// table holds a metadata lock on it, behind which an ALTER waits, behind which
// everybody waits who wants the table. So statements are short; their locks are
// given back after each; and while one runs, somebody looks for those who wait:
// then it is ended on the server, its locks are given back, and after a while it
// is tried again. What waits itself waits for a second only (lock_wait_timeout).

const (
	// watchEvery is how often those who wait are looked for, and standing how long
	// one must have waited.
	watchEvery = 250 * time.Millisecond
	standing   = 300 * time.Millisecond
	// stepBack is how long a statement that stood in somebody's way stays away.
	stepBack = 300 * time.Millisecond
	// giveUp is for how long a statement is tried that always stands in the way, or
	// always has to wait.
	giveUp = 90 * time.Second
)

// The server's numbers of errors that say that a statement was ended, or had to
// wait for too long (https://mariadb.com/kb/en/mariadb-error-code-reference/).
const (
	interrupted = 1317
	lockWait    = 1205
	// unknownColumn is what a server without that column says.
	unknownColumn = 1054
)

// guard ends statements of ours that others wait for.
type guard struct {
	login  Login
	gentle *gentle // nil: what is read is waited for

	mu      sync.Mutex
	pool    *sql.DB
	running map[int64]bool // connections with a statement under way
	ended   chan struct{}
	once    sync.Once
}

func newGuard(l Login) *guard {
	return &guard{login: l, running: map[int64]bool{}, ended: make(chan struct{})}
}

// close ends the watching.
func (g *guard) close() {
	g.once.Do(func() { close(g.ended) })
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.pool != nil {
		g.pool.Close()
		g.pool = nil
	}
}

// open gives the connection by which others are looked for and statements ended.
func (g *guard) open() (*sql.DB, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	select {
	case <-g.ended:
		return nil, errors.New("the guard is closed")
	default:
	}
	if g.pool == nil {
		pool, err := g.login.pool("", 1, nil)
		if err != nil {
			return nil, err
		}
		g.pool = pool
		go g.watch()
	}
	return g.pool, nil
}

// connection gives the server's number of a connection.
func connection(ctx context.Context, c *sql.Conn) (id int64, err error) {
	err = c.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&id)
	return id, err
}

// waiting counts who waits for a table for longer than standing. Without a
// right to see others (PROCESS) it is those of our own account, which on a
// site's server is the account of its visitors too. MySQL tells seconds only.
var waiting = []string{
	fmt.Sprintf("SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE STATE LIKE 'Waiting for table%%' AND "+
		"TIME_MS >= %d", standing.Milliseconds()),
	"SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE STATE LIKE 'Waiting for table%' AND TIME >= 1",
}

// watch ends statements while others wait for tables.
func (g *guard) watch() {
	how := 0
	if pool, err := g.open(); err == nil && g.gentle != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		g.gentle.look(ctx, pool)
		cancel()
	}
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for {
		select {
		case <-g.ended:
			return
		case <-tick.C:
		}
		g.mu.Lock()
		ids := make([]int64, 0, len(g.running))
		for id := range g.running {
			ids = append(ids, id)
		}
		pool := g.pool
		g.mu.Unlock()
		if pool == nil || len(ids) == 0 && g.gentle == nil {
			continue
		}
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		if g.gentle != nil {
			g.gentle.look(ctx, pool)
		}
		n := 0
		err := pool.QueryRowContext(ctx, waiting[how]).Scan(&n)
		if number(err) == unknownColumn {
			how = 1
		}
		if n > 0 {
			for _, id := range ids {
				_, _ = pool.ExecContext(ctx, "KILL QUERY "+strconv.FormatInt(id, 10)) // it may have ended since
			}
		}
		cancel()
	}
}

// run does something by statements of a connection, again if it stood in
// somebody's way. release gives back what was locked, after each try. do may be
// called several times: what it gives on must not be gone on with before it
// returns nil.
func (g *guard) run(ctx context.Context, id int64, do, release func() error) error {
	if _, err := g.open(); err != nil {
		return err
	}
	for began := time.Now(); ; {
		g.set(id, true)
		err := do()
		g.set(id, false)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		rerr := release()
		if n := number(err); err == nil || n != interrupted && n != lockWait {
			return errors.Join(err, rerr)
		}
		if rerr != nil {
			return rerr
		}
		if time.Since(began) > giveUp {
			return fmt.Errorf("%w: %w", tables.ErrWaits, err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(stepBack):
		}
	}
}

func (g *guard) set(id int64, running bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if running {
		g.running[id] = true
	} else {
		delete(g.running, id)
	}
}
