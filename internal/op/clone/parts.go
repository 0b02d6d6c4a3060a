package clone

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"alibi/internal/tables"
)

// PartRows is about how many rows a part of a table has: each is kept if the
// line breaks in a later one. Tests have fewer.
var PartRows = 20_000

// markOf names a part of a table by its bounds.
func markOf(table string, r tables.Range) string {
	h := sha256.New()
	for _, bound := range [][]tables.Value{r.After, r.To} {
		for _, v := range bound {
			fmt.Fprintf(h, "%d %q,", v.Kind, v.String())
		}
		h.Write([]byte{0})
	}
	return " part " + hex.EncodeToString(h.Sum(nil)[:12]) + " of " + table
}

// inParts loads a table range by range.
func (l *loading) inParts(ctx context.Context, tab tables.Table, to tables.PartLoader, parts []tables.Range) error {
	var keep []string
	there := map[string]bool{}
	for _, part := range parts {
		mark := markOf(tab.Name, part)
		same, err := l.samePart(ctx, tab, part, mark)
		if err != nil {
			return err
		}
		if same {
			keep, there[mark] = append(keep, mark), true
		}
	}
	if err := l.b.KeepParts(ctx, tab.Name, keep); err != nil {
		return err
	}
	for _, part := range parts { // one after the other: at once they would wait for one another's locks
		mark := markOf(tab.Name, part)
		if there[mark] {
			continue
		}
		err := to.LoadPart(ctx, tab.Name, mark, part, func(put func(tables.Row) error) error {
			w, err := l.b.Part(ctx, tab.Name, mark)
			if err != nil {
				return err
			}
			return l.pour(ctx, tab, part, w, put)
		})
		if err != nil {
			return err
		}
		l.note(mark)
	}
	if len(keep) > 0 { // what was found in these was not kept: the evidence looks again
		l.mu.Lock()
		delete(l.changed, tab.Name)
		l.kept += len(keep)
		l.mu.Unlock()
	}
	return to.Loaded(ctx, tab.Name)
}

// samePart tells whether a part that an earlier try loaded is what the origin's
// is now.
func (l *loading) samePart(ctx context.Context, tab tables.Table, part tables.Range, mark string) (bool, error) {
	sm, ok := l.snap.(tables.Summer)
	if !ok || !l.has(mark) || l.tr.Chooses(tab.Name) {
		return false, nil
	}
	base, err := l.b.Pairs(ctx, tab.Name, mark)
	if err != nil {
		return false, err
	}
	sum := uint64(0)
	for _, p := range base {
		sum += p.Origin
	}
	rows, now, err := sm.Total(ctx, tab.Name, part)
	if err != nil || rows != int64(len(base)) || now != sum {
		return false, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.tally.Join(tables.Tally{tab.Name: {uint64(rows), sum}})
	l.t.Add(rows, 0)
	return true, nil
}
