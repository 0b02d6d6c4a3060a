package clone

import (
	"context"
	"errors"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"alibi/internal/baseline"
	"alibi/internal/diff"
	"alibi/internal/evidence"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// sameChoices tells whether the copy is to be made as it is now.
func (x *runner) sameChoices(ctx context.Context) (site.Site, bool, error) {
	now, err := x.env.Record.Site(ctx, x.p.Target.ID)
	return now, err == nil && alike(now, x.p.Target), err
}

// patch brings the tables of a copy in line where they are: rows that changed
// on either side since they parted are put in anew, in one transaction, which
// can be taken back until the copy is opened again. It tells that it could not
// where more differs than rows.
func (x *runner) patch(ctx context.Context, l *loading) (done bool, err error) {
	if _, sums := l.snap.(tables.Summer); !sums || x.p.Kind != plan.Refresh || !x.p.Target.Database.Served() ||
		x.p.Target.Database.Beside() ||
		l.tr.Scrub != nil {
		return false, nil
	}
	l.t.Memorize(func() { x.mem.InPlace = "" })
	now, same, err := x.sameChoices(ctx)
	if err != nil {
		return false, err
	}
	srv, err := x.env.Server(ctx, x.p.Target.Host)
	if err != nil {
		return false, err
	}
	database := now.Database.Name
	edit, can := srv.Edit(database).(tables.Patcher)
	if !can {
		return false, nil
	}
	defer edit.Close()
	if err := edit.Rollback(ctx); err != nil {
		if errors.Is(err, tables.ErrRefused) {
			return false, nil // it is gone: all is loaded anew
		}
		return false, err
	}
	if !same {
		return false, nil
	}
	was, err := baseline.Open(x.at("now", "baseline.db"))
	if err != nil {
		return false, nil // without one all is loaded
	}
	defer was.Close()
	meta, err := was.Meta(ctx)
	if err != nil || meta.Notes == nil {
		return false, ctx.Err()
	}
	changed, err := stack.FromNotes(meta.Notes)
	if err != nil {
		return false, err
	}
	copied, err := srv.Open(database, tables.Prefix{}).Snapshot(ctx)
	if err != nil {
		return false, err
	}
	defer copied.Close()
	if !edit.Patchable(l.schema(), copied.Schema()) {
		return false, nil
	}
	p := &patching{loading: l, copied: copied, was: was, before: changed}
	if err := p.quiet(ctx, meta); err != nil {
		return false, err
	}
	if err := p.compare(ctx); err != nil {
		return false, err
	}
	if err := edit.Patch(ctx, p.tables(), func(to tables.Patch) error { return p.write(ctx, to) }); err != nil {
		return false, err
	}
	if err := edit.SetNext(ctx, copied.Schema(), l.snap.Schema(), true); err != nil {
		return false, err
	}
	l.t.Note("%d rows brought again, in %d tables", p.rows, len(p.differ))
	l.t.Memorize(func() { x.mem.InPlace = database })
	return true, nil
}

// tablesBack brings the tables of a copy back to what they were before a refresh.
func (x *runner) tablesBack(ctx context.Context, was site.Site) error {
	if !was.Database.Served() || was.Database.Beside() {
		return nil
	}
	srv, err := x.env.Server(ctx, was.Host)
	if err != nil {
		return err
	}
	err = srv.Edit(was.Database.Name).Rollback(ctx)
	if errors.Is(err, tables.ErrRefused) {
		return nil // no such database
	}
	return err
}

// commit makes what a refresh changed in place final.
func (x *runner) commit(ctx context.Context) error {
	srv, err := x.env.Server(ctx, x.p.Target.Host)
	if err != nil {
		return err
	}
	return srv.Edit(x.mem.InPlace).Commit(ctx)
}

// patching is a loading of what differs only.
type patching struct {
	*loading
	copied tables.Snapshot
	was    *baseline.Baseline
	before map[string]stack.Changed // by table

	originQuiet, copyQuiet map[string]bool // tables to which nobody wrote since

	mu     sync.Mutex
	differ []*differing
	rows   int64
}

// differing is a table some rows of which must be brought again.
type differing struct {
	tab     tables.Table
	whole   bool             // all of them
	fetch   [][]tables.Value // keys of those to be brought
	touched [][]tables.Value // keys of those to be removed first
	n       *noting

	copyQuiet bool // nobody wrote to the copy's table since it was compared
}

// compare finds out which rows differ, and notes all others.
func (p *patching) compare(ctx context.Context) error {
	schema := p.snap.Schema()
	total := int64(0)
	for _, t := range schema.Tables {
		total += t.Rows
	}
	p.t.Expect(total)
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(p.snap.Readers())
	for _, tab := range schema.Tables {
		g.Go(func() error {
			d, err := p.table(gctx, tab)
			if err != nil || d == nil {
				return err
			}
			p.mu.Lock()
			defer p.mu.Unlock()
			p.differ = append(p.differ, d)
			return nil
		})
	}
	return g.Wait()
}

// table compares one table with what it was; nil: nothing is to be done.
func (p *patching) table(ctx context.Context, tab tables.Table) (*differing, error) {
	n, err := p.noting(ctx, tab)
	if err != nil {
		return nil, err
	}
	d := &differing{tab: tab, n: n}
	rows, err := p.was.Count(ctx, tab.Name)
	if err != nil {
		return nil, err
	}
	now, _ := p.copied.Schema().Table(tab.Name)
	d.copyQuiet = p.copyQuiet[tab.Name] && now.Rows == rows
	if d.copyQuiet && p.originQuiet[tab.Name] && tab.Rows == rows {
		return nil, p.asItWas(ctx, n, rows)
	}
	if len(tab.Key) == 0 || n.textKey {
		if same, err := p.sameWhole(ctx, tab, n, rows); err != nil || same {
			return nil, err
		}
		d.whole = true
		return d, nil
	}
	for _, part := range tables.Shards(max(rows, tab.Rows, now.Rows)) {
		if err := p.part(ctx, d, part); err != nil {
			return nil, err
		}
		if d.many() {
			break
		}
	}
	return p.decide(ctx, d)
}

// part compares a part of a table's rows with what they were.
func (p *patching) part(ctx context.Context, d *differing, part tables.Shard) error {
	base, err := p.was.Shard(ctx, d.tab.Name, part)
	if err != nil {
		return err
	}
	clean, err := p.onCopy(ctx, d, base, part)
	if err != nil {
		return err
	}
	if err := p.onOrigin(ctx, d, base, clean, part); err != nil || len(clean) == 0 {
		return err
	}
	// What is left of them is not on the origin any more.
	return diff.Stored(p.copied, d.tab)(ctx, part, func(r diff.Row) error {
		if clean[r.Key] {
			d.touched = append(d.touched, tables.Keep(r.Values))
		}
		return nil
	})
}

// mostPatched is up to how many rows of a table are brought one by one: their keys
// are remembered meanwhile.
const mostPatched = 500_000

// many tells whether so many rows differ that reading the whole table is better.
func (d *differing) many() bool {
	return int64(len(d.fetch)) > d.tab.Rows/2 || len(d.fetch)+len(d.touched) > mostPatched
}

// onCopy goes through the copy's rows. Those that are not as they were made are
// to be removed; the others are given.
func (p *patching) onCopy(
	ctx context.Context,
	d *differing,
	base map[uint64]baseline.Pair,
	part tables.Shard,
) (clean map[uint64]bool, err error) {
	clean = make(map[uint64]bool, len(base))
	if d.copyQuiet {
		for k := range base {
			clean[k] = true
		}
		return clean, nil
	}
	return clean, diff.Stored(p.copied, d.tab)(ctx, part, func(r diff.Row) error {
		if b, known := base[r.Key]; known && b.Copy == r.Sum {
			clean[r.Key] = true
		} else {
			d.touched = append(d.touched, tables.Keep(r.Values))
		}
		return nil
	})
}

// onOrigin goes through the origin's rows, and notes those that are as they were
// on both sides; the others are to be brought. Rows that it meets are taken out
// of clean.
func (p *patching) onOrigin(
	ctx context.Context,
	d *differing,
	base map[uint64]baseline.Pair,
	clean map[uint64]bool,
	part tables.Shard,
) error {
	return diff.Stored(p.snap, d.tab)(ctx, part, func(r diff.Row) error {
		b, known := base[r.Key]
		there := clean[r.Key]
		delete(clean, r.Key)
		if there && known && b.Origin == r.Sum {
			d.n.tally.Add(d.tab.Name, tables.Digest{r.Sum})
			if err := d.n.w.Put(ctx, r.Key, b); err != nil {
				return err
			}
			return d.n.tick(ctx)
		}
		key := tables.Keep(r.Values)
		d.fetch = append(d.fetch, key)
		if there {
			d.touched = append(d.touched, key)
		}
		return nil
	})
}

// decide tells how a table is brought in line.
func (p *patching) decide(ctx context.Context, d *differing) (*differing, error) {
	if len(d.fetch)+len(d.touched) == 0 {
		return nil, p.leave(ctx, d.n)
	}
	if d.many() { // then reading all is cheaper; noting begins anew
		n, err := p.noting(ctx, d.tab)
		if err != nil {
			return nil, err
		}
		return &differing{tab: d.tab, n: n, whole: true}, nil
	}
	return d, nil
}

// leave ends the noting of a table that stays as it is.
func (p *patching) leave(ctx context.Context, n *noting) error {
	n.changed = p.before[n.tab.Name]
	p.t.Add(0, 1)
	return n.close(ctx)
}

// noteFound keeps how the copy's files are, what its database defines and when its tables were written to
// last, now that all is what it should be and before anybody visits the copy.
func (x *runner) noteFound(ctx context.Context, in evidence.Input, found evidence.Found) error {
	b := in.Baseline
	if err := b.ChangeFiles(ctx, found.Files); err != nil {
		return err
	}
	if x.p.Target.Database.Engine == "" {
		return nil
	}
	meta, err := b.Meta(ctx)
	if err != nil {
		return err
	}
	meta.Definitions = found.Definitions
	if !x.p.Target.Database.Served() {
		return b.PutMeta(ctx, meta)
	}
	if in.Opened != nil || in.Lived { // when it had been compared, or was not known, somebody may have written to it
		if meta.Quiet.Copy = nil; in.Opened != nil {
			meta.Quiet.Copy = in.Opened.Quiet
		}
		return b.PutMeta(ctx, meta)
	}
	copied, err := x.env.Place(ctx, x.p.Target.Host, x.p.Target.Root)
	if err != nil {
		return err
	}
	defer copied.Root.Close()
	db, err := stack.OpenDatabase(ctx, in.Transform.Stack, copied, x.p.Target.Database)
	if err != nil {
		return err
	}
	if meta.Quiet.Copy, err = tables.Quiet(ctx, db); err != nil {
		return err
	}
	return b.PutMeta(ctx, meta)
}

func (p *patching) tables() (list []tables.Table) {
	for _, d := range p.differ {
		list = append(list, d.tab)
	}
	return list
}

// write puts the rows that differ, and closes the baseline before the server
// makes them last.
func (p *patching) write(ctx context.Context, to tables.Patch) error {
	for _, d := range p.differ {
		var err error
		if d.whole {
			err = to.Whole(d.tab, func(put func(tables.Row) error) error {
				return p.snap.Read(ctx, d.tab.Name, tables.Range{}, p.putting(ctx, d.n, put))
			})
		} else {
			err = to.Rows(d.tab, d.touched, func(put func(tables.Row) error) error {
				return p.snap.(tables.Summer).Pick(ctx, d.tab.Name, d.fetch, p.putting(ctx, d.n, put))
			})
			d.n.changed.Add(carried(p.before[d.tab.Name], d.touched))
		}
		if err != nil {
			return err
		}
		p.t.Add(0, 1)
		if err := d.n.close(ctx); err != nil {
			return err
		}
	}
	return nil
}

// putting changes rows into the copy's and puts them.
func (p *patching) putting(ctx context.Context, n *noting, put func(tables.Row) error) func(tables.Row) error {
	return func(r tables.Row) error {
		if !p.tr.Keeps(n.tab, r) {
			return ctx.Err()
		}
		if _, _, err := n.row(ctx, r); err != nil {
			return err
		}
		p.rows++
		return put(r)
	}
}

// carried is what was found in rows that stay as they are.
func carried(was stack.Changed, touched [][]tables.Value) stack.Changed {
	gone := make(map[string]bool, len(touched))
	for _, key := range touched {
		gone[tables.Row{Key: key}.Address()] = true
	}
	stay := func(list []stack.Kept) []stack.Kept {
		return slices.DeleteFunc(slices.Clone(list), func(k stack.Kept) bool { return gone[k.Row] })
	}
	return stack.Changed{
		Addresses: was.Addresses,
		Adjusted:  was.Adjusted,
		Kept:      stay(was.Kept),
		Left:      stay(was.Left),
		Invalid:   stay(was.Invalid),
	}
}
