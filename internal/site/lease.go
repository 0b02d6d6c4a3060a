package site

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Lease is how long a copy lives. The zero value has no end and is not held,
// which is how live sites are.
type Lease struct {
	Ends    time.Time     `json:"ends"`
	Length  time.Duration `json:"length"` // what was asked for, to begin again with
	Held    bool          `json:"held"`
	Reason  string        `json:"reason,omitempty"` // why it is held
	By      string        `json:"by,omitempty"`
	Noticed time.Time     `json:"noticed"` // when the keeper saw that it was over; the grace runs from here
	Grace   time.Duration `json:"grace"`
}

// Phase is where a lease stands.
type Phase uint8

const (
	NoLease Phase = iota
	Held
	Running
	Ending // within a sixth of its length, at most a day, of its end
	Over   // ended; can be brought back
	Done   // the grace is over too: to be removed
)

func (p Phase) String() string {
	return [...]string{"none", "held", "running", "ending", "over", "done"}[p]
}

// Phase tells where the lease stands at now. Grace counts from when the end
// was noticed, so that a machine that slept or whose clock jumped still gives
// people all of it.
func (l Lease) Phase(now time.Time) Phase {
	switch {
	case l.Held:
		return Held
	case l.Ends.IsZero():
		return NoLease
	case now.Before(l.Ends):
		if l.Ends.Sub(now) <= min(l.Length/6, 24*time.Hour) {
			return Ending
		}
		return Running
	case l.Noticed.IsZero() || now.Before(l.Noticed.Add(l.Grace)):
		return Over
	}
	return Done
}

// Left is the time to the end; negative when it is over.
func (l Lease) Left(now time.Time) time.Duration { return l.Ends.Sub(now) }

// Extend moves the end by d from now or from the end, whichever is later.
func (l Lease) Extend(now time.Time, d time.Duration) Lease {
	from := l.Ends
	if from.Before(now) {
		from = now
	}
	l.Ends, l.Noticed, l.Held = from.Add(d), time.Time{}, false
	l.Length = l.Ends.Sub(now)
	return l
}

// ErrNoReason is given when a copy is to be held without saying why.
var ErrNoReason = errors.New("a hold needs a reason: the next person to see the copy will want to know why it is kept")

// Hold takes the end away.
func (l Lease) Hold(reason, by string) (Lease, error) {
	if strings.TrimSpace(reason) == "" {
		return l, ErrNoReason
	}
	l.Held, l.Reason, l.By, l.Noticed = true, strings.TrimSpace(reason), by, time.Time{}
	return l, nil
}

// BeginOrHold starts a lease of length d, or one without an end, for a reason, if d is 0.
func BeginOrHold(now time.Time, d, grace time.Duration, reason, by string) (Lease, error) {
	if d == 0 {
		return Lease{Grace: grace}.Hold(reason, by)
	}
	return Begin(now, d, grace), nil
}

// Begin starts a lease of length d with a grace time behind it.
func Begin(now time.Time, d, grace time.Duration) Lease {
	return Lease{Ends: now.Add(d), Length: d, Grace: grace}
}

var span = regexp.MustCompile(`^(\d+)\s*(m|min|minutes?|h|hours?|d|days?|w|weeks?)$`)

// ParseSpan reads a lifetime: "90m", "6h", "3d", "2w", "3 days". It is between
// one minute and a year.
func ParseSpan(in string) (time.Duration, error) {
	m := span.FindStringSubmatch(strings.ToLower(strings.TrimSpace(in)))
	if m == nil {
		return 0, fmt.Errorf("%q is no lifetime: write a number and m, h, d or w, such as 6h, 3d or 2w", in)
	}
	n, err := strconv.Atoi(m[1])
	unit := map[byte]time.Duration{'m': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour,
		'w': 7 * 24 * time.Hour}[m[2][0]]
	if err != nil || n > 600000 || time.Duration(n)*unit < time.Minute || time.Duration(n)*unit > 366*24*time.Hour {
		return 0, fmt.Errorf("a lifetime of %s can't be had: between 1m and 52w, or hold the copy", in)
	}
	return time.Duration(n) * unit, nil
}
