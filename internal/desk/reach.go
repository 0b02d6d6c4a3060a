package desk

import (
	"errors"
	"fmt"
	"strings"
	"sync"

	"alibi/internal/host"
	"alibi/internal/host/ftp"
	"alibi/internal/host/ssh"
	"alibi/internal/host/trust"
	"alibi/internal/inventory"
	"alibi/internal/op"
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
		return ssh.New(h.Name, ssh.Target{Alias: h.Addr, Port: h.Port, User: h.User, Key: h.Key},
			ssh.Options{KnownHosts: d.knownHosts(), Asker: asker, Limits: ssh.Limits(h.Limits)})
	}
	return ftp.New(h.Name, ftp.Target{Host: h.Addr, Port: h.Port, User: h.User, Plain: h.Way == inventory.FTP, Pin: h.Pin},
		ftp.Options{Password: sync.OnceValues(func() (string, error) { return password(h, asker) }),
			Streams: h.Limits.Streams, Bandwidth: h.Limits.Bandwidth})
}

// password gives that of an account: from its file, or asked for once.
func password(h inventory.Host, asker ssh.Asker) (string, error) {
	if h.PasswordFile != "" {
		s, err := op.ReadSecret(h.PasswordFile)
		if err != nil {
			return "", fmt.Errorf("reading the password's file: %w", err)
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

// way reads an address that says how a host is reached: ftps:// or ftp:// before it, else by SSH.
func way(h *inventory.Host) {
	for _, w := range []string{inventory.FTPS, inventory.FTP} {
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
