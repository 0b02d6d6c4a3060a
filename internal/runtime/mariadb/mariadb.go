// Package mariadb runs a database server of our own, for copies on a machine
// that has none: private, on a socket, in a folder of ours.
package mariadb

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"time"

	"alibi/internal/runtime/process"
)

// ErrNone is given where no server is installed.
var ErrNone = errors.New("no MariaDB server is installed on this machine")

// Server is a running one.
type Server struct {
	Socket string
	p      *process.Process
}

// Options of a server.
type Options struct {
	Data string   // folder of the data; made and filled if it is not there
	Run  string   // folder of the socket; its path must be short
	Port int      // also listen on loopback; 0: only on the socket
	More []string // further arguments
}

// Installed tells whether a server is on this machine.
func Installed() bool {
	_, err := program("mariadbd")
	return err == nil
}

func program(name string) (string, error) {
	for _, dir := range []string{"", "/usr/sbin/", "/usr/local/sbin/", "/usr/libexec/"} {
		if p, err := exec.LookPath(dir + name); err == nil {
			return p, nil
		}
	}
	return "", ErrNone
}

// Start starts a server, which signs in the administrator "root" on the socket
// without a password: only we may enter the folder.
func Start(o Options) (*Server, error) {
	bin, err := program("mariadbd")
	if err != nil {
		return nil, err
	}
	for _, d := range []string{o.Data, o.Run} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, fmt.Errorf("making room for the database server: %w", err)
		}
	}
	me, err := user.Current()
	if err != nil {
		return nil, err
	}
	if err := install(o, me.Username); err != nil {
		return nil, err
	}
	s := &Server{Socket: filepath.Join(o.Run, "mariadb.sock")}
	_ = os.Remove(s.Socket)
	args := []string{
		"--no-defaults",
		"--user=" + me.Username,
		"--datadir=" + o.Data,
		"--socket=" + s.Socket,
		"--pid-file=" + filepath.Join(o.Run, "mariadb.pid"),
		"--character-set-server=utf8mb4",
		"--innodb-flush-log-at-trx-commit=2",
		"--innodb-log-file-size=256M",
		"--max-allowed-packet=256M",
		"--performance-schema=OFF",
		"--skip-name-resolve",
		"--skip-log-bin",
	}
	if o.Port > 0 {
		args = append(args, "--bind-address=127.0.0.1", fmt.Sprintf("--port=%d", o.Port))
	} else {
		args = append(args, "--skip-networking")
	}
	if s.p, err = process.Start(o.Run, "mariadb", nil, bin, append(args, o.More...)...); err != nil {
		return nil, err
	}
	return s, s.p.Await(60*time.Second, func() bool {
		c, err := net.Dial("unix", s.Socket)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

// install fills the data folder once: beside its place, and moved there whole.
func install(o Options, me string) error {
	if _, err := os.Stat(filepath.Join(o.Data, "mysql")); err == nil {
		return nil
	}
	bin, err := program("mariadb-install-db")
	if err != nil {
		return err
	}
	fresh := o.Data + ".new"
	if err := os.RemoveAll(fresh); err != nil {
		return err
	}
	p, err := process.Start(o.Run, "mariadb-install", nil, bin, "--no-defaults", "--user="+me, "--datadir="+fresh,
		"--auth-root-authentication-method=normal", "--skip-test-db", "--innodb-log-file-size=256M")
	if err != nil {
		return err
	}
	<-p.Done()
	if _, err := os.Stat(filepath.Join(fresh, "mysql")); err != nil {
		return fmt.Errorf("preparing the database server's folder: %w", p.Ended())
	}
	if err := os.Remove(o.Data); err != nil {
		return err
	}
	return os.Rename(fresh, o.Data)
}

// Done is closed when the server has ended.
func (s *Server) Done() <-chan struct{} { return s.p.Done() }

// Stop ends it.
func (s *Server) Stop() error { return s.p.Stop(20 * time.Second) }
