// Package blank makes a site that is a copy of nothing: a core, unpacked, with a
// database of its own, set up as any copy is, and installed by the CMS's own
// routine.
package blank

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"alibi/internal/baseline"
	"alibi/internal/catalogue"
	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// Choices of a blank site.
type Choices struct {
	Core  catalogue.Package `json:"core"`
	Title string            `json:"title"`
	Admin string            `json:"admin"` // name of the administrator
	Mail  string            `json:"mail"`
	Hash  string            `json:"hash,omitempty"` // of its password: bcrypt; "": nobody's password signs in
	Pins  string            `json:"pins,omitempty"` // the pin sheet that the finished site is brought to
	Lease time.Duration     `json:"lease"`          // 0: held
	Hold  string            `json:"hold,omitempty"`
}

// Input is what a plan is made of.
type Input struct {
	Choices  Choices
	Name     string
	Purpose  string
	Taken    func(string) bool
	Stack    stack.Stack
	Local    string // this machine's name
	Folder   string // of copies
	Server   string // of databases, as the configuration names it; "": none
	PHP      string // series
	Have     []string
	Runtime  site.Runtime
	Settings site.Settings
	Quiet    []site.Rule
	Port     string
	Grace    time.Duration
	Free     int64
	Now      time.Time
	By       string
}

// target is the site that is made.
func target(in Input) site.Site {
	t := site.Site{
		ID:        site.NewID(),
		Name:      in.Name,
		Role:      site.Copy,
		State:     site.Ready,
		Host:      in.Local,
		Stack:     in.Stack.Name(),
		Purpose:   in.Purpose,
		Owner:     in.By,
		MadeAt:    in.Now,
		CheckedAt: in.Now,
		Root:      filepath.Join(in.Folder, in.Name, "now", "site"),
		Addresses: []site.Address{{Scheme: "http", Host: in.Name + ".localhost", Port: in.Port}},
		Quiet:     in.Quiet,
		Settings:  in.Settings,
		Runtime:   in.Runtime,
		Title:     in.Choices.Title,
	}
	t.Runtime.PHP = in.PHP
	slug := strings.ReplaceAll(site.Slug(in.Name), "-", "_")
	t.Database = site.Database{
		Engine: site.Served,
		Server: in.Server,
		Prefix: stack.InstallerOf(in.Stack).TablePrefix(),
		Name:   op.DatabasePrefix + slug[:min(len(slug), 18)] + "_" + string(t.ID[:4]),
	}
	t.Database.User = t.Database.Name
	return t
}

// check notes what stands against it.
func check(in Input, note func(site.Severity, string, string, string)) {
	c := in.Choices
	if err := site.CheckName(in.Name, in.Taken); err != nil {
		note(site.Block, "name", err.Error(), "choose another name")
	}
	for _, x := range []struct{ v, what string }{{c.Title, "a title"}, {c.Admin, "the name of its administrator"},
		{c.Mail, "the administrator's mail address"}} {
		if strings.TrimSpace(x.v) == "" {
			note(site.Block, "missing", "the CMS asks for "+x.what, "say it")
		}
	}
	if in.Server == "" {
		note(site.Block, "server", "there is no database server for copies on "+in.Local,
			"install MariaDB, or name one in the configuration: database")
	}
	if !slices.Contains(in.Have, in.PHP) {
		note(site.Block, "php", "PHP "+cmp.Or(in.PHP, "of any version")+" is not on this machine",
			"it has "+cmp.Or(strings.Join(in.Have, ", "), "none"))
	}
	if in.Free > 0 && c.Core.Bytes*2 > in.Free {
		note(site.Block, "disk", fmt.Sprintf("it needs %s, and %s are free", site.Size(c.Core.Bytes*2),
			site.Size(in.Free)), "make room")
	}
}

