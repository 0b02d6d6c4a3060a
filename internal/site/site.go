// Package site says what a site is: live or a copy, where it stands, what it
// runs, how long it is leased for, and the pure rules over these. It does no I/O.
package site

import (
	"crypto/rand"
	"encoding/hex"
	"strings"
	"time"
)

// ID identifies a site in the record. It never changes, whatever the site is called.
type ID string

// NewID draws an ID.
func NewID() ID {
	var b [5]byte
	_, _ = rand.Read(b[:]) // never fails since Go 1.24
	return ID(hex.EncodeToString(b[:]))
}

// Role says whether visitors depend on a site.
type Role string

const (
	Live Role = "live"
	Copy Role = "copy"
)

// State is where a site is in its life.
type State string

const (
	Making  State = "making"  // a run is building it; it does not answer yet
	Ready   State = "ready"   // it answers
	Parked  State = "parked"  // off the air behind a notice
	Expired State = "expired" // its lease is over; it can be brought back until the grace ends
	Failed  State = "failed"  // a run that made or changed it did not end well
	Gone    State = "gone"    // removed; the record is kept for the history
	Aside   State = "aside"   // no site of its own: the other place of a live site that is moved; no list has it
)

// Database says where a site keeps its tables. Secrets are never part of it.
type Database struct {
	Engine string `json:"engine"`         // "sqlite", "mysql" (MariaDB too), or "" for a site without one
	Path   string `json:"path,omitempty"` // sqlite: absolute path of the file on the site's host
	// mysql: as the site's configuration names it: "localhost", "db:3307", "localhost:/run/x.sock"
	Server string `json:"server,omitempty"`
	Name   string `json:"name,omitempty"`   // mysql: of the database on the server
	User   string `json:"user,omitempty"`   // mysql: the account that the site uses
	Prefix string `json:"prefix,omitempty"` // table prefix
	// As is the origin's prefix, for a copy whose tables stand in the origin's own
	// database, under Prefix.
	As string `json:"as,omitempty"`
}

// The engines of a site's database.
const (
	File   = "sqlite" // a file of the site's host
	Served = "mysql"  // of a server: MariaDB or MySQL
)

// InFile tells whether the tables are in a file of the site's host.
func (d Database) InFile() bool { return d.Engine == File }

// Served tells whether a server keeps the tables.
func (d Database) Served() bool { return d.Engine == Served }

// From is an origin's database as a copy with the database c sees it: if the
// copy's tables stand in it too, only what has the origin's prefix.
func (d Database) From(c Database) Database {
	d.As = ""
	if c.Beside() {
		d.As = d.Prefix
	}
	return d
}

// Twin is the name of the database into which a copy is refreshed, while the one in use stays as it is;
// the two take turns.
func (d Database) Twin() string {
	if first, second := strings.CutSuffix(d.Name, "_b"); second {
		return first
	}
	return d.Name + "_b"
}

// Beside tells whether a copy's tables stand beside its origin's.
func (d Database) Beside() bool { return d.As != "" }

// Text says where the tables are.
func (d Database) Text() string {
	switch d.Engine {
	case "":
		return "no database"
	case File:
		return d.Path
	}
	return d.Name + " on " + d.Server
}

// Server is a database server on which copies get their databases. The zero
// value is none.
type Server struct {
	Address      string `json:"address,omitempty" toml:"address" comment:"localhost:/SOCKET or HOST:PORT; empty: our own"`
	User         string `json:"user,omitempty" toml:"user" comment:"an account that may make databases and accounts"`
	PasswordFile string `json:"password_file,omitempty" toml:"password_file" comment:"file with its password; empty: none"`
}

// Limits are how much of a host may be used. The zero value of each is no bound
// but what Alibi keeps to anyway.
type Limits struct {
	Bandwidth int64   `json:"bandwidth,omitempty"` // bytes a second, each way
	Streams   int     `json:"streams,omitempty"`   // files or streams at once
	Load      float64 `json:"load,omitempty"`      // of the last minute; above it Alibi waits
	Compress  string  `json:"compress,omitempty"`  // "far", "always" or "never"; empty: far
}

// Site is one site: a document root, its database and its addresses on a host.
type Site struct {
	ID        ID        `json:"id"`
	Name      string    `json:"name"` // how lists call it; unique
	Role      Role      `json:"role"`
	State     State     `json:"state"`
	Client    string    `json:"client,omitempty"`
	Owner     string    `json:"owner,omitempty"` // who answers for it
	Host      string    `json:"host"`
	Root      string    `json:"root"`      // absolute path on the host
	Stack     string    `json:"stack"`     // "wordpress", "plain"
	Addresses []Address `json:"addresses"` // the first is the primary one
	Database  Database  `json:"database"`
	Keep      KeepRule  `json:"keep,omitzero"`   // of restore points that are taken on a schedule
	Title     string    `json:"title,omitempty"` // what the site calls itself
	Settings  Settings  `json:"settings,omitzero"`
	Web       []string  `json:"web,omitempty"`      // addresses of its web server, where they are known; else by its name
	Relay     string    `json:"relay,omitempty"`    // at which its folder answers, where a relay reaches its tables
	Behind    bool      `json:"behind,omitempty"`   // files of it are still to come, while it answers
	Scrubbed  bool      `json:"scrubbed,omitempty"` // its personal data are made up
	Origin    ID        `json:"origin,omitempty"`
	Purpose   string    `json:"purpose,omitempty"`
	MadeAt    time.Time `json:"made_at"`
	PlacedAt  time.Time `json:"placed_at,omitzero"` // when its files and tables were last put in place
	CheckedAt time.Time `json:"checked_at"`         // when it was last brought in line with its origin
	EndedAt   time.Time `json:"ended_at,omitzero"`  // when it went off the air for good, or for now
	Lease     Lease     `json:"lease"`
	Quiet     []Rule    `json:"quiet,omitempty"`
	Allow     []string  `json:"allow,omitempty"`  // HOST or HOST:PORT that a copy may reach, as it was made
	Passes    []Pass    `json:"passes,omitempty"` // what it was let reach since
	Runtime   Runtime   `json:"runtime,omitzero"`
	Pins      string    `json:"pins,omitempty"`  // the pin sheet that it was brought to
	Only      []Kind    `json:"only,omitempty"`  // kinds of content that were chosen; nil: all
	Empty     []string  `json:"empty,omitempty"` // tables of which no row was brought
	Apart     Apart     `json:"apart"`
	Proof     Proof     `json:"proof"`
	Facts     *Facts    `json:"facts,omitempty"`
	Worked    string    `json:"worked,omitempty"` // the run that had it for itself last
	Run       string    `json:"run,omitempty"`    // the run that is at work on it
	Pointed   *Pointed  `json:"pointed,omitempty"`
	Front     *Front    `json:"front,omitempty"` // what visitors see instead; nil: the site itself
}

