package plan

import (
	"encoding/json"
	"fmt"
	"strings"

	"alibi/internal/site"
)

// Claim is a site that an operation needs while it is carried out: to read, which
// several may at once, or alone.
type Claim struct {
	Site  site.ID
	Name  string
	Alone bool
	// Read says that others may go on reading what they have claimed to read: what is
	// written is no part of the site's content.
	Read bool
}

// PointHost begins the name of the host that a restore point is read from in
// place of a site.
const PointHost = "restore point "

// ByHand begins the name of who has claimed a site for something that is done at once,
// without a run.
const ByHand = "by-hand-"

// FromOrigin claims the origin, to read: what most operations need that read only.
// A restore point in its place is nobody's.
func (p Plan) FromOrigin() []Claim {
	if p.Origin.ID == "" || strings.HasPrefix(p.Origin.Host, PointHost) {
		return nil
	}
	return []Claim{{Site: p.Origin.ID, Name: p.Origin.Name}}
}

// AloneOn claims the target alone, and what else is read for it.
func (p Plan) AloneOn() (out []Claim) {
	for _, id := range p.Reads {
		if id != "" && id != p.Target.ID {
			out = append(out, Claim{Site: id, Name: string(id)})
		}
	}
	if p.Target.ID == "" {
		return out
	}
	return append(out, Claim{Site: p.Target.ID, Name: p.Target.Name, Alone: true})
}

// FromOriginTo claims the origin, to read, and the target alone.
func (p Plan) FromOriginTo() []Claim {
	if p.Origin.ID == p.Target.ID {
		return p.AloneOn()
	}
	return append(p.FromOrigin(), p.AloneOn()...)
}

// BothAlone claims the origin and the target, each alone.
func (p Plan) BothAlone() (out []Claim) {
	for _, s := range []site.Site{p.Origin, p.Target} {
		out = append(out, Claim{Site: s.ID, Name: s.Name, Alone: true})
	}
	return out
}

// OverConsent is the name that a person has to type before what stands on a site is
// written over; "" where nothing that others count on is lost. target is the site as
// the record has it now.
func (p Plan) OverConsent(target site.Site) string {
	if target.Role == site.Live || target.Lease.Held || p.Loses > 0 {
		return target.Name
	}
	return ""
}

// LiveConsent is the name that a person has to type before a live site is changed.
func (p Plan) LiveConsent(target site.Site) string {
	if target.Role == site.Live {
		return target.Name
	}
	return ""
}

// BesideConsent is the name that a person has to type before a copy's tables are made
// in the live site's own database.
func (p Plan) BesideConsent(site.Site) string {
	if p.Target.Database.Beside() {
		return p.Origin.Name
	}
	return ""
}

// SetDetail keeps the operation's own choices in the plan. They are of plain types.
func (p *Plan) SetDetail(choices any) {
	p.Detail, _ = json.Marshal(choices)
}

// DetailOf reads the operation's own choices from a plan.
func DetailOf[D any](p Plan) (d D, err error) {
	if err = json.Unmarshal(p.Detail, &d); err != nil {
		err = fmt.Errorf("reading the plan: %w", err)
	}
	return d, err
}
