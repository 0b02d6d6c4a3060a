package draw

import (
	"image/color"
	"math"
	"strconv"
	"time"

	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"

	"alibi/internal/site"
)

// point is a place on a chart, by its axes.
type point struct{ x, y float64 }

// shape is an area, or with dashed a line.
type shape struct {
	ink    color.Color
	at     []point
	dashed bool
}

// tick is a mark on an axis.
type tick struct {
	at    float64
	label string
}

// entry is a line of a legend.
type entry struct {
	ink  color.Color
	text string
}

// chart is a drawing on two axes.
type chart struct {
	title, note string
	from, to    point // the ends of the axes
	across, up  []tick
	shapes      []shape
	legend      []entry
	high        vg.Length // 5 inches if 0
}

// measures of a chart, in points
const (
	chartWide   = 10 * vg.Inch
	chartHigh   = 5 * vg.Inch
	chartMargin = 16
	fine        = vg.Length(0.5)
)

var pale = color.Gray{0xdd}

// As gives it as "svg" or "pdf".
func (c chart) As(format string) ([]byte, error) {
	if c.high == 0 {
		c.high = chartHigh
	}
	return written(format, chartWide, c.high, c.draw)
}

func (c chart) draw(p *pen) {
	left := vg.Length(2 * chartMargin)
	for _, t := range c.up {
		left = max(left, p.ink.Width(t.label)+2*chartMargin)
	}
	p.c.Min = vg.Point{X: left, Y: 3 * chartMargin}
	p.c.Max = vg.Point{X: chartWide - 2*chartMargin, Y: c.high - 2.5*chartMargin}
	c.axes(p)
	for _, s := range c.shapes {
		c.shape(p, s)
	}
	p.stroke(color.Black, nil, c.at(p, point{c.to.x, c.from.y}), c.at(p, c.from), c.at(p, point{c.from.x, c.to.y}))
	c.key(p)
}

// at is where a point is on the canvas.
func (c chart) at(p *pen, q point) vg.Point {
	return vg.Point{
		X: p.c.X((q.x - c.from.x) / (c.to.x - c.from.x)),
		Y: p.c.Y((q.y - c.from.y) / (c.to.y - c.from.y)),
	}
}

// axes draws what a chart is read by: title, fine lines at the ticks, their labels.
func (c chart) axes(p *pen) {
	middle := p.ink
	middle.XAlign = text.XCenter
	p.c.FillText(middle, vg.Point{X: chartWide / 2, Y: c.high - chartMargin}, c.title)
	p.c.FillText(middle, vg.Point{X: chartWide / 2, Y: chartMargin}, c.note)
	for _, t := range c.across {
		foot := c.at(p, point{t.at, c.from.y})
		p.stroke(pale, nil, foot, c.at(p, point{t.at, c.to.y}))
		p.c.FillText(middle, vg.Point{X: foot.X, Y: foot.Y - chartMargin*0.7}, t.label)
	}
	right := p.ink
	right.XAlign = text.XRight
	for _, t := range c.up {
		foot := c.at(p, point{c.from.x, t.at})
		p.stroke(pale, nil, foot, c.at(p, point{c.to.x, t.at}))
		p.c.FillText(right, vg.Point{X: foot.X - chartMargin*0.4, Y: foot.Y}, t.label)
	}
}

func (c chart) shape(p *pen, s shape) {
	if s.dashed {
		p.stroke(s.ink, []vg.Length{3, 2}, c.at(p, s.at[0]), c.at(p, s.at[1]))
		return
	}
	var path vg.Path
	for i, q := range s.at {
		if i == 0 {
			path.Move(c.at(p, q))
		} else {
			path.Line(c.at(p, q))
		}
	}
	path.Close()
	p.c.SetColor(s.ink)
	p.c.Fill(path)
	p.c.SetColor(color.White)
	p.c.SetLineWidth(fine)
	p.c.Stroke(path)
}

// key draws the legend, in the corner that is free for as long as sizes grow.
func (c chart) key(p *pen) {
	x := p.c.Min.X + chartMargin
	for i, e := range c.legend {
		y := p.c.Max.Y - vg.Length(i+1)*chartMargin
		p.c.SetColor(e.ink)
		p.c.Fill(box(x, y-chartMargin*0.3, x+chartMargin, y+chartMargin*0.3))
		p.c.FillText(p.ink, vg.Point{X: x + 1.4*chartMargin, Y: y}, e.text)
	}
}

// days gives the ticks of an axis of times, in seconds.
func days(from, to float64) (out []tick) {
	const most, day, layout = 8, 86400.0, "2 Jan 2006"
	step, as := day, layout
	for _, n := range []float64{1, 2, 7, 14, 30, 91, 365} {
		if step = n * day; (to-from)/step <= most {
			break
		}
	}
	if to-from < 2*day {
		step, as = max(3600, math.Ceil((to-from)/most/3600)*3600), "2 Jan 15:04"
	}
	for x := math.Ceil(from/step) * step; x <= to; x += step {
		out = append(out, tick{x, time.Unix(int64(x), 0).Local().Format(as)})
	}
	return out
}

// counts gives the ticks of an axis of whole numbers.
func counts(to float64) (out []tick) {
	step := 1.0
	for i := 0; to/step > 6; i++ {
		step *= [3]float64{2, 2.5, 2}[i%3] // 1, 2, 5, 10, 20 and so on
	}
	for x := 0.0; x <= to*1.001; x += step {
		out = append(out, tick{x, strconv.Itoa(int(x))})
	}
	return out
}

// sizes gives the ticks of an axis of bytes.
func sizes(to float64) (out []tick) {
	step := math.Pow(2, math.Ceil(math.Log2(max(1, to)/6)))
	for x := 0.0; x <= to*1.001; x += step {
		out = append(out, tick{x, site.Size(int64(x))})
	}
	return out
}
