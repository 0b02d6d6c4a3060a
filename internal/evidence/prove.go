package evidence

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"alibi/internal/baseline"
	"alibi/internal/op"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// Input is what is compared.
type Input struct {
	Env       *op.Env
	Origin    site.Site // with facts
	Copy      site.Site
	Transform *stack.Transform
	Filter    tree.Filter
	Baseline  *baseline.Baseline
	Fresh     bool                   // just made: every difference is damage
	Lived     bool                   // it was visited since it was made: what it writes to itself then is passed by
	Before    string                 // the origin's database stamp before the run; "" if unknown
	Since     string                 // when that was, by the clock of the origin's server; "" if unknown
	Snapshot  tables.Snapshot        // the origin's state to compare with; nil: taken now
	Tell      func(units, items int) // progress, may be nil
	CountOnly bool                   // only what changed on either side: nothing is written, no page asked for
	Kept      bool                   // files that nobody touched since they were read are not read again
	Opened    *Moment                // the copy as it was when it began to answer; nil: it is compared as it is
}

func (in *Input) tell(units int) {
	if in.Tell != nil {
		in.Tell(units, 0)
	}
}

// Prove runs all checks. An error means that they could not be made, not that
// they do not hold.
func Prove(ctx context.Context, in Input) (*Report, error) {
	rep, err := Compare(ctx, in)
	if err != nil {
		return nil, err
	}
	return rep, Visit(ctx, in, rep)
}

