// Package relaytest runs a folder's PHP, for tests of relays.
package relaytest

import (
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/local"
)

// Serve shows a new folder at an address by a PHP of this machine.
func Serve(t testing.TB, php string, options ...string) (root host.Root, address string) {
	t.Helper()
	return serve(t, nil, php, options...)
}

// ServeAs does that as an account that may not write to the folder; the tests must run as root.
func ServeAs(t testing.TB, account uint32, php string) (root host.Root, address string) {
	t.Helper()
	return serve(t, &syscall.Credential{Uid: account, Gid: account}, php)
}

func serve(t testing.TB, as *syscall.Credential, php string, options ...string) (root host.Root, address string) {
	t.Helper()
	dir := t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().String()
	require.NoError(t, l.Close())
	c := exec.Command(php, append(options, "-S", at, "-t", dir)...)
	c.Env = append(os.Environ(), "PHP_CLI_SERVER_WORKERS=4")
	if as != nil {
		require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755))
		c.Env = append(c.Env, "TMPDIR=/tmp") // which everybody may write to
	}
	start(t, c, as)
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", at)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
	root, err = local.New("here").Write(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	return root, "http://" + at
}

// start runs a program, as another account where one is named, until the test ends.
func start(t testing.TB, c *exec.Cmd, as *syscall.Credential) {
	t.Helper()
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: as} // its workers are programs of their own
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		_ = c.Wait()
	})
}
