package clone

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"alibi/internal/baseline"
	"alibi/internal/host/local"
	"alibi/internal/plan"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
	"alibi/internal/work"
)

// tables brings the origin's rows, changed on their way, and notes in the
// baseline what each was and became.
func (x *runner) tables(ctx context.Context, t *work.Task) error {
	if x.p.Target.Database.Engine == "" {
		return nil
	}
	tr, err := x.transform()
	if err != nil {
		return err
	}
	origin, err := x.env.Place(ctx, x.p.Origin.Host, x.p.Origin.Root)
	if err != nil {
		return err
	}
	defer origin.Root.Close()
	db, err := stack.OpenDatabase(ctx, tr.Stack, origin, x.p.Origin.Database.From(x.p.Target.Database))
	if err != nil {
		return err
	}
	b, err := baseline.Open(x.at("next", "baseline.db"))
	if err != nil {
		return err
	}
	defer b.Close()
	if x.p.Origin.Database.InFile() {
		if err := x.sameOrigin(ctx, t, db); err != nil {
			return err
		}
		if same, err := x.sameTables(ctx, t, tr, b); err != nil || same {
			return err
		}
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return fmt.Errorf("reading the origin's database: %w", err)
	}
	defer snap.Close()
	l := &loading{x: x, t: t, db: db, snap: snap, tr: tr, b: b, changed: map[string]stack.Changed{}, tally: tables.Tally{}}
	if err := tr.Choose(ctx, snap); err != nil {
		return fmt.Errorf("choosing what to bring: %w", err)
	}
	if err := l.fit(ctx); err != nil {
		return err
	}
	patched, err := x.patch(ctx, l)
	if err != nil {
		return err
	}
	if !patched {
		if err := l.load(ctx); err != nil {
			return err
		}
	}
	meta := baseline.Meta{At: x.env.Now(), Stamp: x.mem.Stamp}
	meta.Looked = x.mem.Looked
	meta.Definitions.Origin = snap.Schema().Definitions()
	if len(l.collations) > 0 {
		meta.Definitions.Copy = l.schema().Definitions()
	}
	if _, sums := snap.(tables.Summer); sums {
		t.Memorize(func() { x.mem.Stamp, x.mem.Since = l.tally.String(), tables.Since(snap) })
		meta.Stamp = x.mem.Stamp
		if meta.Notes, err = stack.Notes(l.changed); err != nil {
			return err
		}
		if meta.Quiet.Origin, err = tables.Quiet(ctx, snap); err != nil {
			return err
		}
	}
	return b.PutMeta(ctx, meta)
}

