package move

import (
	"context"
	"fmt"

	"golang.org/x/sync/errgroup"

	"alibi/internal/plan"
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
	"alibi/internal/tree"
)

// part says of what a state is worked out.
type part uint8

const (
	nothing    part = 0
	fileParts  part = 1
	tableParts part = 2
)

// ends are both places, open.
type ends struct {
	here, there site.Site
	from, to    stack.Place
	st          stack.Stack
	was, now    tables.Snapshot // of the site, and of the other place, where they were asked for
	want        *state.Wanted
	list        *tree.Listing // of the other place, where both were listed at once
	closed      bool
}

func (e *ends) close() {
	if e.closed {
		return
	}
	e.closed = true
	for _, s := range []tables.Snapshot{e.was, e.now} {
		if s != nil {
			s.Close()
		}
	}
	e.from.Root.Close()
	if e.to.Root != nil {
		e.to.Root.Close()
	}
}

func (e *ends) sides() *state.Ends {
	out := &state.Ends{
		Root:     e.to.Root,
		Filter:   filter(e.there),
		Want:     e.want,
		Snapshot: func(context.Context) (tables.Snapshot, error) { return e.now, nil },
		Close:    e.close,
	}
	if e.list != nil {
		out.List = func(context.Context) (*tree.Listing, error) { return e.list, nil }
	}
	return out
}

// filter passes by what is no part of a site's state. Who may use a file beside its owner and group is a matter of its
// host.
func filter(s site.Site) tree.Filter { return stack.DatabaseFilter(s.Root, s.Database) }

