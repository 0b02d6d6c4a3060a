package site

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Quota bounds what copies may take; 0 means no bound.
type Quota struct {
	Copies  int   `json:"copies" toml:"copies"`
	Bytes   int64 `json:"bytes" toml:"bytes"`       // of all copies
	PerSite int   `json:"per_site" toml:"per_site"` // copies of one origin

	Points int `json:"points" toml:"points"` // restore points in all
	// of one site, without those that Alibi takes before it writes
	PointsPerSite int              `json:"points_per_site" toml:"points_per_site"`
	Depot         int64            `json:"depot" toml:"depot"`           // bytes of the depot
	Hosts         map[string]Bound `json:"hosts,omitempty" toml:"hosts"` // of copies, by host
}

// Bound is a quota of one host.
type Bound struct {
	Copies int   `json:"copies" toml:"copies"`
	Bytes  int64 `json:"bytes" toml:"bytes"`
}

// Use is what is taken now.
type Use struct {
	Copies   int   `json:"copies"`
	Bytes    int64 `json:"bytes"`
	OfOrigin int   `json:"of_origin"`

	Hosts map[string]Bound `json:"hosts,omitempty"` // by host
}

// DepotUse is what the depot has now.
type DepotUse struct {
	Points int   `json:"points"`
	OfSite int   `json:"of_site"`
	Bytes  int64 `json:"bytes"`
}

// CheckPoint tells whether one more restore point fits, and names the tightest
// bound if it does not.
func (q Quota) CheckPoint(u DepotUse) *Finding {
	over := func(what string) *Finding {
		return &Finding{
			Block,
			"quota",
			what,
			"thin them out: alibi points prune; or raise the bound under [quota] in the configuration",
		}
	}
	switch {
	case q.PointsPerSite > 0 && u.OfSite >= q.PointsPerSite:
		return over(fmt.Sprintf("this site has %d of %d restore points allowed", u.OfSite, q.PointsPerSite))
	case q.Points > 0 && u.Points >= q.Points:
		return over(fmt.Sprintf("there are %d of %d restore points allowed", u.Points, q.Points))
	case q.Depot > 0 && u.Bytes >= q.Depot:
		return over(fmt.Sprintf("the depot has %s of %s allowed", Size(u.Bytes), Size(q.Depot)))
	}
	return nil
}

// Check tells whether one more copy of the given size fits on a host, and names
// the tightest bound if it does not.
func (q Quota) Check(u Use, host string, bytes int64) *Finding {
	h, on := q.Hosts[host], u.Hosts[host]
	over := func(what string) *Finding {
		return &Finding{
			Block,
			"quota",
			what,
			"remove a copy that nobody needs for good (alibi remove COPY): an expired one counts until it is gone; " +
				"or raise the bound under [quota] in the configuration",
		}
	}
	switch {
	case q.PerSite > 0 && u.OfOrigin >= q.PerSite:
		return over(fmt.Sprintf("this site has %d of %d copies allowed", u.OfOrigin, q.PerSite))
	case h.Copies > 0 && on.Copies >= h.Copies:
		return over(fmt.Sprintf("there are %d of %d copies allowed on %s", on.Copies, h.Copies, host))
	case h.Bytes > 0 && on.Bytes+bytes > h.Bytes:
		return over(fmt.Sprintf("the copies on %s would take %s of %s allowed", host, Size(on.Bytes+bytes),
			Size(h.Bytes)))
	case q.Copies > 0 && u.Copies >= q.Copies:
		return over(fmt.Sprintf("there are %d of %d copies allowed", u.Copies, q.Copies))
	case q.Bytes > 0 && u.Bytes+bytes > q.Bytes:
		return over(fmt.Sprintf("the copies would take %s of %s allowed", Size(u.Bytes+bytes), Size(q.Bytes)))
	}
	return nil
}

// Size writes bytes in binary units with three figures at most.
func Size(n int64) string {
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	f := float64(n)
	for _, unit := range []string{"KiB", "MiB", "GiB", "TiB"} {
		f /= 1024
		if f < 1000 || unit == "TiB" {
			if f < 9.95 {
				return fmt.Sprintf("%.1f %s", f, unit)
			}
			return fmt.Sprintf("%.0f %s", f, unit)
		}
	}
	return ""
}

// units are those in which people write sizes.
var units = map[string]int64{
	"":    1,
	"B":   1,
	"K":   1 << 10,
	"KIB": 1 << 10,
	"KB":  1000,
	"M":   1 << 20,
	"MIB": 1 << 20,
	"MB":  1e6,
	"G":   1 << 30,
	"GIB": 1 << 30,
	"GB":  1e9,
	"T":   1 << 40,
	"TIB": 1 << 40,
	"TB":  1e12,
}

// ParseSize reads a size as people write it: 500MB, 2GiB, 64k; "" is 0.
func ParseSize(s string) (int64, error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return 0, nil
	}
	digits := strings.TrimRight(s, "bBkKmMgGtTiI ")
	n, err := strconv.ParseInt(digits, 10, 64)
	unit, ok := units[strings.ToUpper(strings.TrimSpace(s[len(digits):]))]
	if err != nil || !ok || n <= 0 || n > math.MaxInt64/unit {
		return 0, fmt.Errorf("%q is no size: write a number and a unit, such as 500MB or 2GiB", s)
	}
	return n * unit, nil
}
