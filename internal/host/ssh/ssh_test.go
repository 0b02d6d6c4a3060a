package ssh

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"alibi/internal/demo/sshd"
	"alibi/internal/host"
	"alibi/internal/host/hosttest"
)

// person answers yes to unknown keys and knows one secret.
type person struct {
	yes    bool
	secret string
	asked  []string
}

func (p *person) HostKey(name, print string) (bool, error) {
	p.asked = append(p.asked, name+" "+print)
	return p.yes, nil
}

func (p *person) Secret(prompt string) (string, error) {
	p.asked = append(p.asked, prompt)
	return p.secret, nil
}

type setup struct {
	srv    *sshd.Server
	dir    string
	target Target
	opt    Options
	who    *person
	key    ed25519.PrivateKey
}

// start runs a server that takes a password and a key, and describes it.
func start(t *testing.T, change func(*sshd.Config)) *setup {
	t.Helper()
	t.Setenv("SSH_AUTH_SOCK", "")
	s := &setup{dir: t.TempDir(), who: &person{yes: true, secret: "tide"}}
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s.key = key
	signer, err := ssh.NewPublicKey(pub)
	require.NoError(t, err)
	cfg := sshd.Config{Dir: s.dir, User: "ops", Password: "tide", Key: signer}
	if change != nil {
		change(&cfg)
	}
	s.srv, err = sshd.Start(cfg)
	require.NoError(t, err)
	t.Cleanup(func() { s.srv.Close() })
	conf := t.TempDir()
	s.target = Target{Addr: "127.0.0.1", Port: s.srv.Port(), User: "ops", Key: filepath.Join(conf, "key")}
	s.opt = Options{
		Config:     filepath.Join(conf, "config"),
		KnownHosts: []string{filepath.Join(conf, "known_hosts")},
		Asker:      s.who,
	}
	return s
}

func (s *setup) writeKey(t *testing.T, pass string) {
	t.Helper()
	block, err := ssh.MarshalPrivateKey(s.key, "")
	if pass != "" {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(s.key, "", []byte(pass))
	}
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.target.Key, pem.EncodeToMemory(block), 0o600))
}

func (s *setup) host(t *testing.T) *Host {
	h := New("pier", s.target, s.opt)
	t.Cleanup(func() { h.Close() })
	return h
}

func TestConformance(t *testing.T) {
	s := start(t, nil)
	require.NoError(t, os.Mkdir(filepath.Join(s.dir, "srv"), 0o755))
	hosttest.Run(t, s.host(t), "/srv", filepath.Join(s.dir, "srv"))
}

func TestUnknownHostKeyIsAskedForOnce(t *testing.T) {
	s := start(t, nil)
	_, err := s.host(t).Open(context.Background(), "/")
	require.NoError(t, err)
	require.Len(t, s.who.asked, 2)
	assert.Contains(t, s.who.asked[0], ssh.FingerprintSHA256(s.srv.HostKey()))
	s.who.yes = false
	_, err = s.host(t).Open(context.Background(), "/")
	require.NoError(t, err, "a key that was accepted is known from then on")
}

// A host whose name leads elsewhere is reached at its machine, and its key is that of its name.
func TestAHostIsReachedAtItsMachine(t *testing.T) {
	s := start(t, nil)
	s.target.Addr, s.target.At = "pier.invalid", "127.0.0.1"
	h := s.host(t)
	_, err := h.Open(context.Background(), "/")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1", h.Address())
	known, err := os.ReadFile(s.opt.KnownHosts[0])
	require.NoError(t, err)
	assert.Contains(t, string(known), "pier.invalid")
	s.target.At = ""
	_, err = s.host(t).Open(context.Background(), "/")
	assert.ErrorIs(t, err, host.ErrNoAnswer)
}

func TestRefusedHostKey(t *testing.T) {
	s := start(t, nil)
	s.who.yes = false
	_, err := s.host(t).Open(context.Background(), "/")
	assert.ErrorIs(t, err, host.ErrHostKey)
	assert.ErrorContains(t, err, "which is not known yet: the host's key was not accepted")
}

func TestChangedHostKeyIsRefused(t *testing.T) {
	s := start(t, nil)
	pub, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	other, err := ssh.NewPublicKey(pub)
	require.NoError(t, err)
	line := fmt.Sprintf("[127.0.0.1]:%s %s", s.srv.Port(), ssh.MarshalAuthorizedKey(other))
	require.NoError(t, os.WriteFile(s.opt.KnownHosts[0], []byte(line), 0o600))
	_, err = s.host(t).Open(context.Background(), "/")
	assert.ErrorIs(t, err, host.ErrHostKey)
	assert.ErrorContains(t, err, "somebody may be listening in")
	assert.Empty(t, s.who.asked, "a changed key is not a question")
}

