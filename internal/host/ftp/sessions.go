package ftp

import (
	"crypto/tls"
	"sync"
)

// sessions keeps the TLS session of one connection for commands. Servers take a connection for data only if it goes on
// with that session: those that data connections make are not kept.
type sessions struct {
	mu    sync.Mutex
	state *tls.ClientSessionState
}

// Get gives it, whatever the host is called.
func (s *sessions) Get(string) (*tls.ClientSessionState, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.state, s.state != nil
}

// Put keeps it.
func (s *sessions) Put(_ string, state *tls.ClientSessionState) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if state != nil {
		s.state = state
	}
}

// forData only gives it.
type forData struct{ *sessions }

func (forData) Put(string, *tls.ClientSessionState) {}
