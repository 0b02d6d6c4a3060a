package ssh

import (
	"context"
	"fmt"
	"net"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"alibi/internal/host"
)

// A host that stopped, or a line that went silent, must not hold anybody up: it is
// asked for a sign of life every aliveEvery, and a connection over which nothing
// came, or went, for silence is over.
const (
	aliveEvery = 10 * time.Second
	silence    = 30 * time.Second
	// shunned is for how long a host is not asked again that a person gave up waiting
	// for: what is still to be done is then told at once that it does not answer.
	shunned = 3 * time.Second
)

// timed is a connection whose reads and writes don't wait for longer than silence.
type timed struct{ net.Conn }

func (t timed) Read(p []byte) (int, error) {
	_ = t.Conn.SetReadDeadline(time.Now().Add(silence)) // a channel of a jump host knows none; its own connection does
	return t.Conn.Read(p)
}

func (t timed) Write(p []byte) (int, error) {
	_ = t.Conn.SetWriteDeadline(time.Now().Add(silence))
	return t.Conn.Write(p)
}

// keepAlive asks for signs of life until the connection ends.
func keepAlive(c *ssh.Client) {
	ended := make(chan struct{})
	go func() {
		_ = c.Wait()
		close(ended)
	}()
	tick := time.NewTicker(aliveEvery)
	defer tick.Stop()
	for {
		select {
		case <-ended:
			return
		case <-tick.C:
			// What comes back, an answer or a refusal, resets the connection's deadline.
			if _, _, err := c.SendRequest("keepalive@openssh.com", true, nil); err != nil {
				return
			}
		}
	}
}

// answers tells whether a connection that was made before still does.
func answers(ctx context.Context, c *sftp.Client) bool {
	ctx, cancel := context.WithTimeout(ctx, aliveEvery)
	defer cancel()
	ok := make(chan bool, 1)
	go func() {
		_, err := c.RealPath(".")
		ok <- err == nil
	}()
	select {
	case yes := <-ok:
		return yes
	case <-ctx.Done():
		return false
	}
}

// Abort breaks the connection off, so that whatever waits for the host goes on at
// once with an error.
func (h *Host) Abort() {
	h.shun.Store(time.Now().Add(shunned).UnixNano())
	if c := h.now.Load(); c != nil {
		_ = c.Close()
	}
}

// refused says that a person has just given up waiting for the host.
func (h *Host) refused() error {
	if time.Now().UnixNano() < h.shun.Load() {
		return fmt.Errorf("host %s: %w; it was given up a moment ago", h.name, host.ErrNoAnswer)
	}
	return nil
}