func TestSignIn(t *testing.T) {
	t.Run("key file", func(t *testing.T) {
		s := start(t, func(c *sshd.Config) { c.Password = "" })
		s.writeKey(t, "")
		_, err := s.host(t).Open(context.Background(), "/")
		require.NoError(t, err)
	})
	t.Run("key with passphrase", func(t *testing.T) {
		s := start(t, func(c *sshd.Config) { c.Password = "" })
		s.writeKey(t, "tide")
		_, err := s.host(t).Open(context.Background(), "/")
		require.NoError(t, err)
		assert.Contains(t, strings.Join(s.who.asked, " "), "passphrase of key")
	})
	t.Run("agent", func(t *testing.T) {
		s := start(t, func(c *sshd.Config) { c.Password = "" })
		ring := agent.NewKeyring()
		require.NoError(t, ring.Add(agent.AddedKey{PrivateKey: &s.key}))
		sock := filepath.Join(t.TempDir(), "agent")
		ln, err := net.Listen("unix", sock)
		require.NoError(t, err)
		defer ln.Close()
		go func() {
			for {
				c, err := ln.Accept()
				if err != nil {
					return
				}
				go agent.ServeAgent(ring, c)
			}
		}()
		t.Setenv("SSH_AUTH_SOCK", sock)
		_, err = s.host(t).Open(context.Background(), "/")
		require.NoError(t, err)
	})
	t.Run("wrong password", func(t *testing.T) {
		s := start(t, nil)
		s.who.secret = "ebb-secret"
		_, err := s.host(t).Open(context.Background(), "/")
		assert.ErrorIs(t, err, host.ErrAuth)
		assert.NotContains(t, err.Error(), "ebb-secret")
	})
}

func TestConfigFile(t *testing.T) {
	s := start(t, nil)
	s.writeKey(t, "")
	conf := fmt.Sprintf("Host quay\n  HostName 127.0.0.1\n  Port %s\n  User ops\n  IdentityFile %s\n", s.srv.Port(),
		s.target.Key)
	require.NoError(t, os.WriteFile(s.opt.Config, []byte(conf), 0o600))
	h := New("pier", Target{Alias: "quay"}, s.opt)
	defer h.Close()
	_, err := h.Open(context.Background(), "/")
	require.NoError(t, err)
}

func TestCommands(t *testing.T) {
	s := start(t, func(c *sshd.Config) {
		c.Commands = map[string]func([]string) []byte{"true": func([]string) []byte { return nil },
			"echo": func(a []string) []byte { return []byte(strings.Join(a, "|")) }}
	})
	out, err := s.host(t).Command(context.Background(), "echo", "a b", "c")
	require.NoError(t, err)
	assert.Equal(t, "a b|c", string(out))
	_, err = s.host(t).Command(context.Background(), "rm")
	assert.ErrorContains(t, err, "running rm on pier")
	only := start(t, nil)
	_, err = only.host(t).Command(context.Background(), "echo")
	assert.ErrorIs(t, err, host.ErrNoCommands)
}

func TestNobodyAnswers(t *testing.T) {
	h := New("gone", Target{Addr: "127.0.0.1", Port: "1", User: "ops"}, Options{})
	_, err := h.Open(context.Background(), "/")
	assert.ErrorIs(t, err, host.ErrNoAnswer)
	assert.ErrorContains(t, err, "check the address and port")
}

func TestABrokenLineIsTakenUpAgain(t *testing.T) {
	s := start(t, nil)
	h := s.host(t)
	r, err := h.Open(context.Background(), "/")
	require.NoError(t, err)
	s.srv.Cut()
	_, err = r.ReadDir(".")
	assert.True(t, Lost(err), "%v", err)
	_, err = r.Open("x")
	assert.True(t, Lost(err), "%v", err)
	assert.False(t, Lost(fs.ErrPermission))
	r, err = h.Open(context.Background(), "/")
	require.NoError(t, err)
	_, err = r.ReadDir(".")
	assert.NoError(t, err)
}

func TestLimitsAreKept(t *testing.T) {
	s := start(t, nil)
	h := s.host(t)
	h.opt.Limits = Limits{Bandwidth: 256 << 10, Streams: 1, Load: 0.5}
	ctx := context.Background()
	r, err := h.Write(ctx, "/")
	require.NoError(t, err)
	assert.Equal(t, 1, host.AtOnce(4, r))
	began := time.Now()
	_, err = host.Put(r, "large", 0o600, time.Time{}, bytes.NewReader(make([]byte, 512<<10)))
	require.NoError(t, err)
	assert.Greater(t, time.Since(began), time.Second, "half a MiB at a quarter of one a second")
	require.NoError(t, host.Patience(ctx, r), "a host that does not tell its load is not waited for")
	x := r.(*root)
	h.mu.Lock()
	h.load, h.loadAt = 9, time.Now().Add(time.Hour)
	h.mu.Unlock()
	short, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
	defer cancel()
	assert.ErrorIs(t, x.Patience(short), context.DeadlineExceeded, "a busy host is left alone")
	h.mu.Lock()
	h.load = 0.2
	h.mu.Unlock()
	assert.NoError(t, x.Patience(ctx))
}
