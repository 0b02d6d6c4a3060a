// Package export writes sites into archives, and reads archives back: into the
// depot, as restore points, from which copies are made and sites brought back as
// from any other.
package export

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"filippo.io/age"

	"alibi/internal/archive"
	"alibi/internal/depot"
	"alibi/internal/depot/pointhost"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// Choices of an archive.
type Choices struct {
	Point string   `json:"point,omitempty"` // the restore point; "": one is taken
	To    string   `json:"to"`              // absolute, on this machine
	Part  int64    `json:"part,omitempty"`  // bytes of each part; 0: one file
	For   []string `json:"for,omitempty"`   // age recipients; with any, secrets are in it
}

// Note is what is remembered of an archive that was made.
type Note struct {
	Path    string    `json:"path"` // of the file, or what its parts share
	Parts   int       `json:"parts,omitempty"`
	Size    int64     `json:"size"`
	Site    site.ID   `json:"site"`
	Name    string    `json:"name"`
	Taken   time.Time `json:"taken"` // when its site was read
	Made    time.Time `json:"made"`
	Secrets bool      `json:"secrets"`
	Checked time.Time `json:"checked"` // when every byte was read last
	There   bool      `json:"there"`   // it still is where it was made
}

// NoteKey is where the note of an archive is in the record.
func NoteKey(path string) string { return NotePrefix + path }

// NotePrefix begins the keys of such notes.
const NotePrefix = "archive "

// Name is what an archive of a site is called if nobody says otherwise.
func Name(s site.Site, at time.Time, encrypted bool) string {
	n := site.Slug(s.Name) + "-" + at.Local().Format("2006-01-02-150405") + ".tar.zst"
	if encrypted {
		n += ".age"
	}
	return n
}

// Plan says what making an archive will do.
func Plan(s site.Site, c Choices, p *depot.Point, free int64, now time.Time) (plan.Plan, error) {
	out := plan.Plan{Kind: plan.Archive, At: now, Origin: s, Target: s, Words: c.To}
	for _, r := range c.For {
		if _, err := age.ParseX25519Recipient(r); err != nil {
			return out, fmt.Errorf("%q is no age recipient: it begins with age1", r)
		}
	}
	if p != nil {
		out.Files, out.Bytes, out.Rows, out.Tables = int(p.Files), p.Bytes, p.Rows, len(p.Tables)
	} else if s.Facts != nil {
		out.Files, out.Bytes, out.Rows, out.Tables = s.Facts.Files, s.Bytes(), s.Facts.Rows, len(s.Facts.Tables)
	}
	if p == nil {
		out.Steps = append(out.Steps, plan.Step{Name: "keep", Title: "take a restore point", Work: out.Bytes,
			Unit: plan.Bytes})
	}
	out.Steps = append(out.Steps, plan.Step{Name: "write", Title: "write the archive", Work: out.Bytes,
		Unit: plan.Bytes}, plan.Step{Name: "check", Title: "read it back", Work: out.Bytes, Unit: plan.Bytes})
	out.Writes = []string{"nothing on the site", "the archive " + c.To}
	if len(c.For) == 0 {
		out.Findings = append(
			out.Findings,
			site.Finding{
				Severity: site.Note,
				Code:     "secrets",
				Text: "passwords, their digests and keys are left out: accounts get new passwords when it is " +
					"brought back",
				Remedy: "encrypt it, and they are in it: --for age1...",
			},
		)
	}
	if free > 0 && out.Bytes > free {
		out.Findings = append(
			out.Findings,
			site.Finding{
				Severity: site.Warn,
				Code:     "disk",
				Text: fmt.Sprintf("the site has %s, and %s are free there", site.Size(out.Bytes),
					site.Size(free)),
				Remedy: "compressed it may fit",
			},
		)
	}
	out.SetDetail(c)
	out.Origin.Facts, out.Target.Facts = nil, nil
	return out, nil
}

type runner struct {
	env *op.Env
	p   plan.Plan
	c   Choices
}

// Operation is that of writing an archive.
func Operation(env *op.Env) work.Definition {
	return work.Definition{
		Kind:   plan.Archive,
		Claims: plan.Plan.FromOrigin,
		Begin: work.Begin(func(r plan.Run, c Choices) *work.Operation {
			x := &runner{env: env, p: r.Plan, c: c}
			return &work.Operation{
				Steps: work.Each(map[string]work.Do{"keep": x.keep, "write": x.write, "check": x.check}),
				Undo:  x.undo,
			}
		}),
	}
}

func (x *runner) keep(ctx context.Context, t *work.Task) error {
	s, err := x.env.Record.Site(ctx, x.p.Origin.ID)
	if err != nil {
		return err
	}
	return x.env.Keep(ctx, t, s, "for an archive")
}

// point is the restore point that was chosen, or the one that the run took.
func (x *runner) point(ctx context.Context, t *work.Task) (*pointhost.Host, error) {
	d, err := x.env.Depot(ctx)
	if err != nil {
		return nil, err
	}
	id := x.c.Point
	if id == "" {
		list, _, err := d.Points(ctx)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(list, func(p depot.Point) bool { return p.Run == t.Run().ID })
		if i < 0 {
			return nil, fmt.Errorf("the restore point of this run: %w", depot.ErrUnknown)
		}
		id = list[i].ID
	}
	return pointhost.Open(ctx, d, id)
}

