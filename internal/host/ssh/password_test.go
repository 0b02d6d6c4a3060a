package ssh

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"alibi/internal/host"
)

// anyKey accepts every host and knows no secret.
type anyKey struct{ Nobody }

func (anyKey) HostKey(string, string) (bool, error) { return true, nil }

// doorman is a server that lets in by a password, asked for in one way, and then does nothing.
func doorman(t *testing.T, c ssh.ServerConfig) Target {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	c.AddHostKey(signer)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			conn, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				_, channels, requests, err := ssh.NewServerConn(conn, &c)
				if err != nil {
					return
				}
				go ssh.DiscardRequests(requests)
				for ch := range channels {
					_ = ch.Reject(ssh.Prohibited, "it is closed")
				}
			}()
		}
	}()
	name, port, err := net.SplitHostPort(ln.Addr().String())
	require.NoError(t, err)
	return Target{Alias: name, Port: port, User: "runa"}
}

func TestAPasswordThatIsKept(t *testing.T) {
	t.Setenv("SSH_AUTH_SOCK", "")
	right := func(word string) (*ssh.Permissions, error) {
		if word != "made up" {
			return nil, errors.New("no")
		}
		return nil, nil
	}
	asks := func(questions []string, echo bool) ssh.ServerConfig {
		return ssh.ServerConfig{KeyboardInteractiveCallback: func(_ ssh.ConnMetadata,
			ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			echos := make([]bool, len(questions))
			echos[0] = echo
			said, err := ask("", "", questions, echos)
			if err != nil {
				return nil, err
			}
			return right(said[0])
		}}
	}
	for what, c := range map[string]struct {
		server ssh.ServerConfig
		in     bool
	}{
		"a password": {ssh.ServerConfig{PasswordCallback: func(_ ssh.ConnMetadata, word []byte) (*ssh.Permissions, error) {
			return right(string(word))
		}}, true},
		"a dialogue":      {asks([]string{"Password:"}, false), true},
		"a second factor": {asks([]string{"Password:", "Code:"}, false), false},
		"something else":  {asks([]string{"Your ship:"}, true), false},
	} {
		target := doorman(t, c.server)
		try := func(word string) error {
			h := New("pier", target, Options{KnownHosts: []string{filepath.Join(t.TempDir(), "known")}, Asker: anyKey{},
				Password: func() (string, error) { return word, nil }})
			defer h.Close()
			_, err := h.Open(context.Background(), "/")
			require.Error(t, err, "it gives no files")
			return err
		}
		assert.Equal(t, c.in, !errors.Is(try("made up"), host.ErrAuth), what)
		assert.ErrorIs(t, try("wrong"), host.ErrAuth, what)
	}
}
