package reset

import (
	"context"
	"fmt"
	"slices"

	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
	"alibi/internal/work"
)

// few is the share of a table's rows up to which they are exchanged one by one.
const few = 3 // one in three

// tables exchanges the tables that are not as they are to be.
func (x *runner) tables(ctx context.Context, t *work.Task) error {
	s, err := x.now(ctx)
	if err != nil {
		return err
	}
	if err := x.tablesBack(ctx, s); err != nil { // of an earlier try
		return err
	}
	e, err := x.ends(ctx)
	if err != nil {
		return err
	}
	defer func() { e.close() }()
	now, err := e.snapshot(ctx)
	if err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Hung, x.mem.Looked = now.Schema().After, true })
	if err := t.Remember(); err != nil {
		return err
	}
	if s.Database.Engine == "sqlite" {
		return x.image(ctx, t, e, now)
	}
	login, err := x.login(ctx, s)
	if err != nil {
		return err
	}
	// What is dropped must not be in use, by ourselves either.
	drop, hang := e.hanging(now.Schema(), true)
	e.close()
	if err := login.Hang(ctx, s.Database.Name, drop, nil); err != nil {
		return err
	}
	if e, err = x.ends(ctx); err != nil {
		return err
	}
	if err := x.onServer(ctx, t, e, login); err != nil {
		return err
	}
	e.close()
	if err := login.Exchange(ctx, s.Database.Name); err != nil {
		return err
	}
	return login.Hang(ctx, s.Database.Name, nil, hang)
}

// login is the account by which the site's own database is changed.
func (x *runner) login(ctx context.Context, s site.Site) (mysql.Login, error) {
	if s.Role == site.Copy && !s.Database.Beside() {
		srv, err := x.env.Server(ctx, s.Host)
		if err != nil {
			return mysql.Login{}, err
		}
		l := srv.Login
		l.User, l.Password = s.Database.User, x.env.Password(s.ID)
		return l, nil
	}
	st, err := x.env.Stack(s.Stack)
	if err != nil {
		return mysql.Login{}, err
	}
	place, err := x.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return mysql.Login{}, err
	}
	defer place.Root.Close()
	password, err := st.Password(ctx, place)
	if err != nil {
		return mysql.Login{}, err
	}
	return stack.Login(ctx, place.Host, s.Database.Server, s.Database.User, password), nil
}

// onServer changes rows where few differ, all in one transaction, and makes the
// other tables beside those in use.
func (x *runner) onServer(ctx context.Context, t *work.Task, e *ends, login mysql.Login) error {
	now, err := e.snapshot(ctx)
	if err != nil {
		return err
	}
	db := e.s.Database.Name
	var patched []*differing
	var instead []mysql.Instead
	rows := 0
	for _, w := range e.want.tables {
		d, err := x.compare(ctx, e, now, w)
		if err != nil {
			return err
		}
		t.Add(d.rows, 1)
		switch {
		case d.same:
		case d.whole:
			instead = append(instead, mysql.Instead{Name: w.name, Table: w.table, Rows: func(put func(tables.Row) error) error { return w.rows(ctx, put) }})
		default:
			patched = append(patched, d)
			rows += len(d.touched)
		}
	}
	instead = e.tied(ctx, now, instead)
	staying := slices.DeleteFunc(slices.Clone(e.want.tables), func(w table) bool { return within(instead, w.name) })
	if err := login.Fill(ctx, db, instead); err != nil {
		return err
	}
	if err := patch(ctx, e, login, patched); err != nil {
		return err
	}
	if e.s.Role == site.Copy { // the numbers of a live site rise only
		if err := login.SetNext(ctx, db, now.Schema(), tables.Schema{Tables: defined(staying)}, false); err != nil {
			return err
		}
	}
	t.Note("%d rows exchanged in %d tables; %d tables exchanged whole", rows, len(patched), len(instead))
	return nil
}

// patch exchanges the rows that differ, all in one transaction.
func patch(ctx context.Context, e *ends, login mysql.Login, list []*differing) error {
	if len(list) == 0 {
		return nil
	}
	wanted := make([]table, len(list))
	for i, d := range list {
		wanted[i] = d.want
	}
	return login.Patch(ctx, e.s.Database.Name, defined(wanted), func(p *mysql.Patch) error {
		for _, d := range list {
			if err := p.Rows(*d.want.table, d.touched, func(put func(tables.Row) error) error { return d.bring(ctx, e, put) }); err != nil {
				return fmt.Errorf("table %s: %w", d.want.name, err)
			}
		}
		return nil
	})
}

// defined gives the definitions of tables as they are to be.
func defined(list []table) (out []tables.Table) {
	for _, w := range list {
		if w.table != nil {
			out = append(out, *w.table)
		}
	}
	return out
}

func within(list []mysql.Instead, name string) bool {
	return slices.ContainsFunc(list, func(x mysql.Instead) bool { return x.Name == name })
}

// differing is a table that is not as it is to be.
type differing struct {
	want    table
	rows    int64
	same    bool
	whole   bool
	touched [][]tables.Value // keys of rows that are to go or to be others
	put     map[uint64]bool  // rows that are to come, by key
}