// write writes the archive anew; what an earlier try left is removed first.
func (x *runner) write(ctx context.Context, t *work.Task) error {
	h, err := x.point(ctx, t)
	if err != nil {
		return err
	}
	if _, err := archive.Parts(x.c.To); err == nil && t.Run().Tries > 1 {
		return nil // it had its name already when the process ended
	}
	if err := archive.ClearUnfinished(x.c.To); err != nil {
		return err
	}
	src, done, err := Source(ctx, x.env, h, len(x.c.For) == 0)
	if err != nil {
		return err
	}
	defer done()
	src.Manifest.By = t.Run().By
	if err := os.MkdirAll(filepath.Dir(x.c.To), 0o755); err != nil {
		return err
	}
	out, err := archive.Create(x.c.To, x.c.Part)
	if err != nil {
		return err
	}
	err = x.through(out, func(w io.Writer) error {
		return archive.Write(ctx, w, src, func(n int64) { t.Add(n, 0) })
	})
	if err != nil {
		out.Discard()
		return err
	}
	made, err := out.Close()
	if err != nil {
		return err
	}
	t.Note("%s in %d %s", site.Size(out.Total), len(made),
		site.Either(len(made) == 1, "file", "files"))
	m := src.Manifest
	n := Note{
		Path:    x.c.To,
		Size:    out.Total,
		Site:    m.Site.ID,
		Name:    m.Site.Name,
		Taken:   m.Taken,
		Made:    x.env.Now(),
		Secrets: len(x.c.For) > 0,
	}
	if x.c.Part > 0 {
		n.Parts = len(made)
	}
	return PutNote(ctx, x.env.Record, n)
}

// PutNote remembers an archive.
func PutNote(ctx context.Context, rec *inventory.Inventory, n Note) error {
	text, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return rec.SetNote(ctx, NoteKey(n.Path), string(text))
}

// through encrypts what is written, where that was chosen.
func (x *runner) through(to io.Writer, write func(io.Writer) error) error {
	if len(x.c.For) == 0 {
		return write(to)
	}
	var all []age.Recipient
	for _, r := range x.c.For {
		a, err := age.ParseX25519Recipient(r)
		if err != nil {
			return err
		}
		all = append(all, a)
	}
	w, err := age.Encrypt(to, all...)
	if err != nil {
		return fmt.Errorf("encrypting the archive: %w", err)
	}
	if err := write(w); err != nil {
		return err
	}
	return w.Close()
}

// Source is a restore point as what an archive is made of.
func Source(ctx context.Context, env *op.Env, h *pointhost.Host, redact bool) (archive.Source, func(), error) {
	none := func() {}
	p := h.Point()
	root, err := h.Open(ctx, p.Site.Root)
	if err != nil {
		return archive.Source{}, none, err
	}
	list, err := tree.Scan(ctx, root, tree.Filter{Attrs: true})
	if err != nil {
		return archive.Source{}, none, err
	}
	s := p.Site
	s.Run, s.Front, s.Pointed, s.Keep = "", nil, nil, site.KeepRule{}
	src := archive.Source{
		Entries: list.Entries,
		Manifest: archive.Manifest{
			Site:    s,
			Taken:   p.Taken,
			Point:   p.ID,
			Files:   p.Files,
			Rows:    p.Rows,
			Bytes:   p.Bytes,
			Missing: p.Missing,
		},
		Open: func(name string) (io.ReadCloser, error) { return root.Open(name) },
	}
	src.Manifest.Files = 0 // links are no files there
	src.Manifest.Owners = true
	for _, e := range list.Entries {
		src.Manifest.Owners = src.Manifest.Owners && e.Owner != nil
		if e.Regular() {
			src.Manifest.Files++
		}
	}
	done := none
	if len(p.Schema) > 0 {
		db, err := h.Database(ctx, p.Site.Database)
		if err != nil {
			return src, none, err
		}
		if src.Snapshot, err = db.Snapshot(ctx); err != nil {
			return src, none, err
		}
		schema := src.Snapshot.Schema()
		src.Manifest.Schema = &schema
		done = func() { src.Snapshot.Close() }
	}
	if redact {
		st, err := env.Stack(p.Site.Stack)
		if err != nil {
			return src, done, err
		}
		r := stack.SecretsOf(st).Redact(p.Site.Database.Prefix)
		src.Redact = &r
	}
	return src, done, nil
}

// check reads the archive back. An encrypted one is only compared with the
// digests of its parts: the key to it is not here.
func (x *runner) check(ctx context.Context, t *work.Task) error {
	if err := archive.CheckParts(x.c.To); err != nil {
		return err
	}
	if len(x.c.For) == 0 {
		in, err := archive.Open(x.c.To, nil)
		if err != nil {
			return err
		}
		defer in.Close()
		if _, err := archive.Check(ctx, in, func(n int64) { t.Add(n, 0) }); err != nil {
			return err
		}
	}
	h, err := x.point(ctx, t)
	if err != nil {
		return err
	}
	p := h.Point()
	t.Result("%s: %s files and %s rows of %s, as of %s", x.c.To, site.Number(p.Files), site.Number(p.Rows), p.Site.Name,
		p.Taken.Local().Format("2 Jan 2006 15:04"))
	t.Entry("archive %s made", x.c.To)
	return nil
}

// undo removes what was written.
func (x *runner) undo(context.Context) error {
	err := archive.ClearUnfinished(x.c.To)
	if list, perr := archive.Parts(x.c.To); perr == nil {
		for _, p := range append(list, x.c.To+archive.Sums) {
			if rerr := os.Remove(p); rerr != nil && !errors.Is(rerr, fs.ErrNotExist) {
				err = errors.Join(err, rerr)
			}
		}
	}
	return err
}
