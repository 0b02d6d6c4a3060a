// Package ballast makes content up for tests: texts, names and pictures, always
// the same of the same seed.
package ballast

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
)

// Kinds are what can be made up, in the order in which it is made.
var Kinds = []string{"terms", "users", "media", "posts", "pages", "products", "comments"}

// Load says how much of each kind is made up, from which seed; or that all that
// was made up goes.
type Load struct {
	Counts map[string]int `json:"counts,omitempty"`
	Seed   uint64         `json:"seed"`
	Remove bool           `json:"remove,omitempty"`
}

// Most is how much of one kind can be made up at once.
const Most = 5000

// Parse reads counts as posts=10,pages=3.
func Parse(list []string) (map[string]int, error) {
	out := map[string]int{}
	for _, s := range list {
		kind, text, ok := strings.Cut(s, "=")
		n, err := strconv.Atoi(text)
		switch {
		case !ok || err != nil || n < 0:
			return nil, fmt.Errorf("%q: write a kind and a number: posts=10", s)
		case !slices.Contains(Kinds, kind):
			return nil, fmt.Errorf("%q is no kind of ballast: %s", kind, strings.Join(Kinds, ", "))
		case n > Most:
			return nil, fmt.Errorf("%s=%d: at most %d of a kind are made up at once", kind, n, Most)
		}
		out[kind] = n
	}
	return out, nil
}

// Words says how much of what is made up.
func (l Load) Words() string {
	if l.Remove {
		return "no ballast"
	}
	var parts []string
	for _, k := range Kinds {
		if n := l.Counts[k]; n > 0 {
			if n == 1 && k != "media" {
				k = strings.TrimSuffix(k, "s")
			}
			parts = append(parts, fmt.Sprintf("%d %s", n, k))
		}
	}
	return strings.Join(parts, ", ") + " of ballast"
}

// Mark begins what is known of each made-up item: Mark, its kind, the seed and a
// number.
const Mark = "urn:x-alibi:ballast:"

// ID is what an item is known by.
func (l Load) ID(kind string, n int) string { return fmt.Sprintf("%s%s:%d:%d", Mark, kind, l.Seed, n) }

// Slug is a name of the item for addresses; all begin with Prefix.
func (l Load) Slug(kind string, n int) string {
	return fmt.Sprintf("%s%s-%d-%d", Prefix, strings.TrimSuffix(kind, "s"), l.Seed, n)
}

// Prefix begins the names of made-up items and accounts.
const Prefix = "ballast-"

// Rand is the source for one item.
func (l Load) Rand(kind string, n int) *rand.Rand {
	return rand.New(rand.NewPCG(l.Seed, uint64(slices.Index(Kinds, kind)+1)<<32|uint64(n)))
}

var (
	openings = []string{
		"A plain crate",
		"The second hold",
		"An empty barrel",
		"The spare anchor",
		"A coil of rope",
		"The tarred sack",
		"A stack of planks",
		"The sand in the bilge",
		"One more stone",
		"The iron pig",
	}
	doings = []string{
		"rests against",
		"is counted with",
		"shifts towards",
		"weighs as much as",
		"was stowed under",
		"lies across",
		"is lashed to",
		"balances",
	}
	others = []string{
		"the port side",
		"a row of bottles",
		"the lower deck",
		"yesterday's cargo",
		"a bundle of oars",
		"the cook's flour",
		"nothing of value",
		"its own shadow",
	}
	endings = []string{
		"without a reason",
		"until the next port",
		"as made-up text does",
		"for the sake of length",
		"and is never read",
		"in every weather",
		"by the same seed",
	}
)

func of(r *rand.Rand, list []string) string { return list[r.IntN(len(list))] }

// Sentence makes a sentence up.
func Sentence(r *rand.Rand) string {
	return of(r, openings) + " " + of(r, doings) + " " + of(r, others) + " " + of(r, endings) + "."
}

// Title makes a title up.
func Title(r *rand.Rand) string { return of(r, openings) + " " + of(r, doings) + " " + of(r, others) }

// Text makes n paragraphs up, in HTML.
func Text(r *rand.Rand, n int) string {
	var b strings.Builder
	for range n {
		b.WriteString("<p>")
		for i := range 2 + r.IntN(5) {
			if i > 0 {
				b.WriteByte(' ')
			}
			b.WriteString(Sentence(r))
		}
		b.WriteString("</p>\n")
	}
	return b.String()
}

// Person makes a name up.
func Person(r *rand.Rand) string {
	return of(r, []string{"Barrel", "Plank", "Hawser", "Bollard", "Cleat", "Fender", "Rudder", "Thwart"}) + " " +
		of(r, []string{"Stowaway", "Counterweight", "Deadlight", "Keelson", "Makeweight", "Sandbag"})
}

// Picture makes a picture up, as PNG: stripes of a few colours.
func Picture(r *rand.Rand) []byte {
	m := image.NewPaletted(image.Rect(0, 0, 320, 200), color.Palette{hue(r), hue(r), hue(r), color.White})
	width := 8 + r.IntN(40)
	for y := range 200 {
		for x := range 320 {
			m.SetColorIndex(x, y, uint8((x+y/2)/width%3))
		}
	}
	var b bytes.Buffer
	_ = png.Encode(&b, m) // into memory
	return b.Bytes()
}

func hue(r *rand.Rand) color.Color {
	return color.RGBA{uint8(r.IntN(256)), uint8(r.IntN(256)), uint8(r.IntN(256)), 255}
}