// compare finds out what differs in a table.
func (x *runner) compare(ctx context.Context, e *ends, now tables.Snapshot, w table) (*differing, error) {
	d := &differing{want: w}
	is, has := now.Schema().Table(w.name)
	sums, can := now.(tables.Summer)
	if w.table == nil || !has || w.empty || !can || len(is.Key) == 0 || e.want.digest == nil || !mysql.PatchableTable(*w.table, is) {
		d.whole = true
		return d, nil
	}
	d.put = map[uint64]bool{}
	gone := map[uint64]bool{}
	for _, part := range tables.Shards(is.Rows) {
		if err := d.compare(ctx, e, now, is, part, gone); err != nil {
			return nil, err
		}
		if len(gone)+len(d.put) > mostPatched {
			break
		}
	}
	d.same = len(gone)+len(d.put) == 0
	d.whole = int64(len(gone)+len(d.put))*few > is.Rows+d.rows || len(gone)+len(d.put) > mostPatched
	if d.same || d.whole {
		return d, nil
	}
	keys := tables.Keys(now, is)
	return d, sums.Sums(ctx, w.name, tables.Range{}, tables.Search{}, func(key []tables.Value, _ tables.Digest, _ bool) error {
		if gone[keys.OfKey(key)] {
			d.touched = append(d.touched, tables.Keep(key))
		}
		return ctx.Err()
	})
}

// mostPatched is up to how many rows of a table are exchanged one by one: they are
// remembered meanwhile.
const mostPatched = 500_000

// compare finds out what differs in a part of the table's rows: d.put are to come,
// gone are to go or to be others.
func (d *differing) compare(ctx context.Context, e *ends, now tables.Snapshot, is tables.Table, part tables.Shard, gone map[uint64]bool) error {
	keys := tables.Keys(now, is)
	there := map[uint64]uint64{}
	err := now.(tables.Summer).Sums(ctx, is.Name, tables.Range{}, tables.Search{}, func(key []tables.Value, x tables.Digest, _ bool) error {
		if k := keys.OfKey(key); part.Has(k) {
			there[k] = x[0]
		}
		return ctx.Err()
	})
	if err != nil {
		return err
	}
	var buf []byte
	var sum tables.Digest
	if err := d.want.rows(ctx, func(r tables.Row) error {
		if part.First() {
			d.rows++
		}
		k := keys.Of(r)
		if !part.Has(k) {
			return ctx.Err()
		}
		sum, buf = e.want.digest(is.Name, r, buf)
		if was, ok := there[k]; ok && was == sum[0] {
			delete(there, k)
		} else {
			d.put[k] = true
		}
		return nil
	}); err != nil {
		return err
	}
	for k := range there {
		gone[k] = true
	}
	return nil
}

// bring gives the rows that are to come.
func (d *differing) bring(ctx context.Context, e *ends, put func(tables.Row) error) error {
	keys := tables.Keys(e.snap, *d.want.table)
	return d.want.rows(ctx, func(r tables.Row) error {
		if !d.put[keys.Of(r)] {
			return nil
		}
		return put(r)
	})
}

// tied adds the tables that refer to one that is exchanged: a server ties them
// to the old one.
func (e *ends) tied(ctx context.Context, now tables.Snapshot, list []mysql.Instead) []mysql.Instead {
	has := func(name string) bool { return within(list, name) }
	for again := true; again; {
		again = false
		for _, tab := range now.Schema().Tables {
			if has(tab.Name) || !mysql.Tied(tab, has) {
				continue
			}
			again = true
			rows, def := reader(now, tab.Name), tab
			if i := slices.IndexFunc(e.want.tables, func(w table) bool { return w.name == tab.Name && w.table != nil }); i >= 0 {
				rows, def = e.want.tables[i].rows, *e.want.tables[i].table
			}
			list = append(list, mysql.Instead{Name: tab.Name, Table: &def, Rows: func(put func(tables.Row) error) error { return rows(ctx, put) }})
		}
	}
	return list
}

// hanging gives what is to be dropped before the tables change, and made
// afterwards: triggers always, so that none is set off.
func (e *ends) hanging(now tables.Schema, changes bool) (drop, hang []tables.Object) {
	same := func(list []tables.Object, o tables.Object) bool {
		return slices.ContainsFunc(list, func(x tables.Object) bool { return x.Kind == o.Kind && x.Name == o.Name && x.SQL == o.SQL })
	}
	want := now.After
	if e.want.hangs {
		want = e.want.after
	}
	for _, o := range now.After {
		if !same(want, o) || o.Kind == "trigger" && changes {
			drop = append(drop, o)
		}
	}
	for _, o := range want {
		if !same(now.After, o) || o.Kind == "trigger" && changes {
			hang = append(hang, o)
		}
	}
	return drop, hang
}

// tablesBack gives the site the tables back that it had before.
func (x *runner) tablesBack(ctx context.Context, s site.Site) error {
	switch {
	case !x.does("tables"):
		return nil
	case s.Database.Engine == "sqlite":
		return x.imageBack(ctx, s)
	}
	login, err := x.login(ctx, s)
	if err != nil {
		return err
	}
	if err := login.TakeBack(ctx, s.Database.Name); err != nil {
		return err
	}
	if !x.mem.Looked {
		return nil
	}
	place, err := x.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return err
	}
	e := &ends{s: s, place: place, want: &wanted{after: x.mem.Hung, hangs: true}}
	defer func() { e.close() }()
	if e.st, err = x.env.Stack(s.Stack); err != nil {
		return err
	}
	now, err := e.snapshot(ctx)
	if err != nil {
		return err
	}
	drop, hang := e.hanging(now.Schema(), false)
	e.close()
	return login.Hang(ctx, s.Database.Name, drop, hang)
}

// settleTables makes what was exchanged final.
func (x *runner) settleTables(ctx context.Context, s site.Site) error {
	switch {
	case !x.does("tables"):
		return nil
	case s.Database.Engine == "sqlite":
		return x.dropImages(ctx, s)
	}
	login, err := x.login(ctx, s)
	if err != nil {
		return err
	}
	return login.Settle(ctx, s.Database.Name)
}

// does tells whether a step is one of the run's.
func (x *runner) does(step string) bool {
	return slices.ContainsFunc(x.p.Steps, func(st plan.Step) bool { return st.Name == step })
}
