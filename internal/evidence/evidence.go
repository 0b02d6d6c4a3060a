// Package evidence shows that a copy is what it should be, instead of saying so:
// every row and file is compared with the origin's, what must not be there is
// looked for, the pages are asked for, and a marker proves that copy and origin
// are two sites.
package evidence

import (
	"fmt"
	"slices"
	"time"

	"alibi/internal/baseline"
	"alibi/internal/site"
)

// Verdict on one check.
type Verdict string

const (
	Holds   Verdict = "holds"
	Changed Verdict = "changed" // differs by work done on a side since they parted
	Noted   Verdict = "noted"   // worth knowing, and no damage
	Broken  Verdict = "broken"
)

// Check is one thing that was compared, with both figures.
type Check struct {
	Name    string   `json:"name"`  // stable, e.g. "table wp_posts"
	Group   string   `json:"group"` // "tables", "files", "addresses", "pages", "isolation"
	Title   string   `json:"title"`
	Origin  string   `json:"origin"`
	Copy    string   `json:"copy"`
	Verdict Verdict  `json:"verdict"`
	Text    string   `json:"text,omitempty"`   // what is not equal
	Where   []string `json:"where,omitempty"`  // the first places
	Number  int      `json:"number,omitempty"` // how many places
	// Rows are the first rows of a table that differ.
	Rows []RowChange `json:"rows,omitempty"`
}

// Report is all checks of one time.
type Report struct {
	Site   site.ID       `json:"site"`
	Name   string        `json:"copy"`
	Origin string        `json:"origin"`
	At     time.Time     `json:"at"`
	Took   time.Duration `json:"took"` // nanoseconds
	Fresh  bool          `json:"fresh"`
	Rows   int64         `json:"rows"`  // compared
	Files  int           `json:"files"` // compared
	Apart  site.Apart    `json:"apart"`
	Checks []Check       `json:"checks"`
	PHP    string        `json:"php,omitempty"`  // that the copy's code runs on
	Held   []site.Rule   `json:"held,omitempty"` // quiet rules that were tried and held
	Wall   string        `json:"wall,omitempty"` // as in site.Proof

	found Found
}

// Found is how both sides were when they were compared: what the copy is compared with from then on, if
// it holds.
type Found struct {
	Definitions baseline.Definitions
	Files       []baseline.File
}

// Found is how both sides were.
func (r Report) Found() Found { return r.found }

// Proof sums the report up.
func (r Report) Proof() site.Proof {
	p := site.Proof{Holds: true, At: r.At, Checks: len(r.Checks), Held: r.Held, PHP: r.PHP, Wall: r.Wall}
	for _, c := range r.Checks {
		if c.Verdict == Broken {
			p.Broken++
			p.Holds = false
		}
	}
	return p
}

// Stands tells whether nothing is wrong but how the copy's code runs: its data are what they should be,
// and it is Harmless. Such a copy can be worked on.
func (r Report) Stands() bool {
	return r.Harmless() && !slices.ContainsFunc(r.Checks, func(c Check) bool {
		return c.Verdict == Broken && c.Group != "pages" && c.Group != "isolation"
	})
}

// Harmless tells whether the copy is a site of its own, and no quiet rule was seen broken: what is done on
// it can hurt nobody. Where its code does not run, rules need not have been tried.
func (r Report) Harmless() bool {
	runs := !slices.ContainsFunc(r.Checks, func(c Check) bool { return c.Verdict == Broken && c.Name == "pages" })
	return !slices.ContainsFunc(r.Checks, func(c Check) bool {
		untried := c.Name == "quiet rules" && c.Number == 0
		return c.Verdict == Broken && c.Group == "isolation" && (runs || !untried)
	})
}

// Summary says the outcome in a line.
func (r Report) Summary() string {
	p := r.Proof()
	if !p.Holds {
		return fmt.Sprintf("%d of %d checks do not hold", p.Broken, p.Checks)
	}
	return fmt.Sprintf("evidence holds: %s rows, %s files, %d checks", site.Number(int(r.Rows)), site.Number(r.Files),
		p.Checks)
}

// mostPlaces is how many places a check names.
const mostPlaces = 100

// places collects the first places of something and counts all.
type places struct {
	n     int
	where []string
}

func (p *places) add(format string, a ...any) {
	p.n++
	if len(p.where) < mostPlaces {
		p.where = append(p.where, fmt.Sprintf(format, a...))
	}
}
