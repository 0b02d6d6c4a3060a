package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"alibi/internal/depot"
	"alibi/internal/depot/pointhost"
	"alibi/internal/op/clone"
	"alibi/internal/op/export"
	"alibi/internal/op/keep"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/tables/engines"
)

// Depot gives the depot of restore points, opened once.
func (d *core) store(ctx context.Context) (*depot.Depot, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.depot != nil {
		return d.depot, nil
	}
	store, err := d.openDepot(ctx)
	if err != nil {
		return nil, fmt.Errorf("opening the depot %s: %w", d.points.DepotPath(), err)
	}
	d.depot = store
	return store, nil
}

// openDepot opens the place that the configuration names: a folder, or a bucket.
func (d *core) openDepot(ctx context.Context) (*depot.Depot, error) {
	var keys []*depot.Key
	if file := d.config.Depot.Key; file != "" {
		list, err := export.Keys(file)
		if err != nil {
			return nil, err
		}
		for _, k := range list {
			if own, ok := k.(*depot.Key); ok {
				keys = append(keys, own)
			}
		}
		if len(keys) == 0 {
			return nil, fmt.Errorf("%s holds no key that begins with AGE-SECRET-KEY-1", file)
		}
	}
	if place := d.points.DepotPath(); depot.IsBucket(place) {
		b, err := depot.OpenBucket(ctx, place, d.config.Depot.Credentials)
		if err != nil {
			return nil, err
		}
		return depot.Open(ctx, b, keys...)
	}
	return depot.Open(ctx, depot.Folder(d.points.DepotPath()), keys...)
}

// DepotPath is where the depot is.
func (d *Points) DepotPath() string {
	return cmp.Or(d.config.Depot.Path, filepath.Join(d.home(), "depot"))
}

// Point is a restore point, and what is known of it beside what it holds.
type Point struct {
	depot.Point
	Key   string      `json:"id"`
	Proof depot.Proof `json:"proof"`
}

// Points lists restore points, the newest first; of one site, or all if it is
// "". What can't be read is named in bad.
func (d *Points) Points(ctx context.Context, of site.ID) (out []Point, bad []error, err error) {
	store, err := d.store(ctx)
	if err != nil {
		return nil, nil, err
	}
	list, bad, err := store.Points(ctx)
	for _, p := range list {
		if of != "" && p.Site.ID != of {
			continue
		}
		proof, perr := store.Proof(ctx, p.ID)
		if perr != nil {
			bad = append(bad, perr)
		}
		out = append(out, Point{Point: p, Key: p.ID, Proof: proof})
	}
	return out, bad, err
}

// keptFor is how long what a bucket has is known.
const keptFor = time.Minute

// keptOf sums up what the depot has, if there is one. That it can't be read is
// told where its restore points are shown.
func (d *core) keptOf(ctx context.Context) (out map[site.ID]Kept) {
	if depot.IsBucket(d.points.DepotPath()) {
		d.mu.Lock()
		known, at := d.kept, d.keptAt
		d.mu.Unlock()
		if d.now().Sub(at) < keptFor { // asking costs time and money there
			return known
		}
	} else if _, err := os.Stat(d.points.DepotPath()); err != nil {
		return nil // nothing was kept yet, and looking makes no depot
	}
	list, _, err := d.points.Points(ctx, "")
	if err != nil {
		return nil
	}
	defer func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.kept, d.keptAt = out, d.now()
	}()
	out = map[site.ID]Kept{}
	for _, p := range list {
		k := out[p.Site.ID]
		if k.Points++; k.Points == 1 {
			k.Newest = p.Taken
		}
		if p.Proof.Holds && k.Proven.IsZero() {
			k.Proven = p.Proof.At
		}
		out[p.Site.ID] = k
	}
	return out
}

