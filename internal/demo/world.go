// Package demo makes the demo world: a ferry company that does not exist, its
// sites, and the machines that they live on, which are SSH servers inside this
// process. It is always the same, apart from the time of day.
package demo

import (
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"alibi/internal/demo/nameserver"
	"alibi/internal/demo/panel"
	"alibi/internal/demo/shelf"
	"alibi/internal/demo/sshd"
	"alibi/internal/desk"
	"alibi/internal/inventory"
)

// marker is the file that says a folder is a demo's, and may be wiped by one.
const marker = "this-is-a-demo"

// Machine is what the engineer's own machine is called in the demo.
const Machine = "slipway"

// World is the demo world, running.
type World struct {
	Home    string
	servers map[string]*sshd.Server
	specs   []spec
	shelf   func() // closes the stand-in catalogue
	names   *nameserver.Server
	panels  []*panel.Panel
	faulty  atomic.Bool // drydock refuses to hand out one database
	back    atomic.Int64
}

// Now is the world's time: it is set back while the past is made.
func (w *World) Now() time.Time { return time.Now().Add(-time.Duration(w.back.Load())) }

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// specs are the company's sites.
func specs() []spec {
	ferry := []pluginSpec{
		{slug: "tide-table", name: "Tide Table", version: "2.4.1", update: "2.5.0", active: true},
		{slug: "quay-visits", name: "Quay Visits", version: "1.8", active: true,
			options: map[string]string{"quay_visits_counter": "https://count.wavelog.example/hit?site={home}"}},
		{slug: "bell-mailer", name: "Bell Mailer", version: "3.0.2", active: true,
			options: map[string]string{"bell_mailer_smtp": "smtps://relay.bellpost.example:465"}},
		{slug: "old-slider", name: "Old Slider", version: "0.9"},
	}
	shop := append(slices.Clone(ferry[:3]),
		pluginSpec{slug: "gangway-shop", name: "Gangway Shop", version: "5.2.0", update: "5.3.1", active: true,
			options: map[string]string{"gangway_webhook_orders": "https://hooks.stowage.example/orders"}},
		pluginSpec{slug: "coin-slot", name: "Coin Slot Payments", version: "4.1", active: true,
			options: map[string]string{"coin_slot_gateway": "https://pay.coinslot.example/v2",
				"coin_slot_return": "{home}/paid/"}},
		pluginSpec{slug: "seat-map", name: "Seat Map", version: "1.1", active: true, missing: true})
	return []spec{
		{host: "pier", root: "/srv/skerryline/public", address: "skerryline.example", core: "6.1.1", theme: "harbour",
			plugins: ferry, seed: 11, memory: "128M", clutter: true,
			blogs: []blogSpec{{id: 1, title: "Skerry Line", tagline: "Boats between the islands", posts: 90, pages: 9,
				pictures: 20}}},
		{host: "pier", root: "/srv/tickets/public", address: "tickets.skerryline.example", core: "6.1.1",
			theme: "kiosk", plugins: shop, seed: 12, memory: "64M",
			blogs: []blogSpec{{id: 1, title: "Skerry Tickets", tagline: "Mind the gap", posts: 18, pages: 6,
				pictures: 8, products: 24}}},
		{host: "drydock", root: "/var/www/crew", address: "crew.skerryline.example", core: "6.8", theme: "logbook",
			plugins: ferry, seed: 13, memory: "256M", broken: true,
			blogs: []blogSpec{{id: 1, title: "Crew Logbook", tagline: "What happened on board", posts: 140, pages: 4,
				pictures: 24}}},
		{host: "drydock", root: "/var/www/islands", address: "islands.skerryline.example", core: "6.8",
			theme: "harbour", plugins: ferry[:3], seed: 14, memory: "256M",
			blogs: []blogSpec{{id: 1, title: "The Islands", tagline: "Three and a rock", posts: 12, pages: 4,
				pictures: 2}, {id: 2, title: "North Island", path: "/north", posts: 16, pages: 3, pictures: 2},
				{id: 3, title: "Mid Island", path: "/mid", posts: 14, pages: 3, pictures: 2},
				{id: 4, title: "South Island", path: "/south", posts: 10, pages: 3, pictures: 2}}},
	}
}

// smaller has a tenth of the posts and two pictures a site: enough for a test.
func smaller(list []spec) []spec {
	for i := range list {
		for j := range list[i].blogs {
			b := &list[i].blogs[j]
			b.posts, b.pictures, b.products = b.posts/10+2, min(2, b.pictures), b.products/6
		}
	}
	return list
}

// Start makes the world under home, which is wiped if an earlier demo left it,
// and refused if it is anything else. small makes less of everything.
func Start(ctx context.Context, home string, port int, small bool) (*World, error) {
	if err := Wipe(home); err != nil {
		return nil, err
	}
	c := desk.Config{Machine: Machine, Hosts: filepath.Join(home, "hosts"), Gateway: desk.Gateway{Port: port},
		Lease: desk.LeaseRules{Default: "3d", Grace: "2d"}}
	c.Quota.Copies, c.Quota.Bytes = 20, 4<<30
	address, closed, err := shelf.New("").Serve()
	if err != nil {
		return nil, err
	}
	c.Catalogue.Address = address
	names, keyFile, err := nameserver.Ferry(home)
	if err != nil {
		closed()
		return nil, err
	}
	c.Names = []desk.Zone{{Zone: nameserver.Zone, Server: names.Addr, Key: "alibi", KeyFile: keyFile,
		Watch: []string{names.Resolver}}}
	w := &World{Home: home, servers: map[string]*sshd.Server{}, specs: specs(), shelf: closed, names: names}
	wait := settingUp
	if small {
		wait = 0
	}
	if c.Panels, err = w.openPanels(wait); err != nil {
		w.Close()
		return nil, err
	}
	if err := desk.SaveConfig(home, c); err != nil {
		w.Close()
		return nil, err
	}
	if small {
		w.specs = smaller(w.specs)
	}
	if err := w.build(ctx); err != nil {
		w.Close()
		return nil, fmt.Errorf("making the demo world: %w", err)
	}
	return w, nil
}

