package ssh

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"strings"
	"time"

	"github.com/kevinburke/ssh_config"
)

// settings are what the person's SSH configuration says about a name, by
// keywords in lower case.
type settings map[string][]string

// read asks OpenSSH itself, which knows Match, Include and the system's file;
// where it is not installed the file is read here.
func read(alias, config string) settings {
	if s, err := ask(alias, config); err == nil {
		return s
	}
	if config == "" {
		config = home(".ssh/config")
	}
	out := settings{}
	f, err := os.Open(config)
	if err != nil {
		return out
	}
	defer f.Close()
	cfg, err := ssh_config.Decode(f)
	if err != nil {
		return out
	}
	for _, k := range []string{"HostName", "Port", "User", "IdentityFile", "ProxyJump", "ProxyCommand"} {
		if v, err := cfg.GetAll(alias, k); err == nil && len(v) > 0 {
			out[strings.ToLower(k)] = v
		}
	}
	return out
}

func ask(alias, config string) (settings, error) {
	if strings.HasPrefix(alias, "-") {
		return nil, errors.New("no name of a host")
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	args := []string{"-G"}
	if config != "" {
		args = append(args, "-F", config)
	}
	out, err := exec.CommandContext(ctx, "ssh", append(args, alias)...).Output()
	if err != nil {
		return nil, err
	}
	s := settings{}
	for _, line := range strings.Split(string(out), "\n") {
		if k, v, ok := strings.Cut(strings.TrimSpace(line), " "); ok && v != "none" {
			s[k] = append(s[k], v)
		}
	}
	return s, nil
}

func (s settings) first(key string) string {
	if v := s[key]; len(v) > 0 {
		return v[0]
	}
	return ""
}

// fill completes a target from the configuration and the defaults.
func (t Target) fill(config string) Target {
	if t.Alias == "" {
		t.Alias = t.Addr
	}
	s := read(t.Alias, config)
	or := func(p *string, key, fallback string) {
		if *p == "" {
			*p = s.first(key)
		}
		if *p == "" {
			*p = fallback
		}
	}
	or(&t.Addr, "hostname", t.Alias)
	or(&t.Port, "port", "22")
	me := ""
	if u, err := user.Current(); err == nil {
		me = u.Username
	}
	or(&t.User, "user", me)
	or(&t.Jump, "proxyjump", "")
	or(&t.command, "proxycommand", "")
	t.agent = s.first("identityagent")
	if t.Key != "" {
		t.keys = []string{tilde(t.Key)}
		return t
	}
	for _, k := range s["identityfile"] {
		t.keys = append(t.keys, tilde(k))
	}
	if len(t.keys) == 0 {
		t.keys = []string{home(".ssh/id_ed25519"), home(".ssh/id_ecdsa"), home(".ssh/id_rsa")}
	}
	return t
}

func tilde(path string) string {
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		return home(rest)
	}
	return path
}

// jumps are the hosts to go through, nearest first, described like any other.
func (t Target) jumps(opt Options) []*Host {
	var out []*Host
	for _, j := range strings.Split(t.Jump, ",") {
		j = strings.TrimPrefix(strings.TrimSpace(j), "ssh://")
		if j == "" {
			continue
		}
		target := Target{Alias: j}
		if u, rest, ok := strings.Cut(j, "@"); ok {
			target.User, target.Alias = u, rest
		}
		if h, p, err := net.SplitHostPort(target.Alias); err == nil {
			target.Alias, target.Port = h, p
		}
		target.Jump = "none" // jumps are listed whole
		out = append(out, New("jump host "+target.Alias, target, opt))
	}
	return out
}

// raw opens the connection that SSH is spoken over: straight, through the jump
// hosts, or by the person's own command.
func (h *Host) raw(ctx context.Context, addr string) (net.Conn, error) {
	d := net.Dialer{Timeout: h.opt.Timeout}
	dial := d.DialContext
	if h.target.Jump != "" && h.target.Jump != "none" {
		for _, j := range h.target.jumps(h.opt) {
			j.through = dial
			conn, err := j.dial(ctx)
			if err != nil {
				return nil, fmt.Errorf("on the way to %s: %w", h.name, err)
			}
			h.via = append(h.via, conn)
			dial = conn.DialContext
		}
	} else if h.target.command != "" && h.target.command != "none" {
		return h.target.run(ctx)
	} else if h.through != nil {
		dial = h.through
	}
	return dial(ctx, "tcp", addr)
}
