package stack

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
