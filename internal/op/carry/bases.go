package carry

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"alibi/internal/baseline"
	"alibi/internal/depot"
	"alibi/internal/depot/pointhost"
	"alibi/internal/drift"
	"alibi/internal/merge"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// The baseline has a digest of each row as it was when the sides parted. The row itself is among those
// that were kept with the copy, or may be in a restore point of either: it is the one if it has that digest, whenever
// it was kept.

// mostPoints is in how many restore points of each side rows are looked for, those nearest to the parting.
const mostPoints = 3

// findBases looks for what rows were that both sides changed, and of a copy whose people are made up those that it
// changed: what live rows would become by what is known of people today is not what they became. What can't be found
// is not there, and no error.
func (s *Sides) findBases(ctx context.Context, rows []*drift.Row) error {
	missing := map[string][]*drift.Row{}
	for _, r := range rows {
		if r.Known && r.LiveRow != nil && r.CopyRow != nil && r.Copy != drift.Same && (r.Live != drift.Same ||
			s.Transform.Scrub != nil) {
			if _, passing := s.Transform.About(r.Table, *r.CopyRow); !passing {
				missing[r.Table.Name] = append(missing[r.Table.Name], r)
			}
		}
	}
	if len(missing) == 0 {
		return nil
	}
	if all, err := s.lookIntoValues(ctx, missing); err != nil || all || s.env.Depot == nil {
		return err
	}
	d, err := s.env.Depot(ctx)
	if err != nil {
		return nil //nolint:nilerr // without a depot there are no restore points
	}
	for _, p := range s.nearest(ctx, d) {
		h, err := pointhost.Open(ctx, d, p.ID)
		if err != nil {
			continue // a damaged one has nothing for us
		}
		if err := s.lookInto(ctx, h, p.Site.ID == s.LiveSite.ID, missing); ctx.Err() != nil {
			return ctx.Err()
		} else if err != nil {
			continue
		}
	}
	return nil
}

// lookIntoValues looks for rows among those that were kept when the copy was made, or both copies were, and tells
// whether all are there.
func (s *Sides) lookIntoValues(ctx context.Context, missing map[string][]*drift.Row) (all bool, err error) {
	all = true
	for _, rows := range missing {
		if err := errors.Join(s.lookAmong(ctx, s.values, false, rows), s.lookAmong(ctx, s.first, true, rows)); err != nil {
			return false, err
		}
		for _, r := range rows {
			all = all && r.Was != nil
		}
	}
	return all, nil
}

// lookAmong looks for rows of a table among those that were kept of a side.
func (s *Sides) lookAmong(ctx context.Context, v *baseline.Values, live bool, rows []*drift.Row) error {
	if v == nil {
		return nil
	}
	by := map[string]*drift.Row{}
	var keys [][]tables.Value
	for _, r := range rows {
		if r.Was == nil {
			keys, by[tables.Row{Key: r.Key}.Address()] = append(keys, r.Key), r
		}
	}
	return v.Find(ctx, rows[0].Table, keys, func(is tables.Row) error {
		r := by[is.Address()]
		snap, want := s.Copy, r.Base.Copy
		if live {
			snap, want = s.Live, r.Base.Origin
		}
		if sum, _ := snap.Digest(r.Table.Name, is, nil); sum[0] == want {
			s.Knows(r, s.inCopy(r.Table, is, live))
		}
		return nil
	})
}

// nearest are the restore points of both sides that were taken nearest to when these parted.
func (s *Sides) nearest(ctx context.Context, d *depot.Depot) (out []depot.Point) {
	list, _, err := d.Points(ctx)
	if err != nil {
		return nil
	}
	meta, err := s.Base.Meta(ctx)
	if err != nil {
		return nil
	}
	away := func(p depot.Point) time.Duration { return p.Taken.Sub(meta.At).Abs() }
	slices.SortFunc(list, func(a, b depot.Point) int { return cmp.Compare(away(a), away(b)) })
	had := map[site.ID]int{}
	for _, p := range list {
		if id := p.Site.ID; (id == s.LiveSite.ID || id == s.CopySite.ID) && !p.Redacted() && had[id] < mostPoints {
			had[id]++
			out = append(out, p)
		}
	}
	return out
}

