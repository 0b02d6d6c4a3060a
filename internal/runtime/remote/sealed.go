package remote

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"path"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/runtime/wall"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
)

// Unsealed says why the code of a copy on a host can't run in a world of its own; "" if it can. server is the copy's
// database server, as its configuration names it.
func Unsealed(ctx context.Context, h host.Host, server string) string {
	if name, _, err := net.SplitHostPort(server); err == nil && net.ParseIP(name) != nil && name != "127.0.0.1" {
		return "its database server is reached by the address " + name
	}
	switch _, err := h.Command(ctx, "sh", "-c", wall.Try); {
	case ended(err):
		return "host " + h.Name() + " has no bubblewrap, or gives no namespaces"
	case err != nil:
		return err.Error()
	}
	return ""
}

// serveSealed carries connections to the database for the copy's account, and runs the server in its world, until its
// standard input ends.
const serveSealed = `cd "$1" || exit 1; here=$2 php=$3 by=$4 to=$5 account=$6; shift 6; umask 077; trap '' TERM
(trap - TERM
if [ -n "$to" ]; then
	ALIBI_ACCOUNT=$account "$php" -n "$by" "unix://$here/database.sock" "$to" &
	n=0; while [ ! -S "$here/database.sock" ] && [ $n -lt 200 ]; do sleep 0.05; n=$((n + 1)); done
fi
exec bwrap "$@") & cat >/dev/null; kill -TERM 0; wait; rm -rf "$here"`

// inWorld starts the server with what carries a socket to it, and a port to the database's.
const inWorld = `php=$1 by=$2 here=$3 port=$4; shift 4
"$php" -n "$by" "unix://$here/web.sock" tcp://` + web.InnerAddr + ` \
	${port:+"tcp://127.0.0.1:$port" "unix://$here/database.sock"} &
exec "$@"`

// bounds has a shell and what it starts keep to bounds, as far as sh knows them (POSIX ulimit: -f counts 512 bytes;
// -v, -n and -t are in every shell that there is).
func bounds(b site.Bounds) (out string) {
	for _, x := range []struct {
		flag string
		n    int64
	}{{"v", b.Program >> 10}, {"n", int64(b.Files)}, {"t", int64(b.CPU.Seconds())}, {"f", b.File >> 9}} {
		if x.n > 0 {
			out += fmt.Sprintf("ulimit -%s %d; ", x.flag, x.n)
		}
	}
	return out
}

// startSealed runs a site's server in a world of its own on the host.
func startSealed(ctx context.Context, h host.Host, r host.Root, s web.Spec) (*Running, error) {
	out, err := h.Command(ctx, "sh", "-c", `umask 077; mktemp -d /tmp/alibi-XXXXXXXX; id -u; id -g`)
	if err != nil {
		return nil, fmt.Errorf("making room for the copy's sockets on %s: %w", h.Name(), err)
	}
	var here string
	var user, group int
	if _, err := fmt.Sscan(string(out), &here, &user, &group); err != nil {
		return nil, fmt.Errorf("making room for the copy's sockets on %s: it says %q", h.Name(), out)
	}
	world := wall.World{
		Read:  []string{wall.Prefix(s.PHP.CLI)},
		Write: append([]string{here, s.Root, s.Run, s.Logs, s.Mail}, s.Also...),
		As:    map[string]string{wall.Mark: path.Join(s.Run, "etc", "passwd")},
	}
	to, port, names := "", "", []string(nil)
	if db := s.Sealed.Database; db != nil && db.Network == "unix" {
		to, world.As[db.Addr] = "unix://"+db.Addr, path.Join(here, "database.sock")
	} else if db != nil {
		name, p, err := net.SplitHostPort(db.Addr)
		if err != nil {
			return nil, fmt.Errorf("the copy's database server: %w", err)
		}
		to, port, names = "tcp://"+db.Addr, p, []string{name}
	}
	etc := map[string]string{}
	for name, text := range wall.Etc(user, group, names...) {
		if err := host.MkdirAll(r, "etc", 0o755); err != nil {
			return nil, err
		}
		if _, err := host.Put(r, "etc/"+name, 0o644, time.Time{}, bytes.NewReader([]byte(text))); err != nil {
			return nil, fmt.Errorf("preparing the copy on %s: %w", h.Name(), err)
		}
		etc[name] = path.Join(s.Run, "etc", name)
	}
	by := path.Join(s.Run, "carrier.php")
	program := append([]string{"-c", bounds(s.Sealed.Bounds) + inWorld, "sh", s.PHP.CLI, by, here, port, s.PHP.CLI},
		s.Args(web.InnerAddr)...)
	account := ""
	if s.Sealed.Database != nil {
		account = s.Sealed.Database.Account
	}
	args := append([]string{"-c", "exec 2>&1; " + strings.TrimSpace(serveSealed), "sh", path.Dir(s.Root), here, s.PHP.CLI,
		by, to, account}, world.There(etc, "/bin/sh", program...)...)
	return await(ctx, h, "unix", path.Join(here, "web.sock"), args)
}
