// Package reset brings a site, live or a copy, to another state where it stands:
// to what it was at a restore point, or to a part of that, or to a clean one.
//
// New files and tables are made beside those in use. Then visitors see a notice,
// a restore point is taken, everything is exchanged and compared with what it
// should be, and only then do visitors see the site again. Until that moment a
// run that fails or is cancelled takes everything back.
package reset

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"alibi/internal/baseline"
	"alibi/internal/depot/pointhost"
	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// Choices say to what a site is brought, and how much of it.
type Choices struct {
	Point    string      `json:"point,omitempty"` // the restore point; "": to clean
	Files    bool        `json:"files"`           // files are brought back
	Database bool        `json:"database"`        // tables are brought back
	Paths    []string    `json:"paths,omitempty"` // of the files, only these and what is in them
	Tables   []string    `json:"tables,omitempty"`
	Kinds    []site.Kind `json:"kinds,omitempty"` // only content of these kinds, put back among what is there
	Items    []int64     `json:"items,omitempty"` // only these pieces of content, by number
	Clean    *Clean      `json:"clean,omitempty"`
	Feed     *Feed       `json:"feed,omitempty"` // content that is added
	Change   *Change     `json:"change,omitempty"`
}

// Feed is a file with content, on this machine.
type Feed struct {
	Path string    `json:"path"`
	Sum  tree.Hash `json:"sum"` // of its bytes, when the plan was made
}

// Whole tells whether nothing of the site stays as it is.
func (c Choices) Whole() bool {
	return c.Files && c.Database && len(c.Paths) == 0 && len(c.Tables) == 0 && len(c.Kinds)+len(c.Items) == 0 &&
		c.Clean == nil
}

// runner carries a plan out.
type runner struct {
	env *op.Env
	p   plan.Plan
	c   Choices
	run string // its ID
	id  string // begins the names of what it makes
	mem memory

	assembled *assembly       // of this process
	opened    *pointhost.Host // of this process
}

// memory is what the steps remember between tries.
type memory struct {
	state.Memory
	Reserved bool        `json:"reserved,omitempty"`
	Was      *site.Front `json:"was,omitempty"`   // what visitors saw before
	Pages    []op.Page   `json:"pages,omitempty"` // of a live site, as they answered before
	Settled  bool        `json:"settled,omitempty"`

	Answered int           `json:"answered,omitempty"` // what the first page answered before a change; 0: nothing
	Mark     int64         `json:"mark,omitempty"`     // in the error log, before a change
	Runtime  *site.Runtime `json:"runtime,omitempty"`  // before a change
	Woke     bool          `json:"woke,omitempty"`     // the site's own code ran since, and may have written anything
	Compared string        `json:"compared,omitempty"` // what the comparison found
}

// Operations are those of this package: bringing a site to a restore point, to a clean
// state, or to run something else.
func Operations(env *op.Env) (out []work.Definition) {
	for _, kind := range []plan.Kind{plan.Restore, plan.Reset, plan.Change} {
		out = append(out, work.Definition{
			Kind:      kind,
			Claims:    plan.Plan.AloneOn,
			Consent:   consent,
			TakesBack: true,
			Begin: work.Begin(func(r plan.Run, c Choices) *work.Operation {
				return newRunner(env, r, c).operation()
			}),
		})
	}
	return out
}

// consent is the name that has to be typed. A change says of itself what it changes, and
// its restore point undoes it.
func consent(p plan.Plan, target site.Site) string {
	if p.Kind == plan.Change {
		return p.LiveConsent(target)
	}
	return p.OverConsent(target)
}

func newRunner(env *op.Env, r plan.Run, c Choices) *runner {
	return &runner{env: env, p: r.Plan, c: c, run: r.ID, id: r.ID}
}

func (x *runner) operation() *work.Operation {
	return &work.Operation{
		Steps: work.Each(map[string]work.Do{
			"reserve": x.reserve,
			"stage":   x.making((*state.Maker).Stage),
			"close":   x.shut,
			"keep":    x.keep,
			"tables":  x.making((*state.Maker).Tables),
			"files":   x.making((*state.Maker).Files),
			"prove":   x.prove,
			"wake":    x.wake,
			"open":    x.open,
		}),
		Undo:   x.undo,
		Memory: &x.mem,
	}
}

