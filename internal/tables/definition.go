package tables

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Definition is what an object of a database is, part by part: "column post_title" is "varchar(200)
// NOT NULL". The parts are in a form that is equal wherever they mean the same, also on servers of
// different makes.
type Definition map[string]string

// place begins the parts that say behind which column another one stands.
const place = "place of "

// Place is the part that says where another part stands among its like.
func Place(part string) string { return place + part }

const (
	// Whole is the part that is the statement as a whole. It counts where no other part differs.
	Whole = "definition"
	// Next is the number that the next row gets. It rises by itself, so that it is compared apart.
	Next = "next number"
)

// Unlike says how a definition differs from the one that it should be, a sentence for each part.
func (d Definition) Unlike(should Definition) (out []string) {
	names := slices.Sorted(maps.Keys(d))
	for part := range should {
		if _, both := d[part]; !both {
			names = append(names, part)
		}
	}
	slices.Sort(names)
	for _, part := range names {
		is, has := d[part]
		want, wants := should[part]
		switch {
		case part == Whole, part == Next, is == want && has == wants:
		case strings.HasPrefix(part, place) && has != wants: // its column is said
		case !has:
			out = append(out, part+" is missing")
		case !wants:
			out = append(out, part+" is extra: "+is)
		default:
			out = append(out, fmt.Sprintf("%s is %s, not %s", part, is, want))
		}
	}
	if len(out) == 0 && d[Whole] != should[Whole] {
		out = append(out, "is defined otherwise")
	}
	return out
}

// Definitions gives all that a schema defines, by kind and name: "table sk_posts", "view tides".
func (s Schema) Definitions() map[string]Definition {
	out := map[string]Definition{}
	for _, t := range s.Tables {
		out["table "+t.Name] = t.Definition
	}
	for _, o := range s.After {
		d := Definition{Whole: strings.Join(strings.Fields(o.SQL), " ")}
		if o.Mode != "" {
			d["mode"] = o.Mode
		}
		out[o.Kind+" "+o.Name] = d
	}
	return out
}

// Bounded is a database that can say what in it reaches beyond it.
type Bounded interface {
	// Outside names what of the database's objects works with another database, and what its
	// account may do elsewhere, in sentences. own are other databases of the same site; others are
	// names that are looked for, beside those that the account sees.
	Outside(ctx context.Context, own, others []string) ([]string, error)
}
