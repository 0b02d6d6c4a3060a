package plan

import (
	"fmt"
	"slices"
	"time"

	"alibi/internal/site"
)

// Move is a live site on its way to another place. It is saved until it is cleared up, and can be gone on with at any
// time, by anybody who has the record.
type Move struct {
	Name   string    `json:"name"`  // unique
	Site   site.ID   `json:"site"`  // what is moved
	Place  site.ID   `json:"place"` // the other place: where it is to stand, or where it stood
	From   Stand     `json:"from"`  // where it stood when the move began
	To     Stand     `json:"to"`    // where it is to stand
	Made   time.Time `json:"made"`
	By     string    `json:"by"`
	Moved  bool      `json:"moved"`  // it stands at To
	Own    bool      `json:"own"`    // To has a configuration of its own, which stays as it is
	Over   bool      `json:"over"`   // To had a site, which is written over; its restore point is taken first
	Server bool      `json:"server"` // the database at To and its account are made on the spot
	// PasswordFile is a file of this machine with the password of the account that owns the database at To, until the
	// configuration there says it.
	PasswordFile string `json:"password_file,omitempty"`

	// Collations are those that tables get at To in place of their own: chosen, or because the server there lacks these.
	Collations map[string]string `json:"collations,omitempty"`

	// Kept are values that name the former folder or address and could not be rewritten, by table; the first of each.
	Kept map[string][]string `json:"kept,omitempty"`

	Survey *Survey   `json:"survey,omitempty"`
	Passes []Carried `json:"passes,omitempty"`
	Check  *Check    `json:"check,omitempty"`
	// Certificate is the one that was issued for To.
	Certificate *Certificate  `json:"certificate,omitempty"`
	Names       *Names        `json:"names,omitempty"`
	Panel       *Panel        `json:"panel,omitempty"` // nil: neither host has one
	Switches    []Switched    `json:"switches,omitempty"`
	Watch       *Watch        `json:"watch,omitempty"`
	Cleared     time.Time     `json:"cleared,omitzero"`
	Sums        map[string]At `json:"sums,omitempty"`  // what each table added up to when both sides were the same last
	Quiet       Quiet         `json:"quiet,omitzero"`  // when they were written to last then
	Files       string        `json:"files,omitempty"` // a digest of the list of files at the old place, when it was left
}

// Stand is a place where a site stands.
type Stand struct {
	Host     string        `json:"host"`
	Root     string        `json:"root"`
	Database site.Database `json:"database"`
	// Web are the addresses (of the internet protocol) at which visitors reach its web server.
	Web []string `json:"web,omitempty"`
	// Address is where the site answers there; none: it keeps its own.
	Address site.Address `json:"address,omitzero"`
}

func (s Stand) String() string { return s.Root + " on " + s.Host }

// At is what a table adds up to on both sides.
type At struct {
	Site  Sum `json:"site"`  // where the site stood then
	Place Sum `json:"place"` // at the other place
}

// Quiet is when tables were written to last, as the servers of both sides say.
type Quiet struct {
	Site  map[string]string `json:"site,omitempty"`
	Place map[string]string `json:"place,omitempty"`
}

// Sum counts rows and adds up their digests.
type Sum struct {
	Rows int64  `json:"rows"`
	Sum  uint64 `json:"sum"`
}

// Survey is what the destination lacks of what will arrive.
type Survey struct {
	At       time.Time      `json:"at"`
	Findings []site.Finding `json:"findings"`
	Bytes    int64          `json:"bytes"` // that will arrive, of files and tables
	Files    int            `json:"files"`
	// PerFile is how long each file takes to be brought where a host gives or takes them one by one; none elsewhere.
	PerFile time.Duration `json:"per_file,omitempty"`
}

// OneByOne is how long bringing the files takes only since they come one by one, as the survey found.
func (m Move) OneByOne() time.Duration {
	if m.Survey == nil {
		return 0
	}
	return time.Duration(m.Survey.Files) * m.Survey.PerFile
}

// Blocked tells whether something must be put right first.
func (s Survey) Blocked() bool {
	return slices.ContainsFunc(s.Findings, func(f site.Finding) bool { return f.Severity == site.Block })
}

// Carried is one time that what differed was brought.
type Carried struct {
	Run  string        `json:"run"`
	At   time.Time     `json:"at"`
	Took time.Duration `json:"took"`
	// Rested is for how long of that it waited for visitors of the old host, which a switch does not.
	Rested time.Duration `json:"rested,omitempty"`
	Rows   int64         `json:"rows"` // that were compared or brought
	Files  int           `json:"files"`
	Bytes  int64         `json:"bytes"`
}

// Check is how the new place looks beside the old one.
type Check struct {
	At       time.Time      `json:"at"`
	Holds    bool           `json:"holds"`
	Pages    []PagePair     `json:"pages,omitempty"`
	Findings []site.Finding `json:"findings,omitempty"`
	Files    int            `json:"files"` // that were compared, byte by byte
	Rows     int64          `json:"rows"`
}

