package move

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

// chosen are the collations that a person chose for the tables at the other place, or at the former one when they come
// back.
func chosen(m plan.Move) map[string]string {
	if !m.Moved {
		return m.Collations
	}
	out := map[string]string{}
	for _, from := range slices.Backward(slices.Sorted(maps.Keys(m.Collations))) {
		out[m.Collations[from]] = from
	}
	return out
}

// collate finds out which collations the tables get at the other place, and notes it with the move.
func (x *runner) collate(ctx context.Context, here, there site.Site, is *tables.Abilities) error {
	m, err := x.env.Record.Move(ctx, x.c.Move)
	if err != nil || is == nil {
		return err
	}
	var to, missing map[string]string
	err = x.env.Tables(ctx, here, func(_ stack.Stack, snap tables.Snapshot) error {
		to, missing = engines.Exchange(snap.Schema(), chosen(m), is.Collations)
		return nil
	})
	if err != nil {
		return fmt.Errorf("reading the site's database: %w", err)
	}
	for _, c := range slices.Sorted(maps.Keys(missing)) {
		what, remedy := noCollation(m.Name, c, missing[c], there.Host, is.Version)
		return fmt.Errorf("%s; %s", what, remedy)
	}
	x.mem.Collations = to
	if m.Moved || len(to) == 0 || maps.Equal(to, m.Collations) {
		return nil
	}
	_, err = x.env.Record.ChangeMove(ctx, x.c.Move, func(m *plan.Move) error {
		all := maps.Clone(to)
		maps.Copy(all, m.Collations)
		m.Collations = all
		return nil
	})
	return err
}

// noCollation says that a server knows none in place of a collation, and what to do about it.
func noCollation(move, collation, what, host, version string) (text, remedy string) {
	return fmt.Sprintf("the server of %s (%s) does not know the collation %s, which %s has, and none that comes near",
		host, version, collation, what), chooseCollation(move, collation)
}

// chooseCollation says how a person chooses another one.
func chooseCollation(move, collation string) string {
	return "name one of the same character set: alibi move " + move + " survey --collation " + collation + "=OTHER"
}

// fit is a table as it is to be defined at the other place. Where one that is there means the same, it is that one's
// definition: servers of other makes write theirs otherwise, and coming back a table gets its former collations.
func (x *runner) fit(e *ends, m plan.Move, tab tables.Table) tables.Table {
	out := recollated(tab, x.mem.Collations)
	is, has := e.now.Schema().Table(tab.Name)
	if !has || engines.SameShape(out, is) {
		return out
	}
	should, now := out, is
	if m.Moved {
		should, now = tab, recollated(is, m.Collations)
	}
	if len(now.Definition.Unlike(should.Definition)) > 0 {
		return out
	}
	return engines.Defined(out, is)
}

func recollated(t tables.Table, to map[string]string) tables.Table {
	return engines.Recollate(tables.Schema{Tables: []tables.Table{t}}, to).Tables[0]
}
