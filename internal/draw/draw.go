// Package draw makes drawings for documents: as SVG, or as PDF.
package draw

import (
	"bytes"
	"fmt"
	"image/color"
	"math"
	"slices"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"alibi/internal/site"
)

// Drawing is one that can be written down.
type Drawing interface {
	// As gives it as "svg" or "pdf".
	As(format string) ([]byte, error)
}

// plotted is a drawing on axes.
type plotted struct {
	p    *plot.Plot
	w, h vg.Length
}

func (d plotted) As(format string) ([]byte, error) {
	if format != "svg" && format != "pdf" {
		return nil, fmt.Errorf("%q is no kind of drawing: the file's name ends with .svg or .pdf", format)
	}
	return d.bytes(format)
}

// margin is left free around a drawing.
const margin = 14 * vg.Length(1)

func (d plotted) bytes(format string) ([]byte, error) {
	c, err := draw.NewFormattedCanvas(d.w, d.h, format)
	if err != nil {
		return nil, fmt.Errorf("drawing: %w", err)
	}
	d.p.Draw(draw.Crop(draw.New(c), margin, -2*margin, margin, -margin))
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return nil, fmt.Errorf("drawing: %w", err)
	}
	return b.Bytes(), nil
}

// blank is a plot with fine lines where the ticks are: marks would stand in the labels.
func blank(title string) *plot.Plot {
	p := plot.New()
	p.Title.Text = title
	p.Title.Padding = margin / 2
	p.X.Tick.Length, p.Y.Tick.Length = 0, 0
	p.X.Tick.Label.YAlign = draw.YTop
	g := plotter.NewGrid()
	g.Vertical.Color, g.Horizontal.Color = pale, pale
	p.Add(g)
	return p
}

var pale = color.Gray{0xdd}

// inks can be told apart by eyes that see few colours, and in grey.
var inks = []color.Color{color.RGBA{0x1b, 0x6c, 0x8c, 255}, color.RGBA{0xd9, 0x8a, 0x1f, 255}, color.RGBA{0x5b, 0x3f, 0x8f, 255}, color.RGBA{0x3d, 0x8b, 0x4f, 255}, color.RGBA{0xb5, 0x3a, 0x4b, 255}, color.RGBA{0x66, 0x66, 0x66, 255}}

// Series is a value over time.
type Series struct {
	Name  string
	At    []time.Time
	Value []float64 // bytes
}

// days writes dates on an axis.
type days struct{ layout string }

func (d days) Ticks(from, to float64) []plot.Tick {
	const most = 8
	day := 86400.0
	step := day
	for _, n := range []float64{1, 2, 7, 14, 30, 91, 365} {
		if step = n * day; (to-from)/step <= most {
			break
		}
	}
	if to-from < 2*day {
		step = max(3600, math.Ceil((to-from)/most/3600)*3600)
		d.layout = "2 Jan 15:04"
	}
	var out []plot.Tick
	for x := math.Ceil(from/step) * step; x <= to; x += step {
		out = append(out, plot.Tick{Value: x, Label: time.Unix(int64(x), 0).Local().Format(d.layout)})
	}
	return out
}

// bytesTicks writes sizes on an axis.
type bytesTicks struct{}

func (bytesTicks) Ticks(from, to float64) []plot.Tick {
	step := math.Pow(2, math.Ceil(math.Log2(max(1, to)/6)))
	var out []plot.Tick
	for x := 0.0; x <= to*1.001; x += step {
		out = append(out, plot.Tick{Value: x, Label: site.Size(int64(x))})
	}
	return out
}

// Depot draws what the depot weighs over time, each site upon the ones before it.
func Depot(list []Series, now time.Time) (Drawing, error) {
	p := blank("Weight of the depot, by site, " + now.Local().Format("2 January 2006"))
	p.X.Tick.Marker, p.Y.Tick.Marker = days{"2 Jan 2006"}, bytesTicks{}
	p.Legend.Top, p.Legend.Left = true, true
	times := moments(list, now)
	below := make([]float64, len(times))
	for i, s := range list {
		var area plotter.XYs
		for k := len(times) - 1; k >= 0; k-- {
			area = append(area, plotter.XY{X: float64(times[k].Unix()), Y: below[k]})
		}
		for k, t := range times {
			below[k] += s.at(t)
			area = append(area, plotter.XY{X: float64(t.Unix()), Y: below[k]})
		}
		if len(times) < 2 {
			continue
		}
		poly, err := plotter.NewPolygon(area)
		if err != nil {
			return nil, fmt.Errorf("drawing: %w", err)
		}
		poly.Color = inks[i%len(inks)]
		poly.LineStyle.Width = vg.Points(0.5)
		poly.LineStyle.Color = color.White
		p.Add(poly)
		p.Legend.Add(s.Name+", "+site.Size(int64(s.at(now))), poly)
	}
	top := 1.0
	for _, b := range below {
		top = max(top, b)
	}
	p.Y.Min, p.Y.Max = 0, top*1.25
	if len(times) > 0 {
		p.X.Min, p.X.Max = float64(times[0].Unix()), float64(now.Unix())
	}
	return plotted{p, 10 * vg.Inch, 5 * vg.Inch}, nil
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
func Leases(list []Bar, now time.Time) (Drawing, error) {
	p := blank("Leases, " + now.Local().Format("2 January 2006 15:04"))
	p.X.Tick.Marker = days{"2 Jan 2006"}
	names := make([]string, len(list))
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
		names[len(list)-1-i] = b.label()
		for _, part := range b.parts(to) {
			left, right := float64(part.from.Unix()), float64(part.to.Unix())
			bar, err := plotter.NewPolygon(plotter.XYs{
				{X: left, Y: y - 0.3}, {X: right, Y: y - 0.3}, {X: right, Y: y + 0.3}, {X: left, Y: y + 0.3},
			})
			if err != nil {
				return nil, fmt.Errorf("drawing: %w", err)
			}
			bar.Color, bar.LineStyle.Width = part.ink, 0
			p.Add(bar)
		}
	}
	line, err := plotter.NewLine(plotter.XYs{{X: float64(now.Unix()), Y: -0.6}, {X: float64(now.Unix()), Y: float64(len(list)) - 0.4}})
	if err != nil {
		return nil, fmt.Errorf("drawing: %w", err)
	}
	line.Color = inks[4]
	line.Dashes = []vg.Length{vg.Points(3), vg.Points(2)}
	p.Add(line)
	if len(names) > 0 {
		p.NominalY(names...)
		p.Y.Tick.Length = 0
	}
	p.X.Min, p.X.Max = float64(from.Unix()), float64(to.Unix())
	p.Y.Min, p.Y.Max = -0.7, max(0.7, float64(len(list))-0.3)
	p.X.Label.Padding = margin / 3
	p.X.Label.Text = "blue: on the air; orange: off it, and can be brought back; grey: its run failed; red: now"
	return plotted{p, 10 * vg.Inch, vg.Length(2.2+0.35*float64(len(list))) * vg.Inch}, nil
}
