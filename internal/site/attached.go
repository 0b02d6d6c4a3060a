package site

// AttachedName is a name by which visitors come to a site, as the panel of its host has it.
type AttachedName struct {
	Name    string      `json:"name"`
	State   AttachState `json:"state"`
	Primary bool        `json:"primary"`       // the others lead visitors on to it
	Why     string      `json:"why,omitempty"` // it is pending, or refused
}

// AttachState is how far a host is with a name.
type AttachState string

// The states.
const (
	AttachPending AttachState = "pending" // the host has begun to set it up
	AttachActive  AttachState = "active"  // visitors who come by it see the site
	AttachRefused AttachState = "refused" // the host does not set it up
)
