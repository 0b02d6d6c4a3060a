// Package move brings a live site to another place, pass by pass, while it goes on where it stands; switches it over,
// and back; and clears up what is left behind.
//
// The other place is in the record as a site that no list has. A pass brings it to the state of the site, as package
// state does: what fails or is cancelled is taken back. Switching over is a last pass while nobody can write, then the
// names are changed, and then the site and its other place change places in the record. Going back is the same the
// other way.
package move

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"sync"
	"time"

	"alibi/internal/cert"
	"alibi/internal/dns"
	"alibi/internal/host"
	"alibi/internal/host/pace"
	"alibi/internal/op"
	"alibi/internal/panel"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// Choices of a run of a move.
type Choices struct {
	Move        string            `json:"move"`                  // its name
	Certificate *plan.Certificate `json:"certificate,omitempty"` // that is to be issued
}

// Provider gives who changes the names of a zone, and the servers that are responsible for it, the one that is asked
// first.
type Provider func(zone string) (dns.Provider, []dns.Server, error)

// Means are what a move reaches beside hosts.
type Means struct {
	Names     Provider
	Authority cert.Authority                         // who issues certificates
	Panel     func(host string) (panel.Panel, error) // a host's
}

// Operations are those of this package.
func Operations(env *op.Env, by Means) []work.Definition {
	begin := work.Begin(func(r plan.Run, c Choices) *work.Operation {
		x := &runner{env: env, provider: by.Names, authority: by.Authority, panel: by.Panel, p: r.Plan, c: c, run: r.ID}
		return x.operation()
	})
	about := func(p plan.Plan) site.ID { return p.Origin.ID }
	return []work.Definition{
		{Kind: plan.Pass, Claims: plan.Plan.FromOriginTo, TakesBack: true, About: about, Begin: begin},
		{Kind: plan.Compare, Claims: plan.Plan.FromOriginTo, About: about, Begin: begin},
		{Kind: plan.Switch, Claims: plan.Plan.BothAlone, Consent: consent, TakesBack: true, About: about, Begin: begin},
		{Kind: plan.Certify, Claims: plan.Plan.BothAlone, Consent: consent, TakesBack: true, About: about, Begin: begin},
		{Kind: plan.Clear, Claims: plan.Plan.FromOriginTo, Consent: consent, Forward: true, About: about, Begin: begin},
	}
}

// consent is the name of the site: its visitors are held, or what was its place is emptied.
func consent(p plan.Plan, _ site.Site) string { return p.Origin.Name }

// runner carries one run out.
type runner struct {
	env       *op.Env
	provider  Provider
	authority cert.Authority
	panel     func(host string) (panel.Panel, error)
	p         plan.Plan
	c         Choices
	run       string
	mem       memory

	calm    pace.Calm     // what is done while nobody waits
	listing *tree.Listing // of the site's files, as this process saw them in this run
	arrive  map[string][]byte
	equal   map[string]plan.At // tables that did not change on either side, as this process saw
	quiet   plan.Quiet         // when tables were written to last, then
	mu      sync.Mutex
	at      map[string]plan.At // what the tables add up to that were brought
	kept    map[string][]string
}

// memory is what the steps remember between tries.
type memory struct {
	state.Memory
	Began time.Time           `json:"began,omitzero"`
	Held  time.Time           `json:"held,omitzero"`   // since when nobody can write
	At    map[string]plan.At  `json:"at,omitempty"`    // what each table adds up to
	Equal map[string]bool     `json:"equal,omitempty"` // those of them that were as they had been
	Quiet plan.Quiet          `json:"quiet,omitzero"`  // when they were written to last
	Kept  map[string][]string `json:"kept,omitempty"`  // of the tables that were read, see plan.Move
	Rows  int64               `json:"rows,omitempty"`
	// Collations are those that the tables get at the other place in place of their own.
	Collations map[string]string `json:"collations,omitempty"`
	Files      int               `json:"files,omitempty"`
	Bytes      int64             `json:"bytes,omitempty"`
	Found      []site.Finding    `json:"found,omitempty"`
	Key        bool              `json:"key,omitempty"`     // the key of a certificate was made
	Shown      []cert.Shown      `json:"shown,omitempty"`   // to the authority, still
	Until      time.Time         `json:"until,omitzero"`    // the certificate that is there holds until then
	Print      string            `json:"print,omitempty"`   // the digest of its key
	Final      bool              `json:"final,omitempty"`   // what was brought stays
	Fresh      bool              `json:"fresh,omitempty"`   // nothing was at the other place: files come right into it
	Renamed    bool              `json:"renamed,omitempty"` // from here on the names may be others
	Swapped    bool              `json:"swapped,omitempty"`
}

