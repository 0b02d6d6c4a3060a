package draw

import (
	"bytes"
	"fmt"
	"image/color"
	"sync"

	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"golang.org/x/image/font/opentype"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"
	_ "gonum.org/v1/plot/vg/vgpdf" // the formats
	_ "gonum.org/v1/plot/vg/vgsvg"
)

// letters is the one font of drawings.
var letters = sync.OnceValues(func() (*font.Cache, error) {
	face, err := opentype.Parse(liberationsansregular.TTF)
	if err != nil {
		return nil, fmt.Errorf("reading the font of drawings: %w", err)
	}
	return font.NewCache(font.Collection{{Font: sans, Face: face}}), nil
})

var sans = font.Font{Typeface: "Liberation", Variant: "Sans"}

// written gives a drawing of a size as "svg" or "pdf".
func written(format string, w, h vg.Length, draw func(*pen)) ([]byte, error) {
	if format != "svg" && format != "pdf" {
		return nil, fmt.Errorf("%q is no kind of drawing: the file's name ends with .svg or .pdf", format)
	}
	fonts, err := letters()
	if err != nil {
		return nil, err
	}
	c, err := vgdraw.NewFormattedCanvas(w, h, format)
	if err != nil {
		return nil, fmt.Errorf("drawing: %w", err)
	}
	ink := text.Style{
		Color: color.Black, Font: font.From(sans, 9), Handler: text.Plain{Fonts: fonts}, YAlign: text.YCenter,
	}
	p := &pen{c: vgdraw.New(c), top: h - vg.Points(gridMargin), ink: ink}
	p.c.SetColor(color.White)
	p.c.Fill(box(0, 0, w, h))
	draw(p)
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return nil, fmt.Errorf("drawing: %w", err)
	}
	return b.Bytes(), nil
}

// pen draws on a canvas; it writes line by line.
type pen struct {
	c    vgdraw.Canvas
	ink  text.Style
	top  vg.Length
	line int
}

func (p *pen) y() vg.Length {
	return p.top - vg.Points(gridLine)*vg.Length(p.line) - vg.Points(gridLine/2)
}

func (p *pen) write(x float64, s string) {
	p.c.FillText(p.ink, vg.Point{X: vg.Points(gridMargin + x), Y: p.y()}, s)
}

func (p *pen) field(x, width float64, c Cell) {
	if c.Tone == None {
		return
	}
	left, y := vg.Points(gridMargin+x), p.y()
	p.c.SetColor(tones[c.Tone])
	p.c.Fill(box(left, y-vg.Points(gridLine/2-1), left+vg.Points(width), y+vg.Points(gridLine/2-1)))
	p.write(x+4, clip(c.Text, int(width/5)))
}

// stroke draws a line through some points.
func (p *pen) stroke(ink color.Color, dashes []vg.Length, through ...vg.Point) {
	p.c.StrokeLines(vgdraw.LineStyle{Color: ink, Width: 2 * fine, Dashes: dashes}, through)
}
