// Package plan holds plans and runs as data: what an operation will do, before
// it does anything, and what became of it. Nothing here does any work.
package plan

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"alibi/internal/site"
)

// Kind is an operation.
type Kind string

// The operations.
const (
	Copy     Kind = "copy"
	Refresh  Kind = "refresh"
	Prove    Kind = "evidence"
	Remove   Kind = "remove"
	Keep     Kind = "keep"     // a restore point
	Rehearse Kind = "rehearse" // a restore point, by making a copy of it
	Restore  Kind = "restore"  // a site, to a restore point
	Reset    Kind = "reset"    // a site, to a clean state
	Change   Kind = "change"   // of what a site runs
	Trial    Kind = "trial"    // of a copy under several versions
	Blank    Kind = "blank"    // a site that is a copy of nothing
	Archive  Kind = "archive"  // a site, into a file
	Import   Kind = "import"   // of an archive
	Sync     Kind = "sync"     // changes, from one side of a pair to the other
	Pass     Kind = "carry"    // a site to its other place, while it goes on where it is
	Compare  Kind = "compare"  // the two places of a site that is moved
	Switch   Kind = "switch"   // a site over to its other place
	Clear    Kind = "clear"    // the place where a site stood
	Certify  Kind = "certify"  // the names of a site, at its other place
)

// Brings tells whether a copy is there when the operation is done.
func (k Kind) Brings() bool { return k == Copy || k == Refresh }

// Moves tells whether it is a part of moving a live site to another place.
func (k Kind) Moves() bool {
	return k == Pass || k == Compare || k == Switch || k == Clear || k == Certify
}

// Title is what people call the operation.
func (k Kind) Title() string {
	switch k {
	case Keep:
		return "restore point"
	case Rehearse:
		return "rehearsal"
	case Restore:
		return "restoring"
	case Pass:
		return "carrying"
	case Compare:
		return "comparing"
	case Switch:
		return "switching over"
	case Clear:
		return "clearing up"
	case Certify:
		return "ordering a certificate"
	}
	return string(k)
}

// Plan is what an operation will do. It is shown, saved, printed as JSON and
// carried out from its JSON form.
type Plan struct {
	Kind    Kind            `json:"kind"`
	Version int             `json:"version,omitempty"` // of the operation's steps and choices
	At      time.Time       `json:"at"`
	Origin  site.Site       `json:"origin"` // as it was inspected; without its facts' details
	Target  site.Site       `json:"target"` // what will be there afterwards
	Detail  json.RawMessage `json:"detail"` // the operation's own choices
	Steps   []Step          `json:"steps"`
	Rows    int64           `json:"rows"`
	Tables  int             `json:"tables"`
	Files   int             `json:"files"`
	Bytes   int64           `json:"bytes"` // of files
	Data    int64           `json:"data"`  // bytes of tables
	// rows, data and time are bounds: what is left out is seen on the way
	AtMost  bool      `json:"at_most,omitempty"`
	LeftOut []LeftOut `json:"left_out,omitempty"`
	Goes    []Part    `json:"goes,omitempty"`  // what is there now and will not be
	Stays   []Part    `json:"stays,omitempty"` // what is not touched
	Words   string    `json:"words,omitempty"` // for people: to what the site is brought
	By      string    `json:"by,omitempty"`
	// what a person has to type before it may be carried out: see Consent
	Confirm  string         `json:"confirm,omitempty"`
	Loses    int            `json:"loses,omitempty"` // changes on the target that are nowhere else
	Ends     bool           `json:"ends,omitempty"`  // of a removal: its time is over, and nobody is asked
	After    string         `json:"after,omitempty"` // the run that hands its site on to this one
	Reads    []site.ID      `json:"reads,omitempty"` // further sites that are read
	Rewrites []Rewrite      `json:"rewrites,omitempty"`
	Writes   []string       `json:"writes"` // each place that will be written to, in words
	Estimate Estimate       `json:"estimate"`
	FreeThen int64          `json:"free_then"` // room on the destination's disk afterwards
	Findings []site.Finding `json:"findings,omitempty"`
}

// Nothing is the code of a finding that says that nothing need be done.
const Nothing = "nothing"

// Idle tells whether nothing keeps the plan from being carried out but that nothing need be done.
func (p Plan) Idle() bool {
	idle := false
	for _, f := range p.Findings {
		if f.Severity == site.Block && f.Code != Nothing {
			return false
		}
		idle = idle || f.Severity == site.Block
	}
	return idle
}

// Blocked tells whether an obstacle keeps the plan from being carried out.
func (p Plan) Blocked() bool {
	return slices.ContainsFunc(p.Findings, func(f site.Finding) bool { return f.Severity == site.Block })
}

// Sort puts the worst findings first.
func (p *Plan) Sort() {
	slices.SortStableFunc(p.Findings, func(a, b site.Finding) int { return int(b.Severity) - int(a.Severity) })
}

// Step is one step of a plan, with the size of its work.
type Step struct {
	Name  string `json:"name"`  // stable, e.g. "files"
	Title string `json:"title"` // in words
	Work  int64  `json:"work"`  // units to do; 0 where it can't be told
	Unit  Unit   `json:"unit,omitempty"`
}

// Unit is what a step counts in.
type Unit string

