package evidence

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/baseline"
	"alibi/internal/rewrite"
	"alibi/internal/tables"
)

// countersApart is by how much a table's next number may have risen though no row of it is another:
// statements that are taken back, or that replace a row, use numbers up.
const countersApart = 1000

// schemaWork compares what the two databases define with what they defined when they parted.
type schemaWork struct {
	was              baseline.Definitions
	origin, copy     map[string]tables.Definition
	spoiled, changed places
	onOrigin, onCopy int
}

// newSchemaWork takes what both sides define now. Where it was not noted what they defined when they
// parted, the copy is taken to have defined what the origin defines now.
func newSchemaWork(was baseline.Definitions, origin, copied tables.Schema) *schemaWork {
	s := &schemaWork{was: was, origin: origin.Definitions(), copy: copied.Definitions()}
	for _, o := range copied.Hidden { // on the origin such a thing is not seen, and not copied
		s.copy[o.Kind+" "+o.Name] = tables.Definition{tables.Whole: "not shown to the copy's account"}
	}
	if s.was.Origin == nil {
		s.was.Origin = s.origin
	}
	if s.was.Copy == nil {
		s.was.Copy = s.was.Origin
	}
	return s
}

// compare looks at every object of either side.
func (s *schemaWork) compare(rep *Report, fresh bool) {
	all := map[string]bool{}
	for _, m := range []map[string]tables.Definition{s.origin, s.copy, s.was.Origin, s.was.Copy} {
		for what := range m {
			all[what] = true
		}
	}
	for _, what := range slices.Sorted(maps.Keys(all)) {
		s.object(what)
	}
	rep.Apart.Origin += s.onOrigin
	rep.Apart.Copy += s.onCopy
	c := Check{
		Name: "schema", Group: "tables", Title: "definitions of tables, views and triggers", Verdict: Holds,
		Origin: fmt.Sprint(len(s.origin)), Copy: fmt.Sprint(len(s.copy)), Where: s.changed.where, Number: s.changed.n,
	}
	switch {
	case s.spoiled.n > 0 && fresh:
		c.Verdict, c.Where, c.Number = Broken, s.spoiled.where, s.spoiled.n
		c.Text = fmt.Sprintf("%d are not what they should be", s.spoiled.n)
	case s.changed.n > 0:
		c.Verdict = Changed
		c.Text = fmt.Sprintf("since they parted %d changed on the origin, %d on the copy", s.onOrigin, s.onCopy)
	}
	rep.Checks = append(rep.Checks, c)
}

// object compares one object with what it was on each side.
func (s *schemaWork) object(what string) {
	o := unlike(s.origin, s.was.Origin, what)
	c := unlike(s.copy, s.was.Copy, what)
	for _, text := range o {
		s.changed.add("%s %s, on the origin", what, text)
	}
	for _, text := range c {
		s.changed.add("%s %s, on the copy", what, text)
		s.spoiled.add("%s %s", what, text)
	}
	s.onOrigin += min(len(o), 1)
	s.onCopy += min(len(c), 1)
}

// unlike says how an object is not what it was.
func unlike(now, was map[string]tables.Definition, what string) []string {
	is, has := now[what]
	before, had := was[what]
	switch {
	case has && had:
		return is.Unlike(before)
	case had:
		return []string{"is missing"}
	case has:
		return []string{"is extra"}
	}
	return nil
}

// counters looks at the numbers that the tables' next rows get, now that it is known in which
// tables rows changed on the copy.
func (s *schemaWork) counters(c *Check, fresh bool, changed map[string]bool) {
	var apart places
	for what, is := range s.copy {
		now, errNow := strconv.ParseUint(is[tables.Next], 10, 64)
		was, errWas := strconv.ParseUint(s.was.Copy[what][tables.Next], 10, 64)
		if errNow != nil || errWas != nil {
			continue
		}
		if now < was || now > was+countersApart && !changed[strings.TrimPrefix(what, "table ")] {
			apart.add("%s gives the number %d to its next row, not %d", what, now, was)
		}
	}
	if apart.n == 0 {
		return
	}
	slices.Sort(apart.where)
	if c.Verdict == Holds {
		c.Verdict, c.Text = Changed, "the next numbers of tables are others"
	}
	if fresh {
		c.Verdict = Broken
	}
	c.Where = append(c.Where, apart.where...)
	c.Number += apart.n
}

// reach looks for what in the copy's database works with another one.
func (w *tableWork) reach(ctx context.Context) error {
	b, can := w.copy.(tables.Bounded)
	if !can || w.in.Copy.Database.Beside() {
		return nil // tables beside the live ones have the account of these
	}
	sites, err := w.in.Env.Record.Sites(ctx)
	if err != nil {
		return err
	}
	names := []string{w.in.Origin.Database.Name}
	for _, s := range sites {
		names = append(names, s.Database.Name)
	}
	found, err := b.Outside(ctx, []string{w.in.Copy.Database.Twin()}, names)
	if err != nil {
		return fmt.Errorf("looking for what reaches out of the copy's database: %w", err)
	}
	var p places
	for _, f := range found {
		p.add("%s", f)
	}
	c := judged("reach", "isolation", "what works with another database", "not asked", p, Broken)
	if p.n > 0 {
		c.Text = "what is done on the copy may happen elsewhere: remove these from the copy's database, or " +
			"refresh the copy"
	}
	w.rep.Checks = append(w.rep.Checks, c)
	return nil
}

// definitions looks for addresses of the origin in what the copy's database defines. One that stands
// in the same place on the origin is noted: definitions are copied as they are.
func (w *tableWork) definitions(of *schemaWork) {
	var left, same places
	for _, what := range slices.Sorted(maps.Keys(of.copy)) {
		d := of.copy[what]
		for _, part := range slices.Sorted(maps.Keys(d)) {
			if _, n, _ := w.in.Transform.Change.Rewriter.Value([]byte(d[part]), rewrite.Prose); n == 0 {
				continue
			}
			if of.was.Origin[what][part] == d[part] {
				same.add("%s, %s", what, part)
			} else {
				left.add("%s, %s", what, part)
			}
		}
	}
	if left.n+same.n == 0 {
		return
	}
	c := judged("addresses in definitions", "addresses", "addresses of the origin in definitions", fmt.Sprint(same.n),
		left, Broken)
	c.Copy = fmt.Sprint(left.n + same.n)
	if left.n == 0 {
		c.Verdict, c.Text, c.Where, c.Number = Noted, "definitions are copied as they are; these name the origin",
			same.where, same.n
	}
	w.rep.Checks = append(w.rep.Checks, c)
}
