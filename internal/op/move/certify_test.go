package move_test

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/cert"
	"alibi/internal/cert/certtest"
	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/dns"
	"alibi/internal/plan"
)

// issues has a home order certificates of an authority.
func issues(t *testing.T, home, directory string) {
	t.Helper()
	c, err := desk.LoadConfig(home)
	require.NoError(t, err)
	c.Authority.Directory = directory
	require.NoError(t, desk.SaveConfig(home, c))
}

func TestACertificateForTheNewPlace(t *testing.T) {
	m := begunMove(t)
	ctx := t.Context()
	_, err := m.Desk.Moves.PlanCertificate(ctx, m.now(), plan.Certificate{Dir: "/etc/certificates"})
	require.ErrorIs(t, err, desk.ErrNoAuthority)
	server := dns.Server(m.Desk.Config().Names[0].Server)
	at := certtest.Start(t, string(server), 1)
	require.NoError(t, m.Desk.Close())
	issues(t, m.Base, at.Directory)
	m.Open()
	for what, c := range map[string]plan.Certificate{"absolute path": {Dir: "certificates"}, "visitors may read": {
		Dir: there + "/certificates"}, "not by \"fax\"": {Dir: "/etc/certificates", By: "fax"}} {
		_, err := m.Desk.Moves.PlanCertificate(ctx, m.now(), c)
		assert.ErrorContains(t, err, what)
	}
	shown := func() []string {
		is, err := server.Set(ctx, "_acme-challenge."+shop, "TXT")
		require.NoError(t, err)
		return is.Values
	}
	file := func(end string) string { return m.Dir("drydock", "/etc/certificates/"+shop+end) }
	p, err := m.Desk.Moves.PlanCertificate(ctx, m.now(), plan.Certificate{Dir: "/etc/certificates"})
	require.NoError(t, err)
	assert.Equal(t, shop, p.Confirm)
	assert.Contains(t, strings.Join(p.Writes, "; "), "_acme-challenge records in zone skerryline.example")

	// Killed while it is shown, it is ordered anew, and nothing of it is left.
	for _, moment := range []string{"key end", "certify progress", "certify end"} {
		r, err := m.Desk.Runs.StartTyped(ctx, p, p.Confirm)
		require.NoError(t, err)
		demotest.KilledAt(t, m.World, moment)
		demotest.Resumed(t, m.World, r.ID)
		assert.Empty(t, shown(), moment)
	}
	is := m.now().Certificate
	require.NotNil(t, is)
	assert.Equal(t, "dns-01", is.By)
	assert.NotEmpty(t, is.Unseen, "no web server of that address shows it")
	chain, err := os.ReadFile(file(".crt"))
	require.NoError(t, err)
	key, err := os.ReadFile(file(".key"))
	require.NoError(t, err)
	pair, err := tls.X509KeyPair(chain, key)
	require.NoError(t, err, "they belong together")
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	require.NoError(t, err)
	assert.NoError(t, leaf.VerifyHostname(shop))
	assert.Equal(t, leaf.NotAfter.Unix(), is.Until.Unix())
	fi, err := os.Stat(file(".key"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), fi.Mode().Perm())
	assert.FileExists(t, file(".crt.former"))

	// What cannot be shown is taken back.
	require.NoError(t, os.Remove(file(".key")))
	require.NoError(t, os.Remove(file(".crt")))
	m.Keep()
	p, err = m.Desk.Moves.PlanCertificate(ctx, m.now(), plan.Certificate{By: "http"})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(p.Writes, "; "), ".well-known/acme-challenge in "+here+" on pier")
	r := m.Run(p)
	assert.Equal(t, plan.Cancelled, r.State)
	assert.Contains(t, r.Error, cert.ErrNotOurs.Error())
	assert.NoFileExists(t, file(".key"))
	assert.NoDirExists(t, m.Dir("pier", here+"/.well-known"))
}

// A real site shows by a file of its own that its name is ours.
func TestACertificateByAFileOfTheSite(t *testing.T) {
	f := newFerry(t)
	_, port, err := net.SplitHostPort(strings.TrimPrefix(f.live.Spec.URL, "http://"))
	require.NoError(t, err)
	n, err := strconv.Atoi(port)
	require.NoError(t, err)
	at := certtest.Start(t, string(f.names.Server), n)
	f.Stop()
	require.NoError(t, f.Desk.Close())
	issues(t, f.Base, at.Directory)
	f.Open()
	f.Keep()
	web, err := f.names.Server.Web(t.Context(), shop)
	require.NoError(t, err)
	only := web[:0:0]
	for _, r := range web {
		if r.Type == "AAAA" {
			r.Values = nil
		}
		only = append(only, r)
	}
	require.NoError(t, f.names.Update.Change(t.Context(), "skerryline.example", web, only))
	f.begin()
	dir := filepath.Join(f.dock.Dir, "certificates")
	reloaded := filepath.Join(f.dock.Dir, "reloaded")
	p, err := f.Desk.Moves.PlanCertificate(t.Context(), f.now(), plan.Certificate{Dir: dir, By: "http",
		Reload: "cp " + dir + "/*.crt " + reloaded})
	require.NoError(t, err)
	r := f.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	chain, err := os.ReadFile(reloaded)
	require.NoError(t, err)
	leaf, err := cert.Leaf(chain)
	require.NoError(t, err)
	assert.NoError(t, leaf.VerifyHostname(shop))
	assert.NoDirExists(t, filepath.Join(f.live.Spec.Root, ".well-known"))
	bad, err := f.Desk.Moves.PlanCertificate(t.Context(), f.now(), plan.Certificate{Reload: "echo no such server; exit 3"})
	require.NoError(t, err)
	r = f.Run(bad)
	assert.Contains(t, r.Error, "no such server")
	assert.FileExists(t, filepath.Join(dir, shop+".crt"), "what was issued stays")
}
