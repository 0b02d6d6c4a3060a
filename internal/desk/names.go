package desk

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"os/exec"
	"slices"
	"strings"
	"time"

	"alibi/internal/gateway"
	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/runtime/names"
	"alibi/internal/runtime/outbox"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// Leads is where a name of a live site leads on this machine.
type Leads struct {
	Name    string   `json:"name"`
	To      []string `json:"to"`      // addresses; none: nothing on this machine says
	Answers string   `json:"answers"` // what came when it was asked for, "" if it was not
}

// hostsFile is the file that names are pointed here in.
func (d *core) hostsFile() names.File {
	if d.config.Hosts != "" {
		return names.File{Path: d.config.Hosts}
	}
	return names.File{Path: names.System}
}

// Live tells how a copy is shown under its origin's addresses.
func (d *Copies) Live(ctx context.Context, id site.ID) (*gateway.Live, site.Site, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return nil, s, err
	}
	if s.Role != site.Copy || s.State != site.Ready {
		return nil, s, fmt.Errorf("%s is no copy that answers: only these can be shown under a live name", s.Name)
	}
	origin, err := d.record.Site(ctx, s.Origin)
	if err != nil {
		return nil, s, err
	}
	l := gateway.LiveOf(s, origin, d.env.Port, d.logger)
	if len(l.Hosts()) == 0 {
		return nil, s, fmt.Errorf("the origin of %s has no name that could lead here: its address is %s", s.Name,
			origin.Address())
	}
	return l, s, nil
}

// PointHere makes the live site's names lead to a copy on this machine, and
// proves that they do.
func (d *Copies) PointHere(ctx context.Context, id site.ID) ([]Leads, error) {
	l, s, err := d.Live(ctx, id)
	if err != nil {
		return nil, err
	}
	f := d.hostsFile()
	if err := d.record.AddMade(ctx, inventory.Made{Site: s.ID, Kind: "names", Host: d.config.Machine,
		Path: op.NamesPath(f.Path, s.Name), At: d.now()}); err != nil {
		return nil, err
	}
	if err := f.Add(s.Name, l.Hosts()); err != nil {
		if errors.Is(err, names.ErrRefused) {
			err = fmt.Errorf("%w; call it with sudo, or use a proxy instead: alibi proxy %s", err, s.Name)
		}
		return nil, errors.Join(err, d.record.Unmade(ctx, d.config.Machine, op.NamesPath(f.Path, s.Name)))
	}
	if _, err := d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		s.Pointed = &site.Pointed{Names: l.Hosts(), At: d.now()}
		return nil
	}); err != nil {
		return nil, err
	}
	if err := d.log(ctx, id, "names", "%s lead to %s on this machine", strings.Join(l.Hosts(), ", "),
		s.Name); err != nil {
		return nil, err
	}
	out, err := d.leads(ctx, f, l.Hosts())
	if err != nil {
		return nil, err
	}
	for i := range out {
		out[i].Answers = d.answers(ctx, out[i].Name, s)
		if !slices.Contains(out[i].To, "127.0.0.1") {
			return out, fmt.Errorf(
				"%s does not lead here although its line is in %s: the system asks something else first "+
					"(nsswitch.conf)",
				out[i].Name,
				f.Path,
			)
		}
	}
	return out, nil
}

// PointBack takes the lines out again, and proves that the names do not lead
// here any more.
func (d *Copies) PointBack(ctx context.Context, id site.ID) ([]Leads, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return nil, err
	}
	f := d.hostsFile()
	if err := d.env.Unmake(ctx, inventory.Made{Site: s.ID, Kind: "names", Host: d.config.Machine,
		Path: op.NamesPath(f.Path, s.Name)}); err != nil {
		return nil, err
	}
	var list []string
	if s.Pointed != nil {
		list = s.Pointed.Names
	}
	if _, err := d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		s.Pointed = nil
		return nil
	}); err != nil {
		return nil, err
	}
	if err := d.log(ctx, id, "names", "no name leads to %s any more", s.Name); err != nil {
		return nil, err
	}
	out, err := d.leads(ctx, f, list)
	for _, l := range out {
		if slices.Contains(l.To, "127.0.0.1") || slices.Contains(l.To, "::1") {
			return out, fmt.Errorf("%s leads to this machine still, and not by a line of Alibi's", l.Name)
		}
	}
	return out, err
}

