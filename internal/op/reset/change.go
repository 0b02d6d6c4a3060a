package reset

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"alibi/internal/ballast"
	"alibi/internal/catalogue"
	"alibi/internal/depot"
	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// Change says which components, which settings of theirs and which runtime a
// site gets.
type Change struct {
	Put     []catalogue.Package `json:"put,omitempty"`    // components, in place of those of their names
	Remove  []string            `json:"remove,omitempty"` // paths below the root
	Switch  stack.Switches      `json:"switch,omitzero"`
	Runtime *site.Runtime       `json:"runtime,omitempty"` // of a copy
	Carry   []Carry             `json:"carry,omitempty"`
	Edit    []Edit              `json:"edit,omitempty"`
	Ballast *ballast.Load       `json:"ballast,omitempty"`
	Account *stack.AccountWish  `json:"account,omitempty"`
	Scrub   bool                `json:"scrub,omitempty"`  // personal data are made up
	Caches  bool                `json:"caches,omitempty"` // kept results in tables go
	Anyway  bool                `json:"anyway,omitempty"` // it stays so even if the copy does not answer then
	Pins    string              `json:"pins,omitempty"`   // the pin sheet that asks for this
	Words   string              `json:"words"`            // for people
}

// ChangeOf reads the change of a plan, if it is one.
func ChangeOf(p plan.Plan) *Change {
	c, err := plan.DetailOf[Choices](p)
	if p.Kind != plan.Change || err != nil {
		return nil
	}
	return c.Change
}

// Files tells whether any file changes.
func (c *Change) Files() bool {
	return len(c.Put)+len(c.Remove)+len(c.Carry)+len(c.Edit) > 0 ||
		c.Ballast != nil && (c.Ballast.Remove || c.Ballast.Counts["media"] > 0)
}

// Rows tells whether any row of a table changes.
func (c *Change) Rows() bool {
	return c.Switch.Any() || c.Ballast != nil || c.Account != nil || c.Scrub || c.Caches
}

// core is the core that is put, if one is.
func (c *Change) core() *catalogue.Package {
	i := slices.IndexFunc(c.Put, func(p catalogue.Package) bool { return p.Source.Kind == site.Core })
	if i < 0 {
		return nil
	}
	return &c.Put[i]
}

// assembly is what a change puts into a site, as it will stand there.
type assembly struct {
	root    host.Tree
	entries []tree.Entry
	hashes  map[string]tree.Hash
}

// assemble lays the components out below one folder, as they will stand below the
// site's root.
func (x *runner) assemble(ctx context.Context, st stack.Stack) (*assembly, error) {
	if x.assembled != nil {
		return x.assembled, nil
	}
	dir := filepath.Join(x.env.Temp(), "change-"+x.id)
	if err := os.RemoveAll(dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("laying out the components: %w", err)
	}
	for _, p := range x.c.Change.Put {
		if err := lay(p, st, dir); err != nil {
			return nil, fmt.Errorf("laying out %s: %w; plan it again", p.Source.Text(), err)
		}
	}
	if err := x.bring(ctx, st, dir); err != nil {
		return nil, err
	}
	root, err := local.New("cache").Open(ctx, dir)
	if err != nil {
		return nil, err
	}
	list, err := tree.Scan(ctx, root, tree.Filter{})
	if err != nil {
		return nil, err
	}
	a := &assembly{root: root, entries: list.Entries, hashes: map[string]tree.Hash{}}
	files := tree.OnlyFiles(list.Entries)
	if err := tree.Digest(ctx, root, files, nil, func(int64, int) {}); err != nil {
		return nil, fmt.Errorf("reading the components: %w", err)
	}
	for _, f := range files {
		a.hashes[f.Path] = f.Hash
	}
	x.assembled = a
	return a, nil
}

