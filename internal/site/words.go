package site

import (
	"fmt"
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
