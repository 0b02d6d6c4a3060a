// Package clone makes a copy of a site, and brings an existing copy in line
// with its origin again (refresh). Both build the copy beside its place and
// move it there in one step, so that nothing unfinished ever looks whole.
package clone

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tree"
)

// Choices are what a person decides about a copy. The zero value of each is
// filled in by Defaults.
type Choices struct {
	Name     string        `json:"name"`
	Purpose  string        `json:"purpose"`
	Host     string        `json:"host"`
	Lease    time.Duration `json:"lease"` // 0: held
	Hold     string        `json:"hold,omitempty"`
	Skip     []string      `json:"skip,omitempty"`   // folders to leave out
	Spare    bool          `json:"spare"`            // bring caches, logs and archives too
	Larger   int64         `json:"larger,omitempty"` // leave out files of more bytes
	Quiet    []site.Rule   `json:"quiet"`
	Title    bool          `json:"title"`           // say in the title that it is a copy
	Allow    []string      `json:"allow,omitempty"` // HOST or HOST:PORT outside that its code may reach
	Runtime  site.Runtime  `json:"runtime,omitzero"`
	Settings site.Settings `json:"settings,omitzero"`
	Only     []site.Kind   `json:"only,omitempty"`  // kinds of content to bring; nil: all
	Empty    []string      `json:"empty,omitempty"` // tables to bring without rows
	Keep     bool          `json:"keep,omitempty"`  // take a restore point of a new copy, to come back to
	// personal data are made up: "on", "off", "": where the copy leaves this machine and the
	// origin's
	Scrub  string `json:"scrub,omitempty"`
	Pins   string `json:"pins,omitempty"`   // the pin sheet that the finished copy is brought to
	Fresh  bool   `json:"fresh,omitempty"`  // read everything, whatever sizes and times say
	Media  string `json:"media,omitempty"`  // MediaFirst, MediaBehind; "": by how much they are
	Beside bool   `json:"beside,omitempty"` // put the tables into the origin's own database, under another prefix
}

// DefaultLease is how long a copy lives if nobody says otherwise.
const DefaultLease = 3 * 24 * time.Hour

// Defaults are the choices that give the usual copy.
func Defaults(origin site.Site, purpose, local string, taken func(string) bool) Choices {
	return Choices{
		Name:    site.DeriveName(origin, purpose, taken),
		Purpose: purpose,
		Host:    local,
		Lease:   DefaultLease,
		Quiet:   site.QuietRules,
		Title:   true,
	}
}

// Input is what a plan is made of; making it does no I/O.
type Input struct {
	Origin  site.Site   // with facts
	Over    *site.Site  // the copy to be brought in line; nil: a new one
	Lost    *site.Apart // what has changed on either side of the copy and its origin
	Made    *Choices    // by which the copy was made
	Choices Choices
	Taken   func(name string) bool
	Quota   site.Quota
	Use     site.Use
	Places  map[string]Place // where copies may be made, by host
	Local   string
	Media   string            // the origin's folder of media; "": not known
	Pins    map[string]Pinned // the stored pin sheets
	Port    string
	Grace   time.Duration
	Past    []plan.Run
	Now     time.Time
	By      string
}

// Place is a host on which copies may be made.
type Place struct {
	Folder   string   // of the copies there; "": none may be made
	Free     int64    // on its disk, bytes; 0: unknown
	Server   string   // of databases, as a copy's configuration names it; "": none
	NoServer string   // why there is none
	PHP      []string // the series that are there, newest first
	Unsealed string   // why the code of copies can't be kept in by the system; "": it can
	Closed   bool     // then it does not run at all
}

// detail is the part of a plan that only this package reads.
type detail struct {
	Choices Choices     `json:"choices"`
	Filter  tree.Filter `json:"filter"`
	Lease   site.Lease  `json:"lease"`
	Same    bool        `json:"same,omitempty"`  // nothing had changed on either side
	Media   string      `json:"media,omitempty"` // the folder of media that come behind
}

