package real

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/hosttest"
	"alibi/internal/host/local"
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
	return ssh.Options{
		Config:     config,
		KnownHosts: []string{filepath.Join(dir, "known_hosts")},
		Asker:      person("made up"),
	}
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

// counted puts a counter of bytes before a host. The function gives what went over all
// lines, once they have ended.
func counted(t *testing.T, target ssh.Target) (ssh.Target, func() int64) {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	var n, lines, ended atomic.Int64
	to := net.JoinHostPort(target.Addr, target.Port)
	pass := func(dst, src net.Conn) {
		k, _ := io.Copy(dst, src)
		n.Add(k)
		dst.Close()
		ended.Add(1)
	}
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			s, err := net.Dial("tcp", to)
			if err != nil {
				c.Close()
				return
			}
			lines.Add(2)
			go pass(s, c)
			go pass(c, s)
		}
	}()
	_, target.Port, _ = net.SplitHostPort(ln.Addr().String())
	return target, func() int64 {
		require.Eventually(t, func() bool { return lines.Load() > 0 && ended.Load() == lines.Load() }, 30*time.Second,
			time.Millisecond)
		return n.Load()
	}
}

func TestWhatGoesOverTheLine(t *testing.T) {
	m, target := machine(t, "pier", "")
	ctx := context.Background()
	dir := filepath.Join(m.Dir, "site")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	const size = 40 * 20_000
	for i := range 40 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprint(i)), []byte(strings.Repeat("tide", 5000)), 0o640))
	}
	for _, c := range []struct {
		compress   string
		bandwidth  int64
		back       bool // to this machine
		from, till int64
	}{
		{ssh.CompressNever, 0, true, size, 2 * size},
		{ssh.CompressAlways, 0, true, 0, size / 4},
		{ssh.CompressFar, 0, true, size, 2 * size}, // it is near
		{"", 100 << 20, true, 0, size / 4},
		{ssh.CompressAlways, 0, false, 0, size / 4},
		{ssh.CompressNever, 0, false, size, 3 * size / 2}, // read for the digests, not sent back
	} {
		t.Run(fmt.Sprint(c), func(t *testing.T) {
			near, n := counted(t, target)
			opt := options(t)
			opt.Limits = ssh.Limits{Compress: c.compress, Bandwidth: c.bandwidth}
			h := ssh.New("pier", near, opt)
			src, err := h.Open(ctx, dir)
			require.NoError(t, err)
			var to host.Host = h
			if c.back {
				to = local.New("slipway")
			}
			dst, err := to.Make(ctx, filepath.Join(t.TempDir(), "copy"))
			require.NoError(t, err)
			list, err := tree.Scan(ctx, src, tree.Filter{})
			require.NoError(t, err)
			got, _, err := tree.Copy(ctx, src, dst, list.Entries, func(int64, int) {})
			require.NoError(t, err)
			h.Close()
			here, err := local.New("slipway").Open(ctx, dst.Path())
			require.NoError(t, err)
			there, err := tree.Scan(ctx, here, tree.Filter{})
			require.NoError(t, err)
			require.NoError(t, tree.Digest(ctx, here, there.Entries, nil, func(int64, int) {}))
			assert.Empty(t, tree.Compare(got, there.Entries))
			assert.Len(t, there.Entries, 40)
			assert.Less(t, n(), c.till)
			assert.Greater(t, n(), c.from)
		})
	}
}

func TestProxyCommand(t *testing.T) {
	gate, atGate := machine(t, "gate", "")
	dock, atDock := machine(t, "drydock", "")
	opt := options(t)
	write := func(command string) {
		require.NoError(
			t,
			os.WriteFile(
				opt.Config,
				[]byte(
					fmt.Sprintf(
						"Host drydock\n\tHostName 127.0.0.1\n\tPort %s\n\tUser %s\n\tIdentityFile "+
							"%s\n\tProxyCommand %s\n",
						dock.Port,
						dock.User,
						atDock.Key,
						command,
					),
				),
				0o600,
			),
		)
	}
	write(
		fmt.Sprintf(
			"ssh -F none -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -i %s -p %s -W %%h:%%p "+
				"%%r@127.0.0.1",
			atGate.Key,
			gate.Port,
		),
	)
	h := ssh.New("drydock", ssh.Target{Alias: "drydock"}, opt)
	ctx := context.Background()
	for range 2 {
		out, err := h.Command(ctx, "sh", "-c", "echo $SSH_CONNECTION")
		require.NoError(t, err)
		assert.Contains(t, string(out), dock.Port)
		require.NoError(t, h.Close())
	}
	write("echo the gate is shut >&2")
	_, err := ssh.New("drydock", ssh.Target{Alias: "drydock"}, opt).Open(ctx, "/")
	assert.ErrorIs(t, err, host.ErrNoAnswer)
	assert.ErrorContains(t, err, "its ProxyCommand says: the gate is shut")
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
