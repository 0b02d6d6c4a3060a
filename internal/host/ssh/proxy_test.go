package ssh

import (
	"context"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestProxyCommandsTokens(t *testing.T) {
	c, err := Target{
		Alias:   "dock",
		Addr:    "10.0.0.7",
		Port:    "2222",
		User:    "ops",
		command: "echo %r@%h:%p %n 100%%; cat",
	}.run(context.Background())
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.SetDeadline(time.Now().Add(5*time.Second)))
	line := make([]byte, len("ops@10.0.0.7:2222 dock 100%\n"))
	_, err = io.ReadFull(c, line)
	require.NoError(t, err)
	assert.Equal(t, "ops@10.0.0.7:2222 dock 100%\n", string(line))
	assert.Equal(t, "10.0.0.7:2222", c.RemoteAddr().String())
}

func TestAProxyCommandEndsWithItsConnection(t *testing.T) {
	c, err := Target{command: "cat"}.run(context.Background())
	require.NoError(t, err)
	_, err = c.Write([]byte("tide"))
	require.NoError(t, err)
	got := make([]byte, 4)
	_, err = io.ReadFull(c, got)
	require.NoError(t, err)
	assert.Equal(t, "tide", string(got))
	done := make(chan struct{})
	go func() { c.Close(); c.Close(); close(done) }()
	select {
	case <-done:
	case <-time.After(time.Minute):
		t.Fatal("the command goes on")
	}
	p := c.(*proxied)
	assert.NotNil(t, p.cmd.ProcessState)
}

func TestAProxyCommandThatFails(t *testing.T) {
	c, err := Target{command: "sh -c 'echo no way >&2; exit 3'"}.run(context.Background())
	require.NoError(t, err)
	require.NoError(t, c.SetDeadline(time.Now().Add(5*time.Second)))
	_, err = c.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF)
	assert.Equal(t, "; its ProxyCommand says: no way", complaint(c))
	plain, _ := net.Pipe()
	assert.Empty(t, complaint(plain))
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Target{command: "cat"}.run(ctx)
	assert.ErrorIs(t, err, context.Canceled)
}