// lay puts the files of a component where they will stand, as a hard link to
// each: no byte is copied.
func lay(p catalogue.Package, st stack.Stack, dir string) error {
	at := stack.ComponentsOf(st).Stands(p.Source.Kind, p.Source.Slug)
	return filepath.WalkDir(p.Dir, func(name string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(p.Dir, name)
		if err != nil {
			return err
		}
		if p.Source.Kind == site.Core && rel != "." && !d.IsDir() &&
			!stack.ComponentsOf(st).CoreFile(filepath.ToSlash(rel)) {
			return nil
		}
		to := filepath.Join(dir, at, rel)
		if d.IsDir() {
			if p.Source.Kind == site.Core && rel != "." &&
				!stack.ComponentsOf(st).CoreFile(filepath.ToSlash(rel)+"/x") {
				return filepath.SkipDir
			}
			return os.MkdirAll(to, 0o755)
		}
		if os.Link(name, to) == nil {
			return nil
		}
		fi, err := d.Info()
		if err != nil {
			return err
		}
		_, err = local.CopyFile(name, to, fi.Mode().Perm())
		return err
	})
}

// changed works out the state with other components.
func (x *runner) changed(ctx context.Context, e *ends) (*state.Wanted, error) {
	c := x.c.Change
	w := &state.Wanted{}
	if x.c.Files && c.Files() {
		own, err := x.own(ctx, e.s)
		if err != nil {
			return nil, err
		}
		a, err := x.assemble(ctx, e.st)
		if err != nil {
			return nil, err
		}
		w.From, w.Hash = a.root, func(p string) tree.Hash { return a.hashes[p] }
		for _, en := range a.entries {
			if !own[en.Path] {
				w.Entries = append(w.Entries, en)
			}
		}
		core := c.core() != nil
		places := c.places(e.st)
		in := inPaths(places)
		some := len(places) > 0
		w.InScope = func(p string) bool {
			return !own[p] && (some && in(p) || core && stack.ComponentsOf(e.st).CoreFile(p))
		}
	}
	if !x.c.Database || !c.Rows() {
		return w, nil
	}
	now, err := e.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	of, err := x.rows(ctx, e, now)
	if err != nil {
		return nil, err
	}
	e.change(w, now, of)
	return w, nil
}

// look remembers how a site answers before it is changed.
func (x *runner) look(ctx context.Context, t *work.Task, s site.Site) {
	if s.Role == site.Live {
		x.lookLive(ctx, t, s)
		return
	}
	if x.c.Change == nil || !x.does("wake") {
		return
	}
	status := 0
	if a, err := x.env.Probe(ctx, s); err == nil {
		status = a.Status
	}
	mark := x.env.Mark(ctx, s)
	t.Memorize(func() { x.mem.Answered, x.mem.Mark = status, mark })
}

// lookLive remembers how a live site's pages answer; once, before anything of it
// was touched.
func (x *runner) lookLive(ctx context.Context, t *work.Task, s site.Site) {
	if x.env.Web == nil || x.mem.Reserved {
		return
	}
	word, _ := x.env.Pass(s.ID)
	pages, err := x.env.Pages(ctx, s, word, nil)
	if err != nil {
		t.Note("%s", err)
		return
	}
	t.Memorize(func() { x.mem.Pages = pages })
}

