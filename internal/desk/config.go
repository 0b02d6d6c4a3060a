package desk

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"alibi/internal/notify"
	"alibi/internal/scrub"
	"alibi/internal/site"
)

// Config is what people may set, in config.toml in Alibi's folder.
type Config struct {
	Machine   string     `toml:"machine" comment:"what this machine is called on the screens"`
	Hosts     string     `toml:"hosts" comment:"hosts file in which live names are pointed at copies; empty: the system's"`
	Gateway   Gateway    `toml:"gateway"`
	Lease     LeaseRules `toml:"lease"`
	Quota     site.Quota `toml:"quota" comment:"0: no bound; bytes is of all copies, hosts.NAME of those on one"`
	Runtime   Runtime    `toml:"runtime"`
	Depot     Depot      `toml:"depot"`
	Front     Front      `toml:"front"`
	Cost      CostRates  `toml:"cost"`
	Pins      Pins       `toml:"pins"`
	Scrub     Scrub      `toml:"scrub"`
	Catalogue Catalogue  `toml:"catalogue"`
	// Database is where copies on this machine get their databases.
	Database site.Server `toml:"database" comment:"the server on which copies on this machine get their databases"`
	Work     Work        `toml:"work"`
	Names    []Zone      `toml:"names" comment:"zones of the domain name system that Alibi may change"`
	// Panels are those of hosts.
	Panels []HostPanel `toml:"panels" comment:"panels of hosts in which the names of sites are attached"`
	// Authority issues certificates.
	Authority Authority `toml:"authority" comment:"who issues certificates for sites that are moved"`
	Secrets   Secrets   `toml:"secrets" comment:"where secrets are kept by name: 'secret:NAME' in the place of a file"`
	// Notices say who is told of moves and long runs.
	Notices notify.Settings `toml:"notices" comment:"who is told of moves, and of runs that take long"`
}

// Zone says how the records of a zone are changed.
type Zone struct {
	Zone      string   `toml:"zone" comment:"such as ferry.example"`
	Server    string   `toml:"server" comment:"HOST or HOST:PORT of the server that takes updates (RFC 2136)"`
	Key       string   `toml:"key" comment:"name of the key that signs them (TSIG); empty: they are entered by hand"`
	KeyFile   string   `toml:"key_file" comment:"file with its secret, in base64"`
	Algorithm string   `toml:"algorithm" comment:"empty: hmac-sha256"`
	Watch     []string `toml:"watch" comment:"resolvers that are asked what they say; empty: the one of this machine"`
}

// HostPanel says where the names of a host's sites are attached.
type HostPanel struct {
	Host      string `toml:"host" comment:"whose it is"`
	Address   string `toml:"address" comment:"such as https://panel.example/api"`
	TokenFile string `toml:"token_file" comment:"file with the token that lets Alibi in, or secret:NAME"`
}

// Authority says who issues certificates (ACME, RFC 8555).
type Authority struct {
	Directory string `toml:"directory" comment:"address of its directory; empty: none are ordered"`
	Mail      string `toml:"mail" comment:"whom it tells of certificates that end soon; empty: nobody"`
	KeyFile   string `toml:"key_file" comment:"of our account with it; empty: one in Alibi's folder, which is made"`
}

// Secrets say where secrets are kept by name.
type Secrets struct {
	Key string `toml:"key" comment:"file with an age key that they are encrypted for; empty: the system's keyring"`
}

// Work says how runs are carried out.
type Work struct {
	Patience string `toml:"patience" comment:"how long a run is tried again while a host is away, such as 10m; empty: 2m"`
}

// patience reads it; 0 is the usual.
func (w Work) patience() (time.Duration, error) {
	if w.Patience == "" {
		return 0, nil
	}
	d, err := time.ParseDuration(w.Patience)
	if err != nil || d < time.Second || d > 24*time.Hour {
		return 0, fmt.Errorf("work.patience: %q is no time from 1s to 24h, such as 10m", w.Patience)
	}
	return d, nil
}

// Front is what visitors of parked sites are told.
type Front struct {
	Contact string `toml:"contact" comment:"a mail or web address for visitors of parked sites"`
}

// Pins says which pin sheet is meant where none is named.
type Pins struct {
	Default string `toml:"default" comment:"the pin sheet that is meant where none is named"`
}

// Scrub says where sites have personal data, beside what Alibi knows.
type Scrub struct {
	Columns map[string]string `toml:"columns" comment:"further columns with personal data: TABLE.COLUMN = KIND"`
}

// personal reads the kinds.
func (c Config) personal() (map[string]scrub.Kind, error) {
	out := map[string]scrub.Kind{}
	for column, kind := range c.Scrub.Columns {
		if !slices.Contains(scrub.Kinds, scrub.Kind(kind)) || strings.Count(column, ".") != 1 {
			return nil, fmt.Errorf(
				"scrub.columns: %q = %q: write \"TABLE.COLUMN\" = a kind: name, mail, account, phone, street, city, "+
					"postcode, network address or blank",
				column,
				kind,
			)
		}
		out[column] = scrub.Kind(kind)
	}
	return out, nil
}

