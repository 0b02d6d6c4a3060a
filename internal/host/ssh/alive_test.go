package ssh

import (
	"context"
	"errors"
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
)

// silent takes connections and says nothing.
func silent(t *testing.T) (port string) {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { c.Close() })
		}
	}()
	_, port, err = net.SplitHostPort(ln.Addr().String())
	require.NoError(t, err)
	return port
}

func TestAHostThatSaysNothingIsNotWaitedFor(t *testing.T) {
	h := New("mute", Target{Alias: "127.0.0.1", Port: silent(t), User: "x"}, Options{Timeout: 300 * time.Millisecond})
	began := time.Now()
	_, err := h.Open(context.Background(), "/")
	assert.ErrorIs(t, err, host.ErrNoAnswer)
	assert.ErrorContains(t, err, "did not let us in within 300ms")
	assert.Less(t, time.Since(began), 20*time.Second)

	h = New("mute", Target{Alias: "127.0.0.1", Port: silent(t), User: "x"}, Options{Timeout: time.Minute})
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(200*time.Millisecond, cancel)
	began = time.Now()
	_, err = h.Open(ctx, "/")
	assert.Error(t, err)
	assert.Less(t, time.Since(began), 20*time.Second, "who cancels does not wait for the handshake")
}

func TestAHostThatWasGivenUpIsNotAskedForAMoment(t *testing.T) {
	h := New("gone", Target{Alias: "127.0.0.1", Port: silent(t), User: "x"}, Options{Timeout: time.Minute})
	h.Abort()
	began := time.Now()
	_, err := h.Open(context.Background(), "/")
	assert.ErrorIs(t, err, host.ErrNoAnswer)
	assert.ErrorContains(t, err, "given up a moment ago")
	assert.Less(t, time.Since(began), 20*time.Second)
	assert.NoError(t, h.Close())
}

// fake is a connection that notes its deadlines.
type fake struct {
	net.Conn
	read, write time.Time
}

func (f *fake) SetReadDeadline(t time.Time) error  { f.read = t; return nil }
func (f *fake) SetWriteDeadline(t time.Time) error { f.write = t; return errors.ErrUnsupported }
func (f *fake) Read([]byte) (int, error)           { return 0, os.ErrDeadlineExceeded }
func (f *fake) Write(p []byte) (int, error)        { return len(p), nil }

func TestReadsAndWritesHaveAnEnd(t *testing.T) {
	f := &fake{}
	c := timed{f}
	_, err := c.Read(make([]byte, 1))
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
	assert.WithinDuration(t, time.Now().Add(silence), f.read, time.Second)
	n, err := c.Write([]byte("abc"))
	require.NoError(t, err, "a connection that knows no deadlines is written to all the same")
	assert.Equal(t, 3, n)
	assert.WithinDuration(t, time.Now().Add(silence), f.write, time.Second)
	assert.Greater(t, silence, 2*aliveEvery, "a sign of life may be missed once")
}

func TestAttributesAreReadAsTheHostWritesThem(t *testing.T) {
	const text = `# file: /srv/site/wp-config.php
user.tide=0x68696768
system.posix_acl_access=0x0200000001000600ffffffff

# file: /srv/site/a\040b\303\251
user.x=0x

nonsense
user.bad=0xzz
`
	assert.Equal(t, map[string]host.Attrs{
		"wp-config.php": {
			"user.tide":               []byte("high"),
			"system.posix_acl_access": {2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255},
		},
		"a bé": {"user.x": {}},
	}, dumped([]byte(text), "/srv/site"))
	assert.Empty(t, dumped(nil, "/srv/site"))
}

// slow answers after a while, in which the host hangs up if it may.
type slow struct {
	person
	wait time.Duration
	then func()
}

func (s *slow) HostKey(name, print string) (bool, error) {
	time.Sleep(s.wait)
	s.then()
	return s.person.HostKey(name, print)
}

func (s *slow) Secret(what string) (string, error) {
	time.Sleep(s.wait)
	s.then()
	return s.person.Secret(what)
}

func TestWhoIsAskedHasTime(t *testing.T) {
	for name, hangsUp := range map[string]bool{"the host waits": false, "the host hangs up meanwhile": true} {
		t.Run(name, func(t *testing.T) {
			s := start(t, nil)
			who := &slow{person: person{yes: true, secret: "tide"}, wait: 1200 * time.Millisecond, then: func() {}}
			if hangsUp {
				who.then = func() { s.srv.Cut() }
			}
			s.opt.Asker, s.opt.Timeout = who, time.Second
			_, err := s.host(t).Open(context.Background(), "/")
			require.NoError(t, err)
			assert.Len(t, who.asked, 2, "for the key and the password, each once")
		})
	}
	s := start(t, nil)
	who := &slow{person: person{}, then: func() { s.srv.Cut() }}
	s.opt.Asker = who
	_, err := s.host(t).Open(context.Background(), "/")
	assert.ErrorIs(t, err, host.ErrHostKey)
	assert.Len(t, who.asked, 1, "a no is a no")
}
