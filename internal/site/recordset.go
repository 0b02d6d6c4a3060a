package site

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// RecordSet is all records of one type under one name of the domain name system (RFC 2181, section 5).
type RecordSet struct {
	Name   string        `json:"name"` // without the dot at its end
	Type   string        `json:"type"` // "A", "AAAA", "CNAME" ...
	TTL    time.Duration `json:"ttl"`  // how long others may keep it; whole seconds
	Values []string      `json:"values"`
}

// Same tells whether two sets say the same, however long others may keep them.
func (r RecordSet) Same(o RecordSet) bool {
	a, b := slices.Clone(r.Values), slices.Clone(o.Values)
	slices.Sort(a)
	slices.Sort(b)
	return strings.EqualFold(r.Name, o.Name) && r.Type == o.Type && slices.Equal(a, b)
}

// With gives the set with another lifetime.
func (r RecordSet) With(ttl time.Duration) RecordSet {
	r.TTL = ttl
	return r
}

// String writes the set as zone files do, and one without values in words.
func (r RecordSet) String() string {
	if len(r.Values) == 0 {
		return "no " + r.Type + " of " + r.Name
	}
	return fmt.Sprintf("%s %d %s %s", r.Name, int(r.TTL.Seconds()), r.Type, strings.Join(r.Values, ", "))
}
