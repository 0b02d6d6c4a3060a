package ssh

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// proxied is a connection that the person's own program makes (ProxyCommand of
// ssh_config(5)): what it is given goes there, what it writes comes from there.
type proxied struct {
	net.Conn
	to   named
	cmd  *exec.Cmd
	once sync.Once
	says tail
}

// run starts the command and gives its input and output as a connection.
func (t Target) run(ctx context.Context) (net.Conn, error) {
	line := strings.NewReplacer("%%", "%", "%h", t.machine(), "%p", t.Port, "%r", t.User, "%n", t.Alias).Replace(t.command)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("for the command of ProxyCommand: %w", err)
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "proxy"), os.NewFile(uintptr(pair[1]), "proxy")
	defer ours.Close()
	defer theirs.Close()
	conn, err := net.FileConn(ours)
	if err != nil {
		return nil, err
	}
	p := &proxied{Conn: conn, to: named(net.JoinHostPort(t.Addr, t.Port)), cmd: exec.Command("sh", "-c", "exec "+line)}
	p.cmd.Stdin, p.cmd.Stdout, p.cmd.Stderr = theirs, theirs, &p.says
	p.cmd.WaitDelay = time.Second
	if err := p.cmd.Start(); err != nil {
		conn.Close()
		return nil, fmt.Errorf("the command of ProxyCommand does not start: %w", err)
	}
	return p, nil
}

// named is the address that the command was to connect to.
type named string

func (named) Network() string  { return "tcp" }
func (n named) String() string { return string(n) }

// RemoteAddr is what the host's key is known by.
func (p *proxied) RemoteAddr() net.Addr { return p.to }

// Close ends the command too. It is told to once.
func (p *proxied) Close() error {
	err := p.Conn.Close()
	p.once.Do(func() {
		_ = p.cmd.Process.Kill()
		_ = p.cmd.Wait()
	})
	return err
}

// complaint is what the command said before it ended, "" if nothing.
func complaint(c net.Conn) string {
	p, ok := c.(*proxied)
	if !ok {
		return ""
	}
	p.Close() // what it says is complete when it has ended
	if s := p.says.String(); s != "" {
		return "; its ProxyCommand says: " + s
	}
	return "; it is reached by a ProxyCommand"
}