// now is the site as the record has it.
func (x *runner) now(ctx context.Context) (site.Site, error) {
	return x.env.Record.Site(ctx, x.p.Target.ID)
}

// reserve looks at the site before anything of it is changed.
func (x *runner) reserve(ctx context.Context, t *work.Task) error {
	s, err := x.now(ctx)
	if err != nil {
		return err
	}
	x.look(ctx, t, s)
	t.Memorize(func() {
		x.mem.Reserved = true
		if s.Front == nil || s.Front.By != x.id {
			x.mem.Was = s.Front
		}
	})
	return t.Remember()
}

// shut puts the notice before visitors.
func (x *runner) shut(ctx context.Context, _ *work.Task) error {
	s, err := x.now(ctx)
	if err != nil {
		return err
	}
	if s.State == site.Parked || s.State == site.Expired {
		return nil // nobody sees it
	}
	err = x.env.Shut(ctx, x.run, s, site.Front{Kind: site.FrontMaintenance, At: x.env.Now(), By: x.id})
	if errors.Is(err, op.ErrNoNotice) {
		return nil // its files are exchanged one by one, each at once
	}
	return err
}

// keep takes the restore point from which all of this can be undone later.
func (x *runner) keep(ctx context.Context, t *work.Task) error {
	s, err := x.now(ctx)
	if err != nil {
		return err
	}
	return x.env.Keep(ctx, t, s, "before it was brought to "+x.p.Words)
}

// ends opens the site, and works out what it is to be.
func (x *runner) ends(ctx context.Context) (*ends, error) {
	s, err := x.now(ctx)
	if err != nil {
		return nil, err
	}
	e := &ends{s: s}
	if e.place, err = x.env.Place(ctx, s.Host, s.Root); err != nil {
		return nil, err
	}
	if e.st, err = x.env.Stack(s.Stack); err == nil {
		e.want, err = x.wanted(ctx, e)
	}
	if err != nil {
		e.close()
		return nil, err
	}
	e.want.DB.Lower = s.Role == site.Copy // the numbers of a live site's rows rise only
	return e, nil
}

// ends is the site as it stands, and as it is to be.
type ends struct {
	s     site.Site
	place stack.Place
	st    stack.Stack
	snap  tables.Snapshot // of its own tables, once they were asked for
	want  *state.Wanted

	closed bool
}

// close lets go of both; it may be called again.
func (e *ends) close() {
	if e == nil || e.closed {
		return
	}
	e.closed = true
	if e.snap != nil {
		e.snap.Close()
	}
	e.place.Root.Close()
}

// snapshot gives the state of the site's own tables.
func (e *ends) snapshot(ctx context.Context) (tables.Snapshot, error) {
	if e.snap != nil {
		return e.snap, nil
	}
	db, err := stack.OpenDatabase(ctx, e.st, e.place, e.s.Database)
	if err != nil {
		return nil, err
	}
	if e.snap, err = db.Snapshot(ctx); err != nil {
		return nil, fmt.Errorf("reading the site's database: %w", err)
	}
	return e.snap, nil
}

// owns tells which tables may be changed: in a database of the site's own all.
func (e *ends) owns(s tables.Schema) func(string) bool {
	if e.s.Role == site.Copy || e.s.Database.InFile() {
		return func(string) bool { return true }
	}
	return e.st.Owns(s, e.s.Database.Prefix)
}

// own are the files that make a copy the one that it is, whatever state it is in.
func (x *runner) own(ctx context.Context, s site.Site) (map[string]bool, error) {
	if s.Role != site.Copy {
		return nil, nil
	}
	b, err := baseline.Open(path.Join(x.env.CopyDir(s.Name), "now", "baseline.db"))
	if err != nil {
		return nil, fmt.Errorf("what Alibi knows of the copy can't be read: %w; refresh it instead", err)
	}
	defer b.Close()
	files, err := b.Files(ctx)
	out := map[string]bool{}
	for name, f := range files {
		if f.Own {
			out[name] = true
		}
	}
	return out, err
}

