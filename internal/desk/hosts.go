package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"alibi/internal/depot/pointhost"
	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/host/ssh"
	"alibi/internal/inventory"
	"alibi/internal/op/move"
	"alibi/internal/secrets"
	"alibi/internal/site"
)

// host gives a machine by its name in the record; the desk keeps it open.
func (d *core) host(ctx context.Context, name string) (host.Host, error) {
	if id, ok := pointhost.IsHost(name); ok {
		store, err := d.store(ctx)
		if err != nil {
			return nil, err
		}
		return pointhost.Open(ctx, store, id)
	}
	var h inventory.Host
	open := func() host.Host { return local.New(name) }
	if name != d.config.Machine {
		var err error
		if h, err = d.record.Host(ctx, name); err != nil {
			return nil, fmt.Errorf("%w; add it first: alibi host add %s ADDRESS", err, name)
		}
		open = func() host.Host { return d.machine(h) }
	}
	d.mu.Lock()
	is, known := d.hosts[name]
	if known && is.by == reached(h) {
		d.mu.Unlock()
		return is.Host, nil
	}
	now := open()
	d.hosts[name] = openHost{now, reached(h)}
	if known && !h.BySite() { // who is at work with it goes on
		d.former = append(d.former, is.Host)
	}
	d.mu.Unlock()
	if known && h.BySite() { // what it put there is taken off
		is.Close()
	}
	return now, nil
}

// openHost is a host that is kept open, and how it is reached.
type openHost struct {
	host.Host
	by inventory.Host
}

// reached is what of a host says how it is reached.
func reached(h inventory.Host) inventory.Host {
	return inventory.Host{Addr: h.Addr, Port: h.Port, User: h.User, Key: h.Key, Way: h.Way, At: h.At, Pin: h.Pin,
		Limits: h.Limits, PasswordFile: h.PasswordFile}
}

// knownHosts are our own file and the person's.
func (d *core) knownHosts() []string {
	files := []string{filepath.Join(d.opt.Home, "known_hosts")}
	if h, err := os.UserHomeDir(); err == nil {
		files = append(files, filepath.Join(h, ".ssh", "known_hosts"))
	}
	return files
}

// SetAsker says whom to ask from now on.
func (d *Desk) SetAsker(a ssh.Asker) { d.core.opt.Asker = a }

// Hosts lists all machines, this one first.
func (d *Fleet) Hosts(ctx context.Context) ([]inventory.Host, error) {
	list, err := d.record.Hosts(ctx)
	return append([]inventory.Host{{Name: d.config.Machine}}, list...), err
}

// AddHost adds a machine after it was seen to answer.
func (d *Fleet) AddHost(ctx context.Context, h inventory.Host) error {
	if h.Name == "" || h.Name != site.Slug(h.Name) {
		return fmt.Errorf("%q can't be a host's name: use a-z, 0-9 and -, such as %q", h.Name, site.Slug(h.Name))
	}
	if h.Name == d.config.Machine {
		return fmt.Errorf("%s is this machine's own name: choose another one", h.Name)
	}
	if h.Addr == "" {
		return fmt.Errorf("a host needs an address: a name in ~/.ssh/config, a host name or a number address")
	}
	way(&h)
	if at := strings.LastIndexByte(h.Addr, '@'); at > 0 {
		h.User, h.Addr = h.Addr[:at], h.Addr[at+1:]
	}
	if name, port, err := net.SplitHostPort(h.Addr); err == nil {
		h.Addr, h.Port = name, port
	}
	if h.Way != "" && h.User == "" {
		return fmt.Errorf("name the account by which %s is reached: %s://USER@%s", h.Name, h.Way, h.Addr)
	}
	if err := whole(&h.Key, &h.PasswordFile); err != nil {
		return err
	}
	m := d.machine(h)
	r, err := begin(ctx, m)
	if d.known(&h, err) {
		m.Close()
		m = d.machine(h)
		r, err = begin(ctx, m)
	}
	if errors.Is(err, host.ErrHostKey) && h.Pin == "" {
		err = fmt.Errorf("%w; if that is the one that its keeper names, say --fingerprint", err)
	}
	if err != nil {
		m.Close()
		return fmt.Errorf("%w; nothing was added", err)
	}
	r.Close()
	d.mu.Lock()
	d.hosts[h.Name] = openHost{m, reached(h)}
	d.mu.Unlock()
	if err := d.record.PutHost(ctx, h); err != nil {
		return err
	}
	return d.log(ctx, "", "host", "added host %s at %s", h.Name, h.Addr)
}

