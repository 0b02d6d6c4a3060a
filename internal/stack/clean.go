package stack

import (
	"slices"
	"time"

	"alibi/internal/tables"

	"alibi/internal/site"
)

// Wish says how clean a site is to become. One of All, Kinds and Plugin is set,
// or none: then no table changes.
type Wish struct {
	All    bool        `json:"all,omitempty"`    // all content, all accounts but one, all settings but the site's own
	Kinds  []site.Kind `json:"kinds,omitempty"`  // only content of these kinds goes
	Plugin string      `json:"plugin,omitempty"` // only what this plugin keeps in tables goes
	Trim   []string    `json:"trim,omitempty"`   // only these parts go that nobody sees: see Trimming
	Admin  Admin       `json:"admin,omitzero"`
	Theme  string      `json:"theme,omitempty"` // the one that is on afterwards
	At     time.Time   `json:"at"`              // of accounts that are made; what is kept for a time is over then
}

// Admin is the administrator of a cleaned site. Without a name the first one
// that the site has stays, as it is.
type Admin struct {
	Name string `json:"name,omitempty"`
	Mail string `json:"mail,omitempty"`
	Hash string `json:"hash,omitempty"` // of the password: bcrypt; "": the account's own stays
}

// Cleanup is what becomes of one table. The zero value leaves it as it is.
type Cleanup struct {
	Goes  bool                                          // the table itself
	Empty bool                                          // all of its rows
	Row   func(r tables.Row) (to tables.Row, stay bool) // of each row
	Add   []tables.Row                                  // that come, behind the others
}

// Changes tells whether anything becomes of the table.
func (c Cleanup) Changes() bool { return c.Goes || c.Empty || c.Row != nil || len(c.Add) > 0 }

// LeftFolder is a folder in which a kind of site has what a reset may leave over,
// to be taken out one by one.
type LeftFolder struct {
	Name string // "plugins"
	Path string
	// Stays are names in it that belong to the site itself.
	Stays []string
}

// Leftover is something that is in such a folder.
type Leftover struct {
	Folder string `json:"folder"`
	Name   string `json:"name"`
	Path   string `json:"path"`
	Files  int64  `json:"files"`
	Bytes  int64  `json:"bytes"`
}

// Brought is what came of content that was read from a feed.
type Brought struct {
	Items    int      `json:"items"`
	Comments int      `json:"comments"`
	Skipped  int      `json:"skipped"`           // that were there already
	Unknown  []string `json:"unknown,omitempty"` // authors who have no account here
}

// Then is what becomes of a table where two things are done, o after c.
func (c Cleanup) Then(o Cleanup) Cleanup {
	switch {
	case !c.Changes():
		return o
	case !o.Changes():
		return c
	case c.Goes:
		return c
	case o.Goes || o.Empty:
		return o
	case c.Empty:
		return Cleanup{Empty: true, Add: slices.Concat(c.Add, o.Add)}
	}
	out := Cleanup{Add: slices.Concat(c.Add, o.Add)}
	first, second := c.Row, o.Row
	switch {
	case first == nil:
		out.Row = second
	case second == nil:
		out.Row = first
	default:
		out.Row = func(r tables.Row) (tables.Row, bool) {
			r, stay := first(r)
			if !stay {
				return r, false
			}
			return second(r)
		}
	}
	return out
}
