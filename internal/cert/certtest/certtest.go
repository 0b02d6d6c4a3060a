// Package certtest runs a real authority for tests, in the process.
package certtest

import (
	"crypto/x509"
	"io"
	"log"
	"net/http/httptest"
	"testing"

	"github.com/letsencrypt/pebble/v2/ca"
	"github.com/letsencrypt/pebble/v2/db"
	"github.com/letsencrypt/pebble/v2/va"
	"github.com/letsencrypt/pebble/v2/wfe"

	"alibi/internal/host/trust"
)

// Authority is one that issues certificates.
type Authority struct {
	Directory string // with the key of its own certificate
	Roots     *x509.CertPool
}

// Start starts one, which asks one name server for all names and looks for files of sites at one port.
func Start(t testing.TB, server string, port int) Authority {
	t.Helper()
	t.Setenv("PEBBLE_VA_NOSLEEP", "1")
	t.Setenv("PEBBLE_AUTHZREUSE", "0") // each order is shown anew
	quiet := log.New(io.Discard, "", 0)
	store := db.NewMemoryStore()
	issuer := ca.New(quiet, store, "", "ecdsa", 0, 1, map[string]ca.Profile{"default": {}})
	judge := va.New(quiet, port, port, false, server, store)
	front := wfe.New(quiet, store, judge, issuer, []string{"authority.example"}, false, false, 1, 1)
	s := httptest.NewTLSServer(front.Handler())
	t.Cleanup(s.Close)
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(issuer.GetRootCert(0).PEM())
	return Authority{Directory: s.URL + wfe.DirectoryPath + "#" + trust.Fingerprint(s.Certificate()), Roots: pool}
}
