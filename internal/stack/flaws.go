package stack

import (
	"bytes"

	"alibi/internal/phpval"
	"alibi/internal/rewrite"
	"alibi/internal/tables"
)

// Left looks for addresses of the origin in a row of the copy: left are values
// that should have been changed, kept are those that can't be.
func (x *Transform) Left(t tables.Table, r tables.Row) (left, kept []Kept) {
	for i, v := range r.Values {
		if v.Kind != tables.Text && v.Kind != tables.Blob {
			continue
		}
		_, n, issue := x.Change.Rewriter.Value(v.Bytes, rewrite.Prose)
		if n > 0 {
			left = append(left, Kept{t.Name, r.Address(), t.Columns[i].Name, issue})
		}
		if issue != rewrite.Clean {
			kept = append(kept, Kept{t.Name, r.Address(), t.Columns[i].Name, issue})
		}
	}
	return left, kept
}

// Invalid gives the values of a row that look serialized and are not well formed.
func Invalid(t tables.Table, r tables.Row) (out []Kept) {
	for i, v := range r.Values {
		if invalid(v) {
			out = append(out, Kept{t.Name, r.Address(), t.Columns[i].Name, rewrite.Broken})
		}
	}
	return out
}

func invalid(v tables.Value) bool {
	return (v.Kind == tables.Text || v.Kind == tables.Blob) && phpval.Looks(v.Bytes) &&
		!phpval.Valid(bytes.TrimSpace(v.Bytes))
}

// Watched is Row, with what is made of the row looked at once more.
func (x *Transform) Watched(t tables.Table, row tables.Row, c *Changed) {
	was := append([]tables.Value(nil), row.Values...)
	x.Row(t, row, c)
	left, _ := x.Left(t, row)
	c.Left = append(c.Left, left...)
	for i, v := range row.Values {
		if invalid(v) && !invalid(was[i]) {
			c.Invalid = append(c.Invalid, Kept{t.Name, row.Address(), t.Columns[i].Name, rewrite.Broken})
		}
	}
}