// whole makes texts that say where a secret is, or a key, ones that can be kept.
func whole(all ...*string) (err error) {
	for _, where := range all {
		if *where, err = secrets.Whole(*where); err != nil {
			return err
		}
	}
	return nil
}

// signedIn sees whether a host lets us in, as it would be reached.
func (d *core) signedIn(ctx context.Context, h inventory.Host) error {
	m := d.machine(h)
	defer m.Close()
	r, err := begin(ctx, m)
	if err != nil {
		return err
	}
	return r.Close()
}

// begin opens the folder with which one begins to look at a host.
func begin(ctx context.Context, h host.Host) (host.Tree, error) {
	dir, err := host.Start(ctx, h)
	if err != nil {
		return nil, err
	}
	return h.Open(ctx, dir)
}

// HostSettings say where copies may be made on a machine. What is empty stays
// as it is.
type HostSettings struct {
	Copies string
	At     string // the machine, whatever the host's name says; ByName: the one to which that leads
	Server site.Server
	Limits site.Limits
}

// ByName has a host reached where its name leads again.
const ByName = "name"

// limit changes the limits that are named.
func limit(to *site.Limits, by site.Limits) error {
	if by.Bandwidth < 0 || by.Streams < 0 || by.Load < 0 {
		return fmt.Errorf("a limit can't be below 0")
	}
	switch by.Compress {
	case "", ssh.CompressFar, ssh.CompressAlways, ssh.CompressNever:
	default:
		return fmt.Errorf("%q is no rule for compressing: name %s, %s or %s", by.Compress, ssh.CompressFar,
			ssh.CompressAlways, ssh.CompressNever)
	}
	to.Bandwidth = cmp.Or(by.Bandwidth, to.Bandwidth)
	to.Streams = cmp.Or(by.Streams, to.Streams)
	to.Load = cmp.Or(by.Load, to.Load)
	to.Compress = cmp.Or(by.Compress, to.Compress)
	return nil
}

// SetHost changes where copies may be made on a machine, after it was seen that
// they can be.
func (d *Fleet) SetHost(ctx context.Context, name string, to HostSettings) (inventory.Host, error) {
	if name == d.config.Machine {
		return inventory.Host{}, fmt.Errorf("%s is this machine: set [database] in %s", name,
			filepath.Join(d.home(), "config.toml"))
	}
	h, err := d.record.Host(ctx, name)
	if err != nil {
		return h, err
	}
	if to.Copies != "" && h.Way != "" {
		return h, fmt.Errorf("%s is reached by %s, which brings files and runs nothing: copies can't be made there", name,
			strings.ToUpper(h.Way))
	}
	if to.Copies != "" {
		if !strings.HasPrefix(to.Copies, "/") || path.Clean(to.Copies) == "/" {
			return h, fmt.Errorf("%q can't be the folder for copies: name an absolute path below the root", to.Copies)
		}
		h.Copies = path.Clean(to.Copies)
		if err := d.besideSites(ctx, name, h.Copies); err != nil {
			return h, err
		}
	}
	if err := whole(&to.Server.PasswordFile); err != nil {
		return h, err
	}
	for _, f := range []struct {
		to   *string
		from string
	}{{&h.Server.Address, to.Server.Address}, {&h.Server.User, to.Server.User},
		{&h.Server.PasswordFile, to.Server.PasswordFile}} {
		if f.from != "" {
			*f.to = f.from
		}
	}
	if err := limit(&h.Limits, to.Limits); err != nil {
		return h, err
	}
	if to.At != "" {
		h.At = site.Either(to.At == ByName, "", to.At)
		if err := d.signedIn(ctx, h); err != nil {
			return h, fmt.Errorf("%w; nothing was changed", err)
		}
	}
	if h.Server.Address != "" {
		srv, err := d.configured(ctx, name, h.Server)
		if err != nil {
			return h, err
		}
		may, err := srv.MayMake(ctx)
		if err != nil {
			return h, fmt.Errorf("the database server on %s: %w; nothing was changed", name, err)
		}
		if !may {
			return h, fmt.Errorf(
				"the account %s on %s may not make databases and accounts; nothing was changed. Its keeper can allow "+
					"it: GRANT ALL PRIVILEGES ON *.* TO ... WITH GRANT OPTION",
				h.Server.User,
				name,
			)
		}
		if h.Open, err = d.env.UnsealedThere(ctx, name); err != nil {
			return h, err
		}
	}
	if err := d.record.PutHost(ctx, h); err != nil {
		return h, err
	}
	return h, d.log(ctx, "", "host", "copies on %s: in %s, databases on %s", h.Name, h.Copies, h.Server.Address)
}

