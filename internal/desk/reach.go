package desk

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"alibi/internal/host"
	"alibi/internal/host/ftp"
	"alibi/internal/host/ssh"
	"alibi/internal/host/trust"
	"alibi/internal/host/web"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// machine is a host as it is reached by what the record says of it; nothing is connected yet.
func (d *core) machine(h inventory.Host) host.Host {
	asker := d.opt.Asker
	if asker == nil {
		asker = ssh.Nobody{}
	}
	if h.Way == "" {
		if h.Pin != "" {
			asker = accepting{asker, h.Pin}
		}
		opt := ssh.Options{KnownHosts: d.knownHosts(), Asker: asker, Limits: ssh.Limits(h.Limits)}
		if h.PasswordFile != "" {
			opt.Password = func() (string, error) { return d.password(h, asker) }
		}
		return ssh.New(h.Name, ssh.Target{Alias: h.Addr, At: h.At, Port: h.Port, User: h.User, Key: h.Key}, opt)
	}
	secret := sync.OnceValues(func() (string, error) { return d.password(h, asker) })
	if h.BySite() {
		u := h
		u.User = ""
		at, err := url.Parse(u.Where())
		if err != nil { // it was parsed when the host was added
			at = &url.URL{Scheme: h.Way, Host: h.Addr}
		}
		t := web.Target{URL: at, At: h.At, Pin: h.Pin}
		return web.New(h.Name, t, web.Options{Bring: d.bring(h.Name, t, h.User, secret), Made: d.noted(h.Name, true),
			Unmade: d.noted(h.Name, false)})
	}
	t := ftp.Target{Host: h.Addr, At: h.At, Port: h.Port, User: h.User, Plain: h.Way == inventory.FTP, Pin: h.Pin}
	return ftp.New(h.Name, t, ftp.Options{Password: secret, Streams: h.Limits.Streams, Bandwidth: h.Limits.Bandwidth})
}

// noted notes that a file of ours is on a host whose site it was brought into, or that it is gone.
func (d *core) noted(hostName string, there bool) func(context.Context, string) error {
	return func(ctx context.Context, name string) error {
		if there {
			return d.record.AddMade(ctx, inventory.Made{Kind: op.BroughtRelay, Host: hostName, Path: name, At: d.now()})
		}
		return d.record.Unmade(ctx, hostName, name)
	}
}

// bring puts a file into a site by whichever kind of site takes it.
func (d *core) bring(hostName string, t web.Target, user string, secret func() (string, error),
) func(ctx context.Context, name, text string, before func(context.Context) error) (*url.URL, error) {
	return func(ctx context.Context, name, text string, before func(context.Context) error) (*url.URL, error) {
		word, err := secret()
		if err != nil {
			return nil, fmt.Errorf("%w: %w", host.ErrAuth, err)
		}
		header := http.Header{}
		all, err := d.record.AllSites(ctx)
		if err != nil {
			return nil, err
		}
		for _, s := range all {
			if s.Host == hostName && s.Role == site.Live && s.Front != nil { // its own pages are behind a notice
				header.Set(op.PassHeader, d.env.PassOf(*s.Front, all))
			}
		}
		first := stack.ErrNotAdmitted
		for _, st := range d.env.Stacks {
			a, can := st.(stack.Admitting)
			if !can {
				continue
			}
			u, err := a.Admit(ctx, stack.Admission{Client: trust.Client(t.URL, t.At, t.Pin), Header: header, Address: t.URL,
				User: user, Password: word, Name: name, Text: text, Before: before})
			if err == nil || !errors.Is(err, stack.ErrNotAdmitted) {
				return u, err
			}
			first = err
		}
		return nil, first
	}
}

// password gives that of an account: from its file, or asked for once.
func (d *core) password(h inventory.Host, asker ssh.Asker) (string, error) {
	if h.PasswordFile != "" {
		s, err := d.safe().Read(h.PasswordFile)
		if err != nil {
			return "", fmt.Errorf("reading the password: %w", err)
		}
		return s, nil
	}
	if s, err := asker.Secret(fmt.Sprintf("password of %s on %s", h.User, h.Name)); err == nil {
		return s, nil
	}
	return "", fmt.Errorf("the password of %s is not known: name a file that holds it: --password-file FILE", h.User)
}

// accepting is an asker that knows a host's key, and accepts no other one.
type accepting struct {
	ssh.Asker
	key string
}

func (a accepting) HostKey(_, fingerprint string) (bool, error) {
	return strings.Contains(fingerprint, a.key), nil
}

// way reads an address that says how a host is reached: one of inventory.Ways before it, else by SSH.
func way(h *inventory.Host) {
	for _, w := range inventory.Ways() {
		if rest, ok := strings.CutPrefix(h.Addr, w+"://"); ok {
			h.Way, h.Addr = w, strings.TrimRight(rest, "/")
		}
	}
}

// known has a certificate accepted by who is asked, where nobody whom this machine trusts has signed it.
func (d *core) known(h *inventory.Host, err error) (again bool) {
	var unknown *trust.Unknown
	if !errors.As(err, &unknown) || h.Pin != "" || d.opt.Asker == nil {
		return false
	}
	yes, err := d.opt.Asker.HostKey(h.Name, unknown.Fingerprint)
	if err != nil || !yes {
		return false
	}
	h.Pin = unknown.Fingerprint
	return true
}