// Compared says what was compared.
func (c Check) Compared() string {
	text := site.Plural(int64(c.Files), "file", "files") + " and " + site.Plural(c.Rows, "row", "rows")
	if n := len(c.Pages); n > 0 {
		return site.Plural(int64(n), "page", "pages") + ", " + text
	}
	return text
}

// PagePair is how both places answer for one page.
type PagePair struct {
	Path string `json:"path"`
	Old  int    `json:"old"` // status of HTTP; 0: no answer
	New  int    `json:"new"`
}

// Certificate is one for the names of a site, at its new place. Its files are called as the first of the names.
type Certificate struct {
	Dir    string    `json:"dir"`              // where it and its key are, absolute
	Reload string    `json:"reload,omitempty"` // the command by which the web server takes it; "": a person does that
	By     string    `json:"by"`               // how the names are shown to be ours: "dns-01" or "http-01"
	Zone   string    `json:"zone,omitempty"`   // of the names
	Names  []string  `json:"names"`
	At     time.Time `json:"at,omitzero"`
	Until  time.Time `json:"until,omitzero"`   // it holds until then
	Unseen []string  `json:"unseen,omitempty"` // where it was not seen in use
}

// Switched is one time that the site changed its place.
type Switched struct {
	Run  string        `json:"run"`
	At   time.Time     `json:"at"`
	Back bool          `json:"back"`
	Held time.Duration `json:"held"` // for so long nobody could write to it
}

// Watch is what resolvers say.
type Watch struct {
	At      time.Time `json:"at"`
	Done    bool      `json:"done"` // nobody is led to the old place any more
	Answers []Answer  `json:"answers"`
	Written []string  `json:"written,omitempty"` // tables that were written to at the old place since
	Around  []string  `json:"around,omitempty"`  // what else of the zone is not what it was
}

// Answer is what one server says of one name.
type Answer struct {
	Server string        `json:"server"`
	Name   string        `json:"name"`
	Says   string        `json:"says"`
	New    bool          `json:"new"`
	Keeps  time.Duration `json:"keeps,omitempty"` // how long it will say so still
}

// Legs of a route, in order.
const (
	LegSurvey = "survey"
	LegCarry  = "carry"
	LegCheck  = "check"
	LegNames  = "names"
	LegSwitch = "switch"
	LegBack   = "back" // the same, the other way
	LegWatch  = "watch"
	LegClear  = "clear"
)

// ActCertificate is no gate, and may be done at any time: a certificate is issued for the new place.
const ActCertificate = "certificate"

// LegState is how it is with a gate of a route.
type LegState string

// The states.
const (
	Passed LegState = "passed"
	Open   LegState = "open" // it can be gone through now
	Shut   LegState = "shut"
)

// Leg is a gate of a route.
type Leg struct {
	Name  string   `json:"name"`
	Title string   `json:"title"`
	State LegState `json:"state"`
	Why   string   `json:"why"`
}

// Legs are the gates of the route, each with its state and the reason.
func (m Move) Legs(now time.Time) []Leg {
	all := []Leg{
		m.survey(), m.carry(), m.check(), m.names(now), m.switching(now), m.watching(), m.clearing(),
	}
	first := ""
	for i := range all {
		if all[i].State == Open && first != "" {
			all[i].State = Shut
			if all[i].Why == "" {
				all[i].Why = "first: " + first
			}
		}
		if all[i].State != Passed && first == "" {
			first = all[i].Name
		}
	}
	return all
}

// Next is the first gate that was not passed; "" where all were.
func (m Move) Next(now time.Time) (Leg, bool) {
	for _, l := range m.Legs(now) {
		if l.State != Passed {
			return l, true
		}
	}
	return Leg{}, false
}

func (m Move) survey() Leg {
	l := Leg{Name: LegSurvey, Title: "see what the new place lacks", State: Open}
	if m.Survey == nil {
		return l
	}
	block, warn := 0, 0
	for _, f := range m.Survey.Findings {
		switch f.Severity {
		case site.Block:
			block++
		case site.Warn:
			warn++
		}
	}
	if block > 0 {
		l.Why = site.Plural(int64(block), "obstacle", "obstacles")
		return l
	}
	l.State, l.Why = Passed, "nothing is in the way"
	if warn > 0 {
		l.Why = "nothing is in the way, " + site.Plural(int64(warn), "warning", "warnings")
	}
	return l
}

func (m Move) carry() Leg {
	l := Leg{Name: LegCarry, Title: "bring it, while the old one goes on", State: Open}
	if n := len(m.Passes); n > 0 {
		last := m.Passes[n-1]
		l.State = Passed
		l.Why = fmt.Sprintf("%s, the last took %s: %s, %s of files", site.Plural(int64(n), "pass", "passes"),
			site.Seconds(last.Took), site.Plural(last.Rows, "row", "rows"), site.Size(last.Bytes))
	}
	return l
}

