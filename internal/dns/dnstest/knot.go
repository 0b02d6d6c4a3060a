// Package dnstest runs a real name server for tests.
package dnstest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/dns"
)

// Secret is that of the key which may change the zone.
const Secret = "bWFkZSB1cCBmb3IgdGVzdHMgYW5kIG5vdGhpbmcgZWxzZQ=="

// Zone is what the server is responsible for.
const Zone = "skerryline.example"

// zone is the zone as it begins: %[1]s is the address of its web servers.
const zone = `$ORIGIN skerryline.example.
@ 3600 SOA ns hostmaster 1 3600 600 86400 60
@ 3600 NS ns
ns 3600 A 127.0.0.1
@ 3600 A %[1]s
@ 3600 MX 10 mail
@ 3600 TXT "v=spf1 mx -all"
_dmarc 3600 TXT "v=DMARC1; p=reject"
mail 3600 A 192.0.2.25
www 3600 CNAME skerryline.example.
tickets 600 A %[1]s
tickets 600 AAAA 2001:db8::7
islands 300 A %[1]s
`

// Knot is a Knot DNS server with the ferry line's zone.
type Knot struct {
	Server dns.Server
	Update dns.Updater
}

// Start starts one; web is the address of the old web server. handsOut has it hand the zone out to everybody.
func Start(t testing.TB, web string, handsOut bool) Knot {
	t.Helper()
	dir, err := os.MkdirTemp("", "alibi-dns-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	port := demotest.FreePort(33000)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "skerryline.example.zone"), fmt.Appendf(nil, zone, web), 0o644))
	out := ""
	if handsOut {
		out = "  - id: hand-out\n    address: 127.0.0.1\n    action: transfer\n"
	}
	conf := fmt.Sprintf(`server:
  rundir: "%[1]s"
  listen: 127.0.0.1@%[2]d
log:
  - target: "%[1]s/knot.log"
    any: info
database:
  storage: "%[1]s"
key:
  - id: alibi
    algorithm: hmac-sha256
    secret: %[3]s
acl:
  - id: change
    key: alibi
    action: update
%[4]szone:
  - domain: skerryline.example
    storage: "%[1]s"
    file: skerryline.example.zone
    acl: [change%[5]s]
`, dir, port, Secret, out, map[bool]string{true: ", hand-out"}[handsOut])
	require.NoError(t, os.WriteFile(filepath.Join(dir, "knot.conf"), []byte(conf), 0o600))
	cmd := exec.Command("knotd", "-c", filepath.Join(dir, "knot.conf"))
	require.NoError(t, cmd.Start(), "Knot DNS is missing: run script/real")
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	k := Knot{Server: dns.Server(fmt.Sprintf("127.0.0.1:%d", port))}
	k.Update = dns.Updater{Server: k.Server, Key: dns.Key{Name: "alibi", Secret: Secret}}
	require.Eventually(t, func() bool {
		r, err := k.Server.Set(t.Context(), Zone, "NS")
		return err == nil && len(r.Values) == 1
	}, 20*time.Second, 50*time.Millisecond, "the name server does not answer")
	return k
}
