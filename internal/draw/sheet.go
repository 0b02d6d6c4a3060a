package draw

import "gonum.org/v1/plot/vg"

// Sheet is a page of lines, each with a word at its left.
type Sheet struct {
	Title string
	Lines [][2]string // a word, and a text; both may be ""
}

// measures of a sheet, in points, and how many letters of a text stand in a line
const (
	sheetWidth   = 595 // ISO 216 A4
	sheetWord    = 84
	sheetLetters = 96
)

// As gives it as "svg" or "pdf".
func (s Sheet) As(format string) ([]byte, error) {
	lines := s.folded()
	h := vg.Points(float64(2*gridMargin + gridLine*(2+len(lines))))
	return written(format, vg.Points(sheetWidth), h, func(p *pen) {
		p.write(0, s.Title)
		p.line = 2
		for _, l := range lines {
			p.write(0, l[0])
			p.write(sheetWord, l[1])
			p.line++
		}
	})
}

// folded breaks texts that are too long for a line.
func (s Sheet) folded() (out [][2]string) {
	for _, l := range s.Lines {
		text := []rune(l[1])
		for len(text) > sheetLetters {
			cut := sheetLetters
			for i := cut; i > sheetLetters/2; i-- {
				if text[i] == ' ' {
					cut = i
					break
				}
			}
			out = append(out, [2]string{l[0], string(text[:cut])})
			l[0], text = "", text[cut:]
			for len(text) > 0 && text[0] == ' ' {
				text = text[1:]
			}
		}
		out = append(out, [2]string{l[0], string(text)})
	}
	return out
}
