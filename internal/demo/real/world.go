package real

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"alibi/internal/demo/nameserver"
	"alibi/internal/demo/shelf"
	"alibi/internal/desk"
	"alibi/internal/inventory"
	"alibi/internal/runtime/process"
	"alibi/internal/site"
)

// World is the ferry line on real programs: two hosts, and three sites on them.
type World struct {
	Home     string
	machines map[string]*Machine
	sites    []Spec
	run      string
	shelf    func() // closes the stand-in catalogue
	names    *nameserver.Server
}

// specs are the company's sites here.
func (w *World) specs() []Spec {
	pier, dock := w.machines["pier"], w.machines["drydock"]
	on := func(m *Machine, s Spec) Spec {
		s.Host, s.Root, s.Server, s.Admin, s.Password = m.Name, filepath.Join(m.Dir, "www", s.Database), m.Server(),
			m.Admin(), "a made-up secret of "+s.Database
		return s
	}
	return []Spec{
		on(
			pier,
			Spec{
				URL:      "https://skerryline.example",
				Title:    "Skerry Line",
				Tagline:  "Boats between the islands",
				Blocks:   true,
				Posts:    60,
				Pictures: 14,
				Seed:     11,
				Prefix:   "sk_",
				Database: "skerryline",
			},
		),
		on(
			pier,
			Spec{
				URL:      "https://tickets.skerryline.example",
				Title:    "Skerry Tickets",
				Tagline:  "Mind the gap",
				Blocks:   true,
				Posts:    24,
				Pictures: 6,
				Seed:     12,
				Prefix:   "wp_",
				Database: "tickets",
			},
		),
		on(
			dock,
			Spec{
				URL:      "https://islands.skerryline.example",
				Title:    "The Islands",
				Tagline:  "Three and a rock",
				Posts:    10,
				Pictures: 3,
				Seed:     13,
				Prefix:   "wp_",
				Database: "islands",
				Network: []Sub{
					{Name: "north", Title: "North Island", Tagline: "Where the lamp is", Posts: 8, Pictures: 2},
					{Name: "mid", Title: "Mid Island", Tagline: "Where the shop is", Posts: 6, Pictures: 2},
					{Name: "south", Title: "South Island", Tagline: "Where the gulls are", Posts: 5, Pictures: 1},
				},
			},
		),
	}
}

// Start makes the world under home, an empty folder. tell is told what is being
// done.
func Start(ctx context.Context, home string, port int, tell func(string)) (_ *World, err error) {
	w := &World{Home: home, machines: map[string]*Machine{}}
	defer func() {
		if err != nil {
			w.Close()
		}
	}()
	if err := os.MkdirAll(home, 0o700); err != nil {
		return nil, fmt.Errorf("making the demo's folder: %w", err)
	}
	cache, err := Cache()
	if err != nil {
		return nil, err
	}
	c := desk.Config{
		Machine: "slipway",
		Hosts:   filepath.Join(home, "hosts"),
		Gateway: desk.Gateway{Port: port},
		Lease:   desk.LeaseRules{Default: "3d", Grace: "2d"},
		Runtime: desk.Runtime{PHP: []string{filepath.Join(cache, "php")}},
	}
	if c.Catalogue.Address, w.shelf, err = shelf.New(filepath.Join(cache, "cores")).Serve(); err != nil {
		return nil, err
	}
	var keyFile string
	if w.names, keyFile, err = nameserver.Ferry(home); err != nil {
		return nil, err
	}
	c.Names = []desk.Zone{{Zone: nameserver.Zone, Server: w.names.Addr, Key: "alibi", KeyFile: keyFile,
		Watch: []string{w.names.Resolver}}}
	if err := desk.SaveConfig(home, c); err != nil {
		return nil, err
	}
	if w.run, err = os.MkdirTemp("", "alibi-real-"); err != nil {
		return nil, err
	}
	pub, err := NewKey(w.key(), "")
	if err != nil {
		return nil, err
	}
	for _, m := range []MachineOptions{{Name: "pier"}, {Name: "drydock", PHP: filepath.Join(cache, "php", "8.4")}} {
		tell("starting " + m.Name + ": OpenSSH and MariaDB")
		m.Dir, m.Run, m.Key = filepath.Join(home, "world", m.Name), filepath.Join(w.run, m.Name), pub
		if w.machines[m.Name], err = StartMachine(m); err != nil {
			return nil, err
		}
	}
	w.sites = w.specs()
	for _, s := range w.sites {
		tell("setting up " + s.URL + " on " + s.Host)
		if err := Make(ctx, s); err != nil {
			return nil, err
		}
	}
	return w, nil
}

func (w *World) key() string { return filepath.Join(w.Home, "demo-key") }

// Close stops the machines.
func (w *World) Close() {
	if w.shelf != nil {
		w.shelf()
	}
	if w.names != nil {
		w.names.Close()
	}
	for _, m := range w.machines {
		if m != nil {
			m.Close()
		}
	}
	if w.run != "" {
		process.Reap(w.run)
		os.RemoveAll(w.run)
	}
}

// Settle tells a desk of the hosts and the live sites.
func (w *World) Settle(ctx context.Context, d *desk.Desk) error {
	d.SetAsker(known{})
	for _, name := range []string{"pier", "drydock"} {
		m := w.machines[name]
		h := inventory.Host{
			Name:   name,
			Addr:   "127.0.0.1",
			Port:   m.Port,
			User:   m.User,
			Key:    w.key(),
			Client: "Skerry Line",
			Copies: filepath.Join(m.Dir, "copies"),
			Server: site.Server{Address: m.Server(), User: "root"},
		}
		if err := d.Fleet.AddHost(ctx, h); err != nil {
			return err
		}
	}
	for _, s := range w.sites {
		if _, err := d.Fleet.AddSite(ctx, desk.NewSite{Host: s.Host, Root: s.Root, Client: "Skerry Line",
			Owner: "runa"}); err != nil {
			return err
		}
	}
	return nil
}

// known accepts the keys of the machines, which this process has just made.
type known struct{}

func (known) HostKey(string, string) (bool, error) { return true, nil }
func (known) Secret(string) (string, error)        { return "", errors.New("there is none") }
