// Package realtest gives tests an open desk with real WordPress sites on this
// machine, in a MariaDB server of the test's own.
package realtest

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real"
	"alibi/internal/demo/shelf"
	"alibi/internal/desk"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/runtime/process"
	"alibi/internal/site"
)

// World is an open desk of an empty home; demotest's helpers work on it.
type World struct {
	*demotest.World
	Sites string       // folder of the live sites
	Shelf *shelf.Shelf // the stand-in catalogue
}

// Options change a world.
type Options struct {
	Own    bool // copies get their databases on Alibi's own server, not on the sites'
	Change []func(*desk.Options)
}

// New makes one. The package's TestMain must call mariadbtest.Main.
func New(t testing.TB, o Options) *World {
	t.Helper()
	t.Setenv("SSH_AUTH_SOCK", "")
	dir := t.TempDir()
	home := filepath.Join(dir, "home")
	require.NoError(t, os.MkdirAll(home, 0o700))
	cache, err := real.Cache()
	require.NoError(t, err)
	c := desk.Config{
		Machine: "slipway",
		Hosts:   filepath.Join(home, "hosts"),
		Gateway: desk.Gateway{Port: demotest.FreePort(20000 + rand.IntN(11000))},
		Lease:   desk.LeaseRules{Default: "3d", Grace: "2d"},
		Runtime: desk.Runtime{PHP: []string{filepath.Join(cache, "php")}},
		Work:    desk.Work{Patience: "20s"},
	}
	if !o.Own {
		c.Database = site.Server{Address: Server(), User: "root"}
	}
	cat := shelf.New(filepath.Join(cache, "cores"))
	srv := httptest.NewServer(cat)
	t.Cleanup(srv.Close)
	c.Catalogue.Address = srv.URL
	require.NoError(t, desk.SaveConfig(home, c))
	w := &World{World: demotest.At(t, home), Sites: filepath.Join(dir, "sites"), Shelf: cat}
	t.Cleanup(func() {
		process.Reap(desk.RunDir(home))
		os.RemoveAll(desk.RunDir(home))
		clearServer(t)
	})
	w.Open(o.Change...)
	return w
}

// clearServer removes what copies a test has left on the shared server, so that
// the next one can tell what it left itself.
func clearServer(t testing.TB) {
	ctx := context.Background()
	list, err := mariadbtest.Root().Databases(ctx)
	require.NoError(t, err)
	for _, n := range list {
		if strings.HasPrefix(n, op.DatabasePrefix) {
			require.NoError(t, mariadbtest.Root().DropDatabase(ctx, n))
		}
	}
}

// Machine starts a further host, known to the desk, on which copies may be made.
func (w *World) Machine(name string, change ...func(*real.MachineOptions)) *real.Machine {
	w.T.Helper()
	ctx := context.Background()
	run, err := os.MkdirTemp("", "alibi-host-")
	require.NoError(w.T, err)
	key := filepath.Join(w.Sites, "key-"+name)
	require.NoError(w.T, os.MkdirAll(w.Sites, 0o700))
	pub, err := real.NewKey(key, "")
	require.NoError(w.T, err)
	o := real.MachineOptions{Name: name, Dir: filepath.Join(w.Sites, name), Run: run, Key: pub}
	for _, c := range change {
		c(&o)
	}
	m, err := real.StartMachine(o)
	require.NoError(w.T, err)
	w.T.Cleanup(func() {
		m.Close()
		process.Reap(run)
		os.RemoveAll(run)
	})
	w.Desk.SetAsker(yes{})
	require.NoError(
		w.T,
		w.Desk.Fleet.AddHost(
			ctx,
			inventory.Host{
				Name:   name,
				Addr:   "127.0.0.1",
				Port:   m.Port,
				User:   m.User,
				Key:    key,
				Copies: filepath.Join(m.Dir, "copies"),
				Server: site.Server{Address: m.Server(), User: "root"},
			},
		),
	)
	return m
}

// yes accepts every host's key and knows no secret.
type yes struct{}

func (yes) HostKey(string, string) (bool, error) { return true, nil }
func (yes) Secret(string) (string, error)        { return "", errors.New("there is none") }

// Server is the database server as a site's configuration names it.
func Server() string { return "localhost:" + mariadbtest.Socket() }

// Make sets up a site and adds it as a live one.
func (w *World) Make(name string, change ...func(*real.Spec)) site.Site {
	w.T.Helper()
	ctx := context.Background()
	s := real.Spec{
		Root:     filepath.Join(w.Sites, name),
		URL:      "https://" + name + ".skerryline.example",
		Title:    "Skerry " + strings.ToUpper(name[:1]) + name[1:],
		Tagline:  "Boats between the islands",
		Posts:    12,
		Pictures: 3,
		Seed:     5,
		Prefix:   "sk_",
		Server:   Server(),
		Admin:    mariadbtest.Root(),
		Database: fmt.Sprintf("%s_%d", name, rand.IntN(1e6)),
		Password: "made-up-secret",
	}
	for _, c := range change {
		c(&s)
	}
	require.NoError(w.T, real.Again(ctx, s))
	live, err := w.Desk.Fleet.AddSite(ctx, desk.NewSite{Host: s.Host, Root: s.Root, Client: "Skerry Line",
		Owner: "runa"})
	require.NoError(w.T, err)
	return live
}
