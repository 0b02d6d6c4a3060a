package ssh

import (
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// asking asks a person while a connection is made. The host's time to let us in does not
// run meanwhile; and what was answered is known for another try.
type asking struct {
	Asker
	limit time.Duration

	mu    sync.Mutex
	clock *time.Timer
	said  map[string]string // answers of the try before, each taken once
	now   map[string]string // answers of this try
}

// start begins the host's time, at whose end the connection is closed; the function tells
// whether it came to that.
func (a *asking) start(c net.Conn) (over func() bool) {
	var ended atomic.Bool
	a.mu.Lock()
	defer a.mu.Unlock()
	a.clock = time.AfterFunc(a.limit, func() {
		ended.Store(true)
		c.Close()
	})
	return ended.Load
}

func (a *asking) stop() { a.clock.Stop() }

// again tells whether somebody was asked in the try that has just ended.
func (a *asking) again() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.said, a.now = a.now, nil
	return len(a.said) > 0
}

// answer gives what was answered before, or asks.
func (a *asking) answer(question string, ask func() (string, error)) (string, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if s, ok := a.said[question]; ok {
		delete(a.said, question)
		return s, nil
	}
	a.clock.Stop()
	defer a.clock.Reset(a.limit)
	s, err := ask()
	if err == nil {
		if a.now == nil {
			a.now = map[string]string{}
		}
		a.now[question] = s
	}
	return s, err
}

func (a *asking) Secret(what string) (string, error) {
	return a.answer(what, func() (string, error) { return a.Asker.Secret(what) })
}

func (a *asking) HostKey(name, key string) (bool, error) {
	s, err := a.answer(name+" "+key, func() (string, error) {
		yes, err := a.Asker.HostKey(name, key)
		if yes {
			return "yes", err
		}
		return "", err
	})
	return s == "yes", err
}
