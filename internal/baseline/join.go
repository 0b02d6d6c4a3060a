package baseline

import (
	"context"
	"errors"
	"os"
	"slices"
	"strings"

	"alibi/internal/tree"
)

// Older says which of two copies was made from an older state of their origin.
type Older int

// What is known of that.
const (
	NotKnown Older = iota
	FirstOlder
	SecondOlder
)

// another is a digest that stands for a row that is not what it was.
const another = 1

// Join makes at path the common state of two copies of one origin, of those of each of them with that: the first copy
// stands in it for the origin. Where the origin had changed between the two, the older copy has what both had in
// common, and the other one has changed; where it is not known which is older, both have.
func Join(ctx context.Context, path string, first, second *Baseline, older Older) error {
	b, err := Create(path + ".new")
	if err != nil {
		return err
	}
	defer os.Remove(path + ".new") //nolint:errcheck // after a rename there is none
	if err := errors.Join(b.join(ctx, first, second, older), b.Close()); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// JoinedOf names the states of two copies of which the joined one is made.
func JoinedOf(ctx context.Context, first, second *Baseline) (Meta, error) {
	a, err := first.Meta(ctx)
	if err != nil {
		return a, err
	}
	b, err := second.Meta(ctx)
	if err != nil {
		return b, err
	}
	m := Meta{At: a.At, Stamp: a.At.UTC().String() + ", " + b.At.UTC().String()}
	if b.At.Before(a.At) {
		m.At = b.At
	}
	return m, nil
}

func (b *Baseline) join(ctx context.Context, first, second *Baseline, older Older) error {
	names, err := first.tables(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		one, err := first.Table(ctx, name)
		if err != nil {
			return err
		}
		two, err := second.Table(ctx, name)
		if err != nil {
			return err
		}
		w, err := b.Rows(ctx, name)
		if err != nil {
			return err
		}
		for key, p := range joinRows(one, two, older) {
			if err := w.Put(ctx, key, p); err != nil {
				return err
			}
		}
		if err := w.Close(ctx); err != nil {
			return err
		}
	}
	one, err := first.entries(ctx, nil)
	if err != nil {
		return err
	}
	two, err := second.entries(ctx, nil)
	if err != nil {
		return err
	}
	if err := b.PutFiles(ctx, joinFiles(one, two, older)); err != nil {
		return err
	}
	m, err := JoinedOf(ctx, first, second)
	if err != nil {
		return err
	}
	return b.PutMeta(ctx, m)
}

// tables are the names of all tables.
func (b *Baseline) tables(ctx context.Context) (out []string, err error) {
	rows, err := b.db.QueryContext(ctx, "SELECT DISTINCT tbl FROM rows")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		name, _, _ = strings.Cut(name, "\n")
		out = append(out, name)
	}
	slices.Sort(out)
	return slices.Compact(out), rows.Err()
}

func joinRows(one, two map[uint64]Pair, older Older) map[uint64]Pair {
	out := make(map[uint64]Pair, len(one))
	for key, a := range one {
		switch b, both := two[key]; {
		case both && a.Origin == b.Origin:
			out[key] = Pair{a.Copy, b.Copy}
		case older == FirstOlder:
			out[key] = Pair{a.Copy, another}
		case older == SecondOlder && both:
			out[key] = Pair{another, b.Copy}
		case older == NotKnown:
			out[key] = Pair{another, another}
		}
	}
	for key, b := range two {
		if _, both := one[key]; both || older == FirstOlder {
			continue
		}
		out[key] = Pair{another, another}
		if older == SecondOlder {
			out[key] = Pair{another, b.Copy}
		}
	}
	return out
}

func joinFiles(one, two map[string]File, older Older) (out []File) {
	like := func(e tree.Entry) File { return File{Origin: e, Copy: e} }
	for name, a := range one {
		b, both := two[name]
		switch {
		case a.Copy.Path == "" || both && b.Copy.Path == "": // a copy has not got it, and nothing is told of it
			out = append(out, File{Origin: tree.Entry{Path: name}})
		case both && (a.Own || b.Own || tree.Alike(a.Origin, b.Origin)):
			out = append(out, File{Origin: a.Copy, Copy: b.Copy, Own: a.Own || b.Own})
		case a.Own:
			out = append(out, File{Origin: a.Copy, Copy: a.Copy, Own: true})
		case older == FirstOlder:
			out = append(out, like(a.Copy))
		case older == SecondOlder && both:
			out = append(out, like(b.Copy))
		}
	}
	for name, b := range two {
		if _, both := one[name]; both {
			continue
		}
		switch {
		case b.Copy.Path == "":
			out = append(out, File{Origin: tree.Entry{Path: name}})
		case b.Own || older == SecondOlder:
			out = append(out, File{Origin: b.Copy, Copy: b.Copy, Own: b.Own})
		}
	}
	slices.SortFunc(out, func(a, b File) int { return strings.Compare(a.Origin.Path, b.Origin.Path) })
	return out
}