// open opens both places, and works out what the other one is to be.
func (x *runner) open(ctx context.Context, what part) (_ *ends, err error) {
	here, there, err := x.sides(ctx)
	if err != nil {
		return nil, err
	}
	e := &ends{here: here, there: there, want: &state.Wanted{}}
	if e.st, err = x.env.Stack(here.Stack); err != nil {
		return nil, err
	}
	if e.from, err = x.env.Place(ctx, here.Host, here.Root); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			e.close()
		}
	}()
	if e.to, err = x.env.Place(ctx, there.Host, there.Root); err != nil {
		return nil, err
	}
	if what&fileParts != 0 {
		if err := x.wantFiles(ctx, e); err != nil {
			return nil, err
		}
	}
	if what&tableParts != 0 && there.Database.Engine != "" {
		if err := x.wantTables(ctx, e); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// wantFiles wants the files of the site, but for those that say where it stands. They are listed once in a run: what
// comes later is for the next pass.
func (x *runner) wantFiles(ctx context.Context, e *ends) error {
	arrive, err := x.arriving(ctx, e)
	if err != nil {
		return err
	}
	g, gctx := errgroup.WithContext(ctx)
	if x.listing == nil {
		g.Go(func() (err error) {
			x.listing, err = tree.Scan(x.gently(gctx), e.from.Root, filter(e.here))
			return err
		})
	}
	g.Go(func() (err error) {
		e.list, err = tree.Scan(gctx, e.to.Root, filter(e.there))
		return err
	})
	if err := g.Wait(); err != nil {
		x.listing = nil
		return fmt.Errorf("listing the files of both places: %w", err)
	}
	own := stack.LayoutOf(e.st).Config
	skip := map[string]bool{}
	for _, p := range x.listing.Problems { // they were named when the place was looked at
		skip[p.Path] = true
	}
	w := e.want
	w.From = e.from.Root
	w.InScope = func(p string) bool {
		_, comes := arrive[p]
		return !comes && !skip[p] && p != own
	}
	for _, en := range x.listing.Entries {
		if w.InScope(en.Path) {
			w.Entries = append(w.Entries, en)
		}
	}
	return nil
}

// wantTables wants the tables of the site. Those that did not change on either side since both were the same are left
// out.
func (x *runner) wantTables(ctx context.Context, e *ends) (err error) {
	if e.was, err = snapshot(x.gently(ctx), e.st, e.from, e.here.Database); err != nil {
		return fmt.Errorf("reading the site's database: %w", err)
	}
	if e.now, err = snapshot(ctx, e.st, e.to, e.there.Database); err != nil {
		return fmt.Errorf("reading the database at %s: %w", e.there.Host, err)
	}
	if a, b := e.was.Schema().Engine, e.now.Schema().Engine; a != b {
		return fmt.Errorf("the site has a %s database, and there is a %s one at %s", a, b, e.there.Host)
	}
	m, err := x.env.Record.Move(ctx, x.c.Move)
	if err != nil {
		return err
	}
	if x.equal == nil {
		if x.equal, err = x.unchanged(ctx, e, m); err != nil {
			return err
		}
	}
	tr, err := x.transform(e)
	if err != nil {
		return err
	}
	owns := e.st.Owns(e.was.Schema(), e.here.Database.Prefix)
	ownsThere := e.st.Owns(e.now.Schema(), e.here.Database.Prefix)
	if e.here.Database.InFile() {
		owns = func(string) bool { return true }
		ownsThere = owns
	}
	x.at, x.kept = map[string]plan.At{}, map[string][]string{}
	w := &e.want.DB
	w.Digest, w.Lower, w.Hangs = e.was.Digest, true, true
	for _, tab := range e.was.Schema().Tables {
		if _, same := x.equal[tab.Name]; !same && owns(tab.Name) {
			w.Tables = append(w.Tables, x.wanted(e, tr, tab, x.fit(e, m, tab)))
		}
	}
	for _, tab := range e.now.Schema().Tables {
		_, has := e.was.Schema().Table(tab.Name)
		switch {
		case !ownsThere(tab.Name):
			w.Hangs = false // what hangs on tables of others stays
		case !has:
			w.Tables = append(w.Tables, tables.WantedTable{Name: tab.Name})
		}
	}
	w.After = engines.Recollate(e.was.Schema(), x.mem.Collations).After
	return nil
}

// gently has what the site's host does for a pass, or to compare, yield to its visitors: nobody waits for it. While
// visitors are held everybody does.
func (x *runner) gently(ctx context.Context) context.Context {
	if x.p.Kind == plan.Switch {
		return ctx
	}
	return x.calm.Context(ctx)
}

func snapshot(ctx context.Context, st stack.Stack, p stack.Place, db site.Database) (tables.Snapshot, error) {
	d, err := stack.OpenDatabase(ctx, st, p, db)
	if err != nil {
		return nil, err
	}
	return d.Snapshot(ctx)
}

// wanted is a table as it is to be at the other place. Where the server digests rows, only those come over that differ,
// or that hold a path. fit is how it is to be defined there.
func (x *runner) wanted(e *ends, tr *stack.Transform, tab, fit tables.Table) tables.WantedTable {
	w := tables.WantedTable{Name: tab.Name, Table: &fit, Fixed: true, Least: tab.Rows, Rows: x.rows(e, tr, tab)}
	if _, can := e.was.(tables.Summer); !can || len(tab.Key) == 0 {
		return w
	}
	var search tables.Search
	if tr != nil {
		search = tr.Search(tab)
	}
	w.Sums = func(ctx context.Context, r tables.Range, give func(key []tables.Value, d tables.Digest) error) error {
		a := &adding{e: e, tr: tr, tab: tab}
		err := tables.Scan(ctx, e.was, tab, r, search, func(key []tables.Value, d tables.Digest) error {
			a.add(1, d[0], d[0])
			return give(key, d)
		}, func(r tables.Row) error { return give(r.Key, a.row(r)) })
		if r.After != nil || r.To != nil {
			return err
		}
		return x.note(a, err)
	}
	if g, can := e.was.(tables.Grouper); can {
		w.Groups = func(ctx context.Context, per int64, give func(tables.Group) error) (bool, error) {
			a := &adding{e: e, tr: tr, tab: tab}
			can, err := g.Groups(ctx, tab.Name, per, search, func(g tables.Group) error {
				a.add(g.Sum.Rows, g.Sum.Sum, g.Sum.Sum)
				return give(g)
			})
			if !can {
				return can, err
			}
			return can, x.note(a, err)
		}
	}
	w.Pick = func(ctx context.Context, keys [][]tables.Value, give func(tables.Row) error) error {
		a := &adding{e: e, tr: tr, tab: tab}
		return tables.Fetch(ctx, e.was, tab, keys, func(r tables.Row) error {
			a.row(r)
			return give(r)
		})
	}
	return w
}

// rows gives the rows of a table as they are to be at the other place, and adds up what they were.
func (x *runner) rows(e *ends, tr *stack.Transform,
	tab tables.Table) func(context.Context, func(tables.Row) error) error {
	read := state.Rows(e.was, tab.Name)
	return func(ctx context.Context, give func(tables.Row) error) error {
		a := &adding{e: e, tr: tr, tab: tab}
		return x.note(a, read(ctx, func(r tables.Row) error {
			a.row(r)
			return give(r)
		}))
	}
}

// adding adds a table up, as the site has it and as it is to be, while its rows become that.
type adding struct {
	e       *ends
	tr      *stack.Transform // nil: they stay as they are
	tab     tables.Table
	at      plan.At
	buf     []byte
	changed stack.Changed
}

// row has a row become what it is to be, and gives its digest then.
func (a *adding) row(r tables.Row) (d tables.Digest) {
	was, buf := a.e.was.Digest(a.tab.Name, r, a.buf)
	d, a.buf = was, buf
	if a.tr != nil {
		a.tr.Row(a.tab, r, &a.changed)
		d, a.buf = a.e.was.Digest(a.tab.Name, r, a.buf)
	}
	a.add(1, was[0], d[0])
	return d
}

func (a *adding) add(rows int64, was, is uint64) {
	a.at.Site.Rows, a.at.Site.Sum = a.at.Site.Rows+rows, a.at.Site.Sum+was
	a.at.Place.Rows, a.at.Place.Sum = a.at.Place.Rows+rows, a.at.Place.Sum+is
}

// note keeps what a table adds up to, if all of it was added up. Of groups it is not known what they are to be: the
// engine tells that, which compares them.
func (x *runner) note(a *adding, err error) error {
	if err == nil {
		x.mu.Lock()
		x.at[a.tab.Name] = a.at
		x.kept[a.tab.Name] = keptIn(a.changed)
		x.mu.Unlock()
	}
	return err
}

// transform is what becomes of rows in another folder; nil where it is called the same there.
func (x *runner) transform(e *ends) (*stack.Transform, error) {
	rw, err := pairs(e.here, e.there)
	if err != nil || rw == nil {
		return nil, err
	}
	return &stack.Transform{Stack: e.st, Change: x.change(e, rw)}, nil
}

// change is the site as it will stand at the other place.
func (x *runner) change(e *ends, rw *rewrite.Rewriter) stack.Change {
	c := stack.Change{Copy: e.there, Rewriter: rw, Moves: true}
	if e.here.Facts != nil {
		c.Origin = *e.here.Facts
	}
	c.Origin.Prefix = e.here.Database.Prefix
	return c
}

// unchanged are the tables that are on both sides what they were when both were the same last: nothing of them is
// read.
func (x *runner) unchanged(ctx context.Context, e *ends, m plan.Move) (map[string]plan.At, error) {
	out := map[string]plan.At{}
	here, err := tables.Quiet(ctx, e.was)
	if err != nil {
		return nil, err
	}
	there, err := tables.Quiet(ctx, e.now)
	if err != nil {
		return nil, err
	}
	x.quiet = plan.Quiet{Site: here, Place: there}
	for _, tab := range e.was.Schema().Tables {
		at, known := m.Sums[tab.Name]
		is, has := e.now.Schema().Table(tab.Name)
		if !known || !has || !engines.SameShape(x.fit(e, m, tab), is) {
			continue
		}
		same, err := asItWas(ctx, e.was, tab, m.Quiet.Site[tab.Name], here[tab.Name], at.Site)
		if err == nil && same {
			same, err = asItWas(ctx, e.now, is, m.Quiet.Place[tab.Name], there[tab.Name], at.Place)
		}
		if err != nil {
			return nil, err
		}
		if same {
			out[tab.Name] = at
		}
	}
	return out, nil
}

// asItWas tells whether a table adds up to what it did. Where its server knew when it was written to last, that is
// asked, and the table is not read: one that may be as it was counts as another one then.
func asItWas(ctx context.Context, snap tables.Snapshot, t tables.Table, was, now string, sum plan.Sum) (bool, error) {
	if was != "" {
		return tables.Same(was, now) && t.Rows == sum.Rows, nil
	}
	if _, can := snap.(tables.Summer); !can || t.Rows != sum.Rows {
		return false, nil
	}
	is, err := total(ctx, snap, t)
	return is == sum, err
}

// arriving are the files that are to be others at the other place, with their contents there. The configuration of a
// place that has its own stays.
func (x *runner) arriving(ctx context.Context, e *ends) (map[string][]byte, error) {
	if x.arrive != nil {
		return x.arrive, nil
	}
	rw, err := pairs(e.here, e.there)
	if err != nil {
		return nil, err
	}
	m, err := x.env.Record.Move(ctx, x.c.Move)
	if err != nil {
		return nil, err
	}
	c := x.change(e, rw)
	if c.Password, err = x.password(ctx, e, m); err != nil {
		return nil, err
	}
	out, err := stack.MovableOf(e.st).Arrive(ctx, e.from, c)
	if err != nil {
		return nil, fmt.Errorf("writing the configuration for %s: %w", e.there.Host, err)
	}
	if config := stack.LayoutOf(e.st).Config; m.Own {
		delete(out, config)
	}
	x.arrive = out
	return out, nil
}

// password is that of the account that owns the database at the other place.
func (x *runner) password(ctx context.Context, e *ends, m plan.Move) (string, error) {
	config := stack.LayoutOf(e.st).Config
	if _, err := e.to.Root.Lstat(config); err == nil && config != "" {
		return stack.SettingsOf(e.st).Password(ctx, e.to)
	}
	switch {
	case m.Own || !e.there.Database.Served():
		return "", nil
	case m.Server:
		return x.env.Password(e.there.ID), nil
	case m.PasswordFile == "":
		return "", fmt.Errorf("the password of %s, which owns the database %s, is not known: name a file that has it "+
			"(--database-password-file)", e.there.Database.User, e.there.Database.Text())
	}
	s, err := x.env.Secrets.Read(m.PasswordFile)
	if err != nil {
		return "", fmt.Errorf("reading the password of %s: %w", e.there.Database.User, err)
	}
	return s, nil
}

// total adds a table up.
func total(ctx context.Context, snap tables.Snapshot, t tables.Table) (s plan.Sum, err error) {
	if s.Rows, s.Sum, err = state.Total(ctx, snap, t); err != nil {
		return s, fmt.Errorf("table %s: %w", t.Name, err)
	}
	return s, nil
}