// FindPoint finds a restore point by its number or name, or the beginning of
// either; a site's name is its newest.
func (d *Points) FindPoint(ctx context.Context, what string) (Point, error) {
	list, bad, err := d.Points(ctx, "")
	if err != nil {
		return Point{}, err
	}
	var part []Point
	for _, p := range list {
		if p.ID == what || p.Name != "" && p.Name == what {
			return p, nil
		}
		if strings.HasPrefix(p.ID, what) || p.Name != "" && strings.HasPrefix(p.Name, what) {
			part = append(part, p)
		}
	}
	switch {
	case len(part) == 1:
		return part[0], nil
	case len(part) > 1:
		return Point{}, fmt.Errorf("%q may be %s and %d more: say more of it", what, part[0].ID, len(part)-1)
	}
	if s, err := d.fleet.Find(ctx, what); err == nil {
		if i := slices.IndexFunc(list, func(p Point) bool { return p.Site.ID == s.ID }); i >= 0 {
			return list[i], nil
		}
	}
	err = fmt.Errorf("%q: %w; see: alibi points", what, depot.ErrUnknown)
	return Point{}, errors.Join(append([]error{err}, bad...)...)
}

// PlanKeep says what taking a restore point of a site will do.
func (d *Points) PlanKeep(ctx context.Context, id site.ID, c keep.Choices) (plan.Plan, error) {
	s, err := d.fresh(ctx, id)
	if err != nil {
		return plan.Plan{}, err
	}
	in := keep.Input{Site: s, Choices: c, Depot: d.DepotPath(), Now: d.now(), Quota: d.config.Quota}
	list, _, err := d.Points(ctx, "")
	if err != nil {
		return plan.Plan{}, err
	}
	in.Use = useOfDepot(list, id)
	list = slices.DeleteFunc(list, func(p Point) bool { return p.Site.ID != id })
	if len(list) > 0 {
		in.Last = &list[0].Point
	}
	m, err := d.host(ctx, d.config.Machine)
	if err != nil {
		return plan.Plan{}, err
	}
	if in.Free, err = m.Free(ctx, d.DepotPath()); err != nil {
		in.Free = 0 // it is not there yet
	}
	return keep.Plan(in), nil
}

// PointInput gathers what a plan of a copy of a restore point is made of, with
// the usual choices.
func (d *Points) PointInput(ctx context.Context, p Point) (clone.Input, clone.Choices, error) {
	in, err := d.pointInput(ctx, p)
	if err != nil {
		return in, clone.Choices{}, err
	}
	c, err := d.copies.CopyDefaults(ctx, in.Origin, "as of "+p.Taken.Format("2 Jan 15:04"))
	return in, c, err
}

// BackInput gathers what a plan of bringing a copy back to what its origin was
// at a restore point is made of.
func (d *Points) BackInput(ctx context.Context, id site.ID, p Point) (clone.Input, clone.Choices, error) {
	return d.refreshInput(ctx, id, func(s site.Site) (clone.Input, error) {
		if p.Site.ID != s.Origin {
			return clone.Input{}, fmt.Errorf(
				"restore point %s is of %s, and %s is no copy of that; make a copy of the point instead: alibi "+
					"points copy %s",
				p.ID,
				p.Site.Name,
				s.Name,
				p.ID,
			)
		}
		return d.pointInput(ctx, p)
	})
}

// PlanBack says what bringing a copy back to a restore point of its origin will do.
func (d *Points) PlanBack(ctx context.Context, id site.ID, p Point) (plan.Plan, error) {
	in, c, err := d.BackInput(ctx, id, p)
	if err != nil {
		return plan.Plan{}, err
	}
	return d.copies.PlanFrom(in, c), nil
}

// pointInput gathers what a copy of a restore point is made of.
func (d *core) pointInput(ctx context.Context, p Point) (clone.Input, error) {
	origin := p.Site
	origin.Host = pointhost.Name(p.ID)
	if origin.Facts == nil {
		return clone.Input{}, fmt.Errorf("restore point %s does not say what its site is made of: it was taken of a "+
			"site that was never inspected", p.ID)
	}
	if _, err := d.record.Site(ctx, origin.ID); err != nil { // it was taken elsewhere, or the site was forgotten
		return clone.Input{}, fmt.Errorf(
			"restore point %s is of %s, which is not in the record: %w; its files and tables can be had all the "+
				"same: alibi points extract, alibi points dump",
			p.ID,
			origin.Name,
			err,
		)
	}
	return d.copyInput(ctx, origin)
}

