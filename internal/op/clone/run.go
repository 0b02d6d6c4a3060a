package clone

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"strings"
	"time"

	"alibi/internal/baseline"
	"alibi/internal/evidence"
	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// runner carries a plan out.
type runner struct {
	env *op.Env
	p   plan.Plan
	d   detail
	run string // its ID
	dir string // the copy's folder
	mem memory

	accepted bool                 // a person lets it stand whatever the proof finds of its data
	moment   *evidence.Moment     // the new copy as it was when it began to answer
	kept     map[string]time.Time // change times of files that a refresh keeps
	media    *following           // brings its media; nil: they do not come behind, or not yet
}

// memory is what the steps remember between tries.
type memory struct {
	Reserved   bool                 `json:"reserved,omitempty"` // the copy is this run's to work on
	Same       bool                 `json:"same,omitempty"`     // nothing had changed on either side
	Stamp      string               `json:"stamp"`              // of the origin's database before anything was read
	Since      string               `json:"since,omitempty"`    // when that state was, by its server's clock
	Looked     time.Time            `json:"looked,omitzero"`    // when the origin's files were listed first
	Configured map[string]tree.Hash `json:"configured"`
	Compared   *evidence.Report     `json:"compared,omitempty"` // the tables and files
	Visited    bool                 `json:"visited,omitempty"`  // a new copy may have written to itself
	Answers    *evidence.Report     `json:"answers,omitempty"`  // what was seen of it before it answered
	InPlace    string               `json:"in_place,omitempty"` // the copy's database, if rows were changed in it
}

// Operations are those of this package: making a copy, bringing one in line with its
// origin again, and rehearsing a restore point.
func Operations(env *op.Env) []work.Definition {
	begin := work.Begin(func(r plan.Run, d detail) *work.Operation { return newRunner(env, r, d).operation() })
	return []work.Definition{
		{
			Kind: plan.Copy, Claims: plan.Plan.FromOriginTo, Consent: plan.Plan.BesideConsent, Makes: true,
			Begin: begin,
		},
		{Kind: plan.Refresh, Claims: plan.Plan.FromOriginTo, Consent: plan.Plan.OverConsent, Begin: begin},
		{
			Kind: plan.Rehearse, Claims: plan.Plan.FromOriginTo, Consent: plan.Plan.BesideConsent,
			About: func(p plan.Plan) site.ID { return p.Origin.ID },
			Begin: func(_ context.Context, r plan.Run) (*work.Operation, error) { return rehearse(env, r) },
		},
	}
}

func newRunner(env *op.Env, r plan.Run, d detail) *runner {
	return &runner{env: env, p: r.Plan, d: d, run: r.ID, dir: env.CopyDir(r.Plan.Target.Name), accepted: r.Accepted}
}

func (x *runner) operation() *work.Operation {
	steps := work.Each(map[string]work.Do{
		"reserve":   x.reserve,
		"keep":      x.keep,
		"files":     x.files,
		"configure": x.settled(x.configure),
		"place":     x.place,
		"evidence":  x.settled(x.proven),
		"open":      x.settled(x.open),
		"media":     x.behind,
		"settle":    x.settled(x.settle),
		"values":    x.values,
		"made":      x.made,
		"pins":      x.pin,
	})
	steps["tables"] = work.Step{Beside: true, Do: x.tables}
	return &work.Operation{Steps: x.needed(steps), Undo: x.undo, Memory: &x.mem,
		Close: func() {
			x.media.close()
			_ = x.moment.Close()
		}}
}

// keepsFirst tells whether a restore point is taken before anything is written:
// of a held copy, whose work somebody counts on.
func keepsFirst(p plan.Plan) bool { return p.Kind == plan.Refresh && p.Target.Lease.Held }

// keep takes a restore point of the copy as it stands.
func (x *runner) keep(ctx context.Context, t *work.Task) error {
	s, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	return x.env.Keep(ctx, t, s, "before it was brought in line with "+x.p.Origin.Name)
}