func (x *runner) operation() *work.Operation {
	o := &work.Operation{Steps: work.Each(map[string]work.Do{
		"prepare": x.prepare,
		"keep":    x.keep,
		"stage":   x.stage,
		"files":   x.files,
		"settle":  x.settle,
		"hold":    x.hold,
		"prove":   x.prove,
		"names":   x.names,
		"swap":    x.swap,
		"serve":   x.serve,
		"empty":   x.empty,
		"digest":  x.digest,
		"rows":    x.addUp,
		"pages":   x.pages,
		"key":     x.key,
		"certify": x.certify,
		"load":    x.load,
		"see":     x.see,
	}), Memory: &x.mem}
	o.Steps["tables"] = work.Step{Do: x.tables, Beside: true}
	switch x.p.Kind {
	case plan.Pass, plan.Switch:
		o.Undo = x.undo
	case plan.Certify:
		o.Undo = x.uncertify
	}
	return o
}

// sides are the site and its other place, as the record has them.
func (x *runner) sides(ctx context.Context) (here, there site.Site, err error) {
	if here, err = x.env.Record.Site(ctx, x.p.Origin.ID); err != nil {
		return here, there, err
	}
	there, err = x.env.Record.Site(ctx, x.p.Target.ID)
	return here, there, err
}

// maker brings the other place to the state of the site.
func (x *runner) maker(there site.Site, part part) *state.Maker {
	return &state.Maker{
		ID:        x.run,
		HasTables: there.Database.Engine != "",
		Memory:    &x.mem.Memory,
		Open: func(ctx context.Context) (*state.Ends, error) {
			e, err := x.open(ctx, part)
			if err != nil {
				return nil, err
			}
			return e.sides(), nil
		},
		Write: func(ctx context.Context, dir string) (host.Root, error) {
			return x.env.Write(ctx, x.run, there, path.Join(there.Root, dir))
		},
		Look: func(ctx context.Context, dir string) (host.Tree, error) {
			h, err := x.env.Host(ctx, there.Host)
			if err != nil {
				return nil, err
			}
			return h.Open(ctx, path.Join(there.Root, dir))
		},
		Edit: func(ctx context.Context, aside string) (tables.Edit, error) {
			return x.env.Edit(ctx, x.run, there, aside)
		},
		Schema: func(ctx context.Context) (sc tables.Schema, err error) {
			return sc, x.env.Tables(ctx, there, func(_ stack.Stack, snap tables.Snapshot) error {
				sc = snap.Schema()
				return nil
			})
		},
	}
}

// keep takes a restore point of what is at the other place.
func (x *runner) keep(ctx context.Context, t *work.Task) error {
	_, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	return x.env.Keep(ctx, t, there, "before "+x.p.Origin.Name+" comes there")
}

// stage brings the files that differ beside those that are there. Files of a site that goes on come and go meanwhile:
// it is looked at again then.
func (x *runner) stage(ctx context.Context, t *work.Task) error {
	_, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	t.Memorize(func() {
		if x.mem.Began.IsZero() {
			x.mem.Began = x.env.Now()
		}
	})
	x.listing = nil
	if x.mem.Fresh {
		return x.bring(ctx, t)
	}
	for try := 1; ; try++ {
		err = x.maker(there, fileParts).Stage(ctx, t)
		if !errors.Is(err, state.ErrGone) || try == tries {
			return err
		}
		t.Note("files went while they were brought; looking again")
		x.listing = nil
	}
}

// tries is how often it is looked at the files of a site that change while they are brought.
const tries = 4

// tables exchanges the rows that differ.
func (x *runner) tables(ctx context.Context, t *work.Task) error {
	_, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	x.equal, x.at, x.kept = nil, nil, nil
	if err := x.maker(there, tableParts).Tables(ctx, t); err != nil {
		return err
	}
	t.Memorize(func() {
		x.mem.At, x.mem.Quiet, x.mem.Equal = maps.Clone(x.equal), x.quiet, map[string]bool{}
		for name := range x.equal {
			x.mem.Equal[name] = true
		}
		for name, at := range x.at {
			if s, known := x.mem.Sums[name]; known {
				at.Place = plan.Sum(s)
			}
			x.mem.At[name] = at
		}
		x.mem.Kept = x.kept
	})
	return nil
}

