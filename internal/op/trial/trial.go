// Package trial tries a copy under several versions: each variant is a cell, a
// disposable copy of the copy that shares its files by hard links and has
// tables of its own. A cell is started, its data are brought in line, it is asked
// for a page of every kind, gets its verdict, and is removed.
//
// A trial goes through a grid of cores, runtimes and sets of components, or
// searches for what makes a check fail, by halving.
package trial

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"alibi/internal/catalogue"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/work"
)

// Choices of a trial.
type Choices struct {
	Cores    []catalogue.Package `json:"cores,omitempty"`    // besides, or in place of, the copy's own; see Own
	Runtimes []string            `json:"runtimes,omitempty"` // series of PHP
	Sets     []Set               `json:"sets,omitempty"`
	Check    Check               `json:"check"`
	Search   *Search             `json:"search,omitempty"` // a cause is searched for, rather than a grid tried
	AtOnce   int                 `json:"at_once"`
}

// Set is some components that are put into a cell.
type Set struct {
	Name   string              `json:"name"`
	Put    []catalogue.Package `json:"put,omitempty"`
	Switch stack.Switches      `json:"switch,omitzero"`
}

// Check is what a cell has to do to pass. Pages of every kind have to answer and
// no error may end a request; the rest is asked for besides.
type Check struct {
	Pages   []string `json:"pages,omitempty"`   // further addresses, below the site's own
	Texts   []string `json:"texts,omitempty"`   // each stands on one of the pages
	Without []string `json:"without,omitempty"` // none stands on any
	// for sh; ALIBI_URL and ALIBI_ROOT say where the cell is; it passes by ending with 0
	Command string `json:"command,omitempty"`
	Only    bool   `json:"only,omitempty"` // just what is asked for: no pages of every kind
}

// Cell is one variant with its verdict.
type Cell struct {
	Name     string        `json:"name"`
	Core     string        `json:"core"`
	PHP      string        `json:"php"`
	Set      string        `json:"set,omitempty"`
	State    State         `json:"state"`
	Step     string        `json:"step,omitempty"` // what it is at
	Reason   string        `json:"reason,omitempty"`
	Pages    int           `json:"pages,omitempty"`    // that were asked for
	Absent   int           `json:"absent,omitempty"`   // of these, not there without what makes their kind
	Warnings int           `json:"warnings,omitempty"` // in its log
	Said     []string      `json:"said,omitempty"`     // the first of these
	Bytes    int64         `json:"bytes,omitempty"`    // that it took of its own
	Took     time.Duration `json:"took,omitempty"`
}

// State is where a cell is.
type State string

// The states.
const (
	Waiting State = "waiting"
	Running State = "running"
	Passes  State = "passes"
	Fails   State = "fails"
	Silent  State = "says nothing" // none of what was asked for is there
)

// Over tells whether there is a verdict.
func (s State) Over() bool { return s == Passes || s == Fails || s == Silent }

// Memory is what a trial knows so far; it is kept with its run, where screens
// read it.
type Memory struct {
	Reserved  bool           `json:"reserved,omitempty"`
	Reference *Answers       `json:"reference,omitempty"` // of the copy as it is
	AsItIs    *Cell          `json:"as_it_is,omitempty"`
	Cells     []Cell         `json:"cells,omitempty"`
	Tries     []Cell         `json:"tries,omitempty"` // of a search, as they came
	Found     *Found         `json:"found,omitempty"`
	Full      int64          `json:"full,omitempty"`  // bytes of a full copy
	Known     map[string]int `json:"known,omitempty"` // of a search: index into Tries, by variant
}

type runner struct {
	env *op.Env
	p   plan.Plan
	c   Choices
	id  string
	mem Memory

	mu    sync.Mutex
	bench *bench
}

// Operation is that of a trial.
func Operation(env *op.Env) work.Definition {
	return work.Definition{
		Kind:      plan.Trial,
		Claims:    plan.Plan.AloneOn,
		TakesBack: true,
		Begin: work.Begin(func(r plan.Run, c Choices) *work.Operation {
			x := &runner{env: env, p: r.Plan, id: r.ID, c: c}
			return &work.Operation{
				Steps: work.Each(map[string]work.Do{
					"reserve":   x.reserve,
					"share":     x.share,
					"reference": x.reference,
					"cells":     x.cells,
					"search":    x.search,
					"clear":     x.clear,
				}),
				Undo:   x.wipe,
				Memory: &x.mem,
			}
		}),
	}
}