// PlanFromPoint says what making a copy of a restore point will do, with choices
// changed.
func (d *Points) PlanFromPoint(ctx context.Context, p Point, change func(*clone.Choices) error) (plan.Plan, error) {
	in, c, err := d.PointInput(ctx, p)
	if err == nil {
		err = change(&c)
	}
	if err != nil {
		return plan.Plan{}, err
	}
	return d.copies.PlanFrom(in, c), nil
}

// Since compares a restore point with its site as it is now.
func (d *Points) Since(ctx context.Context, p Point) (*keep.Changes, error) {
	s, err := d.record.Site(ctx, p.Site.ID)
	if err != nil {
		return nil, fmt.Errorf("the site of restore point %s: %w", p.ID, err)
	}
	h, err := d.opened(ctx, p)
	if err != nil {
		return nil, err
	}
	return keep.Differ(ctx, d.env, s, h)
}

func (d *core) opened(ctx context.Context, p Point) (*pointhost.Host, error) {
	store, err := d.store(ctx)
	if err != nil {
		return nil, err
	}
	return pointhost.Open(ctx, store, p.ID)
}

// Browse lists a folder of a restore point; "" is the site's.
func (d *Points) Browse(ctx context.Context, p Point, dir string) ([]fs.FileInfo, error) {
	h, err := d.opened(ctx, p)
	if err != nil {
		return nil, err
	}
	root, err := h.Open(ctx, p.Site.Root)
	if err != nil {
		return nil, err
	}
	return root.ReadDir(cmp.Or(strings.Trim(dir, "/"), "."))
}

// Extract brings a file or folder of a restore point to a new place on this
// machine, and tells how many files and bytes that was.
func (d *Points) Extract(ctx context.Context, p Point, what, to string) (files int, bytes int64, err error) {
	h, err := d.opened(ctx, p)
	if err != nil {
		return 0, 0, err
	}
	if to, err = filepath.Abs(to); err != nil {
		return 0, 0, err
	}
	if _, err := os.Lstat(to); err == nil {
		return 0, 0, fmt.Errorf("%s is there already: name a new place, nothing is written over", to)
	}
	return keep.Extract(ctx, h, cmp.Or(strings.Trim(what, "/"), "."), to)
}

// MendDepot sets aside what of the depot is damaged; see depot.Mend.
func (d *Points) MendDepot(ctx context.Context) (depot.Mended, error) {
	store, err := d.store(ctx)
	if err != nil {
		return depot.Mended{}, err
	}
	return store.Mend(ctx)
}

// Dump writes the tables of a restore point to a new file on this machine, as
// statements that the database's own client loads, and tells its size.
func (d *Points) Dump(ctx context.Context, p Point, to string) (size int64, err error) {
	h, err := d.opened(ctx, p)
	if err != nil {
		return 0, err
	}
	db, err := h.Database(ctx, p.Site.Database)
	if err != nil {
		return 0, err
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return 0, err
	}
	defer snap.Close()
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, fmt.Errorf("writing the tables: %w; nothing is written over", err)
	}
	err = engines.Dump(ctx, snap, f)
	if err == nil {
		size, err = f.Seek(0, io.SeekCurrent)
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		_ = os.Remove(to)
	}
	return size, err
}

// PlanRehearse says what proving that a restore point restores will do.
func (d *Points) PlanRehearse(ctx context.Context, p Point) (plan.Plan, error) {
	all, err := d.record.Sites(ctx)
	if err != nil {
		return plan.Plan{}, err
	}
	made, err := d.PlanFromPoint(ctx, p, func(c *clone.Choices) error {
		c.Name = site.FreeName("rehearsal", nameTaken(all))
		c.Purpose, c.Lease = "to see whether restore point "+p.ID+" restores", time.Hour
		return nil
	})
	if err != nil {
		return made, err
	}
	return clone.Rehearse(made), nil
}

