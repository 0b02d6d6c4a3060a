package stack

import (
	"cmp"
	"slices"
)

// Switches say which plugins are to be on and off, and which theme. What is not
// named stays as it is.
type Switches struct {
	On     []string `json:"on,omitempty"`  // main files of plugins, below their folder, in the order in which they came
	Off    []string `json:"off,omitempty"` // plugins, by slug
	AllOff bool     `json:"all_off,omitempty"`
	Except []string `json:"except,omitempty"` // what AllOff leaves on, by slug
	Theme  string   `json:"theme,omitempty"`
	Parent string   `json:"parent,omitempty"` // of the theme, if it has one
}

// Any tells whether anything is to change.
func (w Switches) Any() bool { return len(w.On)+len(w.Off) > 0 || w.AllOff || w.Theme != "" }

// Page is one page by which a site is tried.
type Page struct {
	Kind     string `json:"kind"` // in words
	Path     string `json:"path"` // with its query
	SignedIn bool   `json:"signed_in,omitempty"`
	Missing  bool   `json:"missing,omitempty"` // it is not there, and has to say so
}

// SortPages orders pages: visitors' first, by kind.
func SortPages(list []Page) {
	slices.SortFunc(list, func(a, b Page) int {
		if a.SignedIn != b.SignedIn {
			return map[bool]int{true: 1, false: -1}[a.SignedIn]
		}
		if (a.Path == "/") != (b.Path == "/") {
			return map[bool]int{true: -1, false: 1}[a.Path == "/"]
		}
		return cmp.Compare(a.Kind, b.Kind)
	})
}