// Wipe makes an empty folder for a demo, in place of what an earlier demo left
// there. A folder with anything else in it is refused.
func Wipe(home string) error {
	if entries, err := os.ReadDir(home); err == nil && len(entries) > 0 {
		if _, err := os.Stat(filepath.Join(home, marker)); err != nil {
			return fmt.Errorf("%s is not a demo's folder and not empty: the demo would wipe it; name another one "+
				"with --home", home)
		}
		if err := os.RemoveAll(home); err != nil {
			return fmt.Errorf("wiping the earlier demo: %w", err)
		}
	}
	if err := os.MkdirAll(home, 0o700); err != nil {
		return fmt.Errorf("making the demo's folder: %w", err)
	}
	return os.WriteFile(filepath.Join(home, marker),
		[]byte("Made by alibi demo, which wipes this folder when it starts.\n"), 0o600)
}

// Close stops the machines.
func (w *World) Close() {
	w.shelf()
	w.names.Close()
	for _, p := range w.panels {
		p.Close()
	}
	for _, s := range w.servers {
		s.Close()
	}
}

// Cut breaks all connections to a stand-in machine, as a broken line would.
func (w *World) Cut(hostName string) { w.servers[hostName].Cut() }

func (w *World) hostDir(name string) string { return filepath.Join(w.Home, "world", name) }

// Dir is where a folder of a stand-in machine lies on this one.
func (w *World) Dir(hostName, path string) string { return filepath.Join(w.hostDir(hostName), path) }

func (w *World) build(ctx context.Context) error {
	now := time.Now()
	g, _ := errgroup.WithContext(ctx)
	for _, s := range w.specs {
		g.Go(func() error { return build(s, w.hostDir(s.host), now) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return w.serve()
}

// serve starts the stand-in machines and lets this one sign in to them.
func (w *World) serve() error {
	key := ed25519.NewKeyFromSeed([]byte("the demo's key opens demo doors."))
	block, err := ssh.MarshalPrivateKey(key, "demo")
	if err != nil {
		return err
	}
	if err := os.WriteFile(w.keyFile(), pem.EncodeToMemory(block), 0o600); err != nil {
		return err
	}
	pub, err := ssh.NewPublicKey(key.Public())
	if err != nil {
		return err
	}
	known := ""
	for name, php := range map[string]string{"pier": "8.2.7", "drydock": "8.4.1"} {
		cfg := sshd.Config{Dir: w.hostDir(name), User: "ops", Key: pub, Free: 9 << 30,
			Commands: map[string]func([]string) []byte{"php": func([]string) []byte { return []byte(php) }},
			Answers:  func(words []string, in io.Reader, out io.Writer) bool { return w.php(name, words, in, out) }}
		if name == "drydock" {
			cfg.Fault = func(op, path string) error {
				if w.faulty.Load() && op == "read" && path == "/var/www/crew/wp-content/database/.ht.sqlite" {
					return sftp.ErrSSHFxPermissionDenied
				}
				return nil
			}
		}
		if w.servers[name], err = sshd.Start(cfg); err != nil {
			return err
		}
		known += fmt.Sprintf("[127.0.0.1]:%s %s", w.servers[name].Port(),
			ssh.MarshalAuthorizedKey(w.servers[name].HostKey()))
	}
	return os.WriteFile(filepath.Join(w.Home, "known_hosts"), []byte(known), 0o600)
}

func (w *World) keyFile() string { return filepath.Join(w.Home, "demo-key") }

// Settle tells a desk of the hosts and the live sites.
func (w *World) Settle(ctx context.Context, d *desk.Desk) error {
	for _, name := range sorted(w.servers) {
		h := inventory.Host{Name: name, Addr: "127.0.0.1", Port: w.servers[name].Port(), User: "ops", Key: w.keyFile(),
			Client: "Skerry Line"}
		if err := d.Workings().Record.PutHost(ctx, h); err != nil {
			return err
		}
	}
	for _, s := range w.specs {
		if _, err := d.Fleet.AddSite(ctx, desk.NewSite{Host: s.host, Root: s.root, Client: "Skerry Line",
			Owner: "runa"}); err != nil {
			return err
		}
	}
	dir := filepath.Join(w.hostDir(Machine), "status")
	if err := w.status(dir); err != nil {
		return err
	}
	_, err := d.Fleet.AddSite(ctx, desk.NewSite{Host: Machine, Root: dir, Address: "https://status.skerryline.example",
		Client: "Skerry Line", Owner: "ivo"})
	return err
}

// status writes a small site without a CMS.
func (w *World) status(dir string) error {
	page := "<!doctype html><html><head><title>Boats now</title></head><body><h1>Boats now</h1><p>All boats run. <a " +
		"href=\"about.html\">About this page</a>, <a href=\"https://status.skerryline.example/\">permanent " +
		"address</a>.</p></body></html>\n"
	for name, text := range map[string]string{"index.html": page,
		"about.html": "<html><body><p>Made by hand.</p></body></html>\n", "style.css": "body{font:18px serif}\n"} {
		if err := os.MkdirAll(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}
