package site

import (
	"fmt"
	"slices"
	"time"
)

// Span writes a duration in one unit, as people say it: "5 d", "9 h", "40 min".
func Span(d time.Duration) string {
	if d < 0 {
		d = -d
	}
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 100*time.Minute:
		return fmt.Sprintf("%d min", int(d.Round(time.Minute).Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Round(time.Hour).Hours()))
	}
	return fmt.Sprintf("%d d", int(d.Round(24*time.Hour).Hours()/24))
}

// Ago writes how long ago something was.
func Ago(d time.Duration) string {
	if d < 10*time.Second {
		return "just now"
	}
	return Span(d) + " ago"
}

// Seconds writes a short duration with the precision that it deserves.
func Seconds(d time.Duration) string {
	switch s := d.Seconds(); {
	case s < 0.0995:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case s < 9.95:
		return fmt.Sprintf("%.1f s", s)
	case s < 100:
		return fmt.Sprintf("%.0f s", s)
	}
	return Span(d)
}

// Number writes a number with commas between thousands.
func Number[N ~int | ~int64](n N) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Plural counts things: "1 file", "1,204 files".
func Plural[N ~int | ~int64](n N, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Number(n) + " " + many
}

// Runs says what a site runs: core and runtime, labelled.
func (s Site) Runs() string {
	if s.Facts == nil {
		return "not inspected"
	}
	out := "files only"
	if s.Facts.Core != "" {
		out = "core " + s.Facts.Core
	} else if s.Database.Engine != "" {
		out = "files, " + s.Database.Engine
	}
	if s.Facts.PHP != "" {
		out += ", php " + s.Facts.PHP
	}
	return out
}

// ApartText says how far a copy and its origin have drifted: changes on the
// copy with +, on the origin with -.
func (s Site) ApartText() string {
	switch a := s.Apart; {
	case a.At.IsZero():
		return "no count"
	case a.Copy == 0 && a.Origin == 0:
		return "same"
	case a.Clashes > 0:
		return fmt.Sprintf("+%d -%d !%d", a.Copy, a.Origin, a.Clashes)
	default:
		return fmt.Sprintf("+%d -%d", a.Copy, a.Origin)
	}
}

// Unready says why a site can't be worked on now, and what is to be done first; both are
// "" for one that answers.
func (s Site) Unready() (why, first string) {
	switch s.State {
	case Making:
		return s.Name + " is being made", "wait for run " + s.Run + ", or cancel it: alibi runs cancel " + s.Run
	case Failed:
		return "run " + s.Run + ", which makes " + s.Name + ", failed",
			"alibi runs " + s.Run + " says why; resume it, cancel it, or let the copy stand as it is"
	case Parked:
		return s.Name + " is parked", "put it on the air again: alibi lift " + s.Name
	case Expired:
		return s.Name + " is expired", "bring it back: alibi bring-back " + s.Name
	case Aside:
		return s.Name + " is the other place of a site that is moved", "see: alibi moves"
	case Gone:
		return s.Name + " is gone", "a restore point of it, if there is one, can be copied: alibi points " + s.Name
	}
	return "", ""
}

// LeaseText says how a copy's lease stands.
func (s Site) LeaseText(now time.Time) string {
	switch s.State {
	case Making:
		return "being made"
	case Failed:
		return "not whole"
	case Expired:
		return "expired, gone in " + Span(s.Lease.Noticed.Add(s.Lease.Grace).Sub(now))
	}
	switch s.Lease.Phase(now) {
	case Held:
		return "held: " + s.Lease.Reason
	case NoLease:
		return ""
	case Over, Done:
		return "over"
	}
	return "ends in " + Span(s.Lease.Left(now))
}

// AccountsText says whose accounts a copy has.
func (s Site) AccountsText() string {
	if s.Scrubbed {
		return "made up, and no password signs in: a key does"
	}
	if s.Origin == "" {
		return "its own"
	}
	if s.Only != nil && !slices.Contains(s.Only, Users) {
		return "the origin's administrators and authors, with their passwords"
	}
	return "the origin's, with their passwords"
}

// Outdated tells whether a copy was changed as a whole since its evidence was gathered.
func (s Site) Outdated() bool {
	return s.Proof.At.IsZero() && !s.CheckedAt.IsZero() && s.PlacedAt.After(s.CheckedAt)
}

// Unproven tells whether a new copy answers already while it is still compared with its origin.
func (s Site) Unproven() bool {
	return s.Role == Copy && s.State == Ready && s.Origin != "" && s.Run != "" && s.Proof.At.IsZero() && !s.Outdated()
}

// Yet says in short what a copy that answers still waits for, and Awaits says it in full.
func (s Site) Yet() string { return Either(s.Behind, "media still coming", "not proven yet") }

// Awaits says what is still done to a copy that answers.
func (s Site) Awaits() string {
	return Either(s.Behind, "its media are still coming, those first that somebody asks for; then it is compared with "+
		"its origin", "not proven yet: it is being compared with its origin")
}

// ProofText says how a copy's evidence stands.
func (s Site) ProofText() string {
	switch p := s.Proof; {
	case s.Outdated():
		return "outdated"
	case s.Unproven():
		return "answers, " + s.Yet()
	case p.At.IsZero():
		return "none"
	case p.Holds:
		return "holds"
	default:
		return fmt.Sprintf("%d of %d broken", p.Broken, p.Checks)
	}
}

// Either gives yes where a condition holds, and else no.
func Either[T any](holds bool, yes, no T) T {
	if holds {
		return yes
	}
	return no
}
