// Package draw makes drawings for documents: as SVG, or as PDF. It stands on the canvases
// of gonum's plot, and not on its plots: these bring twelve fonts and five further formats.
package draw

import (
	"image/color"
	"slices"
	"strconv"
	"time"

	"gonum.org/v1/plot/vg"

	"alibi/internal/site"
)

// Drawing is one that can be written down.
type Drawing interface {
	// As gives it as "svg" or "pdf".
	As(format string) ([]byte, error)
}

// inks can be told apart by eyes that see few colours, and in grey.
var inks = []color.Color{
	color.RGBA{0x1b, 0x6c, 0x8c, 255}, color.RGBA{0xd9, 0x8a, 0x1f, 255}, color.RGBA{0x5b, 0x3f, 0x8f, 255},
	color.RGBA{0x3d, 0x8b, 0x4f, 255}, color.RGBA{0xb5, 0x3a, 0x4b, 255}, color.RGBA{0x66, 0x66, 0x66, 255},
}

// Series is a value over time.
type Series struct {
	Name  string
	At    []time.Time
	Value []float64 // bytes, or a number of things
}

// Depot draws the size of the depot over time, each site upon the ones before it.
func Depot(list []Series, now time.Time) Drawing {
	c := stacked(list, now, func(v float64) string { return site.Size(int64(v)) })
	c.title = "Size of the depot, by site, " + now.Local().Format("2 January 2006")
	c.up = sizes(c.to.y)
	return c
}

// Drift draws how many things of a pair differ over time, those that one side changed upon those of the other.
func Drift(title string, list []Series, now time.Time) Drawing {
	c := stacked(list, now, func(v float64) string { return strconv.Itoa(int(v)) })
	c.title, c.up = title, counts(c.to.y)
	return c
}

// stacked draws values over time, each upon the ones before it, in steps.
func stacked(list []Series, now time.Time, words func(float64) string) chart {
	var c chart
	times := moments(list, now)
	below := make([]float64, len(times))
	highest := 1.0
	for i, s := range list {
		var area []point
		for k := len(times) - 1; k >= 0; k-- {
			area = append(area, point{float64(times[k].Unix()), below[k]})
		}
		for k, t := range times {
			below[k] += s.at(t)
			highest = max(highest, below[k])
			area = append(area, point{float64(t.Unix()), below[k]})
		}
		if len(times) < 2 {
			continue
		}
		ink := inks[i%len(inks)]
		c.shapes = append(c.shapes, shape{ink: ink, at: area})
		c.legend = append(c.legend, entry{ink, s.Name + ", " + words(s.at(now))})
	}
	c.from, c.to = point{float64(now.Add(-24 * time.Hour).Unix()), 0}, point{float64(now.Unix()), highest * 1.25}
	if len(times) > 0 {
		c.from.x = float64(times[0].Unix())
	}
	c.across = days(c.from.x, c.to.x)
	return c
}

// at is the value that held at a time: it changes in steps.
func (s Series) at(t time.Time) float64 {
	v := 0.0
	for i, x := range s.At {
		if !x.After(t) {
			v = s.Value[i]
		}
	}
	return v
}

// moments are all times at which something changes, and just before, and now.
func moments(list []Series, now time.Time) (out []time.Time) {
	seen := map[int64]bool{}
	for _, s := range list {
		for _, t := range s.At {
			seen[t.Unix()-1], seen[t.Unix()] = true, true // it changes in a step, not on a slope
		}
	}
	if len(seen) == 0 {
		return nil
	}
	seen[now.Unix()] = true
	for x := range seen {
		out = append(out, time.Unix(x, 0))
	}
	slices.SortFunc(out, time.Time.Compare)
	return out
}

// Bar is a lease.
type Bar struct {
	Name     string
	From, To time.Time
	Grace    time.Time // until then it can be brought back
	Held     bool      // it has no end: To and Grace mean nothing
	Off      bool      // it is not on the air, and its lease has not begun
}

// parts are the pieces of a bar, each with its ink.
func (b Bar) parts(right time.Time) []part {
	switch {
	case b.Held:
		return []part{{b.From, right, inks[0]}}
	case b.Off:
		return []part{{b.From, b.To, inks[5]}}
	}
	return []part{{b.From, b.To, inks[0]}, {b.To, b.Grace, inks[1]}}
}

type part struct {
	from, to time.Time
	ink      color.Color
}

// label is what stands beside a bar.
func (b Bar) label() string {
	switch {
	case b.Held:
		return b.Name + " (held)"
	case b.Off:
		return b.Name + " (not whole)"
	}
	return b.Name
}

// Leases draws leases as bars on a line of time, with the grace behind each.
func Leases(list []Bar, now time.Time) Drawing {
	c := chart{
		title: "Leases, " + now.Local().Format("2 January 2006 15:04"),
		note:  "blue: on the air; orange: off it, and can be brought back; grey: its run failed; red: now",
		high:  vg.Length(2.2+0.35*float64(len(list))) * vg.Inch,
	}
	from, to := now.Add(-24*time.Hour), now.Add(7*24*time.Hour)
	for _, b := range list {
		if b.From.Before(from) {
			from = b.From
		}
		if b.Grace.After(to) {
			to = b.Grace
		}
	}
	for i, b := range list {
		y := float64(len(list) - 1 - i)
		c.up = append(c.up, tick{y, b.label()})
		for _, p := range b.parts(to) {
			left, right := float64(p.from.Unix()), float64(p.to.Unix())
			corners := []point{{left, y - 0.3}, {right, y - 0.3}, {right, y + 0.3}, {left, y + 0.3}}
			c.shapes = append(c.shapes, shape{ink: p.ink, at: corners})
		}
	}
	x := float64(now.Unix())
	c.shapes = append(c.shapes, shape{ink: inks[4], at: []point{{x, -0.6}, {x, float64(len(list)) - 0.4}},
		dashed: true})
	c.from, c.to = point{float64(from.Unix()), -0.7}, point{float64(to.Unix()), max(0.7, float64(len(list))-0.3)}
	c.across = days(c.from.x, c.to.x)
	return c
}
