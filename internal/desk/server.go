package desk

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"alibi/internal/op"
	"alibi/internal/runtime/mariadb"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
	"alibi/internal/tables/engines"
)

// serverAddress is how copies on this machine name their database server, ""
// where they can have none.
func (d *core) serverAddress() string {
	if a := d.config.Database.Address; a != "" {
		return a
	}
	if !mariadb.Installed() {
		return ""
	}
	return "localhost:" + filepath.Join(RunDir(d.home()), "mariadb", "mariadb.sock")
}

// server gives the database server for copies on a host.
func (d *core) server(ctx context.Context, hostName string) (*op.Server, error) {
	if hostName != d.config.Machine {
		h, err := d.record.Host(ctx, hostName)
		if err != nil {
			return nil, err
		}
		if h.Server.Address == "" {
			return nil, fmt.Errorf("%s: %w; name one: alibi host set %s --database localhost --database-user NAME",
				hostName, op.ErrNoServer, hostName)
		}
		return d.configured(ctx, hostName, h.Server)
	}
	if d.config.Database.Address != "" {
		return d.configured(ctx, hostName, d.config.Database)
	}
	if err := d.startOwn(); err != nil {
		return nil, err
	}
	return d.configured(ctx, hostName, site.Server{Address: d.serverAddress(), User: "root"})
}

func (d *core) configured(ctx context.Context, hostName string, s site.Server) (*op.Server, error) {
	password := ""
	if s.PasswordFile != "" {
		var err error
		if password, err = d.safe().Read(s.PasswordFile); err != nil {
			return nil, fmt.Errorf("reading the password of the database server of %s: %w", hostName, err)
		}
	}
	h, err := d.host(ctx, hostName)
	if err != nil {
		return nil, err
	}
	return &op.Server{Server: engines.Server(ctx, h, s.Address, s.User, password), Address: s.Address}, nil
}

// startOwn sees to it that our own database server runs, whichever process of
// ours started it.
func (d *core) startOwn() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	dir := filepath.Join(RunDir(d.home()), "mariadb")
	if answers(filepath.Join(dir, "mariadb.sock")) {
		return nil
	}
	if err := EnsureRunDir(d.home()); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(d.home(), "mariadb.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX); err != nil {
		return err
	}
	if answers(filepath.Join(dir, "mariadb.sock")) {
		return nil
	}
	d.own, err = mariadb.Start(mariadb.Options{Data: filepath.Join(d.home(), "mariadb"), Run: dir})
	if errors.Is(err, mariadb.ErrNone) {
		return fmt.Errorf("%w: %w; install mariadb-server, or name a server in config.toml under [database]",
			op.ErrNoServer, err)
	}
	return err
}

func answers(socket string) bool {
	c, err := net.Dial("unix", socket)
	if err != nil {
		return false
	}
	c.Close()
	return true
}

// PHP are the versions that this machine has, newest first.
func (d *Desk) PHP() []php.PHP { return d.core.php() }

func (d *core) php() []php.PHP { return d.phps() }