// wake has the changed copy run for the first time, and sees whether it does.
func (x *runner) wake(ctx context.Context, t *work.Task) error {
	s, err := x.now(ctx)
	if err != nil {
		return err
	}
	c := x.c.Change
	was := s.Runtime
	t.Memorize(func() {
		x.mem.Woke = true
		if c.Runtime != nil && x.mem.Runtime == nil {
			x.mem.Runtime = &was
		}
	})
	if err := t.Remember(); err != nil {
		return err
	}
	if s, err = x.env.Record.ChangeSite(ctx, s.ID, func(s *site.Site) error {
		if c.Runtime != nil {
			s.Runtime = *c.Runtime
		}
		s.PlacedAt = x.env.Now() // its code is started anew
		return nil
	}); err != nil {
		return err
	}
	w, err := x.env.Wake(ctx, s, op.Ask{On: c.Switch.On, Update: c.core() != nil})
	if errors.Is(err, op.ErrNotRun) {
		t.Memorize(func() { x.mem.Woke = false })
		x.result(t, x.answers(ctx, s))
		return nil
	}
	why := err
	if answer := answering(x.env.Probe(ctx, s)); why == nil {
		why = answer
	}
	if why == nil {
		text := "its pages answer"
		if w.Before != w.After {
			text += fmt.Sprintf("; its data were brought from version %s to %s", w.Before, w.After)
		}
		t.Note("%s", text)
		x.result(t, text)
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	list, err := x.env.Complaints(ctx, s, x.mem.Mark)
	if err != nil {
		return err
	}
	if len(list) > 0 {
		why = fmt.Errorf("%w: %s", why, list[0])
	}
	if c.Anyway || x.mem.Answered == 0 || x.mem.Answered >= http.StatusInternalServerError {
		t.Note("it does not answer well: %s", why)
		x.result(t, fmt.Sprintf("it does not answer well: %s", why))
		return nil
	}
	return fmt.Errorf("%w then: %w", ErrBreaks, why)
}

// answering says what is wrong with an answer.
func answering(a op.Answer, err error) error {
	switch {
	case err != nil:
		return err
	case a.Status >= http.StatusInternalServerError:
		return fmt.Errorf("its first page answers %d", a.Status)
	case len(a.Failed) > 0:
		return fmt.Errorf("%d of its pages fail, the first: %s", len(a.Failed), a.Failed[0])
	}
	return nil
}

// ErrBreaks says that a copy does not answer as it did any more.
var ErrBreaks = errors.New("the copy does not answer")

// sleep brings back the restore point that was taken first, if the site's own
// code ran since: it may have written anything. Broken off, it is done again.
func (x *runner) sleep(ctx context.Context) error {
	if !x.mem.Woke {
		return nil
	}
	d, err := x.env.Depot(ctx)
	if err != nil {
		return err
	}
	list, _, err := d.Points(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(p depot.Point) bool { return p.Run == x.id })
	if i < 0 {
		return errors.New("the restore point that was taken first is not in the depot any more")
	}
	back := x.p
	back.Steps = stepsOf(true, x.does("tables") || x.hasTables(), 0, 0)
	sub := &runner{env: x.env, p: back, run: x.run, id: x.id + "b"}
	sub.c = Choices{Point: list[i].ID, Files: true, Database: true}
	s, err := x.now(ctx)
	if err != nil {
		return err
	}
	m := sub.maker(s)
	if err := m.Clear(ctx); err != nil { // of an earlier try
		return err
	}
	t := work.Detached(plan.Run{ID: sub.id, Plan: back})
	for _, part := range []func(context.Context, state.Task) error{m.Stage, m.Tables, m.Files} {
		if err := part(ctx, t); err != nil {
			return fmt.Errorf("bringing back restore point %s: %w", list[i].ID, err)
		}
	}
	if err := sub.prove(ctx, t); err != nil {
		return fmt.Errorf("bringing back restore point %s: %w", list[i].ID, err)
	}
	if err := m.Commit(ctx); err != nil {
		return err
	}
	if err := m.Clear(ctx); err != nil {
		return err
	}
	x.mem.Woke = false
	return nil
}

// hasTables tells whether the site has a database.
func (x *runner) hasTables() bool { return x.p.Target.Database.Engine != "" }

// changeSteps are the steps of a change.
func changeSteps(c Choices, s site.Site, bytes, rows int64) []plan.Step {
	out := stepsOf(c.Files, c.Database && s.Database.Engine != "", bytes, rows)
	if s.Role != site.Copy {
		return out
	}
	last := len(out) - 1
	return slices.Insert(out, last, plan.Step{Name: "wake", Title: "run it, and ask for its pages"})
}

// changeFindings are what is to be known before a change.
func changeFindings(in Input, note func(site.Severity, string, string, string)) {
	c, s := in.Choices.Change, in.Site
	if s.Role == site.Live {
		switch {
		case c.Ballast != nil || c.Account != nil || c.Scrub:
			note(site.Block, "live", "made-up content, accounts and people are for copies",
				"make one: alibi copy "+s.Name)
		case c.core() != nil || c.Runtime != nil:
			note(site.Block, "live-core", "core and runtime of a live site are not changed from here",
				"try it on a copy: alibi copy "+s.Name)
		case len(c.Switch.On) > 0:
			note(site.Warn, "hooks", "what a plugin does when it is activated is not done: no code of a live site is "+
				"run from here", "open its page of plugins once")
		}
	}
	if len(c.Switch.Off) > 0 || c.Switch.AllOff {
		note(site.Note, "off", "what a plugin does when it is deactivated is not done", "its tasks and tables stay")
	}
	for _, p := range c.Remove {
		if strings.HasPrefix(path.Base(p), ".") {
			note(site.Block, "path", p+" is no component", "name a plugin or a theme")
		}
	}
}