const (
	Bytes  Unit = "bytes"
	Rows   Unit = "rows"
	Checks Unit = "checks"
)

// LeftOut is a part of the origin that a copy does without.
type LeftOut struct {
	What  string `json:"what"`
	Why   string `json:"why"`
	Files int    `json:"files"`
	Bytes int64  `json:"bytes"`
}

// Amount is the size, where it is known.
func (l LeftOut) Amount() string {
	if l.Bytes == 0 {
		return ""
	}
	return site.Size(l.Bytes)
}

// Part is a part of a site, with what it amounts to.
type Part struct {
	What  string `json:"what"`
	Files int64  `json:"files,omitempty"`
	Rows  int64  `json:"rows,omitempty"`
	Bytes int64  `json:"bytes,omitempty"`
	Note  string `json:"note,omitempty"`
}

// Rewrite is one address or path and what it becomes.
type Rewrite struct{ From, To string }

// Estimate is how long the run will take.
type Estimate struct {
	Low   time.Duration `json:"low"` // nanoseconds
	High  time.Duration `json:"high"`
	Basis string        `json:"basis"` // what it rests on
}

// RunState is where a run is in its life.
type RunState string

const (
	Waiting   RunState = "waiting"
	Running   RunState = "running"
	Paused    RunState = "paused" // at a gate
	Done      RunState = "done"
	Stopped   RunState = "failed"
	Cancelled RunState = "cancelled"
)

// Over tells whether nothing more will happen.
func (s RunState) Over() bool { return s == Done || s == Stopped || s == Cancelled }

// Run is a plan that is or was carried out.
type Run struct {
	ID       string     `json:"id"`
	Plan     Plan       `json:"plan"`
	State    RunState   `json:"state"`
	By       string     `json:"by"`
	Made     time.Time  `json:"made"`
	Began    time.Time  `json:"began"`
	Ended    time.Time  `json:"ended"`
	Steps    []Progress `json:"steps"`
	Tries    int        `json:"tries"`            // how often it was taken up
	Error    string     `json:"error,omitempty"`  // what failed, in a sentence
	Remedy   string     `json:"remedy,omitempty"` // the state now and what to do
	Result   string     `json:"result,omitempty"`
	Entry    string     `json:"entry,omitempty"` // for the site's history, once it is done; else the result
	Gate     *Gate      `json:"gate,omitempty"`  // at which it is paused
	CancelAt time.Time  `json:"cancel_at"`       // when it was asked to stop

	// A run that only its proof stopped may be resumed with what the proof found
	// accepted: what it made stands then as it is.
	Acceptable bool `json:"acceptable,omitempty"`
	Accepted   bool `json:"accepted,omitempty"`

	// Since when it fails again and again, with how many steps done.
	FailsSince time.Time `json:"fails_since,omitzero"`
	FailsAfter int       `json:"fails_after,omitempty"`
}

// Progress is what has been done of a step.
type Progress struct {
	Name  string    `json:"name"`
	Title string    `json:"title"`
	Unit  Unit      `json:"unit,omitempty"`
	Work  int64     `json:"work"`
	Done  int64     `json:"done"`
	Items int64     `json:"items,omitempty"` // files, tables or checks that are finished
	Note  string    `json:"note,omitempty"`  // what it is at, or what came out
	Began time.Time `json:"began"`
	Ended time.Time `json:"ended"`
	// Passed says that a person opened the gate at which the step stopped.
	Passed bool `json:"passed,omitempty"`
}

// Gate is where a run waits for a person, or for a time.
type Gate struct {
	Step string    `json:"step"`          // its name
	Ask  string    `json:"ask,omitempty"` // what a person has to agree to; "": nothing
	From time.Time `json:"from,omitzero"` // when it opens by itself, if nothing is asked
}

func (g Gate) String() string {
	if g.Ask != "" {
		return "it waits for a person: " + g.Ask
	}
	return "it waits until " + g.From.Local().Format("2 Jan 2006 15:04")
}

// Took is how long the step ran, up to now if it still does.
func (p Progress) Took(now time.Time) time.Duration {
	switch {
	case p.Began.IsZero():
		return 0
	case p.Ended.IsZero():
		return now.Sub(p.Began)
	}
	return p.Ended.Sub(p.Began)
}

// Rate is units a second, 0 while it can't be told.
func (p Progress) Rate(now time.Time) float64 {
	t := p.Took(now).Seconds()
	if t < 0.2 {
		return 0
	}
	return float64(p.Done) / t
}

// Took is how long the run has run or ran.
func (r Run) Took(now time.Time) time.Duration {
	return Progress{Began: r.Began, Ended: r.Ended}.Took(now)
}

// RowsText writes how many rows are brought, for people.
func (p Plan) RowsText() string {
	text := site.Plural(p.Rows, "row", "rows") + " in " + site.Plural(int64(p.Tables), "table", "tables")
	if p.AtMost {
		return "at most " + text
	}
	return text
}

// Amount writes how much a part is, for people.
func (p Part) Amount() string {
	var out []string
	if p.Files > 0 {
		out = append(out, site.Plural(p.Files, "file", "files"))
	}
	if p.Rows > 0 {
		out = append(out, site.Plural(p.Rows, "row", "rows"))
	}
	if p.Bytes > 0 {
		out = append(out, site.Size(p.Bytes))
	}
	return strings.Join(out, ", ")
}
