package demo

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"math/rand/v2"
)

// picture paints a small seascape: sky, sea, a sun and a boat.
func picture(r *rand.Rand, w, h int, asPNG bool) []byte {
	sky := color.RGBA{uint8(140 + r.IntN(90)), uint8(160 + r.IntN(60)), uint8(190 + r.IntN(50)), 255}
	sea := color.RGBA{uint8(20 + r.IntN(30)), uint8(70 + r.IntN(50)), uint8(90 + r.IntN(60)), 255}
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	horizon := h * (45 + r.IntN(20)) / 100
	sx, sy, sr := r.IntN(w), r.IntN(max(1, horizon)), h/10+1
	bx := w/5 + r.IntN(w/2)
	phase := r.Float64() * 6
	waves := make([]int, w) // where the sea begins, column by column
	for x := range waves {
		waves[x] = horizon + int(3*math.Sin(float64(x)/float64(w)*40+phase))
	}
	for y := range h {
		row := img.Pix[img.PixOffset(0, y):]
		for x := range w {
			c := sky
			switch {
			case y > waves[x]:
				k := uint8(min(60, max(0, y-horizon)*60/h))
				c = color.RGBA{sea.R - min(sea.R, k/3), sea.G - k/2, sea.B - k/3, 255}
			case (x-sx)*(x-sx)+(y-sy)*(y-sy) < sr*sr:
				c = color.RGBA{250, 226, 160, 255}
			}
			if y > horizon-h/12 && y < horizon+h/20 && x > bx && x < bx+w/6 {
				c = color.RGBA{160, 50, 40, 255}
			}
			row[4*x], row[4*x+1], row[4*x+2], row[4*x+3] = c.R, c.G, c.B, c.A
		}
	}
	var b bytes.Buffer
	if asPNG {
		_ = (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&b, img)
	} else {
		_ = jpeg.Encode(&b, img, &jpeg.Options{Quality: 70})
	}
	return b.Bytes()
}