// files puts the files in their places that were brought.
func (x *runner) files(ctx context.Context, t *work.Task) error {
	_, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	if x.listing == nil { // another process brought them: what came since is brought too
		if err := x.stage(ctx, t); err != nil {
			return err
		}
	}
	if x.mem.Alike {
		return nil
	}
	return x.maker(there, fileParts).Files(x.gently(ctx), t)
}

// settle makes a pass final, and says what it did.
func (x *runner) settle(ctx context.Context, t *work.Task) error {
	here, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	if err := x.compareTables(ctx, t); err != nil {
		return err
	}
	x.count(t)
	if err := x.final(ctx, t, there); err != nil {
		return err
	}
	took := x.env.Now().Sub(x.mem.Began)
	pass := plan.Carried{Run: x.run, At: x.env.Now(), Took: took, Rested: x.calm.Rested(), Rows: x.mem.Rows,
		Files: x.mem.Files, Bytes: x.mem.Bytes}
	_, err = x.env.Record.ChangeMove(ctx, x.c.Move, func(m *plan.Move) error {
		m.Passes = slices.DeleteFunc(m.Passes, func(p plan.Carried) bool { return p.Run == x.run })
		m.Passes, m.Sums, m.Quiet = append(m.Passes, pass), x.mem.At, x.mem.lastQuiet()
		m.Kept = stillKept(m.Kept, x.mem.Kept)
		return nil
	})
	if err != nil {
		return err
	}
	t.Result("%s", x.brought())
	t.Entry("brought to %s on %s: %s; nothing of it was changed on %s", there.Root, there.Host, x.brought(), here.Host)
	return nil
}

// final notes that what was brought stays. From here on there is no way back to what was at the other place.
func (x *runner) final(ctx context.Context, t *work.Task, there site.Site) error {
	t.Memorize(func() { x.mem.Final = true })
	if err := t.Remember(); err != nil {
		return err
	}
	return x.stays(context.WithoutCancel(ctx), there)
}

// stays has what was brought stay.
func (x *runner) stays(ctx context.Context, there site.Site) error {
	m := x.maker(there, nothing)
	if err := m.Commit(ctx); err != nil {
		return err
	}
	return m.Clear(ctx)
}

// brought says what a pass did.
func (x *runner) brought() string {
	text := fmt.Sprintf("%s and %s are as they are there", site.Plural(x.mem.Rows, "row", "rows"),
		site.Plural(int64(x.mem.Files), "file", "files"))
	if x.mem.Bytes > 0 {
		text += ", " + site.Size(x.mem.Bytes) + " of files were brought"
	}
	if n := len(x.mem.Equal); n > 0 {
		text += ", " + site.Plural(int64(n), "table", "tables") + " had not changed"
	}
	return text
}

// undo brings the other place back to what it was, and lets visitors in again where they are.
func (x *runner) undo(ctx context.Context) error {
	here, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	if x.mem.Swapped {
		return errors.New("the site stands at its new place already: resume the run, and then go back with the move")
	}
	if x.mem.Renamed {
		if err := x.renameBack(ctx); err != nil {
			return fmt.Errorf("visitors see a notice still, since it is not known where its names lead: %w", err)
		}
	}
	switch {
	case x.mem.Final: // the other place keeps it: visitors don't come there
		if err := x.stays(ctx, there); err != nil {
			return err
		}
	case !x.mem.Began.IsZero():
		if err := x.placeBack(ctx, here, there); err != nil {
			return err
		}
	}
	if here.Front != nil && here.Front.By == x.run {
		return x.env.Lift(ctx, x.run, here)
	}
	return nil
}

// placeBack gives the other place what it had before, which was nothing where it is fresh.
func (x *runner) placeBack(ctx context.Context, here, there site.Site) error {
	// Before its tables were touched, a fresh place may not say yet how these are reached.
	if !x.mem.Fresh || x.mem.Looked {
		if err := x.maker(there, nothing).RollBack(ctx); err != nil {
			return err
		}
	}
	if !x.mem.Fresh {
		return nil
	}
	if err := x.foldersApart(ctx, here, there); err != nil {
		return err
	}
	_, err := x.removeFiles(ctx, there)
	return err
}

// lastQuiet are the times of tables for the next pass: of what was written at the other place no time is known yet.
func (m memory) lastQuiet() plan.Quiet {
	out := plan.Quiet{Site: m.Quiet.Site, Place: map[string]string{}}
	for name, at := range m.Quiet.Place {
		if m.Equal[name] {
			out.Place[name] = at
		}
	}
	return out
}