// Plan says what copying with these choices will do.
func Plan(in Input) plan.Plan {
	f := in.Origin.Facts
	p := plan.Plan{Kind: plan.Copy, At: in.Now, Origin: in.Origin}
	if in.Over != nil {
		p.Kind = plan.Refresh
	}
	note := func(sev site.Severity, code, text, remedy string) {
		p.Findings = append(p.Findings, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
	}
	var last plan.Plan // with the steps that a pin sheet adds
	in.Choices = withPins(in, &last, note)
	p.Target = target(in, note)
	d := detail{Choices: in.Choices, Filter: stack.DatabaseFilter(in.Origin.Root, f.Database), Lease: p.Target.Lease}
	measure(&p, &d, in)
	read := p.Rows // all are read, to tell later what the origin changed
	contents(&p, in, note)
	p.Findings = append(p.Findings, relevant(f.Findings, in.Choices)...)
	relayed(in, note)
	for _, r := range op.Pairs(f.Addresses, p.Target.Address()) {
		p.Rewrites = append(p.Rewrites, plan.Rewrite{From: r.From.String(), To: r.To.String()})
	}
	p.Rewrites = append(p.Rewrites, plan.Rewrite{From: in.Origin.Root, To: p.Target.Root})
	p.Steps = []plan.Step{
		{Name: "reserve", Title: "make room"},
		{Name: "files", Title: "bring the files", Work: p.Bytes, Unit: plan.Bytes},
		{Name: "tables", Title: "bring the tables", Work: read, Unit: plan.Rows},
		{Name: "configure", Title: "set it up as a copy"},
		{Name: "place", Title: "put it in its place"},
		{Name: "evidence", Title: "prove it", Work: read, Unit: plan.Rows},
		{Name: "open", Title: "open it"},
		{Name: "settle", Title: "take stock of it"},
	}
	if answersFirst(p, in.Places[p.Target.Host]) {
		p.Steps[5], p.Steps[6] = p.Steps[6], p.Steps[5]
	}
	if behind := planMedia(&p, in, note); p.Target.Behind {
		d.Media = in.Media
		p.Steps[1].Work = max(0, p.Bytes-behind)
		p.Steps = slices.Insert(p.Steps, 6, plan.Step{Name: "media", Title: "bring the media", Work: behind,
			Unit: plan.Bytes})
	}
	if !p.Target.Database.Beside() { // what drifts of others can't be told
		p.Steps = append(p.Steps, plan.Step{Name: "values", Title: "keep how it was", Work: read,
			Unit: plan.Rows})
	}
	if c := in.Choices; c.Keep && p.Kind == plan.Copy {
		p.Steps = append(p.Steps, plan.Step{Name: "made", Title: "take a restore point", Work: p.Bytes + p.Data,
			Unit: plan.Bytes})
	}
	p.Steps = append(p.Steps, last.Steps...)
	if d.Same = unchanged(in, p.Target); d.Same {
		note(site.Note, "same", "nothing has changed on either side: there is nothing to bring",
			"to have everything read and brought all the same: alibi refresh --fresh")
	}
	if keepsFirst(p) && !d.Same {
		p.Steps = slices.Insert(p.Steps, 1, plan.Step{Name: "keep", Title: "take a restore point",
			Work: in.Over.Bytes(), Unit: plan.Bytes})
		note(site.Note, "kept", "the copy is held: a restore point of it is taken first",
			"alibi points copy gives you the copy as it was")
	}
	p.Writes = writes(in, p)
	p.Estimate = estimate(p, in.Past, d.Same)
	limits(&p, in, note)
	if d.Same {
		p.Files, p.Bytes, p.Rows, p.Tables, p.Data = 0, 0, 0, 0, 0
		p.Writes = []string{"nothing, unless something changes before it is carried out"}
	}
	p.SetDetail(d)
	p.Origin.Facts = &site.Facts{
		Addresses: f.Addresses,
		Prefix:    f.Prefix,
		Database:  f.Database,
		Stack:     f.Stack,
		PHP:       f.PHP,
		Core:      f.Core,
		Title:     f.Title,
		Outward:   f.Outward,
		Network:   f.Network,
	}
	if in.Over != nil && in.Lost != nil {
		p.Loses = in.Lost.Copy
	}
	p.Confirm = p.BesideConsent(p.Target)
	if in.Over != nil {
		p.Confirm = p.OverConsent(*in.Over)
	}
	p.Sort()
	return p
}

// answersFirst tells whether a copy answers before it is compared: a new one does, unless people were made up on it,
// or its code could do harm, for nothing but rules in PHP keeps it in or it has the account of the live tables. What is
// brought in line can be given back until it is proven.
func answersFirst(p plan.Plan, on Place) bool {
	db := p.Target.Database
	return p.Kind == plan.Copy && !p.Target.Scrubbed && !db.Beside() && (on.Unsealed == "" || !db.Served())
}

// unsealed says that the copy's code will run without a wall, or not at all.
func unsealed(pl Place, note func(site.Severity, string, string, string)) {
	text := "nothing but rules in PHP will keep the copy's code in: " + pl.Unsealed
	if pl.Closed {
		note(site.Block, "unsealed", "its code would not run: "+pl.Unsealed+", and [runtime] sealed is 'required'",
			"make the copy where there is a wall (docs/isolation.md), or set sealed to 'preferred'")
		return
	}
	note(site.Warn, "unsealed", text, "install bubblewrap; what it could reach without stands in docs/isolation.md")
}

func target(in Input, note func(site.Severity, string, string, string)) site.Site {
	f, c := in.Origin.Facts, in.Choices
	t := site.Site{ID: site.NewID(), MadeAt: in.Now}
	if in.Over != nil {
		t = *in.Over
		t.Facts = nil
		c.Name = t.Name
	} else if err := site.CheckName(c.Name, in.Taken); err != nil {
		note(site.Block, "name", err.Error(), "choose another name")
	}
	if in.Over == nil {
		t.Host = c.Host
		if t.Host == "" {
			t.Host = in.Local
		}
	}
	pl, known := in.Places[t.Host]
	switch {
	case !known:
		note(site.Block, "host", "no host is called "+t.Host, "add it first: alibi host add "+t.Host+" ADDRESS")
	case t.Host != in.Local && !f.Database.Served():
		note(site.Block, "host", "a copy of "+in.Origin.Name+
			" can be made on this machine only: its pages are drawn from its files",
			"leave the host out, or name "+in.Local)
	case pl.Folder == "":
		note(site.Block, "host", "no folder for copies is set on "+t.Host,
			"name one: alibi host set "+t.Host+" --copies /srv/copies")
	}
	t.Name, t.Role, t.State = c.Name, site.Copy, site.Ready
	t.Stack, t.Origin = in.Origin.Stack, in.Origin.ID
	t.Client, t.Owner, t.Purpose = in.Origin.Client, in.By, c.Purpose
	t.Root = path.Join(pl.Folder, c.Name, "now", "site")
	t.Addresses = []site.Address{{Scheme: "http", Host: c.Name + ".localhost", Port: in.Port}}
	t.Quiet, t.Allow, t.CheckedAt = c.Quiet, c.Allow, in.Now
	t.Only, t.Empty = c.Only, c.Empty
	t.Scrubbed = scrubs(in, t, note)
	t.Runtime, t.Settings = runtime(in, t, pl, note), in.Choices.Settings
	t.Title = f.Title
	if c.Title && f.Title != "" {
		t.Title = stack.TitleMark + strings.TrimPrefix(f.Title, stack.TitleMark)
	}
	t.Database = database(in, t, pl, note)
	if t.Database.Served() && pl.Unsealed != "" {
		unsealed(pl, note)
	}
	if in.Over == nil {
		var err error
		if t.Lease, err = site.BeginOrHold(in.Now, c.Lease, in.Grace, c.Hold, in.By); err != nil {
			note(site.Block, "hold", err.Error(), "say why it is to be kept, or give it a lifetime")
		}
	}
	if !c.Title && f.Title != "" {
		note(site.Warn, "title", fmt.Sprintf("the copy will call itself %q, as the live site does", f.Title),
			"let the title say that it is a copy")
	}
	for _, r := range site.QuietRules {
		if !slices.Contains(c.Quiet, r) {
			note(site.Warn, "quiet-"+string(r), "the quiet rule for "+string(r)+" is off: it is not promised that "+
				r.Explain(), "switch it on unless this is what you are testing")
		}
	}
	return t
}

// runtime is what the copy's code will run on: the origin's PHP if it is there.
func runtime(in Input, t site.Site, pl Place, note func(site.Severity, string, string, string)) site.Runtime {
	r := in.Choices.Runtime
	f := in.Origin.Facts
	if !f.Database.Served() {
		return r
	}
	want := r.PHP
	if want == "" {
		want = php.Series(f.PHP)
	}
	switch {
	case t.Host != in.Local: // its versions are asked for when it is started there
		r.PHP = want
	case len(pl.PHP) == 0:
		note(site.Warn, "php", "there is no PHP on "+in.Local+": the copy will be whole, and its pages can't be shown",
			"install php-fpm and nginx, or php-cli")
		return r
	case want == "":
		r.PHP = pl.PHP[0]
		note(site.Note, "php", "the origin's PHP is not known; the copy will run "+r.PHP,
			"choose another one with --php: "+strings.Join(pl.PHP, ", "))
	case slices.Contains(pl.PHP, want):
		r.PHP = want
	case in.Choices.Runtime.PHP != "":
		note(site.Block, "php", "PHP "+want+" is not on "+in.Local, "choose one that is: "+strings.Join(pl.PHP, ", "))
	default:
		near, _ := php.Choose(versions(pl.PHP), f.PHP)
		r.PHP = near.Version
		note(site.Warn, "php", fmt.Sprintf("the origin runs PHP %s, which is not here; the copy will run %s", f.PHP,
			r.PHP), "install it, or read what fails on the copy with this in mind")
	}
	if want != "" && r.PHP != "" && f.PHP != "" && r.PHP != php.Series(f.PHP) && in.Choices.Runtime.PHP != "" {
		note(site.Note, "php", fmt.Sprintf("the origin runs PHP %s, the copy will run %s", f.PHP, r.PHP),
			"leave the version out to run the origin's")
	}
	return r
}

func versions(series []string) (out []php.PHP) {
	for _, s := range series {
		out = append(out, php.PHP{Version: s})
	}
	return
}

// database is where the copy's tables will be.
func database(in Input, t site.Site, pl Place, note func(site.Severity, string, string, string)) site.Database {
	f := in.Origin.Facts
	db := f.Database
	switch {
	case db.InFile():
		if rel, ok := stack.Inside(in.Origin.Root, db.Path); ok {
			db.Path = path.Join(t.Root, rel)
		} else {
			db.Path = path.Join(path.Dir(t.Root), "data", path.Base(db.Path))
		}
	case db.Served():
		if in.Choices.Beside {
			return beside(in, t, note)
		}
		if pl.Server == "" {
			note(
				site.Block,
				"server",
				"there is no database server for copies on "+t.Host+": "+pl.NoServer,
				"install MariaDB there, or name a server: alibi host set "+t.Host+
					" --database localhost --database-user NAME; or put the tables beside the origin's, where the "+
					"copy is made on its host: --beside",
			)
		}
		db.Server, db.User = pl.Server, op.DatabaseName(t)
		db.Name = db.User
		if in.Over != nil {
			db.User = in.Over.Database.User
			db.Name = in.Over.Database.Twin()
		}
	}
	return db
}

// relayed says what reading an origin's tables through a relay means.
func relayed(in Input, note func(site.Severity, string, string, string)) {
	if in.Origin.Relay == "" {
		return
	}
	note(site.Note, "relay", "its tables are read through a PHP file of ours, which is put into "+in.Origin.Root+" on "+
		in.Origin.Host+" for that time", "alibi leftovers removes it, should a process die")
	note(site.Note, "moments", "no two of its tables are read at one moment: those that somebody writes to meanwhile are "+
		"read again, and named", "make the copy when few are there")
	if strings.HasPrefix(in.Origin.Relay, "http://") {
		note(site.Warn, "plain", "what is read through "+in.Origin.Relay+" is not encrypted on its way, and its rows can be "+
			"read there", "give the relay an address with https")
	}
}

// beside puts the copy's tables into the origin's own database, under a prefix
// of their own.
func beside(in Input, t site.Site, note func(site.Severity, string, string, string)) site.Database {
	db := in.Origin.Facts.Database
	if t.Host != in.Origin.Host {
		note(site.Block, "beside", "the copy is to be made on "+t.Host+", and the origin's database is on "+
			in.Origin.Host, "make it on "+in.Origin.Host+", or give it a database of its own")
	}
	if f, by := in.Origin.Relayed(); by {
		note(f.Severity, f.Code, f.Text, f.Remedy)
	}
	db.As = in.Origin.Facts.Prefix
	db.Prefix = op.DatabaseName(t) + "_"
	if in.Over != nil && in.Over.Database.Prefix == db.Prefix {
		db.Prefix = op.DatabaseName(t) + "b_"
	}
	note(site.Warn, "beside", "the copy's tables stand in the live site's own database, and its code has the account "+
		"that can write to both", "give it a database of its own where one can be made")
	return db
}

// ChoicesOf reads from a plan of this package what it leaves out, and the
// choices that it was made from.
func ChoicesOf(p plan.Plan) (tree.Filter, Choices, error) {
	d, err := plan.DetailOf[detail](p)
	return d.Filter, d.Choices, err
}
