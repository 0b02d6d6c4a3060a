package evidence

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"alibi/internal/baseline"
	"alibi/internal/scrub"
	"alibi/internal/site"
	"alibi/internal/tables"
)

// personal looks in every value of the copy for what the origin has of people.
func (w *tableWork) personal(ctx context.Context) error {
	s := w.in.Transform.Scrub
	if s == nil {
		return nil
	}
	typed, err := w.in.Baseline.Typed(ctx)
	if err != nil {
		return err
	}
	c, err := Personal(ctx, s, w.copy, typed)
	if err != nil {
		return err
	}
	c.Copy += fmt.Sprintf("; %s values made up", site.Number(w.changed.Scrubbed))
	w.rep.Checks = append(w.rep.Checks, c)
	return nil
}

// notLookedAt says what the search can't see.
const notLookedAt = "looked for in every value, as text, percent-encoded, with entities, in JSON, serialized and " +
	"base64, and by digests of mail addresses; not in files and pictures, nor in what is encrypted or compressed, nor " +
	"for first names alone"

// Personal looks in every value of a copy for the originals that a scrubber learned. Those whom somebody typed on the
// copy itself, before the live site got them, are told apart.
func Personal(ctx context.Context, s *scrub.Scrubber, copied tables.Snapshot, typed map[baseline.TypedRow]bool,
) (Check, error) {
	var left places
	own := 0
	watch := s.Propose()
	for _, t := range copied.Schema().Tables {
		if err := copied.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
			watch.Watch(t, r)
			for _, column := range s.Look(t, r) {
				if typed[baseline.TypedRow{Table: t.Name, Address: r.Address()}] {
					own++
					continue
				}
				left.add("%s, row %s, %s", t.Name, r.Address(), column)
			}
			return ctx.Err()
		}); err != nil {
			return Check{}, fmt.Errorf("looking for personal data in %s: %w", t.Name, err)
		}
	}
	c := judged("personal", "isolation", "people's data left on the copy", Originals(s), left, Broken)
	if left.n == 0 {
		c.Copy = "none found"
		c.Text = notLookedAt
	}
	if own > 0 {
		c.Copy += fmt.Sprintf("; beside %s written on the copy and carried home", site.Plural(own, "value", "values"))
	}
	if found := watch.Found(); len(found) > 0 && left.n == 0 {
		c.Verdict, c.Where, c.Number = Noted, found, len(found)
		c.Text = "columns that look personal and are not known as such: name them under [scrub] columns in " +
			"config.toml, and scrub again"
	}
	return c, nil
}

// Originals says what of people was looked for.
func Originals(s *scrub.Scrubber) string {
	of := s.Originals()
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(of)) {
		parts = append(parts, fmt.Sprintf("%s %s", site.Number(of[k]), k.Many(of[k])))
	}
	if len(parts) == 0 {
		return "no people are named"
	}
	return strings.Join(parts, ", ")
}
