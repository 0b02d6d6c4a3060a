package stack

import (
	"encoding/json"
	"fmt"

	"alibi/internal/rewrite"
	"alibi/internal/scrub"
	"alibi/internal/tables"
)

// Transform is how a row of the origin becomes one of the copy. Cloning and
// evidence use the same one, so that nothing but what was intended differs.
type Transform struct {
	Stack  Stack
	Change Change
	Scrub  *scrub.Scrubber // nil: personal data stay what they are
	keeper Keeper          // nil: every row is brought
	// Declared is what is declared of components, of which the stack knows nothing.
	Declared []Declaration
}

// Changed counts what a transform did to rows.
type Changed struct {
	Addresses int    `json:"addresses"` // that were rewritten
	Adjusted  int    `json:"adjusted"`  // values that quiet rules and the title changed
	Scrubbed  int    `json:"scrubbed,omitempty"`
	Kept      []Kept `json:"kept,omitempty"`
	Left      []Kept `json:"left,omitempty"`    // values with an address of the origin that should not have it
	Invalid   []Kept `json:"invalid,omitempty"` // serialized values that were well formed on the origin
}

// Add adds what was counted elsewhere.
func (c *Changed) Add(o Changed) {
	c.Addresses += o.Addresses
	c.Adjusted += o.Adjusted
	c.Scrubbed += o.Scrubbed
	c.Kept = append(c.Kept, o.Kept...)
	c.Left = append(c.Left, o.Left...)
	c.Invalid = append(c.Invalid, o.Invalid...)
}

// Notes writes what was done to the rows of each table, to be kept.
func Notes(list map[string]Changed) (map[string]json.RawMessage, error) {
	out := make(map[string]json.RawMessage, len(list))
	for name, c := range list {
		doc, err := json.Marshal(c)
		if err != nil {
			return nil, err
		}
		out[name] = doc
	}
	return out, nil
}

// FromNotes reads what Notes wrote.
func FromNotes(notes map[string]json.RawMessage) (map[string]Changed, error) {
	out := make(map[string]Changed, len(notes))
	for name, doc := range notes {
		var c Changed
		if err := json.Unmarshal(doc, &c); err != nil {
			return nil, fmt.Errorf("reading what was done to %s: %w", name, err)
		}
		out[name] = c
	}
	return out, nil
}

// Kept is a value that holds an address and could not be rewritten.
type Kept struct {
	Table  string        `json:"table"`
	Row    string        `json:"row"`
	Column string        `json:"column"`
	Why    rewrite.Issue `json:"why"`
}

// String says where the value is.
func (k Kept) String() string { return k.Table + ", row " + k.Row + ", " + k.Column }

// Row changes a row in place. The values may share memory with the source
// until they are changed.
func (x *Transform) Row(t tables.Table, row tables.Row, c *Changed) {
	for i := range row.Values {
		v := &row.Values[i]
		if v.Kind != tables.Text && v.Kind != tables.Blob {
			continue
		}
		out, n, issue := x.Change.Rewriter.Value(v.Bytes, x.Stack.Scope(t.Name, t.Columns[i].Name))
		v.Bytes = out
		c.Addresses += n
		if issue != rewrite.Clean {
			c.Kept = append(c.Kept, Kept{t.Name, row.Address(), t.Columns[i].Name, issue})
		}
	}
	if x.Change.Moves {
		return
	}
	c.Adjusted += SettingsOf(x.Stack).Adjust(x.Change, t, row)
	if x.Scrub != nil {
		c.Scrubbed += x.Scrub.Row(t, row)
	}
	if db := x.Change.Copy.Database; db.Beside() {
		if i := t.Column(SettingsOf(x.Stack).Keyed(x.Change.Origin.Prefix, t.Name)); i >= 0 {
			if key, yes := rewrite.Key(row.Values[i].String(), db.As, db.Prefix); yes {
				row.Values[i].Bytes = []byte(key)
				c.Adjusted++
			}
		}
	}
}

// Search says in which rows of a table something may have to be changed. Rows
// that it does not find are the same on the copy.
func (x *Transform) Search(t tables.Table) tables.Search {
	s := tables.Search{Values: map[string][]string{}, All: x.Scrub != nil}
	s.Fold, s.Exact = x.Change.Rewriter.Needles()
	if column, values := SettingsOf(x.Stack).Touches(x.Change.Origin.Prefix, t.Name); column != "" {
		s.Values[column] = values
	}
	if from := x.Change.Origin.Prefix; x.Change.Copy.Database.Beside() &&
		SettingsOf(x.Stack).Keyed(from, t.Name) != "" {
		s.Exact = append(s.Exact, from)
	}
	return s
}
