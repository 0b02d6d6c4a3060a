package pool

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path"

	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/runtime/outbox"
	"alibi/internal/runtime/php"
	"alibi/internal/runtime/remote"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
)

// Inside gets a program ready that sees and reaches what the code of a copy on this machine does, and nothing else;
// without a command it is a shell, with a terminal that is nobody else's. run is a folder for it, which is made, and
// removed when it is closed.
func Inside(ctx context.Context, s site.Site, have []php.PHP, run string, command ...string) (*web.Inside, error) {
	spec := specOf(s)
	spec.Run = run
	spec.PHP, _ = php.Choose(have, s.Runtime.PHP)
	terminal := len(command) == 0
	if spec.Sealed = Sealed(local.New(s.Host), s, &outbox.Notes{Dir: spec.Mail}); spec.Sealed != nil {
		spec.Sealed.Terminal = terminal
	}
	if terminal {
		command = []string{"/bin/sh", "-c", "command -v bash >/dev/null && exec bash --norc --noprofile -i; exec sh -i"}
	}
	in, err := spec.Inside(ctx, net.JoinHostPort("127.0.0.1", s.Address().Port), "/bin/sh",
		append([]string{"-c", `cd "$ALIBI_ROOT" && exec "$@"`, "sh"}, command...)...)
	if err != nil {
		return nil, err
	}
	in.Cmd.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin", "HOME=/tmp", "LC_ALL=C.UTF-8",
		`PS1=\w \$ `, "TERM=" + cmp.Or(os.Getenv("TERM"), "dumb")}
	for _, k := range [][2]string{{"DATABASE", cmp.Or(s.Database.Name, s.Database.Path)}, {"ROOT", s.Root},
		{"SITE", s.Name}, {"URL", s.Address().String()}} {
		in.Cmd.Env = append(in.Cmd.Env, "ALIBI_"+k[0]+"="+k[1])
	}
	return in, nil
}

// InsideThere gives the command by which our program on another host runs one in a copy's world; why says why that
// can't be had there.
func InsideThere(ctx context.Context, h host.Host, s site.Site, command ...string) (line []string, why string,
	err error) {
	program, why, err := remote.Program(ctx, h)
	if err != nil || why != "" {
		return nil, why, err
	}
	have, err := remote.Find(ctx, h)
	if err != nil {
		return nil, "", err
	}
	o := orderOf(s, have)
	o.Command = command
	text, err := json.Marshal(o)
	return []string{program, remote.Errand, inside, string(text)}, "", err
}

// inside is what our program on another host is told to run a command in a copy's world.
const inside = "inside"

// insideHere runs a command in a copy's world, with our own terminal, input and output.
func insideHere(text string) error {
	var o order
	if err := json.Unmarshal([]byte(text), &o); err != nil {
		return err
	}
	dir, err := folder()
	if err != nil {
		return err
	}
	ctx := context.Background()
	in, err := Inside(ctx, o.Site, php.Find(ctx, o.PHP...), path.Join(dir, "run"), o.Command...)
	if err != nil {
		return fmt.Errorf("%w (--outside opens one without)", err)
	}
	defer os.RemoveAll(dir)
	defer in.Close()
	in.Cmd.Stdin, in.Cmd.Stdout, in.Cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	err = in.Cmd.Start()
	if berr := in.Begin(); err == nil {
		err = berr
	}
	if err == nil {
		err = in.Cmd.Wait()
	}
	return err
}
