package plan

import (
	"slices"
	"time"

	"alibi/internal/site"
)

// Names are the records that are changed for visitors to come to the new place.
type Names struct {
	Zone    string           `json:"zone"`
	Servers []string         `json:"servers"` // that are responsible
	ByHand  bool             `json:"by_hand"`
	Old     []site.RecordSet `json:"old"` // as they were before the move, with their lifetimes
	New     []site.RecordSet `json:"new"` // as they are to be
	Follow  []site.RecordSet `json:"follow,omitempty"`
	Around  []site.RecordSet `json:"around,omitempty"` // what else the zone has: mail and all that
	Whole   bool             `json:"whole,omitempty"`  // that is the whole zone
	Short   time.Duration    `json:"short,omitempty"`  // the lifetime while the move goes on
	Lowered time.Time        `json:"lowered,omitzero"`
	// Until is when nobody keeps an answer any more that was given before they were lowered.
	Until time.Time `json:"until,omitzero"`
}

// Longest is the longest of the lifetimes that the records had.
func (n Names) Longest() (d time.Duration) {
	for _, r := range n.Old {
		d = max(d, r.TTL)
	}
	return d
}

// Leads are the addresses to which the names led when the move began.
func (n *Names) Leads() []string {
	if n == nil {
		return nil
	}
	return Addresses(n.Old)
}

// Addresses are those of the internet protocol in record sets.
func Addresses(list []site.RecordSet) (out []string) {
	for _, r := range list {
		if r.Type == "A" || r.Type == "AAAA" {
			out = append(out, r.Values...)
		}
	}
	return out
}

// All are the names that lead elsewhere with the move.
func (n Names) All() (out []string) {
	for _, r := range slices.Concat(n.Old, n.New, n.Follow) {
		if !slices.Contains(out, r.Name) {
			out = append(out, r.Name)
		}
	}
	return out
}

// To gives what stands in the zone and what is to stand there, for visitors to be led to the new place, or to the old
// one. Sets that are of one side only are given without values on the other.
func (n Names) To(new bool) (was, want []site.RecordSet) {
	old, next := n.lived(n.Old), n.lived(n.New)
	if new {
		return with(old, next), with(next, old)
	}
	return with(next, old), with(old, next)
}

// lived are sets with the lifetime of the time of the move.
func (n Names) lived(list []site.RecordSet) (out []site.RecordSet) {
	for _, r := range list {
		out = append(out, r.With(n.Short))
	}
	return out
}

// with gives sets, and those of others that they lack without values.
func with(list, others []site.RecordSet) []site.RecordSet {
	out := slices.Clone(list)
	for _, o := range others {
		if !slices.ContainsFunc(list, func(r site.RecordSet) bool { return r.Name == o.Name && r.Type == o.Type }) {
			out = append(out, site.RecordSet{Name: o.Name, Type: o.Type})
		}
	}
	return out
}

// Lowering gives what stands in the zone before a move, and the same with the lifetime of the move.
func (n Names) Lowering() (was, want []site.RecordSet) { return n.Old, n.lived(n.Old) }

// Lengthened gives what stands in the zone after a move, and the same with the lifetimes of before it.
func (n Names) Lengthened() (was, want []site.RecordSet) { return n.lived(n.New), n.New }