// Compare runs the checks for which the copy's code does not run: tables and
// files, side by side.
func Compare(ctx context.Context, in Input) (*Report, error) {
	rep := Begin(in)
	began := rep.At
	origin, copied, done, err := in.places(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	var inTables, inFiles Report
	g, gctx := errgroup.WithContext(ctx)
	if in.Copy.Database.Engine != "" {
		g.Go(func() error { return proveTables(gctx, &in, &inTables, origin, copied) })
	}
	g.Go(func() error { return proveFiles(gctx, &in, &inFiles, origin, copied) })
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for _, part := range []Report{inTables, inFiles} {
		rep.Rows += part.Rows
		rep.Files += part.Files
		rep.Checks = append(rep.Checks, part.Checks...)
		rep.Apart.Origin += part.Apart.Origin
		rep.Apart.Copy += part.Apart.Copy
		rep.Apart.Clashes += part.Apart.Clashes
	}
	rep.found = Found{inTables.found.Definitions, inFiles.found.Files}
	rep.Apart.At = began
	rep.Took = in.Env.Now().Sub(began)
	return rep, nil
}

// places opens both sides.
func (in *Input) places(ctx context.Context) (origin, copied stack.Place, done func(), err error) {
	if origin, err = in.Env.Place(ctx, in.Origin.Host, in.Origin.Root); err != nil {
		return
	}
	if copied, err = in.Env.Place(ctx, in.Copy.Host, in.Copy.Root); err != nil {
		origin.Root.Close()
		return
	}
	return origin, copied, func() { origin.Root.Close(); copied.Root.Close() }, nil
}

// Visit adds the checks for which the copy's code runs: its pages, and what its
// quiet rules forbid. A site may write to itself when it is visited.
// It fails where that can't be told for now: the copy's database is away.
func Visit(ctx context.Context, in Input, rep *Report) error {
	return in.visit(ctx, rep, true, true)
}

// Meet is the part of Visit that a copy has to pass before anybody is let in: its first page comes, and what its quiet
// rules forbid is not done.
func Meet(ctx context.Context, in Input, rep *Report) error { return in.visit(ctx, rep, false, true) }

// Browse is the rest of Visit: its other pages come too.
func Browse(ctx context.Context, in Input, rep *Report) error {
	if !slices.ContainsFunc(rep.Checks, func(c Check) bool { return c.Name == "pages" && c.Verdict == Holds }) {
		return nil // what the first one says is enough
	}
	return in.visit(ctx, rep, true, false)
}

func (in *Input) visit(ctx context.Context, rep *Report, all, rules bool) error {
	if in.Env.Web == nil || in.CountOnly {
		return nil
	}
	began := in.Env.Now()
	limited, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	if err := provePages(limited, in, rep, all); rules && !errors.Is(err, op.ErrForeign) {
		proveQuiet(limited, in, rep)
	}
	rep.Took += in.Env.Now().Sub(began)
	if rep.Proof().Holds || in.Copy.Database.Engine == "" {
		return nil
	}
	p, err := in.Env.Place(ctx, in.Copy.Host, in.Copy.Root)
	if err != nil {
		return err
	}
	defer p.Root.Close()
	db, err := stack.OpenDatabase(ctx, in.Transform.Stack, p, in.Copy.Database)
	if err != nil {
		return nil // that is what does not hold
	}
	if _, err := db.Stamp(ctx); tables.Transient(err) {
		return fmt.Errorf("visiting the copy: %w", err)
	}
	return nil
}

// databases opens those of both sides.
func (in *Input) databases(ctx context.Context, origin, copied stack.Place) (tables.Database, tables.Writable, error) {
	odb, err := stack.OpenDatabase(ctx, in.Transform.Stack, origin, in.Origin.Database.From(in.Copy.Database))
	if err != nil {
		return nil, nil, err
	}
	cdb, err := stack.OpenCopy(ctx, in.Transform.Stack, copied, in.Copy)
	return odb, cdb, err
}

func proveTables(ctx context.Context, in *Input, rep *Report, origin, copied stack.Place) error {
	odb, cdb, err := in.databases(ctx, origin, copied)
	if err != nil {
		return err
	}
	if in.Snapshot == nil {
		if in.Snapshot, err = odb.Snapshot(ctx); err != nil {
			return fmt.Errorf("reading the origin: %w", err)
		}
		defer in.Snapshot.Close()
	}
	snap, done, err := in.copied(ctx, cdb)
	if tables.Transient(err) {
		return fmt.Errorf("reading the copy's database: %w", err) // it says nothing of the copy
	}
	if err != nil {
		rep.Checks = append(rep.Checks, Check{Name: "database", Group: "tables", Title: "the copy's database can be read",
			Origin: "yes", Copy: "no", Verdict: Broken, Text: err.Error()})
		return nil
	}
	defer done()
	meta, err := in.Baseline.Meta(ctx)
	if err != nil {
		return err
	}
	if err := in.Transform.Choose(ctx, in.Snapshot); err != nil {
		return fmt.Errorf("choosing what belongs on the copy: %w", err)
	}
	made, err := stack.FromNotes(meta.Notes)
	if err != nil {
		return err
	}
	w := &tableWork{
		in:            in,
		origin:        in.Snapshot,
		copy:          snap,
		rep:           rep,
		made:          made,
		originNow:     map[string]bool{},
		tally:         tables.Tally{},
		meta:          meta,
		changedTables: map[string]bool{},
	}
	if in.CountOnly && in.Baseline != nil {
		w.looks = [2]*baseline.Look{in.Baseline.Look(ctx, "live", in.Snapshot), in.Baseline.Look(ctx, "copy", snap)}
		defer func() {
			for _, l := range w.looks {
				l.Note(context.WithoutCancel(ctx))
			}
		}()
	}
	if w.still, err = tables.Still(ctx, odb, in.Since); err != nil {
		return err
	}
	if err := w.all(ctx); err != nil {
		return err
	}
	rep.Checks = append(rep.Checks, judged("addresses in tables", "addresses", "addresses of the origin left in tables",
		fmt.Sprintf("%s to change", site.Number(w.changed.Addresses)), w.left, Broken),
		judged("serialized", "tables", "serialized values are well formed",
			fmt.Sprintf("%d broken there already", len(w.originNow)), w.invalid, Broken))
	if err := w.personal(ctx); err != nil {
		return err
	}
	w.leftAsIs()
	if in.CountOnly {
		return nil
	}
	if in.Before != "" {
		if err := w.untouched(ctx, odb); err != nil {
			return err
		}
	}
	if in.Opened != nil {
		return nil // that was tried before it answered
	}
	return isolation(ctx, in, rep, odb, cdb)
}

// copied gives the state of the copy's tables that is compared.
func (in *Input) copied(ctx context.Context, db tables.Database) (tables.Snapshot, func(), error) {
	if in.Opened != nil {
		return in.Opened.tables, func() {}, nil
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return nil, nil, err
	}
	return snap, func() { snap.Close() }, nil
}

// untouched tells whether anybody wrote to the origin's database meanwhile.
func (w *tableWork) untouched(ctx context.Context, odb tables.Database) error {
	in, now := w.in, w.tally.String()
	if _, sums := in.Snapshot.(tables.Summer); !sums {
		var err error
		if now, err = odb.Stamp(ctx); err != nil {
			return err
		}
	}
	c := Check{
		Name:    "origin untouched",
		Group:   "isolation",
		Title:   "the origin's database during the run",
		Origin:  "before: " + short(in.Before),
		Copy:    "after: " + short(now),
		Verdict: Holds,
		Text:    "nothing was written to it",
	}
	if now != in.Before {
		c.Verdict, c.Text = Noted, "visitors or editors wrote to the origin during the run; Alibi only reads it"
	}
	w.rep.Checks = append(w.rep.Checks, c)
	return nil
}

// leftAsIs notes values with an address that can't be written again.
func (w *tableWork) leftAsIs() {
	if len(w.changed.Kept) == 0 {
		return
	}
	var p places
	for _, k := range w.changed.Kept {
		p.add("%s: %s", k, k.Why)
	}
	c := judged("kept", "addresses", "values left byte for byte, with an address in them", fmt.Sprint(p.n), p, Noted)
	c.Copy, c.Text = fmt.Sprint(w.kept), "the same on both sides; fix them on the origin"
	w.rep.Checks = append(w.rep.Checks, c)
}

// short writes a stamp for people: of an SQLite file, or of a tally of rows.
func short(stamp string) string {
	if n, sum, ok := strings.Cut(stamp, " rows "); ok {
		return n + " rows " + sum[:min(4, len(sum))]
	}
	first, rest, _ := strings.Cut(stamp, " ")
	size, _, _ := strings.Cut(rest, "@")
	return "no. " + first + ", " + size + " B"
}

// judged makes a check of something of which there should be none.
func judged(name, group, title, origin string, p places, bad Verdict) Check {
	c := Check{
		Name:    name,
		Group:   group,
		Title:   title,
		Origin:  origin,
		Copy:    fmt.Sprint(p.n),
		Verdict: Holds,
		Where:   p.where,
		Number:  p.n,
	}
	if p.n > 0 {
		c.Verdict, c.Text = bad, fmt.Sprintf("%d found", p.n)
	}
	return c
}

// isolation writes a marker to the copy, looks for it on both, and removes it.
func isolation(ctx context.Context, in *Input, rep *Report, origin tables.Database, copied tables.Writable) error {
	var b [8]byte
	_, _ = rand.Read(b[:])
	db := in.Copy.Database
	name := "marker_of_alibi_" + hex.EncodeToString(b[:])
	stored, marker := db.Prefix+name, db.Prefix+name // as any table of the site's
	if db.Beside() {
		marker = db.As + name
	}
	c := Check{
		Name:    "isolation",
		Group:   "isolation",
		Title:   "a marker written to the copy",
		Verdict: Holds,
		Text:    "copy and origin are two sites",
	}
	err := copied.Exec(ctx, "CREATE TABLE "+stored+" (n INTEGER)")
	if tables.Transient(err) {
		return fmt.Errorf("writing a marker to the copy: %w", err)
	}
	if err != nil {
		c.Origin, c.Copy, c.Verdict, c.Text = "-", "not written", Broken, err.Error()
		rep.Checks = append(rep.Checks, c)
		return nil
	}
	find := func(db tables.Database) (string, error) {
		s, err := db.Snapshot(ctx)
		if err != nil {
			return "", err
		}
		defer s.Close()
		if _, ok := s.Schema().Table(marker); ok {
			return "found", nil
		}
		return "not found", nil
	}
	if c.Copy, err = find(copied); err == nil {
		c.Origin, err = find(origin)
	}
	if derr := copied.Exec(context.WithoutCancel(ctx), "DROP TABLE "+stored); err == nil {
		err = derr
	}
	if err != nil {
		return fmt.Errorf("looking for the marker: %w", err)
	}
	if c.Copy != "found" || c.Origin == "found" {
		c.Verdict, c.Text = Broken, "copy and origin share a database: what is done on the copy happens on the origin"
	}
	rep.Checks = append(rep.Checks, c)
	return nil
}

// provePages asks the copy for its pages, or for the first one only, in place of what was said of them before.
func provePages(ctx context.Context, in *Input, rep *Report, all bool) error {
	mark := in.Env.Mark(ctx, in.Copy)
	a, err := site.Either(all, in.Env.Probe, in.Env.First)(ctx, in.Copy)
	c := Check{Name: "pages", Group: "pages", Title: "the copy's pages answer", Origin: "not asked", Verdict: Holds,
		Copy: fmt.Sprintf("%d, %s", a.Status, a.Further()), Text: "at " + in.Copy.Address().String()}
	switch {
	case errors.Is(err, op.ErrForeign):
		c.Group, c.Verdict, c.Copy, c.Text = "isolation", Broken, "not asked", err.Error()
	case err != nil:
		c.Verdict, c.Copy, c.Text = Broken, "no answer", err.Error()
	case a.Status != 200:
		c.Verdict, c.Text = Broken, fmt.Sprintf("the first page answers %d", a.Status)
	case len(a.Failed) > 0:
		c.Verdict, c.Text, c.Where, c.Number = Broken, fmt.Sprintf("%d pages do not answer", len(a.Failed)), a.Failed,
			len(a.Failed)
	case len(a.Gone) > 0:
		c.Verdict, c.Text, c.Where, c.Number = Noted, fmt.Sprintf("%d links of the first page lead to nothing",
			len(a.Gone)), a.Gone, len(a.Gone)
	case !a.Banner:
		c.Verdict, c.Text = Broken, "the page does not say that it is a copy"
	}
	if c.Verdict == Broken {
		if said, err := in.Env.Complaints(ctx, in.Copy, mark); err == nil && len(said) > 0 {
			c.Text += "; its log: " + said[0]
		}
	}
	if at := slices.IndexFunc(rep.Checks, func(o Check) bool { return o.Name == c.Name }); at >= 0 {
		rep.Checks[at] = c
	} else {
		rep.Checks = append(rep.Checks, c)
	}
	return err
}

// proveQuiet has the copy's code try what its quiet rules forbid.
func proveQuiet(ctx context.Context, in *Input, rep *Report) {
	t, err := in.Env.Try(ctx, in.Copy, in.outside())
	if errors.Is(err, op.ErrNotRun) {
		return
	}
	c := Check{
		Name:    "quiet rules",
		Group:   "isolation",
		Title:   "what the quiet rules forbid, tried",
		Origin:  "not asked",
		Verdict: Holds,
	}
	if err != nil {
		c.Verdict, c.Copy, c.Text = Broken, "no answer", err.Error()
		rep.Checks = append(rep.Checks, c)
		return
	}
	c.Copy = fmt.Sprintf("%d of %d hold", len(in.Copy.Quiet), len(in.Copy.Quiet))
	for _, r := range in.Copy.Quiet {
		if t.Holds[r] {
			rep.Held = append(rep.Held, r)
		} else {
			c.Verdict = Broken
			c.Number++
			c.Where = append(c.Where, fmt.Sprintf("%s: it is not so that %s", r, r.Explain()))
		}
	}
	if c.Number > 0 {
		c.Copy, c.Text = fmt.Sprintf("%d of %d hold", len(in.Copy.Quiet)-c.Number, len(in.Copy.Quiet)),
			"the copy may do outside what it must not"
	}
	rep.Checks = append(rep.Checks, c)
	in.walled(t, rep)
	in.letsIn(ctx, t.Walled, rep)
	rep.PHP = t.PHP
	rt := Check{Name: "runtime", Group: "pages", Title: "what it runs on", Verdict: Holds,
		Origin: "PHP " + in.Origin.Facts.PHP + ", core " + in.Origin.Facts.Core,
		Copy:   "PHP " + t.PHP + ", core " + t.Core}
	switch asked := in.Copy.Runtime.PHP; {
	case asked != "" && php.Series(t.PHP) != php.Series(asked):
		rt.Verdict, rt.Text = Broken, "PHP "+asked+
			" was asked for, and is not what it runs on: install it, or choose another"
	case php.Series(t.PHP) != php.Series(in.Origin.Facts.PHP) && in.Origin.Facts.PHP != "":
		rt.Verdict, rt.Text = Noted, "another PHP than the origin's"
	}
	rep.Checks = append(rep.Checks, rt)
}
