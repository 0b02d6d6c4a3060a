package site

import "time"

// FrontKind is why visitors see something else than a site's pages.
type FrontKind string

// The kinds.
const (
	FrontMaintenance FrontKind = "maintenance" // it is being worked on
	FrontParked      FrontKind = "parked"      // it is off the air, with a contact
	FrontHidden      FrontKind = "hidden"      // it asks for a password
	FrontMoved       FrontKind = "moved"       // it stands elsewhere, and they are handed on there
)

// Front is what visitors see instead of a site.
type Front struct {
	Kind    FrontKind `json:"kind"`
	Text    string    `json:"text,omitempty"`    // a sentence for visitors
	Contact string    `json:"contact,omitempty"` // whom to ask: a mail or web address
	Word    []byte    `json:"word,omitempty"`    // digest (bcrypt) of the password of a hidden one
	Pass    string    `json:"pass,omitempty"`    // digest (SHA-256) of the word with which Alibi looks past it
	At      time.Time `json:"at"`
	By      string    `json:"by,omitempty"`
	To      []string  `json:"to,omitempty"`   // of one that moved: addresses of its web server
	Port    string    `json:"port,omitempty"` // of that
	TLS     bool      `json:"tls,omitempty"`  // it is reached by https
	// Address is where one that moved answers, if that is another address than before: visitors are sent there, with what
	// comes behind Path in the address that they asked for.
	Address string `json:"address,omitempty"`
	Path    string `json:"path,omitempty"`
}

// StateText says what is the matter with a site, in a few words; "" for one that
// visitors see as it is.
func (s Site) StateText() string {
	switch {
	case s.State == Making:
		return "being made"
	case s.Front != nil && s.Front.Kind == FrontHidden:
		return "hidden behind a password"
	case s.Front != nil:
		return string(s.Front.Kind)
	case s.State == Ready:
		return ""
	}
	return string(s.State)
}

// Heading says in a line for visitors what is the matter.
func (f Front) Heading() string {
	switch f.Kind {
	case FrontParked:
		return "This site is off the air"
	case FrontHidden:
		return "This site asks for a password"
	}
	return "This site is being worked on"
}

// Sentence is what visitors read below the heading.
func (f Front) Sentence() string {
	switch {
	case f.Text != "":
		return f.Text
	case f.Kind == FrontHidden:
		return "Whoever looks after it can say which."
	case f.Kind == FrontParked:
		return "It was taken off the air by those who look after it."
	}
	return "It will be back in a few minutes."
}