// besideCopies sees that a live site does not stand where copies are made on its host, nor around that.
func (d *core) besideCopies(ctx context.Context, s site.Site) error {
	folder := filepath.Join(d.home(), "copies")
	if s.Host != d.config.Machine {
		h, err := d.record.Host(ctx, s.Host)
		if err != nil || h.Copies == "" {
			return nil //nolint:nilerr // an unknown host is said where it is opened
		}
		folder = h.Copies
	}
	copies := site.Site{Host: s.Host, Root: folder}
	if move.Contains(s, copies) || move.Contains(copies, s) {
		return fmt.Errorf("copies are made in %s on %s: %s can't be a live site's folder, or copies would be a part of it; "+
			"name another one, or have copies made elsewhere first: %s", folder, s.Host, s.Root,
			site.Either(s.Host == d.config.Machine, "alibi --home FOLDER", "alibi host set "+s.Host+" --copies FOLDER"))
	}
	return nil
}

// around are the live sites in whose folder, on whichever host, a folder would be by its path.
func (d *core) around(ctx context.Context, folder string) (out []site.Site, err error) {
	all, err := d.record.AllSites(ctx)
	for _, s := range all {
		in := move.Contains(s, site.Site{Host: s.Host, Root: folder})
		if in && s.Role == site.Live && s.State != site.Gone {
			out = append(out, s)
		}
	}
	return out, err
}

// besideSites sees that a folder in which copies are to be made is in no live site's, whose web server would show them
// to everybody. A host may be known by two names: a file that is put there is looked for by those of the sites.
func (d *core) besideSites(ctx context.Context, hostName, folder string) error {
	list, err := d.around(ctx, folder)
	if err != nil {
		return err
	}
	for _, s := range list {
		if s.Host == hostName {
			return fmt.Errorf("%s is in the folder of %s, whose web server would show copies to everybody: name a folder "+
				"outside of it; nothing was changed", folder, s.Name)
		}
	}
	return d.tryFolder(ctx, hostName, folder, func(file string) error {
		for _, s := range list {
			h, err := d.host(ctx, s.Host)
			if err != nil {
				return err
			}
			r, err := h.Open(ctx, folder)
			if err != nil {
				continue // that machine has no such folder
			}
			_, err = r.Lstat(file)
			r.Close()
			if err == nil {
				return fmt.Errorf("it is in the folder of %s, as %s is the same machine, whose web server would show copies "+
					"to everybody", s.Name, s.Host)
			}
		}
		return nil
	})
}

// tryFolder makes a folder on a host and writes a file into it, to see that copies can be made there; look is told of
// the file, and may be nil.
func (d *core) tryFolder(ctx context.Context, name, folder string, look func(file string) error) error {
	h, err := d.host(ctx, name)
	if err != nil {
		return err
	}
	r, err := h.Make(ctx, folder)
	if err == nil {
		defer r.Close()
		const try = host.TempPrefix + "try"
		if _, err = host.Put(r, try, 0o600, time.Time{}, strings.NewReader("")); err == nil && look != nil {
			err = look(try)
		}
		err = errors.Join(err, r.Remove(try))
	}
	if err != nil {
		return fmt.Errorf("copies can't be made in %s on %s: %w; name another folder", folder, name, err)
	}
	return nil
}