// AsMade is why the restore point of a copy was taken that has it as it was made.
const AsMade = "as it was made"

// made takes a restore point of the finished copy.
func (x *runner) made(ctx context.Context, t *work.Task) error {
	s, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	return x.env.Keep(ctx, t, s, AsMade)
}

// settled is a step that needs to know which database became the copy's.
func (x *runner) settled(do work.Do) work.Do {
	return func(ctx context.Context, t *work.Task) error {
		if x.mem.InPlace != "" {
			x.p.Target.Database.Name = x.mem.InPlace
		}
		return do(ctx, t)
	}
}

func (x *runner) at(part string, rest ...string) string {
	return filepath.Join(append([]string{x.dir, part}, rest...)...)
}

// next gives a path of the finished copy, on this machine, as it is while it is
// being built.
func (x *runner) next(name string) string {
	return x.at("next") + strings.TrimPrefix(name, x.at("now"))
}

// nextFar is next on the copy's host.
func (x *runner) nextFar(name string) string {
	dir := op.Folder(x.p.Target)
	return path.Join(dir, "next") + strings.TrimPrefix(name, path.Join(dir, "now"))
}

// reserve notes what will be made before it is made, and takes the name.
func (x *runner) reserve(ctx context.Context, t *work.Task) error {
	rec := x.env.Record
	if x.p.Kind == plan.Copy {
		s := x.p.Target
		s.State, s.Run, s.Worked = site.Making, t.Run().ID, t.Run().ID
		if err := rec.PutSite(ctx, s); err != nil {
			return err
		}
	} else if !x.mem.Reserved {
		if err := x.takeOver(ctx); err != nil {
			return err
		}
		if err := x.look(ctx, t); err != nil || x.mem.Same {
			return err
		}
	}
	t.Memorize(func() { x.mem.Reserved = true })
	if err := t.Remember(); err != nil {
		return err
	}
	for hostName, dir := range map[string]string{x.env.Local: x.dir, x.p.Target.Host: op.Folder(x.p.Target)} {
		if err := rec.AddMade(ctx, inventory.Made{Site: x.p.Target.ID, Kind: "folder", Host: hostName, Path: dir,
			At: x.env.Now()}); err != nil {
			return err
		}
	}
	halves, done, err := x.env.Halves(ctx, x.run, x.p.Target)
	if err != nil {
		return fmt.Errorf("making room for the copy: %w", err)
	}
	defer done()
	need := []string{"next", "next/caught"}
	for _, p := range []string{x.p.Target.Root, path.Dir(x.p.Target.Database.Path)} {
		if rel, ok := strings.CutPrefix(p, path.Join(op.Folder(x.p.Target), "now")+"/"); ok {
			need = append(need, "next/"+rel)
		}
	}
	for _, half := range halves {
		for _, d := range need {
			if err := host.MkdirAll(half, d, 0o700); err != nil {
				return fmt.Errorf("making room for the copy: %w", err)
			}
		}
	}
	if err := x.program(ctx, t); err != nil {
		return err
	}
	if exists(halves[0], "next/baseline.db") {
		return nil
	}
	b, err := baseline.Create(x.at("next", "baseline.db"))
	if err != nil {
		return err
	}
	return b.Close()
}

// program puts our own program on another host, by which the copy is to run there.
func (x *runner) program(ctx context.Context, t *work.Task) error {
	s := x.p.Target
	if s.Host == x.env.Local || !s.Database.Served() {
		return nil
	}
	why, err := x.env.PutProgram(ctx, s.Host)
	if err != nil {
		return fmt.Errorf("putting our program on %s: %w", s.Host, err)
	}
	if why != "" {
		t.Note("its code will run there by PHP alone: %s", why)
	}
	return nil
}

