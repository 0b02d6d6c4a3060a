package nameserver

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
)

// Zone is that of the ferry line.
const Zone = "skerryline.example"

// Web are the addresses of the ferry line's web servers, by machine. They are of a range that leads nowhere (RFC 5737).
var Web = map[string]string{"pier": "192.0.2.10", "drydock": "192.0.2.20", "slipway": "192.0.2.30"}

// ferry is the zone: what is kept for 20 s may be changed soon, as it is in a demo.
const ferry = `@ 3600 SOA ns hostmaster 1 3600 600 86400 60
@ 3600 NS ns
ns 3600 A 192.0.2.53
@ 20 A %[1]s
www 3600 CNAME skerryline.example.
tickets 20 A %[1]s
crew 20 A %[2]s
islands 20 A %[2]s
status 20 A %[3]s
@ 3600 MX 10 mail
mail 3600 A 192.0.2.25
@ 3600 TXT "v=spf1 mx -all"
_dmarc 3600 TXT "v=DMARC1; p=reject"
`

// Ferry starts the ferry line's name server. The secret of the key "alibi" is written to a file in dir.
func Ferry(dir string) (s *Server, keyFile string, err error) {
	secret := base64.StdEncoding.EncodeToString([]byte("made up for the demo, and nothing else"))
	keyFile = filepath.Join(dir, "names-key")
	if err := os.WriteFile(keyFile, []byte(secret+"\n"), 0o600); err != nil {
		return nil, "", err
	}
	s, err = Start(Zone, fmt.Sprintf(ferry, Web["pier"], Web["drydock"], Web["slipway"]), "alibi", secret)
	return s, keyFile, err
}
