package export

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"

	"filippo.io/age"
	"github.com/zeebo/blake3"

	"alibi/internal/archive"
	"alibi/internal/depot"
	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// ImportChoices of an archive that is read back.
type ImportChoices struct {
	From  string  `json:"from"`            // absolute, on this machine
	Key   string  `json:"key,omitempty"`   // file with age identities
	As    site.ID `json:"as,omitempty"`    // the site whose restore point it becomes; "": the one that it is of
	Limit int64   `json:"limit,omitempty"` // bytes that there is room for
}

// PlanImport says what reading an archive into the depot will do.
func PlanImport(m archive.Manifest, c ImportChoices, as *site.Site, p plan.Plan) (plan.Plan, error) {
	p.Kind, p.Origin, p.Target, p.Words = plan.Import, m.Site, m.Site, c.From
	p.Files, p.Bytes, p.Rows = int(m.Files), m.Bytes, m.Rows
	if m.Schema != nil {
		p.Tables = len(m.Schema.Tables)
	}
	if as != nil {
		switch {
		case as.Database.Engine != m.Site.Database.Engine || as.Database.Prefix != m.Site.Database.Prefix ||
			as.Stack != m.Site.Stack:
			return p, fmt.Errorf(
				"%s is a %s site with %s tables %s..., and the archive has a %s site with %s tables %s...: make a "+
					"copy of it instead",
				as.Name,
				as.Stack,
				as.Database.Engine,
				as.Database.Prefix,
				m.Site.Stack,
				m.Site.Database.Engine,
				m.Site.Database.Prefix,
			)
		case as.Address() != m.Site.Address():
			return p, fmt.Errorf(
				"the archive is of a site at %s, and %s answers at %s: make a copy of it instead, which has its "+
					"addresses changed",
				m.Site.Address(),
				as.Name,
				as.Address(),
			)
		}
		p.Target = *as
	}
	p.Steps = []plan.Step{{Name: "import", Title: "read the archive", Work: m.Bytes, Unit: plan.Bytes}}
	p.Writes = []string{"nothing on any site", "the depot: a restore point of " + p.Target.Name}
	if !m.Secrets {
		p.Findings = append(
			p.Findings,
			site.Finding{
				Severity: site.Note,
				Code:     "secrets",
				Text:     "it holds no passwords: accounts need new ones once it is brought back",
				Remedy:   "alibi open --inside signs in to a copy without one",
			},
		)
	}
	p.SetDetail(c)
	p.Origin.Facts, p.Target.Facts = nil, nil
	return p, nil
}

// Keys reads age identities from a file.
func Keys(file string) ([]age.Identity, error) {
	if file == "" {
		return nil, nil
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("reading the key: %w", err)
	}
	defer f.Close()
	keys, err := age.ParseIdentities(f)
	if err != nil {
		return nil, fmt.Errorf("%s holds no age key: it has a line that begins with AGE-SECRET-KEY-1", file)
	}
	return keys, nil
}

type importer struct {
	env *op.Env
	p   plan.Plan
	c   ImportChoices
}

// Import is the operation of reading an archive into the depot. It needs no site.
func Import(env *op.Env) work.Definition {
	return work.Definition{
		Kind: plan.Import,
		Begin: work.Begin(func(r plan.Run, c ImportChoices) *work.Operation {
			x := &importer{env: env, p: r.Plan, c: c}
			return &work.Operation{Steps: work.Each(map[string]work.Do{"import": x.read})}
		}),
	}
}

