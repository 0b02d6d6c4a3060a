package site

import (
	"fmt"
	"time"
)

// Facts is what inspecting a site found. Sizes are in bytes.
type Facts struct {
	At        time.Time     `json:"at"`
	Took      time.Duration `json:"took"` // nanoseconds
	Stack     string        `json:"stack"`
	Core      string        `json:"core,omitempty"`      // version of the CMS
	PHP       string        `json:"php,omitempty"`       // version that runs it; "" where it can't be known
	PHPAsked  bool          `json:"php_asked,omitempty"` // the site itself says so; else it is the machine's usual one
	Memory    int64         `json:"memory,omitempty"`
	Title     string        `json:"title,omitempty"`
	Prefix    string        `json:"prefix,omitempty"`
	Addresses []Address     `json:"addresses,omitempty"`
	Network   *Network      `json:"network,omitempty"` // nil: a single site
	// of files that a copy may leave out for their size, the largest first
	Sizes      []int64     `json:"sizes,omitempty"`
	Plugins    []Component `json:"plugins,omitempty"`
	Themes     []Component `json:"themes,omitempty"`
	Contents   []Count     `json:"contents,omitempty"`
	Users      []Count     `json:"users,omitempty"`
	Kinds      []Count     `json:"kinds,omitempty"` // how much there is of each kind of content
	Tasks      []Task      `json:"tasks,omitempty"`
	Outward    []Outward   `json:"outward,omitempty"`
	Folders    []Folder    `json:"folders,omitempty"`
	Tables     []Table     `json:"tables,omitempty"`
	Files      int         `json:"files"`
	Bytes      int64       `json:"bytes"` // of the files
	Rows       int64       `json:"rows"`
	TableBytes int64       `json:"table_bytes"`
	Database   Database    `json:"database"`
	Free       int64       `json:"free"` // room on the host's disk; 0: unknown
	Findings   []Finding   `json:"findings,omitempty"`
}

// Network says that an installation holds several sites.
type Network struct {
	SubDomains bool      `json:"sub_domains"` // else sub-folders
	Sites      []SubSite `json:"sites"`
}

// Text says in words what a network is.
func (n Network) Text() string {
	return Plural(len(n.Sites), "site", "sites") + Either(n.SubDomains, " on sub-domains", " in sub-folders")
}

// SubSite is one site of a network.
type SubSite struct {
	ID      int64   `json:"id"`
	Address Address `json:"address"`
	Title   string  `json:"title"`
	State   string  `json:"state,omitempty"` // "deleted", "archived" or "spam": visitors do not see it
	// What is its own: tables, and files of its uploads.
	Tables     int   `json:"tables"`
	Rows       int64 `json:"rows"`
	TableBytes int64 `json:"table_bytes"`
	Files      int   `json:"files"`
	Bytes      int64 `json:"bytes"`
}

// Own is how many bytes are a sub-site's own.
func (s SubSite) Own() int64 { return s.TableBytes + s.Bytes }

// Weight says in words what is a sub-site's own.
func (s SubSite) Weight() string {
	return fmt.Sprintf("%s rows, %s; %s, %s", Number(s.Rows), Size(s.TableBytes), Plural(s.Files, "file", "files"),
		Size(s.Bytes)) + Either(s.State != "", "; "+s.State, "")
}

// Component is a plugin or a theme.
type Component struct {
	Slug         string   `json:"slug"`
	File         string   `json:"file,omitempty"` // its main file, below the folder of its kind
	Name         string   `json:"name"`
	Version      string   `json:"version"`
	State        string   `json:"state"` // "active", "off", "must-use", "network", "parent", "missing"
	RequiresCore string   `json:"requires_core,omitempty"`
	RequiresPHP  string   `json:"requires_php,omitempty"`
	Requires     []string `json:"requires,omitempty"` // plugins, by slug
	Parent       string   `json:"parent,omitempty"`   // of a theme
	Update       string   `json:"update,omitempty"`   // the version that is waiting
}

// Count is how many of a kind there are.
type Count struct {
	Kind string `json:"kind"`
	N    int    `json:"n"`
}

// Task is something that the site does by itself, on time.
type Task struct {
	Hook  string    `json:"hook"`
	Next  time.Time `json:"next"`
	Every string    `json:"every,omitempty"`
}

// Outward is something on the site that reaches outside.
type Outward struct {
	Rule  Rule   `json:"rule"` // the quiet rule that stops it
	Host  string `json:"host"`
	Where string `json:"where"` // table, row or plugin that it was seen in
}

// SizesKept is how many sizes of files facts have at most, and Sized from which size on, in bytes.
const (
	SizesKept = 4000
	Sized     = 64 << 10
)

// Larger tells how many files of more bytes a site has beside its core's, and how many bytes these are.
// It is exact from Sized bytes on, as long as there are fewer than SizesKept.
func (f *Facts) Larger(than int64) (files int, bytes int64) {
	for _, n := range f.Sizes {
		if n > than {
			files, bytes = files+1, bytes+n
		}
	}
	return files, bytes
}

// Folder is the size of a part of the tree.
type Folder struct {
	Path  string `json:"path"` // slash path under the root; "." for files at the top
	Files int    `json:"files"`
	Bytes int64  `json:"bytes"`
	Spare string `json:"spare,omitempty"` // why it need not be copied: "cache", "log", "archive"
}

// Table is the size of a table.
type Table struct {
	Name    string `json:"name"`
	Rows    int64  `json:"rows"`
	Bytes   int64  `json:"bytes"`
	Keyless bool   `json:"keyless,omitempty"`
}

// Severity orders findings.
type Severity uint8

const (
	Note  Severity = iota // worth knowing
	Warn                  // may surprise; the work goes on
	Block                 // the work can't begin
)

func (s Severity) String() string { return [...]string{"note", "warning", "obstacle"}[s] }

// MarshalText writes the severity as a word.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads what MarshalText wrote.
func (s *Severity) UnmarshalText(b []byte) error {
	*s = Note
	for _, v := range []Severity{Warn, Block} {
		if v.String() == string(b) {
			*s = v
		}
	}
	return nil
}

// Finding is a remark about a site or a plan, with what to do about it.
type Finding struct {
	Severity Severity `json:"severity"`
	Code     string   `json:"code"` // stable name, e.g. "large-file"
	Text     string   `json:"text"`
	Remedy   string   `json:"remedy,omitempty"`
}
