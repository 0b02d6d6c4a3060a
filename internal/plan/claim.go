package plan

import (
	"strings"

	"alibi/internal/site"
)

// Claim is a site that an operation needs while it is carried out: to read, which
// several may at once, or alone.
type Claim struct {
	Site  site.ID
	Name  string
	Alone bool
}

// PointHost begins the name of the host that a restore point is read from in
// place of a site.
const PointHost = "restore point "

// Claims are the sites that the plan needs.
func (p Plan) Claims() (out []Claim) {
	read := func(id site.ID, name string) {
		if id != "" && id != p.Target.ID && !strings.HasPrefix(p.Origin.Host, PointHost) {
			out = append(out, Claim{Site: id, Name: name})
		}
	}
	alone := Claim{Site: p.Target.ID, Name: p.Target.Name, Alone: true}
	switch p.Kind {
	case Import:
		return nil
	case Keep, Archive:
		if strings.HasPrefix(p.Origin.Host, PointHost) {
			return nil
		}
		return []Claim{{Site: p.Origin.ID, Name: p.Origin.Name}}
	case Copy, Refresh:
		read(p.Origin.ID, p.Origin.Name)
	}
	for _, id := range p.Reads {
		read(id, string(id))
	}
	if alone.Site == "" {
		return out
	}
	return append(out, alone)
}

// Makes tells whether the operation makes the site that it is about.
func (p Plan) Makes() bool { return p.Kind == Copy || p.Kind == Blank }

// Consent is the name that a person has to type before the plan may be carried
// out; "" where nothing that others count on is written over. target is the site
// that is written to, as the record has it now.
func (p Plan) Consent(target site.Site) string {
	switch {
	case p.Makes() && p.Target.Database.Beside():
		return p.Origin.Name // its tables come into the live database
	case p.Makes(), p.Kind == Keep, p.Kind == Rehearse, p.Kind == Archive, p.Kind == Import, p.Kind == Trial:
		return ""
	case target.Role == site.Live:
		return target.Name
	case p.Kind == Change: // it says of itself what it changes, and is undone by a restore point
		return ""
	case p.Ends: // the copy's lease and its grace are over
		return ""
	case target.Lease.Held, p.Loses > 0:
		return target.Name
	}
	return ""
}