// Plan says what making a blank site will do.
func Plan(in Input) plan.Plan {
	c := in.Choices
	p := plan.Plan{
		Kind:  plan.Blank,
		At:    in.Now,
		By:    in.By,
		Files: c.Core.Files,
		Bytes: c.Core.Bytes,
		Words: "a blank site, core " + c.Core.Source.Version,
	}
	note := func(sev site.Severity, code, text, remedy string) {
		p.Findings = append(p.Findings, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
	}
	check(in, note)
	t := target(in)
	var err error
	if t.Lease, err = site.BeginOrHold(in.Now, c.Lease, in.Grace, c.Hold, in.By); err != nil {
		note(site.Block, "hold", err.Error(), "say why it is to be kept, or give it a lifetime")
	}
	note(site.Note, "still", "it will have the CMS's first post and page, one account and plain addresses of pages",
		"sign in with a key, or bring content: alibi content import, alibi ballast")
	if c.Hash == "" {
		note(site.Note, "password", "nobody's password signs in to it", "a key does: alibi open "+in.Name+" --inside")
	}
	p.Origin, p.Target = t, t
	p.Steps = []plan.Step{
		{Name: "reserve", Title: "make room"},
		{Name: "files", Title: "lay the core out", Work: c.Core.Bytes, Unit: plan.Bytes},
		{Name: "configure", Title: "set it up as a copy"},
		{Name: "place", Title: "put it in its place"},
		{Name: "install", Title: "have the CMS install itself"},
		{Name: "open", Title: "open it"},
	}
	if c.Pins != "" {
		p.Steps = append(p.Steps, plan.Step{Name: "pins", Title: "have it brought to its pin sheet"})
	}
	p.Goes = []plan.Part{
		{What: "core " + c.Core.Source.Version, Files: int64(c.Core.Files), Bytes: c.Core.Bytes, Note: "comes"},
	}
	p.Writes = []string{
		"folder " + op.Folder(t),
		"database and account " + t.Database.Text(),
		"all of it is removed with the site",
	}
	p.Estimate = plan.Estimate{Low: 3 * time.Second, High: 20 * time.Second, Basis: "usual rates"}
	p.SetDetail(c)
	p.Sort()
	return p
}

type runner struct {
	env *op.Env
	p   plan.Plan
	c   Choices
	run string // its ID
	dir string
}

// Operation is that of making a site that is a copy of nothing.
func Operation(env *op.Env) work.Definition {
	return work.Definition{
		Kind:    plan.Blank,
		Claims:  plan.Plan.AloneOn,
		Consent: plan.Plan.BesideConsent,
		Makes:   true,
		Begin: work.Begin(func(r plan.Run, c Choices) *work.Operation {
			x := &runner{env: env, p: r.Plan, c: c, run: r.ID, dir: env.CopyDir(r.Plan.Target.Name)}
			return &work.Operation{
				Steps: work.Each(map[string]work.Do{
					"reserve":   x.reserve,
					"files":     x.files,
					"configure": x.configure,
					"place":     x.place,
					"install":   x.install,
					"open":      x.open,
					"pins":      x.pins,
				}),
				Undo: func(ctx context.Context) error { return env.Erase(ctx, x.p.Target.ID, x.p.Target.Name) },
			}
		}),
	}
}

func (x *runner) next() string { return filepath.Join(x.dir, "next") }

// reserve notes what will be made before it is made, and takes the name.
func (x *runner) reserve(ctx context.Context, t *work.Task) error {
	s := x.p.Target
	s.State, s.Run = site.Making, t.Run().ID
	if err := x.env.Record.PutSite(ctx, s); err != nil {
		return err
	}
	if err := x.env.Record.AddMade(ctx, inventory.Made{Site: s.ID, Kind: "folder", Host: x.env.Local, Path: x.dir,
		At: x.env.Now()}); err != nil {
		return err
	}
	for _, d := range []string{"site", "caught"} {
		if err := os.MkdirAll(filepath.Join(x.next(), d), 0o700); err != nil {
			return fmt.Errorf("making room for the site: %w", err)
		}
	}
	return nil
}

// opened opens the site that is being built.
func (x *runner) opened(ctx context.Context) (stack.Place, stack.Stack, error) {
	st, err := x.env.Stack(x.p.Target.Stack)
	if err != nil {
		return stack.Place{}, nil, err
	}
	p, err := x.env.Place(ctx, x.env.Local, filepath.Join(x.next(), "site"))
	return p, st, err
}

// write opens the site that is being built to be written to.
func (x *runner) write(ctx context.Context) (host.Root, error) {
	return x.env.Write(ctx, x.run, x.p.Target, filepath.Join(x.next(), "site"))
}

// files lays the core out, with a configuration to begin with.
func (x *runner) files(ctx context.Context, t *work.Task) error {
	st, err := x.env.Stack(x.p.Target.Stack)
	if err != nil {
		return err
	}
	dst, err := x.write(ctx)
	if err != nil {
		return err
	}
	defer dst.Close()
	src, err := local.New("cache").Open(ctx, x.c.Core.Dir)
	if err != nil {
		return fmt.Errorf("the core is not in the cache any more: %w; plan it again", err)
	}
	defer src.Close()
	list, err := tree.Scan(ctx, src, tree.Filter{})
	if err != nil {
		return err
	}
	_, problems, err := tree.Copy(ctx, src, dst, list.Entries,
		func(bytes int64, files int) { t.Add(bytes, int64(files)) })
	if err != nil {
		return fmt.Errorf("laying the core out: %w", err)
	}
	if len(problems) > 0 {
		return fmt.Errorf("laying the core out: %s: %s", problems[0].Path, problems[0].What)
	}
	layout := stack.LayoutOf(st)
	for _, d := range layout.Folders {
		if err := host.MkdirAll(dst, d, 0o755); err != nil {
			return err
		}
	}
	text, err := stack.InstallerOf(st).FirstConfig(dst)
	if err != nil {
		return err
	}
	_, err = host.Put(dst, layout.Config, 0o600, time.Time{}, bytes.NewReader(text))
	return err
}

// configure makes the database, and writes the files that make a copy one.
func (x *runner) configure(ctx context.Context, _ *work.Task) error {
	if err := x.env.MakeDatabase(ctx, x.p.Target, "utf8mb4", ""); err != nil {
		return err
	}
	p, st, err := x.opened(ctx)
	if err != nil {
		return err
	}
	defer p.Root.Close()
	own, err := stack.SettingsOf(st).Configure(
		ctx,
		p,
		stack.Change{
			Origin:   site.Facts{Stack: x.p.Target.Stack},
			Copy:     x.p.Target,
			Password: x.env.Password(x.p.Target.ID),
			Secret:   op.Derive(x.env.Secret, "words", x.p.Target.ID),
		},
	)
	if err != nil {
		return fmt.Errorf("setting the site up: %w", err)
	}
	root, err := x.write(ctx)
	if err != nil {
		return err
	}
	defer root.Close()
	for name, text := range own {
		if err := host.MkdirAll(root, filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if _, err := host.Put(root, name, 0o600, time.Time{}, bytes.NewReader(text)); err != nil {
			return fmt.Errorf("writing %s: %w", name, err)
		}
	}
	return x.note(ctx, p, own)
}

// note keeps what the files are now, so that it can be told what changed.
func (x *runner) note(ctx context.Context, p stack.Place, own map[string][]byte) error {
	list, err := tree.Scan(ctx, p.Root, tree.Filter{})
	if err != nil {
		return err
	}
	b, err := baseline.Create(filepath.Join(x.next(), "baseline.db"))
	if err != nil {
		return err
	}
	defer b.Close()
	var all []baseline.File
	for _, e := range list.Entries {
		_, is := own[e.Path]
		all = append(all, baseline.File{Copy: e, Own: is})
	}
	return b.PutFiles(ctx, all)
}

// place moves what was built to where it belongs.
func (x *runner) place(ctx context.Context, _ *work.Task) error {
	err := os.Rename(x.next(), filepath.Join(x.dir, "now"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) { // done before
		return fmt.Errorf("putting the site in its place: %w", err)
	}
	_, err = x.env.Record.ChangeSite(ctx, x.p.Target.ID,
		func(s *site.Site) error { s.PlacedAt = x.env.Now(); return nil })
	return err
}

// install has the CMS make its tables, and gives the administrator its password.
func (x *runner) install(ctx context.Context, t *work.Task) error {
	s, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	ask, err := x.env.Stack(s.Stack)
	if err != nil {
		return err
	}
	path, form := stack.InstallerOf(ask).FirstForm(x.c.Title, x.c.Admin, x.c.Mail,
		op.Derive(x.env.Secret, "first password", s.ID))
	status, page, err := x.env.Post(ctx, s, path, form)
	if err != nil {
		return fmt.Errorf("having the CMS install itself: %w", err)
	}
	f, err := x.env.Inspect(ctx, s.Host, s.Root, s.Stack)
	if err != nil || len(f.Users) == 0 {
		why := op.Errors(page, s.Root)
		if list, cerr := x.env.Complaints(ctx, s, 0); cerr == nil {
			why = append(why, list...)
		}
		return fmt.Errorf("the CMS did not install itself: it answers %d%s", status,
			strings.TrimSuffix(": "+strings.Join(why[:min(1, len(why))], ""), ": "))
	}
	srv, err := x.env.Server(ctx, s.Host)
	if err != nil {
		return err
	}
	hash := cmp.Or(x.c.Hash, "!")
	db := srv.Open(s.Database.Name, tables.Prefix{})
	set := stack.InstallerOf(ask).SetPassword(s.Database.Prefix)
	if err := db.Exec(ctx, set, hash, x.c.Admin); err != nil {
		return fmt.Errorf("setting the administrator's password: %w", err)
	}
	t.Note("core %s, %s", f.Core, f.Addresses[0])
	return nil
}

// open makes the site answer and begins its lease.
func (x *runner) open(ctx context.Context, t *work.Task) error {
	f, err := x.env.Inspect(ctx, x.p.Target.Host, x.p.Target.Root, x.p.Target.Stack)
	if err != nil {
		return err
	}
	f.PHP = x.p.Target.Runtime.PHP
	if a, err := x.env.Probe(ctx, x.p.Target); err != nil || a.Status != 200 {
		return fmt.Errorf("its first page answers %d %v", a.Status, err)
	}
	s, err := x.env.Record.ChangeSite(ctx, x.p.Target.ID, func(s *site.Site) error {
		s.Facts, s.Title, s.State, s.Run = f, f.Title, site.Ready, ""
		if !s.Lease.Held {
			s.Lease = site.Begin(x.env.Now(), x.c.Lease, s.Lease.Grace)
		}
		return nil
	})
	if err != nil {
		return err
	}
	t.Result("core %s on PHP %s, at %s", f.Core, s.Runtime.PHP, s.Address())
	t.Entry("made blank: core %s, PHP %s", f.Core, s.Runtime.PHP)
	return nil
}

// pins has the site brought to its pin sheet, by a run of its own.
func (x *runner) pins(ctx context.Context, t *work.Task) error {
	s, err := x.env.Record.Site(ctx, x.p.Target.ID)
	if err != nil {
		return err
	}
	return x.env.Pinned(ctx, t, s, x.c.Pins)
}
