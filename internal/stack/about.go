package stack

import (
	"context"
	"strings"

	"alibi/internal/tables"
)

// Describer is a stack that knows what the rows of its tables are.
type Describer interface {
	// About gives what people call a row, "" if nothing does, and whether it is one that a site writes
	// to itself when it is visited or does its own duties: caches, sessions, locks, what is due when.
	About(prefix string, t tables.Table, row tables.Row) (called string, passing bool)
}

// Secretive is a stack that knows what opens a site and its database: passwords, keys of sessions.
type Secretive interface {
	Secrets(ctx context.Context, p Place) ([]string, error)
}

// About says what a row of the origin or the copy is; see Describer.
func (x *Transform) About(t tables.Table, row tables.Row) (called string, passing bool) {
	if t.Counters {
		return "", true
	}
	if d, ok := x.Items().(declared); ok && d.passes(x.Change.Origin.Prefix, t.Name) {
		return "", true
	}
	if d, ok := x.Stack.(Describer); ok {
		if called, passing = d.About(x.Change.Origin.Prefix, t, row); called != "" || passing {
			return Short(called), passing
		}
	}
	return Short(calledByColumn(t, row)), false
}

// calling are columns by which people know a row, the likeliest first.
var calling = []string{"title", "name", "label", "subject", "slug", "login", "email", "code", "description"}

// calledByColumn takes the column of a row that is most likely to hold what people call it; of a table
// without a key, all of its values.
func calledByColumn(t tables.Table, row tables.Row) string {
	if len(t.Key) == 0 {
		var all []string
		for _, v := range row.Values {
			all = append(all, v.String())
		}
		return strings.Join(all, ", ")
	}
	for _, word := range calling {
		for i, c := range t.Columns {
			if i < len(row.Values) && row.Values[i].Kind == tables.Text &&
				strings.Contains(strings.ToLower(c.Name), word) {
				if s := row.Values[i].String(); s != "" {
					return s
				}
			}
		}
	}
	return ""
}

// Short cuts a text to what fits beside others in a line.
func Short(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > 60 {
		return string(r[:59]) + "…"
	}
	return s
}