// open makes everything final and shows the site again.
func (x *runner) open(ctx context.Context, t *work.Task) error {
	s, err := x.now(ctx)
	if err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Settled = true })
	if err := t.Remember(); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx) // from here on there is no way back, so nothing stops half-way
	m := x.maker(s)
	if err := m.Commit(ctx); err != nil {
		return err
	}
	if err := m.Clear(ctx); err != nil {
		return err
	}
	if err := x.lift(ctx, s); err != nil {
		return err
	}
	if x.c.Change != nil && x.c.Change.Scrub { // its rows as they were have real people
		if err := os.Remove(x.env.ValuesOf(s.Name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("forgetting its people as they were: %w", err)
		}
	}
	facts, err := x.env.Inspect(ctx, s.Host, s.Root, s.Stack)
	if err != nil {
		return fmt.Errorf("inspecting the site: %w", err)
	}
	_, err = x.env.Record.ChangeSite(ctx, s.ID, func(s *site.Site) error {
		facts.PHP = x.runs(*s, facts.PHP)
		if len(facts.Addresses) == 0 {
			facts.Addresses = s.Addresses
		}
		s.Facts, s.Title, s.PlacedAt, s.Run = facts, facts.Title, x.env.Now(), ""
		if x.c.Change != nil && x.c.Change.Pins != "" {
			s.Pins = x.c.Change.Pins
		}
		if x.c.Change != nil && x.c.Change.Scrub {
			s.Scrubbed = true
		}
		if s.Role == site.Copy { // what was counted and proven was another state
			s.Proof, s.Apart = site.Proof{}, site.Apart{}
		}
		return nil
	})
	if err != nil {
		return err
	}
	t.Entry("brought to %s; %s", x.p.Words, t.Run().Result)
	return nil
}

// runs is the PHP of the site: a copy's is not the one that its folder's machine
// happens to have.
func (x *runner) runs(s site.Site, found string) string {
	if k := x.c.Change; k != nil && k.Runtime != nil && k.Runtime.PHP != "" &&
		(s.Facts == nil || php.Series(s.Facts.PHP) != k.Runtime.PHP) {
		return k.Runtime.PHP
	}
	if s.Facts != nil && (found == "" || s.Role == site.Copy) {
		return s.Facts.PHP
	}
	return found
}

// lift shows visitors what they saw before the run.
func (x *runner) lift(ctx context.Context, s site.Site) error {
	if s.Front == nil || s.Front.By != x.id {
		return nil
	}
	if x.mem.Was != nil {
		return x.env.Shut(ctx, x.run, s, *x.mem.Was)
	}
	return x.env.Lift(ctx, x.run, s)
}

// undo brings back the state before the run.
func (x *runner) undo(ctx context.Context) error {
	if !x.mem.Reserved {
		return nil
	}
	if x.mem.Settled {
		return errors.New(
			"all was in place already, and the old is cleared away: resume the run, and then restore the point that " +
				"was taken first",
		)
	}
	s, err := x.now(ctx)
	if err != nil {
		return err
	}
	if x.mem.Runtime != nil {
		if s, err = x.env.Record.ChangeSite(ctx, s.ID,
			func(s *site.Site) error { s.Runtime = *x.mem.Runtime; return nil }); err != nil {
			return err
		}
	}
	if err := x.maker(s).RollBack(ctx); err != nil {
		return err
	}
	if err := x.sleep(ctx); err != nil {
		return err
	}
	if s, err = x.anew(ctx, s); err != nil {
		return err
	}
	return x.lift(ctx, s)
}

// inPaths tells whether a path is one of those that were chosen, or in one.
func inPaths(list []string) func(string) bool {
	return func(p string) bool {
		return len(list) == 0 ||
			slices.ContainsFunc(list, func(c string) bool { return p == c || strings.HasPrefix(p, c+"/") })
	}
}

// Paths checks the names of files and folders below a site's root.
func Paths(list []string) (out []string, err error) {
	for _, p := range list {
		c, err := host.Clean(strings.Trim(p, "/"))
		if err != nil || c == "." {
			return nil, fmt.Errorf(
				"%q is no file or folder of the site: name it as it is called below the site's root",
				p,
			)
		}
		out = append(out, c)
	}
	return out, nil
}

// filter passes by what is no part of the site's state.
func filter(s site.Site) tree.Filter {
	f := stack.DatabaseFilter(s.Root, s.Database)
	f.Attrs = true
	return f
}
