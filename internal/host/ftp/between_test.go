package ftp_test

import (
	"io"
	"net"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// betweenConns stands between a host and us, and can end what goes through it.
type betweenConns struct {
	port string

	mu   sync.Mutex
	open []net.Conn
}

// relayed hands connections on to an address.
func relayed(t *testing.T, to string) *betweenConns {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	_, port, err := net.SplitHostPort(ln.Addr().String())
	require.NoError(t, err)
	b := &betweenConns{port: port}
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			d, err := net.Dial("tcp", to)
			if err != nil {
				c.Close()
				continue
			}
			b.mu.Lock()
			b.open = append(b.open, c, d)
			b.mu.Unlock()
			go func() { _, _ = io.Copy(d, c); d.Close() }()
			go func() { _, _ = io.Copy(c, d); c.Close() }()
		}
	}()
	return b
}

// cut ends all connections.
func (b *betweenConns) cut() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, c := range b.open {
		c.Close()
	}
	b.open = nil
}