// Pointed says that names of the live site lead to a copy, on this machine.
type Pointed struct {
	Names []string  `json:"names"`
	At    time.Time `json:"at"`
}

// Relayed is the finding of a plan that writes to the tables of a site, where that is done through a relay.
func (s Site) Relayed() (Finding, bool) {
	return Finding{Severity: Note, Code: "relay",
		Text: "its tables are written through a PHP file of ours, which is put into " + s.Root + " on " + s.Host +
			" for that time",
		Remedy: "alibi leftovers removes it, should a process die"}, s.Relay != ""
}

// Address is the primary address, or the zero value.
func (s Site) Address() Address {
	if len(s.Addresses) == 0 {
		return Address{}
	}
	return s.Addresses[0]
}

// Mark is the site's figure and colour, made from its name.
func (s Site) Mark() Mark { return MarkOf(s.Name) }

// Bytes is the site's size as last inspected: files and tables.
func (s Site) Bytes() int64 {
	if s.Facts == nil {
		return 0
	}
	return s.Facts.Bytes + s.Facts.TableBytes
}

// Runtime is what a copy's code runs on, and its bounds. The zero value leaves
// everything to what there is.
type Runtime struct {
	PHP     string `json:"php,omitempty"`     // series: "8.2"
	Memory  string `json:"memory,omitempty"`  // of one request: "256M"
	RunTime int    `json:"runtime,omitempty"` // of one request, seconds
	Upload  string `json:"upload,omitempty"`  // largest upload: "64M"
	Show    bool   `json:"show,omitempty"`    // show errors on pages
	// Extensions of PHP besides the usual ones ("+intl") and those that are not to be
	// there ("-gd"), with blanks between; "": the usual ones.
	Extensions string `json:"extensions,omitempty"`
	// Bounds of its programs where they are not the usual ones: see Bounds.With.
	Bounds string `json:"bounds,omitempty"`
}

// Settings are some of a copy's own that a pin sheet asks for.
type Settings struct {
	Debug   *bool  `json:"debug,omitempty"`   // nil: as the origin's
	Updates string `json:"updates,omitempty"` // by itself: "off", "core" or "all"; "": as the origin's
}

// Apart counts what changed since a copy was made: items (rows and files) on
// the origin's side and on the copy's own.
type Apart struct {
	Origin  int       `json:"origin"`
	Copy    int       `json:"copy"`
	At      time.Time `json:"at"`      // when it was counted; zero: never
	Clashes int       `json:"clashes"` // items changed on both sides
}

// Proof sums up the last evidence.
type Proof struct {
	Holds  bool      `json:"holds"`
	At     time.Time `json:"at"` // zero: never proven
	Checks int       `json:"checks"`
	Broken int       `json:"broken"`
	Held   []Rule    `json:"held,omitempty"` // quiet rules that were tried then, and held
	PHP    string    `json:"php,omitempty"`  // that its code ran on then
	Wall   string    `json:"wall,omitempty"` // Walled, or why its code was not kept in by the system; "": not tried
}

// Walled says that the system kept a copy's code in when that tried to get out.
const Walled = "holds"

// Open says why nothing but rules in PHP keeps a copy's code in; "" if something does, or it is not known.
func (p Proof) Open() string { return Either(p.Wall == Walled, "", p.Wall) }

// Rule is one thing that a copy must not do to the outside.
type Rule string

// The quiet rules.
const (
	QuietMail       Rule = "mail"       // sends none
	QuietTasks      Rule = "tasks"      // scheduled tasks don't run
	QuietStatistics Rule = "statistics" // reports no visits
	QuietRobots     Rule = "robots"     // asks not to be indexed
	QuietPayments   Rule = "payments"   // takes none
	QuietWebhooks   Rule = "webhooks"   // calls none
)

// QuietRules are all rules, in the order in which they are shown.
var QuietRules = []Rule{QuietMail, QuietTasks, QuietStatistics, QuietRobots, QuietPayments, QuietWebhooks}

// Explain says in one line what a rule does.
func (r Rule) Explain() string {
	return map[Rule]string{
		QuietMail:       "no mail leaves the copy",
		QuietTasks:      "scheduled tasks don't run",
		QuietStatistics: "visits are reported to nobody",
		QuietRobots:     "robots are asked to stay away",
		QuietPayments:   "no payment is taken",
		QuietWebhooks:   "no outside address is called",
	}[r]
}