// takeOver clears away what a refresh left that failed and was not taken up
// again: the copy is then as it was before that one.
func (x *runner) takeOver(ctx context.Context) error {
	halves, done, err := x.env.Halves(ctx, x.run, x.p.Target)
	if err != nil {
		return err
	}
	defer done()
	for _, half := range halves {
		if exists(half, "next") || exists(half, "old") {
			return x.takenBack(ctx)
		}
		if err := half.RemoveAll("former"); err != nil {
			return err
		}
	}
	return nil
}

// ends opens the origin, and the copy that is being built.
func (x *runner) ends(ctx context.Context) (origin stack.Place, dst host.Root, closeBoth func(), err error) {
	if origin, err = x.env.Place(ctx, x.p.Origin.Host, x.p.Origin.Root); err != nil {
		return
	}
	if dst, err = x.env.Write(ctx, x.run, x.p.Target, x.nextFar(x.p.Target.Root)); err != nil {
		origin.Root.Close()
		return
	}
	return origin, dst, func() { origin.Root.Close(); dst.Close() }, nil
}

// transform is how rows and configuration become the copy's.
func (x *runner) transform() (*stack.Transform, error) {
	return x.env.Transform(x.p.Origin, x.p.Target, x.d.Choices.Title)
}

// configure writes the copy's own files and notes them in the baseline.
func (x *runner) configure(ctx context.Context, t *work.Task) error {
	origin, dst, closeBoth, err := x.ends(ctx)
	if err != nil {
		return err
	}
	defer closeBoth()
	tr, err := x.transform()
	if err != nil {
		return err
	}
	tr.Change.Brought = func(want func(string) bool) ([]string, error) { return x.brought(ctx, want) }
	own, err := stack.SettingsOf(tr.Stack).Configure(ctx, origin, tr.Change)
	if err != nil {
		return fmt.Errorf("setting up the copy: %w", err)
	}
	written, err := writeOwn(ctx, dst, own)
	if err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Configured = written })
	return x.noteOwn(ctx, dst, own)
}

// place moves what was built to where it belongs. Broken off anywhere, it can
// be called again.
func (x *runner) place(ctx context.Context, t *work.Task) error {
	halves, done, err := x.env.Halves(ctx, x.run, x.p.Target)
	if err != nil {
		return err
	}
	defer done()
	for _, half := range halves {
		if !exists(half, "next") {
			continue // done before
		}
		if t.Run().Tries > 1 {
			if err := tree.Sweep(ctx, half, "next"); err != nil {
				return err
			}
		}
		if exists(half, "now") {
			if err := half.RemoveAll("old"); err != nil {
				return err
			}
			if err := half.Rename("now", "old"); err != nil {
				return fmt.Errorf("putting the copy in its place: %w", err)
			}
		}
		if err := half.Rename("next", "now"); err != nil {
			return fmt.Errorf("putting the copy in its place: %w", err)
		}
	}
	return x.placed(ctx)
}

// placed notes that other files are in place, so that the copy's programs are
// started again.
func (x *runner) placed(ctx context.Context) error {
	_, err := x.env.Record.ChangeSite(ctx, x.p.Target.ID, func(s *site.Site) error {
		s.PlacedAt = x.env.Now()
		return nil
	})
	return err
}

func exists(r host.Tree, name string) bool {
	_, err := r.Lstat(name)
	return err == nil
}

