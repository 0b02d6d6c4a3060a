package evidence

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"alibi/internal/op"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// services are the sockets by which programs ask much of a machine, by the habits of distributions.
var services = []string{"/run/docker.sock", "/run/containerd/containerd.sock", "/run/dbus/system_bus_socket",
	"/run/systemd/private", "/run/mysqld/mysqld.sock", "/run/mysqld/mysqlx.sock", "/run/postgresql/.s.PGSQL.5432",
	"/run/redis/redis-server.sock", "/run/snapd.socket"}

// outside names what the copy's code must not reach.
func (in *Input) outside() op.Outside {
	out := op.Outside{
		Files:   []string{"/etc/shadow", in.Env.Home + "/alibi.db"},
		Ports:   []string{"22", "3306", "6379", "11211"},
		Sockets: []string{},
		Server:  in.Copy.Database.Server,
		Own:     []string{in.Copy.Database.Name, in.Copy.Database.Twin()},
	}
	if in.Origin.Host == in.Copy.Host {
		config := path.Join(in.Origin.Root, stack.LayoutOf(in.Transform.Stack).Config)
		out.Files = append([]string{config}, out.Files...)
	}
	for _, s := range services {
		if !strings.HasSuffix(in.Copy.Database.Server, s) && in.Copy.Database.Server != "localhost" {
			out.Sockets = append(out.Sockets, s)
		}
	}
	if in.Copy.Database.Served() && in.Origin.Database.User != in.Copy.Database.User {
		out.Account = in.Origin.Database.User
	}
	return out
}

// rankOf puts the ways that are open first.
func rankOf(a op.Attempt) int {
	if a.Open {
		return 0
	}
	return 1
}

// walled judges what came of the copy's tries to leave it.
func (in *Input) walled(t op.Tried, rep *Report) {
	c := Check{Name: "wall", Group: "isolation", Title: "the ways out of the copy, tried by its own code",
		Origin: "not asked", Verdict: Holds}
	slices.SortStableFunc(t.Tries, func(a, b op.Attempt) int { return rankOf(a) - rankOf(b) })
	for _, a := range t.Tries {
		by := a.By
		if a.Open {
			by = "open"
			c.Number++
		}
		c.Where = append(c.Where, fmt.Sprintf("%s, %s: %s", a.What, a.To, by))
	}
	c.Copy = fmt.Sprintf("%d of %d closed", len(t.Tries)-c.Number, len(t.Tries))
	why := in.Env.Unsealed(in.Copy.Host)
	if in.Copy.Host != in.Env.Local && !t.Walled {
		why = "its host has no bubblewrap, or gives no namespaces"
	}
	if rep.Wall = why; why == "" && t.Walled && c.Number == 0 {
		rep.Wall = site.Walled
	}
	switch {
	case len(t.Tries) == 0:
		c.Verdict, c.Copy = Noted, "not tried"
		c.Text = "its quiet rules are of an earlier version and know nothing of it: refresh the copy"
	case why == "" && !t.Walled:
		c.Verdict, c.Text = Broken, "its code does not run behind the wall that it is to have"
	case why == "" && c.Number > 0:
		c.Verdict, c.Text = Broken, site.Plural(c.Number, "way is", "ways are")+" open"
	case why == "":
		c.Text = "the system keeps its code in"
	default:
		c.Verdict, c.Text = Noted, "no wall: "+why+"; only the quiet rules and PHP's own keep its code in"
	}
	rep.Checks = append(rep.Checks, c)
}

// letsIn says whom the copy's database server lets in beside the copy: its code could be one of them where no wall
// keeps it from that.
func (in *Input) letsIn(ctx context.Context, walled bool, rep *Report) {
	if !in.Copy.Database.Served() {
		return
	}
	c := Check{Name: "server", Group: "isolation", Title: "whom else the copy's database server lets in",
		Origin: "not asked", Verdict: Holds, Copy: "nobody without a password"}
	srv, err := in.Env.Server(ctx, in.Copy.Host)
	var let tables.LetIn
	if err == nil {
		let, err = srv.LetsIn(ctx, in.Copy.Database.Name, in.Copy.Database.User)
	}
	if err != nil {
		c.Verdict, c.Copy, c.Text = Noted, "not told", err.Error()
		rep.Checks = append(rep.Checks, c)
		return
	}
	for _, a := range let.Unguarded {
		c.Where = append(c.Where, a+" needs no password")
	}
	for _, a := range let.Database {
		c.Where = append(c.Where, a+" may read the copy's database")
	}
	if c.Number = len(c.Where); c.Number > 0 {
		c.Copy = site.Plural(c.Number, "account", "accounts")
		c.Text = "the wall keeps the copy's code from being one of them"
		if !walled {
			c.Verdict, c.Text = Noted, "no wall keeps the copy's code from being one of them"
		}
	}
	rep.Checks = append(rep.Checks, c)
}
