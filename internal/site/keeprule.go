package site

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// KeepRule says how many restore points of a site are kept: the newest of each
// of so many hours, days, weeks and months. On a schedule one is taken as often
// as the shortest of these asks for.
type KeepRule struct {
	Hourly  int `json:"hourly,omitempty"`
	Daily   int `json:"daily,omitempty"`
	Weekly  int `json:"weekly,omitempty"`
	Monthly int `json:"monthly,omitempty"`
}

var keepUnits = []string{"hourly", "daily", "weekly", "monthly"}

func (r *KeepRule) of(unit string) *int {
	return map[string]*int{"hourly": &r.Hourly, "daily": &r.Daily, "weekly": &r.Weekly, "monthly": &r.Monthly}[unit]
}

// ParseKeepRule reads "24 hourly, 7 daily".
func ParseKeepRule(text string) (KeepRule, error) {
	var r KeepRule
	for _, part := range strings.Split(text, ",") {
		n, unit, _ := strings.Cut(strings.TrimSpace(part), " ")
		count, err := strconv.Atoi(n)
		to := r.of(strings.TrimSpace(unit))
		if err != nil || count < 0 || count > 10_000 || to == nil {
			return KeepRule{}, fmt.Errorf("%q is no rule: write how many of which to keep, such as \"24 hourly, 7 "+
				"daily, 5 weekly, 12 monthly\"", text)
		}
		*to = count
	}
	if r == (KeepRule{}) {
		return r, fmt.Errorf("%q keeps nothing", text)
	}
	return r, nil
}

func (r KeepRule) String() string {
	var out []string
	for _, u := range keepUnits {
		if n := *r.of(u); n > 0 {
			out = append(out, strconv.Itoa(n)+" "+u)
		}
	}
	return strings.Join(out, ", ")
}

// period names the period of a unit that a time is in.
func period(unit string, t time.Time) string {
	switch unit {
	case "hourly":
		return t.Format("2006-01-02 15")
	case "daily":
		return t.Format(time.DateOnly)
	case "weekly":
		y, w := t.ISOWeek()
		return fmt.Sprint(y, " ", w)
	}
	return t.Format("2006-01")
}

// Due tells whether a point is to be taken now, when the newest was taken then.
func (r KeepRule) Due(newest, now time.Time) bool {
	for _, u := range keepUnits {
		if *r.of(u) > 0 {
			return newest.IsZero() || newest.Before(now) && period(u, newest) != period(u, now)
		}
	}
	return false
}

// Keeps tells which of the times, newest first, the rule keeps. The newest of
// all stays in any case.
func (r KeepRule) Keeps(times []time.Time) []bool {
	out := make([]bool, len(times))
	for _, u := range keepUnits {
		seen := map[string]bool{}
		for i, t := range times {
			if k := period(u, t); !seen[k] && len(seen) < *r.of(u) {
				seen[k] = true
				out[i] = true
			}
		}
	}
	if len(out) > 0 {
		out[0] = true
	}
	return out
}