// open makes the copy answer and begins its lease. A new one does so before it is compared; one that is brought in
// line was compared.
func (x *runner) open(ctx context.Context, t *work.Task) error {
	proven := x.p.Kind == plan.Refresh || x.mem.Compared != nil
	if !proven {
		if err := x.follow(ctx); err != nil { // its first page may need media
			return err
		}
		if err := x.ready(ctx, t); err != nil {
			return err
		}
	}
	now := x.env.Now()
	_, err := x.env.Record.ChangeSite(ctx, x.p.Target.ID, func(s *site.Site) error {
		was := *s
		*s = x.p.Target
		s.Worked, s.PlacedAt, s.Proof, s.Apart = was.Worked, was.PlacedAt, was.Proof, was.Apart
		s.Facts, s.CheckedAt, s.State, s.Run = was.Facts, now, site.Ready, was.Run
		switch {
		case x.p.Kind == plan.Refresh:
			s.Lease = was.Lease
		case !s.Lease.Held:
			s.Lease = site.Begin(now, x.d.Choices.Lease, s.Lease.Grace)
		}
		return nil
	})
	if err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx) // from here on there is no way back, so nothing stops half-way
	if x.mem.InPlace != "" {
		if err := x.commit(ctx); err != nil {
			return err
		}
	}
	if err := x.give(ctx); err != nil {
		return err
	}
	if err := x.clear(ctx, "old", x.p.Target.Database); err != nil {
		return err
	}
	verb := "copied from"
	if x.p.Kind == plan.Refresh {
		verb = "brought in line with"
	}
	t.Entry("%s %s: %d rows, %d files", verb, x.p.Origin.Name, x.p.Rows, x.p.Files)
	return nil
}

// settle takes stock of the finished copy, and lets go of it.
func (x *runner) settle(ctx context.Context, _ *work.Task) error {
	facts, err := x.env.Inspect(ctx, x.p.Target.Host, x.p.Target.Root, x.p.Target.Stack)
	if err != nil {
		return fmt.Errorf("inspecting the finished copy: %w", err)
	}
	facts.PHP = x.p.Origin.Facts.PHP
	if err := x.letGo(ctx); err != nil {
		return err
	}
	_, err = x.env.Record.ChangeSite(ctx, x.p.Target.ID, func(s *site.Site) error {
		if s.Proof.PHP != "" {
			facts.PHP, facts.PHPAsked = s.Proof.PHP, true
		}
		if s.Facts = facts; s.Run == x.run { // else an earlier try has let go of it
			s.State, s.Run = site.Ready, ""
		}
		return nil
	})
	return err
}

// clear removes a part of the copy's folders, and what databases of the copy
// there are beside the one to keep.
func (x *runner) clear(ctx context.Context, part string, keep site.Database) error {
	halves, done, err := x.env.Halves(ctx, x.run, x.p.Target)
	if err != nil {
		return err
	}
	defer done()
	for _, half := range halves {
		if err := half.RemoveAll(part); err != nil {
			return err
		}
	}
	made, err := x.env.Record.AllMade(ctx)
	if err != nil {
		return err
	}
	for _, m := range made {
		if m.Site == x.p.Target.ID &&
			(m.Kind == "database" && m.Path != "database:"+keep.Name ||
				m.Kind == "tables" && m.Path != op.TablesPath(keep)) {
			if err := x.env.Unmake(ctx, m); err != nil {
				return err
			}
		}
	}
	return nil
}

// undo brings back the state before the run.
func (x *runner) undo(ctx context.Context) error {
	x.media.close() // nothing comes to what is removed
	if x.p.Kind == plan.Copy {
		return x.env.Erase(ctx, x.p.Target.ID, x.p.Target.Name)
	}
	if !x.mem.Reserved {
		return nil // it never came to work on the copy, and another run may be at it
	}
	return x.takenBack(ctx)
}

// takenBack gives the copy what it had before it was refreshed.
func (x *runner) takenBack(ctx context.Context) error {
	was, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	if err := x.tablesBack(ctx, was); err != nil {
		return err
	}
	halves, done, err := x.env.Halves(ctx, x.run, x.p.Target)
	if err != nil {
		return err
	}
	defer done()
	for _, half := range halves {
		if err := half.RemoveAll("former"); err != nil {
			return err
		}
		if !exists(half, "old") {
			continue
		}
		if err := half.RemoveAll("now"); err != nil {
			return err
		}
		if err := half.Rename("old", "now"); err != nil {
			return err
		}
	}
	if err := x.placed(ctx); err != nil {
		return err
	}
	return x.clear(ctx, "next", was.Database)
}