// sameOrigin throws away what an earlier try loaded if the origin's database
// has changed since: a copy is of one state.
func (x *runner) sameOrigin(ctx context.Context, t *work.Task, db tables.Database) error {
	stamp, err := db.Stamp(ctx)
	if err != nil {
		return err
	}
	if x.mem.Stamp != stamp {
		if err := os.Remove(x.next(x.p.Target.Database.Path)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	t.Memorize(func() { x.mem.Stamp = stamp })
	return t.Remember()
}

// sameTables takes the tables of the copy as it stands, if neither they nor the
// origin's changed since the two parted. The evidence compares them all the same.
func (x *runner) sameTables(
	ctx context.Context,
	t *work.Task,
	tr *stack.Transform,
	next *baseline.Baseline,
) (bool, error) {
	if x.p.Kind != plan.Refresh {
		return false, nil
	}
	if _, same, err := x.sameChoices(ctx); err != nil || !same {
		return false, err // other choices make other rows
	}
	was, err := baseline.Open(x.at("now", "baseline.db"))
	if err != nil {
		return false, nil // without one the tables are brought
	}
	defer was.Close()
	m, err := was.Meta(ctx)
	if err != nil || m.Stamp != x.mem.Stamp {
		return false, nil
	}
	copied, err := x.env.Place(ctx, x.p.Target.Host, x.p.Target.Root)
	if err != nil {
		return false, nil
	}
	defer copied.Root.Close()
	db, err := stack.OpenDatabase(ctx, tr.Stack, copied, x.p.Target.Database)
	if err != nil {
		return false, nil
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return false, ctx.Err() // what can't be read is brought anew
	}
	defer snap.Close()
	for _, tab := range snap.Schema().Tables {
		if same, err := sameRows(ctx, snap, tab, was, next); err != nil || !same {
			return false, err
		}
		t.Add(tab.Rows, 1)
	}
	there := x.next(x.p.Target.Database.Path)
	if err := os.Remove(there); err != nil && !errors.Is(err, fs.ErrNotExist) { // of an earlier try
		return false, err
	}
	if _, err := local.CopyFile(x.p.Target.Database.Path, there, 0o600); err != nil {
		return false, err
	}
	t.Note("the tables did not change on either side; nothing was read from the origin")
	m.At, m.Looked = x.env.Now(), x.mem.Looked
	return true, next.PutMeta(ctx, m)
}

// sameRows tells whether a table of the copy is as it was made, and notes its
// rows in the next baseline.
func sameRows(ctx context.Context, snap tables.Snapshot, tab tables.Table, was, next *baseline.Baseline) (bool, error) {
	rows, err := was.Count(ctx, tab.Name)
	if err != nil || rows != tab.Rows {
		return false, err
	}
	w, err := next.Rows(ctx, tab.Name)
	if err != nil {
		return false, err
	}
	for _, part := range tables.Shards(rows) {
		base, err := was.Shard(ctx, tab.Name, part)
		if err != nil {
			return false, err
		}
		same := true
		var buf []byte
		var d tables.Digest
		keys := tables.Keys(snap, tab)
		err = snap.Read(ctx, tab.Name, tables.Range{}, func(r tables.Row) error {
			key := keys.Of(r)
			if !same || !part.Has(key) {
				return nil
			}
			d, buf = snap.Digest(tab.Name, r, buf)
			b, known := base[key]
			if same = known && b.Copy == d[0]; !same {
				return nil
			}
			return w.Put(ctx, key, b)
		})
		if err != nil || !same {
			return false, err
		}
	}
	return true, w.Close(ctx)
}

// loading fills the copy's tables from a snapshot of the origin's.
type loading struct {
	x      *runner
	t      *work.Task
	db     tables.Database // the origin's
	snap   tables.Snapshot
	tr     *stack.Transform
	b      *baseline.Baseline
	target tables.Target
	from   string // the origin's database, if it is on the copy's server

	// collations are those that the copy's tables have in place of the origin's.
	collations map[string]string

	kept  int      // parts that were kept
	moved []string // tables that were brought again, since they were written to while they were read

	mu      sync.Mutex
	loaded  []string                 // tables and parts of them, by an earlier try or pass too
	changed map[string]stack.Changed // by table
	tally   tables.Tally             // of the origin
}

// load fills new tables.
func (l *loading) load(ctx context.Context) error {
	if err := l.open(ctx); err != nil {
		return err
	}
	defer l.target.Close()
	return l.all(ctx)
}

// fit finds out which collations the copy's server lacks, and says what the copy has in their place.
func (l *loading) fit(ctx context.Context) error {
	db := l.x.p.Target.Database
	if !db.Served() || db.Beside() {
		return nil
	}
	is, err := l.x.env.AbilitiesOn(ctx, l.x.p.Target.Host)
	if err != nil || is == nil {
		return err
	}
	to, missing := engines.Exchange(l.snap.Schema(), nil, is.Collations)
	for _, c := range slices.Sorted(maps.Keys(missing)) {
		return fmt.Errorf("the copy's server (%s) does not know the collation %s, which %s has, and none that comes near; "+
			"make the copy on a host whose server knows it: --host", is.Version, c, missing[c])
	}
	l.collations = to
	for _, c := range slices.Sorted(maps.Keys(to)) {
		if _, same := engines.Nearest(c, map[string]bool{to[c]: true}); same || l.x.p.Kind == plan.Refresh {
			continue // it is called otherwise there, or was told
		}
		if err := l.x.leftOut(ctx, "its server does not know the collation %s: it has %s in its place, by which texts may "+
			"sort, or be found, otherwise", c, to[c]); err != nil {
			return err
		}
	}
	return nil
}

// schema is that of the origin, as the copy's server takes it.
func (l *loading) schema() tables.Schema { return engines.Recollate(l.snap.Schema(), l.collations) }

// open makes the target that the tables are loaded into.
func (l *loading) open(ctx context.Context) error {
	x := l.x
	if x.p.Target.Database.InFile() {
		l.target = engines.FileTarget(x.next(x.p.Target.Database.Path))
		return nil
	}
	schema := l.schema()
	if len(schema.Problems) > 0 {
		if err := x.leftOut(ctx, "%s", strings.Join(schema.Problems, "; ")); err != nil {
			return err
		}
	}
	if x.p.Target.Database.Beside() {
		l.from = x.p.Origin.Database.Name
		srv, err := x.env.Beside(ctx, x.p.Target)
		if err != nil {
			return err
		}
		db := x.p.Target.Database
		l.target = srv.Target(db.Name, srv, tables.Prefix{Name: db.As, Stored: db.Prefix})
		return nil
	}
	if err := x.env.MakeDatabase(ctx, x.p.Target, schema.Settings["charset"],
		schema.Settings["collation"]); err != nil {
		return err
	}
	srv, err := x.env.Server(ctx, x.p.Target.Host)
	if err != nil {
		return err
	}
	owner := srv.As(x.p.Target.Database.User, x.env.Password(x.p.Target.ID))
	l.target = srv.Target(x.p.Target.Database.Name, owner, tables.Prefix{})
	l.from, err = x.sameServer(ctx, l.snap, srv)
	return err
}

// sameServer gives the name of the origin's database if it can be read as the
// administrator of the copy's server.
func (x *runner) sameServer(ctx context.Context, snap tables.Snapshot, admin tables.Server) (string, error) {
	theirs, ok := snap.(interface {
		Identity(context.Context) (string, error)
	})
	if !ok {
		return "", nil
	}
	a, err := theirs.Identity(ctx)
	if err != nil {
		return "", err
	}
	b, err := admin.Identity(ctx)
	if err != nil || a != b {
		return "", err
	}
	list, err := admin.Databases(ctx)
	if err != nil || !slices.Contains(list, x.p.Origin.Database.Name) {
		return "", err
	}
	return x.p.Origin.Database.Name, nil
}

// all loads every table that an earlier try did not.
func (l *loading) all(ctx context.Context) error {
	schema := l.schema()
	loaded, err := l.target.Begin(ctx, schema)
	if err != nil {
		return fmt.Errorf("making the copy's tables: %w", err)
	}
	l.loaded = loaded
	total := int64(0)
	for _, tab := range schema.Tables {
		total += tab.Rows
	}
	l.t.Expect(total)
	if _, err := l.pass(ctx, func(string) bool { return true }); err != nil {
		return err
	}
	if tables.Loose(l.snap) {
		if err := l.settle(ctx); err != nil {
			return err
		}
	}
	var sum stack.Changed
	for _, c := range l.changed {
		sum.Add(c)
	}
	note := fmt.Sprintf("%d addresses rewritten, %d settings adjusted", sum.Addresses, sum.Adjusted)
	if l.tr.Scrub != nil {
		note += fmt.Sprintf(", %d personal values made up", sum.Scrubbed)
	}
	if l.kept > 0 {
		note += fmt.Sprintf("; %d parts of tables were there already", l.kept)
	}
	if len(l.moved) > 0 {
		note += "; written to while they were read, and brought again: " + strings.Join(l.moved, ", ")
	}
	l.t.Note("%s", note)
	return l.target.Finish(ctx)
}

// pass loads those of the wanted tables that are not what the origin's are now, and names them.
func (l *loading) pass(ctx context.Context, wanted func(table string) bool) (brought []string, err error) {
	list := slices.DeleteFunc(slices.Clone(l.snap.Schema().Tables), func(t tables.Table) bool { return !wanted(t.Name) })
	// the largest first
	slices.SortStableFunc(list, func(a, b tables.Table) int { return cmp.Compare(b.Bytes, a.Bytes) })
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(1)
	if _, parts := l.target.(tables.PartLoader); parts { // else it has one writer
		g.SetLimit(l.snap.Readers())
	}
	for _, tab := range list {
		g.Go(func() error {
			whole, err := l.whole(gctx, tab, l.has(tab.Name))
			if err != nil {
				return err
			}
			if whole {
				l.t.Add(tab.Rows, 1)
				return nil
			}
			l.mu.Lock()
			brought = append(brought, tab.Name)
			delete(l.changed, tab.Name)
			delete(l.tally, tab.Name)
			l.mu.Unlock()
			if err := l.table(gctx, tab); err != nil {
				return err
			}
			l.note(tab.Name)
			l.t.Add(0, 1)
			return nil
		})
	}
	return brought, g.Wait()
}

// whole tells whether a table that an earlier try loaded is what the origin's
// is now; then it need not be read again.
func (l *loading) whole(ctx context.Context, tab tables.Table, loaded bool) (bool, error) {
	if !loaded {
		return false, nil
	}
	rows, err := l.b.Count(ctx, tab.Name)
	if err != nil || rows != tab.Rows {
		return false, err
	}
	sm, ok := l.snap.(tables.Summer)
	if !ok {
		return true, nil // the stamp has told
	}
	sum := uint64(0)
	for _, part := range tables.Shards(rows) {
		base, err := l.b.Shard(ctx, tab.Name, part)
		if err != nil {
			return false, err
		}
		for _, p := range base {
			sum += p.Origin
		}
	}
	if _, now, err := sm.Total(ctx, tab.Name, tables.Range{}); err != nil || now != sum {
		return false, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.tally[tab.Name] = [2]uint64{uint64(tab.Rows), sum}
	return true, nil
}

// table loads one table: inside the server where that is possible, else through
// here.
func (l *loading) table(ctx context.Context, tab tables.Table) error {
	if to, ok := l.target.(tables.InsideLoader); ok && l.from != "" && len(tab.Key) > 0 && !l.tr.Chooses(tab.Name) &&
		l.tr.Scrub == nil {
		return l.inside(ctx, tab, to)
	}
	if to, ok := l.target.(tables.PartLoader); ok && len(tab.Key) > 0 {
		parts, err := l.snap.Ranges(ctx, tab.Name, PartRows)
		if err != nil {
			return err
		}
		if len(parts) > 1 {
			return l.inParts(ctx, tab, to, parts)
		}
	}
	return l.target.Load(ctx, tab.Name, func(put func(tables.Row) error) error {
		w, err := l.b.Rows(ctx, tab.Name)
		if err != nil {
			return err
		}
		return l.pour(ctx, tab, tables.Range{}, w, put)
	})
}
