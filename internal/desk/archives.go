package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"alibi/internal/archive"
	"alibi/internal/depot"
	"alibi/internal/op/export"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// PlanArchive says what writing a site into an archive will do; it goes to a file,
// or a folder (one that is there, or whose name ends with a slash), in which it
// gets a name with the site's and the date.
func (d *Points) PlanArchive(ctx context.Context, s site.Site, p *Point, c export.Choices) (plan.Plan, error) {
	if s.Run != "" && p == nil {
		return plan.Plan{}, fmt.Errorf("a run (%s) is at work on %s; wait for it or cancel it", s.Run, s.Name)
	}
	at := d.now()
	var point *depot.Point
	if p != nil {
		c.Point, at, point = p.ID, p.Taken, &p.Point
	}
	to, err := filepath.Abs(c.To)
	if err != nil {
		return plan.Plan{}, err
	}
	folder := strings.HasSuffix(c.To, "/")
	if fi, err := os.Stat(to); folder || err == nil && fi.IsDir() {
		to = filepath.Join(to, export.Name(s, at, len(c.For) > 0))
	}
	if _, err := archive.Parts(to); err == nil {
		return plan.Plan{}, fmt.Errorf("%s is there already: name a new one, nothing is written over", to)
	}
	c.To = to
	m, err := d.host(ctx, d.config.Machine)
	if err != nil {
		return plan.Plan{}, err
	}
	free, err := m.Free(ctx, filepath.Dir(to))
	if err != nil {
		free = 0 // the folder is made when it is written
	}
	return export.Plan(s, c, point, free, d.now())
}

// Archives lists the archives that were made here, the newest first.
func (d *Points) Archives(ctx context.Context) ([]export.Note, error) {
	notes, err := d.record.Notes(ctx, export.NotePrefix)
	if err != nil {
		return nil, err
	}
	out := []export.Note{}
	for _, v := range notes {
		var n export.Note
		if err := json.Unmarshal([]byte(v), &n); err != nil {
			return nil, fmt.Errorf("reading the record: %w", err)
		}
		_, err := archive.Parts(n.Path)
		n.There = err == nil
		out = append(out, n)
	}
	slices.SortFunc(out, func(a, b export.Note) int { return b.Made.Compare(a.Made) })
	return out, nil
}

// openArchive opens an archive, with the keys in a file where it is encrypted.
func openArchive(name, key string) (*archive.In, error) {
	keys, err := export.Keys(key)
	if err != nil {
		return nil, err
	}
	return archive.Open(name, keys)
}

// CheckArchive reads every byte of an archive and checks it.
func (d *Points) CheckArchive(ctx context.Context, name, key string, tell func(bytes int64)) (archive.Manifest, error) {
	name, err := filepath.Abs(name)
	if err != nil {
		return archive.Manifest{}, err
	}
	if err := archive.CheckParts(name); err != nil {
		return archive.Manifest{}, err
	}
	in, err := openArchive(name, key)
	if err != nil {
		return archive.Manifest{}, err
	}
	defer in.Close()
	m, err := archive.Check(ctx, in, tell)
	if err != nil {
		return m, err
	}
	v, err := d.record.Note(ctx, export.NoteKey(name))
	if err != nil || v == "" {
		return m, err
	}
	var n export.Note
	if err := json.Unmarshal([]byte(v), &n); err != nil {
		return m, err
	}
	n.Checked = d.now()
	return m, export.PutNote(ctx, d.record, n)
}

// manifestOnly stops reading behind the manifest.
type manifestOnly struct{ archive.Discard }

var errEnough = errors.New("enough")

func (manifestOnly) Begin(archive.Manifest) error { return errEnough }

// PlanImport says what reading an archive back will do. With as it becomes a
// restore point of that site, which can then be brought to it; else of its own.
func (d *Points) PlanImport(ctx context.Context, name, key string, as *site.Site) (plan.Plan, error) {
	name, err := filepath.Abs(name)
	if err != nil {
		return plan.Plan{}, err
	}
	if key != "" {
		if key, err = filepath.Abs(key); err != nil {
			return plan.Plan{}, err
		}
	}
	in, err := openArchive(name, key)
	if err != nil {
		return plan.Plan{}, err
	}
	defer in.Close()
	m, err := archive.Read(ctx, in, manifestOnly{}, archive.Limits{}, func(int64) {})
	if !errors.Is(err, errEnough) {
		return plan.Plan{}, err
	}
	c := export.ImportChoices{From: name, Key: key}
	if as != nil {
		c.As = as.ID
	}
	h, err := d.host(ctx, d.config.Machine)
	if err != nil {
		return plan.Plan{}, err
	}
	if free, err := h.Free(ctx, d.home()); err == nil {
		c.Limit = 4 * free // what it unpacks to; it is kept compressed
	}
	return export.PlanImport(m, c, as, plan.Plan{At: d.now()})
}