// leads asks where names lead: the file, and if it is the system's, the system.
func (d *core) leads(ctx context.Context, f names.File, list []string) ([]Leads, error) {
	var out []Leads
	for _, n := range list {
		addrs, err := f.Lookup(n)
		if err != nil {
			return nil, err
		}
		if f.Path == names.System {
			if said, ok := resolved(ctx, n); ok {
				addrs = said
			}
		}
		l := Leads{Name: n}
		for _, a := range addrs {
			l.To = append(l.To, a.String())
		}
		out = append(out, l)
	}
	return out, nil
}

// resolved asks the system's own resolver by its own program, if it has one.
func resolved(ctx context.Context, name string) ([]netip.Addr, bool) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	var out []netip.Addr
	for _, family := range []string{"ahostsv4", "ahostsv6"} {
		text, err := exec.CommandContext(ctx, "getent", family, name).Output()
		var gone *exec.ExitError
		if err != nil && !errors.As(err, &gone) {
			return nil, false
		}
		for line := range strings.Lines(string(text)) {
			word, _, _ := strings.Cut(line, " ")
			if a, err := netip.ParseAddr(word); err == nil && !slices.Contains(out, a.Unmap()) &&
				(family == "ahostsv6") == a.Unmap().Is6() {
				out = append(out, a)
			}
		}
	}
	return out, true
}

// answers asks for the front page under a live name, at this machine.
func (d *core) answers(ctx context.Context, name string, s site.Site) string {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+net.JoinHostPort(name, d.env.Port)+"/", nil)
	if err != nil {
		return err.Error()
	}
	tr := &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", "127.0.0.1:"+d.env.Port)
	}, DisableKeepAlives: true}
	resp, err := tr.RoundTrip(req)
	if err != nil {
		return "no answer: no keeper is at work (alibi keeper)"
	}
	defer resp.Body.Close()
	if of := resp.Header.Get(gateway.CopyHeader); of != s.Name {
		return fmt.Sprintf("%d, and not from %s", resp.StatusCode, s.Name)
	}
	return fmt.Sprintf("%d from %s", resp.StatusCode, s.Name)
}

// Caught lists what a copy wanted to send to the outside, the newest first.
func (d *Copies) Caught(ctx context.Context, id site.ID) ([]outbox.Item, error) {
	r, err := d.caught(ctx, id)
	if r == nil || err != nil {
		return nil, err
	}
	defer r.Close()
	return outbox.List(ctx, r)
}

// CaughtMail gives a mail among what was caught as it is written to a file.
func (d *Copies) CaughtMail(ctx context.Context, id site.ID, it outbox.Item) ([]byte, error) {
	r, err := d.caught(ctx, id)
	if err != nil {
		return nil, err
	}
	if r == nil {
		return nil, fs.ErrNotExist
	}
	defer r.Close()
	return outbox.Message(r, it)
}

// caught opens the folder of what a copy wanted to send; nil if there is none.
func (d *Copies) caught(ctx context.Context, id site.ID) (host.Tree, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return nil, err
	}
	if s.Role != site.Copy {
		return nil, fmt.Errorf("%s is a live site: what it sends is sent", s.Name)
	}
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return nil, err
	}
	dir := stack.SettingsOf(st).Caught(s)
	if dir == "" {
		return nil, nil
	}
	h, err := d.host(ctx, s.Host)
	if err != nil {
		return nil, err
	}
	r, err := h.Open(ctx, dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return r, err
}