// lookInto looks for rows in a restore point.
func (s *Sides) lookInto(ctx context.Context, h *pointhost.Host, live bool, missing map[string][]*drift.Row,
) error {
	db, err := h.Database(ctx, h.Point().Site.Database)
	if err != nil {
		return err
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snap.Close()
	snap = tables.ByDeclaredKey(snap)
	now := s.Copy
	if live {
		now = s.Live
	}
	for name, rows := range missing {
		t, ok := snap.Schema().Table(name)
		if !ok {
			continue
		}
		var keys [][]tables.Value
		by := map[string]*drift.Row{}
		for _, r := range rows {
			if r.Was == nil {
				keys, by[tables.Row{Key: r.Key}.Address()] = append(keys, r.Key), r
			}
		}
		if len(keys) == 0 {
			continue
		}
		if err := tables.Fetch(ctx, snap, t, keys, func(is tables.Row) error {
			r := by[is.Address()]
			if r == nil || len(is.Values) != len(r.Table.Columns) {
				return nil
			}
			sum, _ := now.Digest(name, is, nil)
			if live && sum[0] != r.Base.Origin || !live && sum[0] != r.Base.Copy {
				return nil
			}
			was := s.inCopy(t, is, live)
			if sum, _ := s.Copy.Digest(name, tables.Row{Key: is.Key, Values: was}, nil); s.Transform.Scrub == nil ||
				sum[0] == r.Base.Copy {
				s.Knows(r, was)
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// inCopy gives a row with the copy's addresses.
func (s *Sides) inCopy(t tables.Table, r tables.Row, live bool) []tables.Value {
	out := tables.Row{Key: tables.Keep(r.Key), Values: tables.Keep(r.Values)}
	if live {
		var c stack.Changed
		s.Transform.Row(t, out, &c)
	}
	return out.Values
}

// merged brings both versions of a row together, with the copy's addresses; not ok where both changed the same place,
// or it is not known what they were. hand has what people wrote for such places.
func merged(r *drift.Row, hand map[string]string) (out []tables.Value, ok bool) {
	was := r.Was
	if r.Became == nil || r.CopyRow == nil {
		return nil, false
	}
	if was == nil && hand != nil { // nothing is known to be the same
		was = make([]tables.Value, len(r.Became.Values))
	}
	if was == nil {
		return nil, false
	}
	for i := range was {
		live, copied := r.Became.Values[i], r.CopyRow.Values[i]
		switch {
		case live.Equal(copied), copied.Equal(was[i]):
			out = append(out, live)
		case live.Equal(was[i]):
			out = append(out, copied)
		default:
			v, whole := mergeValue(was[i], live, copied)
			if text, by := hand[place(r, i)]; !whole && by {
				v, whole = byHand(text, live)
			}
			if !whole {
				return nil, false
			}
			out = append(out, v)
		}
	}
	return out, true
}

// mergeValue merges two versions of a value: of two times the later one, of texts line by line, of what
// PHP or JSON packs by its parts.
func mergeValue(was, a, b tables.Value) (tables.Value, bool) {
	if a.Kind != b.Kind || was.Kind != a.Kind || a.Kind != tables.Text && a.Kind != tables.Blob {
		return a, false
	}
	first, err := time.Parse(time.DateTime, a.String())
	second, berr := time.Parse(time.DateTime, b.String())
	if err == nil && berr == nil {
		if second.After(first) {
			return b, true
		}
		return a, true
	}
	if packed(was) || packed(a) || packed(b) {
		if text, whole := merge.Packed(was.Bytes, a.Bytes, b.Bytes); whole {
			return tables.Value{Kind: a.Kind, Bytes: text}, true
		}
		return a, false
	}
	text, whole := merge.Text(was.String(), a.String(), b.String())
	return tables.Value{Kind: a.Kind, Bytes: []byte(text)}, whole
}
