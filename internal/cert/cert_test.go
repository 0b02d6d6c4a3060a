package cert_test

import (
	"context"
	"crypto/x509"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/cert"
	"alibi/internal/cert/certtest"
	"alibi/internal/dns"
	"alibi/internal/dns/dnstest"
	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/site"
)

func nothing(cert.Shown) error { return nil }

// authority is a real one, with an account of ours.
func authority(t *testing.T, k dnstest.Knot, port int) (cert.Authority, *x509.CertPool) {
	at := certtest.Start(t, string(k.Server), port)
	return cert.Authority{Directory: at.Directory, Mail: "runa@skerryline.example",
		KeyFile: filepath.Join(t.TempDir(), "in", "account.key")}, at.Roots
}

// holds sees that a chain is of the names, for the key, and signed by the authority.
func holds(t *testing.T, roots *x509.CertPool, chain []byte, names ...string) {
	t.Helper()
	leaf, err := cert.Leaf(chain)
	require.NoError(t, err)
	for _, n := range names {
		assert.NoError(t, leaf.VerifyHostname(n))
	}
	between := x509.NewCertPool()
	between.AppendCertsFromPEM(chain)
	_, err = leaf.Verify(x509.VerifyOptions{Roots: roots, Intermediates: between})
	assert.NoError(t, err)
}

func TestACertificateByRecords(t *testing.T) {
	k := dnstest.Start(t, "127.0.0.1", true)
	a, roots := authority(t, k, 1)
	key, text, err := cert.NewKey()
	require.NoError(t, err)
	again, err := cert.ReadKey(text)
	require.NoError(t, err)
	assert.Equal(t, key.Public(), again.Public())
	proof := cert.Records{Zone: dnstest.Zone, Change: k.Update, Servers: []dns.Server{k.Server}}
	var shown []string
	chain, err := a.Issue(t.Context(), []string{"tickets.skerryline.example", "skerryline.example"}, key, proof,
		func(s cert.Shown) error {
			shown = append(shown, s.Name)
			return nil
		})
	require.NoError(t, err)
	holds(t, roots, chain, "tickets.skerryline.example", "skerryline.example")
	assert.ElementsMatch(t, []string{"tickets.skerryline.example", "skerryline.example"}, shown)
	for _, n := range shown {
		is, err := k.Server.Set(t.Context(), "_acme-challenge."+n, "TXT")
		require.NoError(t, err)
		assert.Empty(t, is.Values, "what was shown is gone")
	}
	fi, err := os.Stat(a.KeyFile)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), fi.Mode().Perm())

	// A record of others under the same name stays, and what cannot be entered leaves nothing.
	theirs := "\"of others\""
	require.NoError(t, k.Update.Change(t.Context(), dnstest.Zone, nil, []site.RecordSet{{
		Name: "_acme-challenge." + shown[0], Type: "TXT", TTL: time.Minute, Values: []string{theirs}}}))
	_, err = a.Issue(t.Context(), shown[:1], key, proof, nothing)
	require.NoError(t, err)
	is, err := k.Server.Set(t.Context(), "_acme-challenge."+shown[0], "TXT")
	require.NoError(t, err)
	assert.Equal(t, []string{theirs}, is.Values)
	proof.Change = dns.ByHand{}
	_, err = a.Issue(t.Context(), []string{"islands.skerryline.example"}, key, proof, nothing)
	assert.ErrorIs(t, err, dns.ErrByHand)
}

func TestACertificateByFiles(t *testing.T) {
	k := dnstest.Start(t, "127.0.0.1", true)
	root := t.TempDir()
	web := httptest.NewServer(http.FileServer(http.Dir(root)))
	t.Cleanup(web.Close)
	_, port, err := net.SplitHostPort(web.Listener.Addr().String())
	require.NoError(t, err)
	n, err := strconv.Atoi(port)
	require.NoError(t, err)
	a, roots := authority(t, k, n)
	key, _, err := cert.NewKey()
	require.NoError(t, err)
	write := func(dir string) cert.Files {
		return cert.Files{Write: func(ctx context.Context) (host.Root, error) { return local.New("here").Write(ctx, dir) }}
	}
	chain, err := a.Issue(t.Context(), []string{"islands.skerryline.example"}, key, write(root), nothing)
	require.NoError(t, err)
	holds(t, roots, chain, "islands.skerryline.example")
	assert.NoDirExists(t, filepath.Join(root, ".well-known"), "nothing of it is left")
	require.NoError(t, os.MkdirAll(filepath.Join(root, ".well-known", "of-others"), 0o755))

	// The name leads to another folder than the one that the file was put into.
	other := t.TempDir()
	_, err = a.Issue(t.Context(), []string{"www2.skerryline.example"}, key, write(other), nothing)
	assert.ErrorIs(t, err, cert.ErrNotOurs)
	in, err := os.ReadDir(other)
	require.NoError(t, err)
	assert.Empty(t, in)
	assert.DirExists(t, filepath.Join(root, ".well-known", "of-others"))
}

func TestWhatAnAuthorityIsNot(t *testing.T) {
	key, _, err := cert.NewKey()
	require.NoError(t, err)
	ask := func(a cert.Authority) error {
		_, err := a.Issue(t.Context(), []string{"islands.skerryline.example"}, key, cert.Files{}, nothing)
		return err
	}
	file := filepath.Join(t.TempDir(), "key")
	assert.ErrorContains(t, ask(cert.Authority{Directory: "http://authority.example", KeyFile: file}),
		"https://HOST/PATH")
	require.NoError(t, os.WriteFile(file, []byte("no key"), 0o600))
	assert.ErrorContains(t, ask(cert.Authority{Directory: "https://authority.example/", KeyFile: file}), "no key in PEM")
	s := httptest.NewTLSServer(http.NotFoundHandler())
	t.Cleanup(s.Close)
	require.NoError(t, os.Remove(file))
	assert.ErrorIs(t, ask(cert.Authority{Directory: s.URL, KeyFile: file}), host.ErrHostKey, "nobody signed its own")
	k := dnstest.Start(t, "127.0.0.1", true)
	a, _ := authority(t, k, 1)
	_, err = a.Issue(t.Context(), []string{"islands.skerryline.example"}, key, cert.Files{},
		func(cert.Shown) error { return errors.New("the record is full") })
	assert.ErrorContains(t, err, "the record is full", "nothing is shown that was not noted")
}