// VerifyDepot reads and checks every byte of the depot.
func (d *Points) VerifyDepot(ctx context.Context, tell func(bytes int64)) ([]depot.Fault, error) {
	store, err := d.store(ctx)
	if err != nil {
		return nil, err
	}
	return store.Verify(ctx, tell)
}

// goes gives the points of one site, newest first, that a rule does not keep.
// Those with a name stay.
func goes(r site.KeepRule, list []Point) (out []Point) {
	times := make([]time.Time, len(list))
	for i, p := range list {
		times[i] = p.Taken.Local()
	}
	for i, keep := range r.Keeps(times) {
		if !keep && list[i].Name == "" {
			out = append(out, list[i])
		}
	}
	return out
}

// Going gives the points of all sites that a rule does not keep.
func (d *Points) Going(ctx context.Context, r site.KeepRule) ([]Point, error) {
	list, _, err := d.Points(ctx, "")
	if err != nil {
		return nil, err
	}
	by := map[site.ID][]Point{}
	for _, p := range list {
		by[p.Site.ID] = append(by[p.Site.ID], p)
	}
	var out []Point
	for _, l := range by {
		out = append(out, goes(r, l)...)
	}
	slices.SortFunc(out, func(a, b Point) int { return cmp.Compare(a.ID, b.ID) })
	return out, nil
}

// SetKeepRule has restore points of a site taken on a schedule, and thinned out;
// the zero rule ends that. Points that are there stay.
func (d *Points) SetKeepRule(ctx context.Context, id site.ID, r site.KeepRule) (site.Site, error) {
	s, err := d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		s.Keep = r
		return nil
	})
	if err != nil {
		return s, err
	}
	if r == (site.KeepRule{}) {
		return s, d.log(ctx, id, "schedule", "no restore points are taken on a schedule any more")
	}
	return s, d.log(ctx, id, "schedule", "restore points are taken on a schedule: %s", r)
}

// KeepOnSchedule puts a restore point of a site into the queue if one is due,
// and removes those, taken on schedule, that its rule does not keep.
func (d *Points) KeepOnSchedule(ctx context.Context, s site.Site) error {
	list, _, err := d.Points(ctx, s.ID)
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(p Point) bool { return p.Kind != depot.BySched })
	var newest time.Time
	if len(list) > 0 {
		newest = list[0].Taken.Local()
	}
	if !s.Keep.Due(newest, d.now().Local()) {
		gone := goes(s.Keep, list)
		if len(gone) == 0 {
			return nil
		}
		_, err := d.ForgetPoints(ctx, gone)
		if errors.Is(err, depot.ErrBusy) {
			return nil // what they alone needed goes the next time
		}
		return err
	}
	runs, err := d.record.Runs(ctx, 50)
	if err != nil {
		return err
	}
	for _, r := range runs { // one that failed is tried again by the next period, or by hand
		if r.Plan.Kind == plan.Keep && r.Plan.Origin.ID == s.ID &&
			(!r.State.Over() || !s.Keep.Due(r.Made.Local(), d.now().Local())) {
			return nil
		}
	}
	p, err := d.PlanKeep(ctx, s.ID, keep.Choices{Kind: depot.BySched})
	if err != nil || p.Blocked() {
		return err
	}
	_, err = d.queue.Add(ctx, p, "keeper", "")
	return err
}

// ForgetPoints takes restore points out of the list, and removes from the depot
// what no other needs.
func (d *Points) ForgetPoints(ctx context.Context, list []Point) (depot.Pruned, error) {
	store, err := d.store(ctx)
	if err != nil {
		return depot.Pruned{}, err
	}
	for _, p := range list {
		if err := store.Forget(ctx, p.ID); err != nil {
			return depot.Pruned{}, err
		}
		if err := d.log(ctx, p.Site.ID, "forget", "restore point %s of %s forgotten", p.ID,
			p.Taken.Format("2 Jan 2006 15:04")); err != nil {
			return depot.Pruned{}, err
		}
	}
	return store.Prune(ctx, false)
}
