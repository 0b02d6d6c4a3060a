package site

import "hash/fnv"

// MarkColours is how many colours a palette gives to marks.
const MarkColours = 8

// Mark is a small figure, four pixels wide and two high, and the number of a
// colour, made from a site's identity. It is not unique; it helps the eye.
type Mark struct {
	Bits   uint8 `json:"bits"`   // upper row in the high four bits, left pixel first
	Colour int   `json:"colour"` // 0 .. MarkColours-1
}

// MarkOf makes the mark of an identity. Figures with fewer than three or more
// than six pixels are passed over, since they are hard to tell apart.
func MarkOf(identity string) Mark {
	h := fnv.New32a()
	for i := byte(0); ; i++ {
		h.Write([]byte(identity))
		h.Write([]byte{i})
		sum := h.Sum32()
		bits := uint8(sum ^ sum>>8)
		n := 0
		for b := bits; b > 0; b &= b - 1 {
			n++
		}
		if n >= 3 && n <= 6 {
			return Mark{Bits: bits, Colour: int(sum>>16) % MarkColours}
		}
	}
}

// quadrants are the block characters by their pixels: upper left 8, upper
// right 4, lower left 2, lower right 1.
var quadrants = []rune(" ▗▖▄▝▐▞▟▘▚▌▙▀▜▛█")

// Figure draws the mark in two cells.
func (m Mark) Figure() string {
	left := m.Bits>>6&3<<2 | m.Bits>>2&3
	right := m.Bits>>4&3<<2 | m.Bits&3
	return string([]rune{quadrants[left], quadrants[right]})
}

// ASCII draws the mark in two ASCII characters.
func (m Mark) ASCII() string {
	const set = "#%&=+*@$"
	return string([]byte{set[m.Bits>>5], set[m.Bits>>2&7]})
}