// Catalogue says where plugins, themes and cores are looked up.
type Catalogue struct {
	Address string `toml:"address" comment:"of a catalogue with the CMS's own interface; empty: the one that the CMS asks"`
}

// CostRates are what copies cost.
type CostRates struct {
	Currency string             `toml:"currency" comment:"such as EUR"`
	Hosts    map[string]float64 `toml:"hosts" comment:"what a copy costs an hour, by host"`
}

// Depot says where restore points are kept.
type Depot struct {
	Path        string `toml:"path" comment:"folder on another disk, or s3://HOST/BUCKET/FOLDER; empty: in Alibi's own"`
	Credentials string `toml:"credentials" comment:"file with the bucket's key, or set AWS_ACCESS_KEY_ID and the secret"`
	Key         string `toml:"key" comment:"file with an age key that the depot is encrypted for; keep a copy elsewhere"`
}

// Runtime says what copies run on.
type Runtime struct {
	AtOnce int      `toml:"at_once" comment:"variants of a trial that are tried at once; 0: 2"`
	PHP    []string `toml:"php" comment:"folders with further PHP versions: each holds a php and a php-fpm"`
	Sealed string   `toml:"sealed" comment:"'required': copies run behind the wall or not at all; 'preferred'"`
	Bounds string   `toml:"bounds" comment:"of new copies: 'memory=2G processes=64 disk=10G'; empty: the usual ones"`
}

// Gateway says where copies answer.
type Gateway struct {
	Port int `toml:"port" comment:"copies answer at http://NAME.localhost:PORT/"`
}

// LeaseRules are the lifetimes that copies get.
type LeaseRules struct {
	Default string `toml:"default" comment:"such as 6h, 3d, 2w"`
	Grace   string `toml:"grace" comment:"how long an expired copy can be brought back"`
}

func defaults() Config {
	name, err := os.Hostname()
	if err != nil || name == "" {
		name = "this-machine"
	}
	name, _, _ = strings.Cut(name, ".")
	return Config{Machine: name, Gateway: Gateway{Port: 7700}, Lease: LeaseRules{Default: "3d", Grace: "2d"}}
}

// LoadConfig reads the file, or writes one with the defaults if there is none.
func LoadConfig(home string) (Config, error) {
	c := defaults()
	path := filepath.Join(home, "config.toml")
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return c, SaveConfig(home, c)
	}
	if err != nil {
		return c, fmt.Errorf("reading the configuration: %w", err)
	}
	dec := toml.NewDecoder(bytes.NewReader(b)).DisallowUnknownFields()
	if err := dec.Decode(&c); err != nil {
		var at *toml.DecodeError
		var strict *toml.StrictMissingError
		switch {
		case errors.As(err, &strict) && len(strict.Errors) > 0:
			line, _ := strict.Errors[0].Position()
			return c, fmt.Errorf("%s, line %d: there is no setting %q", path, line,
				strings.Join(strict.Errors[0].Key(), "."))
		case errors.As(err, &at):
			line, _ := at.Position()
			return c, fmt.Errorf("%s, line %d: %s", path, line, at.Error())
		}
		return c, fmt.Errorf("%s: %w", path, err)
	}
	if _, _, err := c.leases(); err != nil {
		return c, fmt.Errorf("%s: %w", path, err)
	}
	if _, err := c.Work.patience(); err != nil {
		return c, fmt.Errorf("%s: %w", path, err)
	}
	if x := c.Runtime.Sealed; x != "" && x != "preferred" && x != "required" {
		return c, fmt.Errorf("%s: runtime.sealed is %q: write 'preferred' or 'required'", path, x)
	}
	if _, err := (site.Bounds{}).With(c.Runtime.Bounds); err != nil {
		return c, fmt.Errorf("%s: runtime.bounds: %w", path, err)
	}
	if c.Gateway.Port < 0 || c.Gateway.Port > 65535 {
		return c, fmt.Errorf("%s: gateway.port must be a number from 1 to 65535", path)
	}
	return c, nil
}

// SaveConfig writes the configuration into Alibi's folder.
func SaveConfig(home string, c Config) error {
	b, err := toml.Marshal(c)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(home, "config.toml"), b, 0o600); err != nil {
		return fmt.Errorf("writing the configuration: %w", err)
	}
	return nil
}

func (c Config) leases() (length, grace time.Duration, err error) {
	if length, err = site.ParseSpan(c.Lease.Default); err != nil {
		return 0, 0, fmt.Errorf("lease.default: %w", err)
	}
	if grace, err = site.ParseSpan(c.Lease.Grace); err != nil {
		return 0, 0, fmt.Errorf("lease.grace: %w", err)
	}
	return length, grace, nil
}