// Input is what a plan is made of.
type Input struct {
	Site    site.Site // with facts
	Local   string    // this machine's name
	Choices Choices
	PHP     []string // series that this machine has
	Free    int64
	Now     time.Time
	By      string
}

// Variants are the cells of a grid, in order.
func Variants(c Choices, s site.Site) (out []Variant) {
	cores, runtimes, sets := c.Cores, c.Runtimes, c.Sets
	if len(cores) == 0 {
		cores = []catalogue.Package{{}}
	}
	if len(runtimes) == 0 {
		runtimes = []string{series(s)}
	}
	if len(sets) == 0 {
		sets = []Set{{}}
	}
	for _, set := range sets {
		for _, core := range cores {
			for _, php := range runtimes {
				v := Variant{PHP: php, Set: set}
				if core.Source.Version != "" && core.Source.Version != s.Facts.Core {
					v.Core = &core
				}
				out = append(out, v)
			}
		}
	}
	return out
}

func series(s site.Site) string {
	if s.Runtime.PHP != "" {
		return s.Runtime.PHP
	}
	parts := strings.SplitN(s.Facts.PHP, ".", 3)
	return strings.Join(parts[:min(2, len(parts))], ".")
}

// Plan says what a trial will do.
func Plan(in Input) plan.Plan {
	s, c := in.Site, in.Choices
	p := plan.Plan{
		Kind:   plan.Trial,
		At:     in.Now,
		Origin: s,
		Target: s,
		By:     in.By,
		Files:  s.Facts.Files,
		Bytes:  s.Facts.Bytes,
		Rows:   s.Facts.Rows,
		Tables: len(s.Facts.Tables),
		Data:   s.Facts.TableBytes,
	}
	n := len(Variants(c, s))
	p.Words = site.Plural(n, "variant", "variants")
	last := plan.Step{Name: "cells", Title: "try each variant", Work: int64(n), Unit: plan.Checks}
	if c.Search != nil {
		p.Words, last = "the cause of a failing check", plan.Step{
			Name:  "search",
			Title: "search by halving",
			Unit:  plan.Checks,
		}
	}
	p.Steps = []plan.Step{
		{Name: "reserve", Title: "take the copy"},
		{Name: "share", Title: "lay out the files that cells share", Work: s.Facts.Bytes, Unit: plan.Bytes},
		{Name: "reference", Title: "try it as it is"},
		last,
		{Name: "clear", Title: "remove all of it"},
	}
	note := func(sev site.Severity, code, text, remedy string) {
		p.Findings = append(p.Findings, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
	}
	switch {
	case s.Role != site.Copy:
		note(site.Block, "live", s.Name+" is a live site", "make a copy of it first: alibi copy "+s.Name)
	case s.Run != "":
		note(site.Block, "busy", "a run ("+s.Run+") is at work on "+s.Name, "wait for it or cancel it")
	case s.State != site.Ready:
		why, first := s.Unready()
		note(site.Block, "state", why, first)
	case s.Host != in.Local:
		note(site.Block, "elsewhere", s.Name+" is on "+s.Host+": cells are made on this machine",
			"make a copy of its origin here")
	case !s.Database.Served() || s.Database.Beside():
		note(site.Block, "runs", "the code of "+s.Name+" does not run here",
			"only sites whose database is a server's are run")
	}
	for _, r := range c.Runtimes {
		if !slices.Contains(in.PHP, r) {
			note(
				site.Block,
				"php",
				"PHP "+r+" is not on this machine",
				"it has "+strings.Join(in.PHP, ", ")+
					"; name folders with further ones in the configuration: runtime.php",
			)
		}
	}
	each := s.Facts.TableBytes + 8<<20
	p.FreeThen = in.Free
	if need := s.Facts.Bytes + each*int64(max(1, c.AtOnce)); in.Free > 0 && need > in.Free {
		note(site.Block, "room", fmt.Sprintf("the trial needs %s for a while, and %s are free", site.Size(need),
			site.Size(in.Free)), "make room first")
	}
	note(site.Note, "gone", "every cell is removed after its verdict; the copy itself is not changed", "")
	p.Writes = []string{"folders and databases of the cells, which are removed", "nothing on " + s.Name}
	sec := 3 + float64(s.Facts.Bytes)/150e6 + float64(n)*4/float64(max(1, c.AtOnce))
	if c.Search != nil {
		sec = 40
	}
	p.Estimate = plan.Estimate{
		Low:   time.Duration(sec * 0.5 * 1e9),
		High:  time.Duration(sec * 3 * 1e9),
		Basis: "usual rates",
	}
	for _, v := range Variants(c, s) {
		if c.Search == nil {
			p.Goes = append(p.Goes, plan.Part{What: v.cell(s).Name})
		}
	}
	p.Stays = []plan.Part{{What: "the copy itself: its files, tables and address"}}
	p.SetDetail(c)
	p.Origin.Facts, p.Target.Facts = nil, nil
	p.Sort()
	return p
}

// owner is under what the trial's databases and folders are noted.
func (x *runner) owner() site.ID { return site.ID(op.TrialPrefix + x.id) }

func (x *runner) dir() string { return filepath.Join(x.env.Home, "trials", x.id) }

func (x *runner) reserve(ctx context.Context, t *work.Task) error {
	t.Memorize(func() {
		x.mem.Reserved = true
		if len(x.mem.Cells) == 0 && x.c.Search == nil {
			s := x.p.Target
			s.Facts = &site.Facts{}
			if now, err := x.env.Record.Site(ctx, x.p.Target.ID); err == nil && now.Facts != nil {
				s = now
			}
			for _, v := range Variants(x.c, s) {
				x.mem.Cells = append(x.mem.Cells, v.cell(s))
			}
		}
	})
	return t.Remember()
}

// open gives the bench on which cells are made, laid out anew if this process
// has none.
func (x *runner) open(ctx context.Context, tell func(int64, int)) (*bench, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.bench != nil {
		return x.bench, nil
	}
	if err := x.wipe(ctx); err != nil { // what a dead process left
		return nil, err
	}
	s, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return nil, err
	}
	b, err := newBench(ctx, x.env, s, x.owner(), x.dir(), x.id, tell)
	if err != nil {
		return nil, err
	}
	x.bench = b
	return b, nil
}

