package stack

import (
	"cmp"
	"path"
	"time"

	"alibi/internal/tables"
)

// Items is a stack that knows which rows make what people would call one thing, and what refers to what.
type Items interface {
	// ItemOf names the item that a row is a part of: its kind and number or name, such as "post:12".
	ItemOf(prefix string, t tables.Table, r tables.Row) string
	// Describe says what a row tells of its item.
	Describe(prefix string, t tables.Table, r tables.Row) Described
	// RootOf gives the table and the number of the row without which an item is not there; "" where its name does not
	// tell.
	RootOf(prefix, item string) (table string, number int64)
	// References visits each number in a row that is the key of a row, its own too, with the table that the other one
	// is in, and puts the number that visit gives in its place.
	References(of Around, t tables.Table, r tables.Row, visit func(table string, number int64) int64)
	// Numbered tells whether all is known that refers to rows of a table by their numbers, so that these can get others.
	Numbered(prefix, table string) bool
	// Field tells of a row that is one field of something, or one setting: what has it ("posts", or OfSettings), what it
	// is called, and the column with its value.
	Field(prefix string, t tables.Table, r tables.Row) (of, key, column string)
	// Owner gives the row of another item without which the row is not there, such as what a comment is on; "": there is
	// none.
	Owner(prefix string, t tables.Table, r tables.Row) (table string, number int64)
	// Natural gives what the CMS knows a row by beside its number, of which a site has one; "": nothing.
	Natural(prefix string, t tables.Table, r tables.Row) string
	// ShortName gives the name by which addresses lead to a row, of which a site has one among others like it.
	ShortName(prefix string, t tables.Table, r tables.Row) ShortName
	// Files names the files, by their paths below the site's root, that a row is about.
	Files(prefix string, t tables.Table, r tables.Row) []string
	// FileItem tells what a file is a part of that no row names, by its path below the site's root.
	FileItem(path string) FileItem
	// Runs names the items of files without which what a row says does not work: plugins that are on, a theme.
	Runs(prefix string, t tables.Table, r tables.Row) []string
	// Looks gives what in a row looks like such a number, and is not known to be one.
	Looks(of Around, t tables.Table, r tables.Row) []int64
	// Cached tells whether a row holds what the CMS works out from others, such as counts.
	Cached(prefix string, t tables.Table, column string) bool
	// Recount gives the statements that work out anew what Cached tells of, after rows were written or removed.
	Recount(prefix string, schema tables.Schema, rows []Written) []string
	// Fixed tells whether the CMS writes a row once and never changes it, such as an earlier version of a text.
	Fixed(prefix string, t tables.Table, r tables.Row) bool
}

// Drafter is a stack with content that can be kept as a draft.
type Drafter interface {
	// Draft makes the row without which an item is not there one of a draft, which says in its title from which site it
	// is; false: it is of nothing that can be one.
	Draft(prefix string, t tables.Table, r tables.Row, from string) bool
}

// CoreKind is the kind of the item that has the CMS's own files.
const CoreKind = "core"

// OfSettings is what has the fields that are settings of a site.
const OfSettings = "settings"

// Around is what is known around a row.
type Around struct {
	Prefix string    // of the site's tables
	Hosts  []string  // of the site's own addresses, with their ports
	Rows   []Written // of the same item
}

// Written is a row that was written or removed.
type Written struct {
	Table tables.Table
	Row   tables.Row
}

// Described is what a row tells of its item.
type Described struct {
	Root   bool      // it is the row without which the item is not there
	Kind   string    // for people: "page", "category"
	Called string    // its title
	At     time.Time // when it was changed last; zero: it does not say
	State  string    // such as "draft", where there is such a thing
}

// ShortName is a name that stands in addresses; the zero value is none.
type ShortName struct {
	Column string // that has it
	Name   string
	Among  string // which others may not have it
}

// FileItem is what a file is a part of, by which it is carried: a plugin with all of its files, or the file itself.
type FileItem struct {
	Name    string // "plugin:tides", "file:robots.txt"
	Kind    string // for people: "plugin", "file"
	Called  string
	Folder  string // in which all of it is; "": it is one file
	Passing bool   // the site writes it by itself, such as a log
}

// ItemsOf gives what a kind of site knows of its items; one that knows nothing has a row for an item.
func ItemsOf(st Stack) Items {
	if i, ok := st.(Items); ok {
		return i
	}
	return noItems{}
}

type noItems struct{}

func (noItems) ItemOf(_ string, t tables.Table, r tables.Row) string { return RowItem(t, r) }

func (noItems) Describe(_ string, t tables.Table, r tables.Row) Described {
	return RowOf(t, r, calledByColumn(t, r))
}

func (noItems) RootOf(string, string) (string, int64) { return "", 0 }

func (noItems) References(Around, tables.Table, tables.Row, func(string, int64) int64) {}

func (noItems) Numbered(string, string) bool { return false }

func (noItems) Field(string, tables.Table, tables.Row) (of, key, column string) { return "", "", "" }

func (noItems) Owner(string, tables.Table, tables.Row) (string, int64) { return "", 0 }

func (noItems) Natural(string, tables.Table, tables.Row) string { return "" }

func (noItems) ShortName(string, tables.Table, tables.Row) ShortName { return ShortName{} }

func (noItems) Files(string, tables.Table, tables.Row) []string { return nil }

func (noItems) FileItem(path string) FileItem { return OneFile(path) }

func (noItems) Runs(string, tables.Table, tables.Row) []string { return nil }

func (noItems) Looks(Around, tables.Table, tables.Row) []int64 { return nil }

func (noItems) Cached(string, tables.Table, string) bool { return false }

func (noItems) Recount(string, tables.Schema, []Written) []string { return nil }

func (noItems) Fixed(string, tables.Table, tables.Row) bool { return false }

// OneFile is the item that a file is of which nothing else is known. What programs write down as they run passes.
func OneFile(name string) FileItem {
	base := path.Base(name)
	return FileItem{Name: "file:" + name, Kind: "file", Called: base,
		Passing: path.Ext(base) == ".log" || base == "error_log" || base == "php_errorlog"}
}

// RowOf describes a row that is an item of its own; "": it is called by its key.
func RowOf(t tables.Table, r tables.Row, called string) Described {
	return Described{Root: true, Kind: "row of " + t.Name, Called: Short(cmp.Or(called, r.Address()))}
}

// RowItem names a row that is an item of its own.
func RowItem(t tables.Table, r tables.Row) string { return "row:" + t.Name + "/" + r.Address() }
