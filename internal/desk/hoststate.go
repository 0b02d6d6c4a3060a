package desk

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"slices"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/site"
)

// HostState is what a host answers now, and what may be done there.
type HostState struct {
	inventory.Host
	Sites   []string `json:"sites"`             // by name
	Failure string   `json:"failure,omitempty"` // why it could not be asked; "": it answers

	SignIn   time.Duration `json:"sign_in"`         // from nothing to the first answer
	Answer   time.Duration `json:"answer"`          // a question, once signed in
	Commands bool          `json:"commands"`        // it runs some
	Forwards bool          `json:"forwards"`        // it connects to a database that listens there
	PHP      string        `json:"php,omitempty"`   // version; "": none, or it runs no commands
	Free     int64         `json:"free,omitempty"`  // bytes, where copies are made, else at the top; 0: not known
	Writes   bool          `json:"writes"`          // our account may write to the folder for copies
	About    []string      `json:"about,omitempty"` // what that means for sites there
}

// KnownHosts are all machines, this one first, as the record has them: none is asked.
func (d *Fleet) KnownHosts(ctx context.Context) ([]HostState, error) {
	hosts, err := d.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	all, err := d.record.Sites(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]HostState, len(hosts))
	for i, h := range hosts {
		out[i].Host = h
		for _, x := range all {
			if x.Host == h.Name {
				out[i].Sites = append(out[i].Sites, x.Name)
			}
		}
	}
	return out, nil
}

// KnownHost is one of them.
func (d *Fleet) KnownHost(ctx context.Context, name string) (HostState, error) {
	all, err := d.KnownHosts(ctx)
	if err != nil {
		return HostState{}, err
	}
	if i := slices.IndexFunc(all, func(s HostState) bool { return s.Name == name }); i >= 0 {
		return all[i], nil
	}
	_, err = d.record.Host(ctx, name)
	return HostState{}, err
}

// HostState asks a host.
func (d *Fleet) HostState(ctx context.Context, name string) (HostState, error) {
	s, err := d.KnownHost(ctx, name)
	if err != nil {
		return s, err
	}
	h, err := d.host(ctx, name)
	if err != nil {
		return s, err
	}
	began := time.Now()
	tree, err := begin(ctx, h)
	if err != nil {
		s.Failure = err.Error()
		return s, ctx.Err()
	}
	defer tree.Close()
	s.SignIn = time.Since(began)
	began = time.Now()
	if _, err := tree.Lstat("alibi-asks"); err != nil && !errors.Is(err, fs.ErrNotExist) {
		s.Failure = err.Error()
		return s, ctx.Err()
	}
	s.Answer = time.Since(began)
	s.ask(ctx, h)
	if s.Copies != "" {
		s.Writes = d.tryFolder(ctx, name, s.Copies, nil) == nil
	}
	s.means()
	return s, ctx.Err()
}

// ask asks what it can do.
func (s *HostState) ask(ctx context.Context, h host.Host) {
	out, err := h.Command(ctx, "php", "-r", "echo PHP_VERSION;")
	s.Commands = !errors.Is(err, host.ErrNoCommands)
	if err == nil {
		s.PHP = strings.TrimSpace(string(out))
	}
	conn, err := h.Dial(ctx, "tcp", net.JoinHostPort("127.0.0.1", "1")) // nobody listens there
	if err == nil {
		conn.Close()
	}
	s.Forwards = !errors.Is(err, host.ErrNoForward)
	at := s.Copies
	if at == "" {
		if at, err = host.Start(ctx, h); err != nil {
			return
		}
	}
	s.Free, _ = h.Free(ctx, at)
}

// means says what follows from it.
func (s *HostState) means() {
	note := func(when bool, text string) {
		if when {
			s.About = append(s.About, text)
		}
	}
	note(s.Plain(), "nothing is encrypted: everybody on the way can read the password, and what is brought")
	note(!s.Commands, "it runs no commands: files come one by one, no copies are made there")
	note(s.Commands && s.PHP == "", "it has no php for commands: copies there would not run")
	note(!s.Forwards, "it connects to nothing for us: databases there are read through a relay (alibi add --relay)")
	note(s.Copies != "" && !s.Writes, "our account may not write to "+s.Copies)
	note(s.Open != "", "no wall can be had there for the code of copies: "+s.Open)
}

// ErrHostInUse is given for a host that sites of the record stand on.
var ErrHostInUse = errors.New("sites of the record stand on it")

// RemoveHost takes a host out of the record. Nothing there is touched.
func (d *Fleet) RemoveHost(ctx context.Context, name string) error {
	if name == d.config.Machine {
		return fmt.Errorf("%s is this machine, which is always there", name)
	}
	known, err := d.KnownHost(ctx, name)
	if err != nil {
		return err
	}
	if len(known.Sites) > 0 {
		return fmt.Errorf("host %s: %w: %s; remove these copies and forget these sites first", name, ErrHostInUse,
			strings.Join(known.Sites, ", "))
	}
	all, err := d.record.AllSites(ctx)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(all, func(s site.Site) bool { return s.State == site.Aside && s.Host == name }); i >= 0 {
		return fmt.Errorf("host %s: %w: a place of one that is moved (%s); end that move first: alibi moves", name,
			ErrHostInUse, all[i].Name)
	}
	made, err := d.record.AllMade(ctx)
	if err != nil {
		return err
	}
	left := 0
	for _, m := range made {
		if m.Host == name {
			left++
		}
	}
	if left > 0 {
		return fmt.Errorf("host %s: %s of what Alibi made there is left over; remove it first: alibi leftovers --remove",
			name, site.Plural(int64(left), "part", "parts"))
	}
	if err := d.record.DropHost(ctx, name); err != nil {
		return err
	}
	d.mu.Lock()
	if h, known := d.hosts[name]; known {
		h.Close()
		delete(d.hosts, name)
	}
	d.mu.Unlock()
	return d.log(ctx, "", "host", "took host %s out of the record", name)
}
