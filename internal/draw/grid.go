package draw

import (
	"image/color"

	"gonum.org/v1/plot/vg"
)

// Tone is what a cell of a grid says by its colour; it says it by its text too.
type Tone uint8

// The tones.
const (
	None Tone = iota // nothing is there
	Plain
	Good
	Mild
	Bad
)

var tones = map[Tone]color.Color{Plain: color.RGBA{0xee, 0xee, 0xea, 255}, Good: color.RGBA{0xcf, 0xe6, 0xd3, 255},
	Mild: color.RGBA{0xf6, 0xe2, 0xb8, 255}, Bad: color.RGBA{0xf0, 0xc4, 0xc4, 255}}

// Cell is one field of a grid.
type Cell struct {
	Text string
	Tone Tone
}

// Row is one line of a grid.
type Row struct {
	Name  string
	Cells []Cell
}

// Grid is a drawing of fields in rows and columns.
type Grid struct {
	Title   string
	Columns []string
	Rows    []Row
	Legend  []Cell
	Notes   []string // below it
}

// measures, in points
const (
	gridName   = 190
	gridCell   = 96
	gridLine   = 18
	gridMargin = 16
	noteLength = 150
)

// As gives it as "svg" or "pdf".
func (g Grid) As(format string) ([]byte, error) {
	lines := 4 + len(g.Rows) + len(g.Notes)
	if len(g.Legend) > 0 {
		lines++
	}
	w := vg.Points(float64(max(2*gridMargin+gridName+gridCell*len(g.Columns), 560)))
	h := vg.Points(float64(2*gridMargin + gridLine*lines))
	return written(format, w, h, g.draw)
}

func (g Grid) draw(p *pen) {
	p.write(0, g.Title)
	p.line += 2
	for i, name := range g.Columns {
		p.write(gridName+float64(i*gridCell)+4, clip(name, 18))
	}
	for _, r := range g.Rows {
		p.line++
		p.write(0, clip(r.Name, 38))
		for i, x := range r.Cells {
			p.field(gridName+float64(i*gridCell), gridCell-3, x)
		}
	}
	if len(g.Legend) > 0 {
		p.line += 2
		for i, x := range g.Legend {
			p.field(float64(i)*(gridName+4), gridName, x)
		}
	}
	p.line++
	for _, n := range g.Notes {
		p.line++
		p.write(0, clip(n, noteLength))
	}
}

func box(x0, y0, x1, y1 vg.Length) vg.Path {
	var p vg.Path
	p.Move(vg.Point{X: x0, Y: y0})
	p.Line(vg.Point{X: x1, Y: y0})
	p.Line(vg.Point{X: x1, Y: y1})
	p.Line(vg.Point{X: x0, Y: y1})
	p.Close()
	return p
}

// clip shortens a text to a number of characters.
func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}