// read reads the archive into the depot. The point is there once everything was
// checked; what a broken-off try stored is found again.
func (x *importer) read(ctx context.Context, t *work.Task) error {
	d, err := x.env.Depot(ctx)
	if err != nil {
		return err
	}
	list, _, err := d.Points(ctx)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(list, func(p depot.Point) bool { return p.Run == t.Run().ID }); i >= 0 {
		x.tell(t, list[i])
		return nil
	}
	keys, err := Keys(x.c.Key)
	if err != nil {
		return err
	}
	if err := archive.CheckParts(x.c.From); err != nil {
		return err
	}
	in, err := archive.Open(x.c.From, keys)
	if err != nil {
		return err
	}
	defer in.Close()
	s := &sink{x: x, ctx: ctx, t: t}
	if s.to, err = d.Take(ctx); err != nil {
		return err
	}
	defer s.to.Close()
	if _, err := archive.Read(ctx, in, s, archive.Limits{Bytes: x.c.Limit}, func(n int64) { t.Add(n, 0) }); err != nil {
		return err
	}
	x.tell(t, s.p)
	return nil
}

func (x *importer) tell(t *work.Task, p depot.Point) {
	t.Result("restore point %s of %s: %s files, %s rows; the depot grew by %s", p.ID, p.Site.Name, site.Number(p.Files),
		site.Number(p.Rows), site.Size(p.Added))
	t.Entry("restore point %s read from the archive %s", p.ID, x.c.From)
}

// sink keeps what an archive holds in the depot.
type sink struct {
	x     *importer
	ctx   context.Context
	t     *work.Task
	to    *depot.Taking
	p     depot.Point
	m     archive.Manifest
	files []depot.File
}

func (s *sink) Begin(m archive.Manifest) error {
	s.m = m
	of := m.Site
	of.Run, of.State = "", site.Ready
	if path.Clean(of.Root) != of.Root || !path.IsAbs(of.Root) || of.Root == "/" || of.Facts == nil {
		return fmt.Errorf("%w: it does not say where its site was, or what it is made of", archive.ErrHostile)
	}
	if s.x.c.As != "" {
		as, err := s.x.env.Record.Site(s.ctx, s.x.c.As)
		if err != nil {
			return err
		}
		as.Facts, as.Root = of.Facts, of.Root
		of = as
	}
	s.p = depot.Point{
		Site:    of,
		Run:     s.t.Run().ID,
		Taken:   m.Taken,
		By:      s.t.Run().By,
		Kind:    depot.FromArchive,
		Name:    filepath.Base(s.x.c.From),
		Why:     "read from an archive",
		Missing: m.Missing,
		Secrets: m.Secrets,
	}
	return nil
}

func (s *sink) File(e tree.Entry, r io.Reader) error {
	if s.x.c.As != "" { // accounts have other numbers elsewhere
		e.Owner = nil
	}
	f := depot.File{Entry: e}
	if r != nil {
		h := blake3.New()
		var err error
		if f.Chunks, err = s.to.Stream(io.TeeReader(r, h), new([]byte)); err != nil {
			return err
		}
		h.Sum(f.Hash[:0])
		s.p.Files++
		s.p.Bytes += e.Size
	} else if e.Link != "" && !host.LinkInside(s.p.Site.Root, e.Path, e.Link) {
		return fmt.Errorf("%w: the link %s leads out of the site", archive.ErrHostile, e.Path)
	}
	s.files = append(s.files, f)
	return nil
}

func (s *sink) Rows(t tables.Table, next func(func(tables.Row) error) error) error {
	k, err := s.to.Table(t, next)
	s.p.Tables = append(s.p.Tables, k)
	s.p.Rows += k.Rows
	s.p.Bytes += k.Bytes
	return err
}

// End seals the point, and has the record know the site that it is of.
func (s *sink) End() (err error) {
	if s.p.List, err = s.to.Files(s.files); err != nil {
		return err
	}
	if s.m.Schema != nil {
		if s.p.Schema, err = s.to.JSON(s.m.Schema); err != nil {
			return err
		}
	}
	if _, err := s.x.env.Record.Site(s.ctx, s.p.Site.ID); errors.Is(err, inventory.ErrUnknown) {
		gone := s.p.Site
		gone.State = site.Gone
		err = s.x.env.Record.PutSite(s.ctx, gone)
		if err != nil {
			return err
		}
	} else if err != nil {
		return err
	}
	s.p, err = s.to.Seal(s.p)
	return err
}