func (x *runner) share(ctx context.Context, t *work.Task) error {
	b, err := x.open(ctx, func(bytes int64, files int) { t.Add(bytes, int64(files)) })
	if err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Full = b.full() })
	t.Note("%s files are shared", site.Number(len(b.files)))
	return nil
}

// reference tries the copy as it is: what does not answer there is no fault of a
// variant's.
func (x *runner) reference(ctx context.Context, t *work.Task) error {
	b, err := x.open(ctx, func(int64, int) {})
	if err != nil {
		return err
	}
	c := Variant{PHP: series(b.site)}.cell(b.site)
	answers, err := b.try(ctx, Variant{PHP: series(b.site)}, x.c.Check, nil, &c, func() {})
	if err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Reference, x.mem.AsItIs = answers, &c })
	t.Note("as it is, it %s%s", c.State, because(c))
	return nil
}

func because(c Cell) string {
	if c.Reason == "" {
		return ""
	}
	return ": " + c.Reason
}

// cells goes through the grid.
func (x *runner) cells(ctx context.Context, t *work.Task) error {
	b, err := x.open(ctx, func(int64, int) {})
	if err != nil {
		return err
	}
	variants := Variants(x.c, b.site)
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(max(1, x.c.AtOnce))
	for i, v := range variants {
		if x.mem.Cells[i].State.Over() {
			t.Add(1, 1)
			continue
		}
		g.Go(func() error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			c := x.mem.Cells[i]
			c.State = Running
			tell := func() {
				t.Memorize(func() { x.mem.Cells[i] = c })
				_ = t.Remember() // it is told again
			}
			if _, err := b.try(ctx, v, x.c.Check, x.mem.Reference, &c, tell); err != nil {
				return fmt.Errorf("%s: %w", c.Name, err)
			}
			tell()
			t.Add(1, 1)
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	pass := 0
	for _, c := range x.mem.Cells {
		if c.State == Passes {
			pass++
		}
	}
	t.Result("%d of %d variants pass", pass, len(x.mem.Cells))
	return nil
}

// wipe removes everything that the trial made.
func (x *runner) wipe(ctx context.Context) error {
	reap(x.env, x.id)
	made, err := x.env.Record.AllMade(ctx)
	if err != nil {
		return err
	}
	for _, m := range made {
		if m.Site == x.owner() {
			if err := x.env.Unmake(ctx, m); err != nil {
				return fmt.Errorf("removing what a trial made: %w", err)
			}
		}
	}
	return nil
}

func (x *runner) clear(ctx context.Context, t *work.Task) error {
	t.Entry("tried %s: %s", x.p.Words, t.Run().Result)
	return x.wipe(ctx)
}