func (m Move) check() Leg {
	l := Leg{Name: LegCheck, Title: "compare it with the old one", State: Open}
	switch {
	case m.Check == nil:
	case m.Check.Holds:
		l.State = Passed
		l.Why = m.Check.Compared() + " are as they are there"
	default:
		l.Why = "it does not hold"
		for _, f := range m.Check.Findings {
			if f.Severity == site.Block {
				l.Why += ": " + f.Text
				break
			}
		}
	}
	return l
}

func (m Move) names(now time.Time) Leg {
	l := Leg{Name: LegNames, Title: "shorten how long its names are kept", State: Open}
	switch n := m.Names; {
	case n == nil || len(n.Old) == 0:
		l.State, l.Why = Passed, "no name has to be changed"
	case n.Lowered.IsZero():
		l.Why = fmt.Sprintf("others keep its addresses for up to %s", site.Seconds(n.Longest()))
	case now.Before(n.Until):
		l.State = Shut
		l.Why = "it opens in " + site.Seconds(n.Until.Sub(now)) + ": until then others keep former answers"
	default:
		l.State, l.Why = Passed, "nobody keeps them for more than "+site.Seconds(n.Short)
	}
	return m.attach(l)
}

func (m Move) switching(now time.Time) Leg {
	l := Leg{Name: LegSwitch, Title: "switch over", State: Open}
	n := len(m.Switches)
	if n == 0 {
		if len(m.Passes) > 0 {
			l.Why = "nobody can write for about " + site.Seconds(m.WillHold())
		}
		return l
	}
	last := m.Switches[n-1]
	if m.Moved {
		l.State = Passed
		l.Why = fmt.Sprintf("it stands on %s since %s; nobody could write for %s", m.To.Host,
			last.At.Local().Format("15:04 on 2 Jan"), site.Seconds(last.Held))
		return l
	}
	l.Why = fmt.Sprintf("it went back to %s at %s", m.From.Host, last.At.Local().Format("15:04 on 2 Jan"))
	return l
}

// WillHold is for about how long nobody will be able to write: what the last pass took, without what it rested, and a
// little.
func (m Move) WillHold() time.Duration {
	if len(m.Passes) == 0 {
		return 0
	}
	last := m.Passes[len(m.Passes)-1]
	return max(last.Took-last.Rested, 0) + 2*time.Second
}

func (m Move) watching() Leg {
	l := Leg{Name: LegWatch, Title: "wait until nobody asks the old one", State: Open}
	if m.Watch == nil {
		return l
	}
	old := 0
	for _, a := range m.Watch.Answers {
		if !a.New {
			old++
		}
	}
	switch {
	case old > 0:
		l.Why = site.Plural(int64(old), "answer leads", "answers lead") + " to the old place still"
	case !m.Watch.Done:
		l.Why = "the lifetime of former answers is not over yet"
	case len(m.Watch.Answers) == 0:
		l.State, l.Why = Passed, "no record is known to this move: see yourself that visitors are led to the new place"
	default:
		l.State, l.Why = Passed, "every server that was asked leads to the new place"
	}
	if len(m.Watch.Written) > 0 {
		l.Why += "; something was written at the old place since, which a restore point keeps: " + m.Watch.Written[0]
	}
	if len(m.Watch.Around) > 0 {
		l.Why += "; something else of the zone was changed: " + m.Watch.Around[0]
	}
	return l
}

func (m Move) clearing() Leg {
	l := Leg{Name: LegClear, Title: "clear the old place up", State: Open}
	if !m.Cleared.IsZero() {
		l.State, l.Why = Passed, "nothing is left there since "+m.Cleared.Local().Format("15:04 on 2 Jan")
	}
	return l
}

// WayBack says what going back would do now.
func (m Move) WayBack() string {
	switch {
	case !m.Cleared.IsZero():
		return "there is none any more: the old place is empty"
	case m.Moved:
		return "names back to " + m.From.Host + ", with all that was written on " + m.To.Host + " since"
	case !m.Left():
		return "nothing was brought yet: forget the move"
	}
	return "visitors are on " + m.From.Host + " still: clear removes what was brought, and forget ends the move"
}

// Left tells whether anything of the move is where the site does not stand.
func (m Move) Left() bool {
	return m.Cleared.IsZero() && (len(m.Passes) > 0 || m.Panel != nil && len(m.Panel.Ours) > 0)
}

// Here is where the site stands now, and There the other place.
func (m Move) Here() Stand { return site.Either(m.Moved, m.To, m.From) }

// Web gives the addresses at which visitors reach the web server of one of its places.
func (m Move) Web(host, root string) (out []string) {
	is := func(s Stand) bool { return s.Host == host && s.Root == root }
	if is(m.To) {
		out = append(out, m.To.Web...)
	}
	if is(m.From) {
		out = append(out, m.Names.Leads()...)
	}
	return out
}

// There is the other place.
func (m Move) There() Stand { return site.Either(m.Moved, m.From, m.To) }

// Findings are what the last look at the places brought, until the site stands at the new one.
func (m Move) Findings() []site.Finding {
	switch {
	case m.Moved:
		return nil
	case m.Check != nil:
		return m.Check.Findings
	case m.Survey != nil:
		return m.Survey.Findings
	}
	return nil
}
