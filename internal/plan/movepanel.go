package plan

import (
	"slices"
	"strings"
	"time"

	"alibi/internal/site"
)

// Panel is how names are attached to a site, where its hosts want them told in a panel.
type Panel struct {
	// Want are the names that are to be attached at the new place, the primary one first.
	Want []string `json:"want"`
	Old  bool     `json:"old,omitempty"` // the host of the old place has a panel
	New  bool     `json:"new,omitempty"` // and that of the new one
	// At is when they were seen to last; zero: none were attached for this move.
	At time.Time `json:"at,omitzero"`
	// Names are those of the new place, as they were seen then.
	Names []site.AttachedName `json:"names,omitempty"`
	// Ours are those that the move attached there.
	Ours []string `json:"ours,omitempty"`
	// Was is the primary name there before the move; "": there was none, or it is to stay.
	Was string `json:"was,omitempty"`
}

// Awaits says what is not yet as it is to be among names that are attached at a place; "" where nothing is.
func (p Panel) Awaits(names []site.AttachedName) string {
	for i, want := range p.Want {
		at := slices.IndexFunc(names, func(a site.AttachedName) bool { return a.Name == want })
		if at < 0 {
			return want + " is not attached"
		}
		switch a := names[at]; {
		case a.State != site.AttachActive:
			return strings.TrimSuffix(want+" is "+string(a.State)+": "+a.Why, ": ")
		case i == 0 && !a.Primary:
			return want + " is not the primary name"
		}
	}
	return ""
}

// Asks tells whether the gate of names changes something now that visitors come by; else it only looks.
func (m Move) Asks() bool {
	return m.Names != nil && len(m.Names.Old) > 0 && m.Names.Lowered.IsZero() ||
		m.Panel != nil && m.Panel.New && m.Panel.At.IsZero()
}

// attach is the part of the gate of names that a panel has.
func (m Move) attach(l Leg) Leg {
	p := m.Panel
	if p == nil || !p.New {
		return l
	}
	switch why := p.Awaits(p.Names); {
	case why == "":
		l.Why = strings.TrimPrefix(l.Why+"; attached on "+m.To.Host, "; ")
	case p.At.IsZero():
		l.Title += ", attach them"
		l.Why = strings.TrimPrefix(site.Either(l.State == Passed, "", l.Why)+"; on "+m.To.Host+" "+why, "; ")
		l.State = Open
	default:
		l.Title = "wait until its names are attached"
		l.State, l.Why = Open, "on "+m.To.Host+" "+why+", when it was looked at last"
	}
	return l
}
