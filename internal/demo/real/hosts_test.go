package real

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/hosttest"
	"alibi/internal/host/ssh"
	"alibi/internal/runtime/process"
	"alibi/internal/tree"
)

// machine starts one and gives what is needed to sign in to it.
func machine(t *testing.T, name, passphrase string, change ...func(*MachineOptions)) (*Machine, ssh.Target) {
	t.Helper()
	run, err := os.MkdirTemp("", "alibi-host-")
	require.NoError(t, err)
	key := filepath.Join(run, "key")
	pub, err := NewKey(key, passphrase)
	require.NoError(t, err)
	o := MachineOptions{Name: name, Dir: filepath.Join(t.TempDir(), name), Run: run, Key: pub}
	for _, c := range change {
		c(&o)
	}
	m, err := StartMachine(o)
	require.NoError(t, err)
	t.Cleanup(func() {
		m.Close()
		process.Reap(run)
		os.RemoveAll(run)
	})
	return m, ssh.Target{Addr: "127.0.0.1", Port: m.Port, User: m.User, Key: key}
}

// person accepts every key and knows one passphrase.
type person string

func (person) HostKey(string, string) (bool, error) { return true, nil }
func (p person) Secret(string) (string, error)      { return string(p), nil }

func options(t *testing.T) ssh.Options {
	t.Setenv("SSH_AUTH_SOCK", "")
	dir := t.TempDir()
	config := filepath.Join(dir, "config")
	require.NoError(t, os.WriteFile(config, nil, 0o600))
	return ssh.Options{Config: config, KnownHosts: []string{filepath.Join(dir, "known_hosts")}, Asker: person("made up")}
}

func TestOpenSSH(t *testing.T) {
	m, target := machine(t, "pier", "made up")
	h := ssh.New("pier", target, options(t))
	defer h.Close()
	dir := filepath.Join(m.Dir, "srv")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	hosttest.Run(t, h, dir, dir)
	ctx := context.Background()
	out, err := h.Command(ctx, "printf", "%s|", "a b", "c'd")
	require.NoError(t, err)
	assert.Equal(t, "a b|c'd|", string(out))
	c, err := h.Dial(ctx, "unix", m.DB.Socket)
	require.NoError(t, err, "a database that listens on a socket only")
	greeting := make([]byte, 5)
	_, err = c.Read(greeting)
	require.NoError(t, err)
	c.Close()
}

func TestManySmallFilesOverOpenSSH(t *testing.T) {
	m, target := machine(t, "pier", "")
	ctx := context.Background()
	for i := range 120 {
		p := filepath.Join(m.Dir, "site", fmt.Sprintf("d%d", i%7), fmt.Sprintf("f %d", i))
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(strings.Repeat("x", i*37)), 0o640))
	}
	for name, filesOnly := range map[string]bool{"as a stream": false, "one by one": true} {
		t.Run(name, func(t *testing.T) {
			target := target
			if filesOnly {
				_, target = machine(t, "strict", "", func(o *MachineOptions) { o.FilesOnly = true })
			}
			h := ssh.New(name, target, options(t))
			defer h.Close()
			src, err := h.Open(ctx, filepath.Join(m.Dir, "site"))
			require.NoError(t, err)
			s, ok := src.(host.Streamer)
			require.True(t, ok)
			assert.Equal(t, !filesOnly, s.Streams())
			back, err := h.Make(ctx, filepath.Join(t.TempDir(), "back"))
			require.NoError(t, err)
			list, err := tree.Scan(ctx, src, tree.Filter{})
			require.NoError(t, err)
			got, problems, err := tree.Copy(ctx, src, back, list.Entries, func(int64, int) {})
			require.NoError(t, err)
			assert.Empty(t, problems)
			there, err := tree.Scan(ctx, back, tree.Filter{})
			require.NoError(t, err)
			require.NoError(t, tree.Digest(ctx, back, there.Entries, nil, func(int64, int) {}))
			assert.Empty(t, tree.Compare(got, there.Entries))
			assert.Len(t, there.Entries, 127)
			if filesOnly {
				_, err = h.Command(ctx, "php", "-v")
				assert.ErrorIs(t, err, host.ErrNoCommands)
				_, err = h.Dial(ctx, "tcp", "127.0.0.1:3306")
				assert.ErrorIs(t, err, host.ErrNoForward)
			}
		})
	}
}

func TestConfigurationAndJumpHosts(t *testing.T) {
	gate, atGate := machine(t, "gate", "")
	dock, atDock := machine(t, "drydock", "")
	opt := options(t)
	dir := filepath.Dir(opt.Config)
	require.NoError(t, os.WriteFile(opt.Config, []byte("Include "+filepath.Join(dir, "more")+"\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "more"), []byte(fmt.Sprintf(`
Host gate
	HostName 127.0.0.1
	Port %s
	User %s
	IdentityFile %s
Match originalhost drydock
	HostName 127.0.0.1
	Port %s
	User %s
	IdentityFile %s
	ProxyJump gate
`, gate.Port, gate.User, atGate.Key, dock.Port, dock.User, atDock.Key)), 0o600))
	h := ssh.New("drydock", ssh.Target{Alias: "drydock"}, opt)
	defer h.Close()
	ctx := context.Background()
	out, err := h.Command(ctx, "sh", "-c", "echo $SSH_CLIENT")
	require.NoError(t, err)
	assert.Contains(t, string(out), dock.Port)
	gate.Close()
	late := ssh.New("drydock", ssh.Target{Alias: "drydock"}, opt)
	_, err = late.Open(ctx, "/")
	assert.ErrorIs(t, err, host.ErrNoAnswer)
	assert.ErrorContains(t, err, "on the way to drydock")
}
