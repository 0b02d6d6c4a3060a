package tui

import (
	"os"
	"strings"

	"charm.land/lipgloss/v2"

	"alibi/internal/site"
)

// palette is our own: slate and paper, with a brass for what is live, a sea
// green for copies, plum for what ends soon, and a brick red for what is wrong.
// Each meaning has a word or a glyph as well. palette_test.go holds the
// contrasts to 4.5 to 1.
type palette struct {
	ground, ink, soft, rule    string
	live, liveGround           string
	copy, soon, wrong, good    string
	chosen, chosenGround, link string
	marks                      [site.MarkColours]string
}

var dark = palette{
	ground: "#14181d", ink: "#e4e1d8", soft: "#98a1ab", rule: "#4a535d", live: "#14181d", liveGround: "#e3b04b",
	copy: "#79c7b2", soon: "#d79be0", wrong: "#ff8f7a", good: "#a9cf72",
	chosen: "#ffffff", chosenGround: "#2b4257", link: "#8fc4e8",
	marks: [site.MarkColours]string{"#f2b35d", "#7fd1c1", "#e58fb1", "#9cc3f5", "#c6d36a", "#f0907a", "#b9a5f0",
		"#8fd98b"},
}

var light = palette{
	ground: "#fbfaf6", ink: "#1f262e", soft: "#5a636d", rule: "#b9b6ab", live: "#ffffff", liveGround: "#7a4f00",
	copy: "#0f6a57", soon: "#83308f", wrong: "#a8281a", good: "#3f6a10",
	chosen: "#10202e", chosenGround: "#d3e2ee", link: "#0b5c86",
	marks: [site.MarkColours]string{"#8a5600", "#0f6f62", "#a0305f", "#22579c", "#5d6600", "#a83c22", "#5d45a8",
		"#2a7030"},
}

// theme is the styles and glyphs of a terminal.
type theme struct {
	palette
	ascii                                                             bool
	basic                                                             bool // the terminal's own colours
	ink, soft, rule, live, copy, soon, wrong, good, chosen, key, head lipgloss.Style
}

// newPlainTheme is for a terminal that does not say what its ground is: its own
// ink and its own basic colours, which fit whatever it is.
func newPlainTheme(ascii bool) *theme {
	own := lipgloss.NewStyle()
	basic := func(n int) lipgloss.Style { return own.Foreground(lipgloss.ANSIColor(n)) }
	t := newTheme(true, ascii)
	t.basic = true
	t.ink, t.soft, t.rule, t.head = own, own, own.Faint(true), own
	t.live, t.chosen = own.Bold(true).Reverse(true), own.Bold(true).Reverse(true)
	t.copy, t.soon, t.wrong, t.good, t.key = basic(6), basic(5), basic(1).Bold(true), basic(2), basic(4).Bold(true)
	return t
}

func newTheme(isDark, ascii bool) *theme {
	p := light
	if isDark {
		p = dark
	}
	fg := func(c string) lipgloss.Style { return lipgloss.NewStyle().Foreground(lipgloss.Color(c)) }
	return &theme{
		palette: p, ascii: ascii,
		ink: fg(p.ink), soft: fg(p.soft), rule: fg(p.rule),
		live: fg(p.live).Background(lipgloss.Color(p.liveGround)).Bold(true),
		copy: fg(p.copy), soon: fg(p.soon), wrong: fg(p.wrong).Bold(true), good: fg(p.good),
		chosen: fg(p.chosen).Background(lipgloss.Color(p.chosenGround)).Bold(true), key: fg(p.link).Bold(true),
		head: fg(p.soft),
	}
}

// mark draws a site's figure in its colour: two cells.
func (t *theme) mark(m site.Mark) string {
	s := m.Figure()
	if t.ascii {
		s = m.ASCII()
	}
	if t.basic {
		return lipgloss.NewStyle().Foreground(lipgloss.ANSIColor(1 + m.Colour%6)).Render(s)
	}
	return lipgloss.NewStyle().Foreground(lipgloss.Color(t.marks[m.Colour])).Render(s)
}

// glyph gives a character, or its ASCII stand-in.
func (t *theme) glyph(unicode, ascii string) string {
	if t.ascii {
		return ascii
	}
	return unicode
}

// line is a horizontal rule.
func (t *theme) line(w int) string {
	return t.rule.Render(strings.Repeat(t.glyph("─", "-"), max(0, w)))
}

// bar draws a share of w cells in eighths.
func (t *theme) bar(share float64, w int) string {
	share = min(1, max(0, share))
	if t.ascii {
		n := int(share*float64(w) + 0.5)
		return strings.Repeat("#", n) + strings.Repeat(".", w-n)
	}
	eighths := int(share*float64(w*8) + 0.5)
	s := strings.Repeat("█", eighths/8)
	if r := eighths % 8; r > 0 {
		s += string([]rune("▏▎▍▌▋▊▉")[r-1])
	}
	return s + strings.Repeat(" ", max(0, w-(eighths+7)/8))
}

// track draws a share of w cells as a thin line.
func (t *theme) track(share float64, w int) (done, rest string) {
	n := int(min(1, max(0, share))*float64(w) + 0.5)
	return strings.Repeat(t.glyph("━", "="), n), strings.Repeat(t.glyph("─", "-"), w-n)
}

// badge names a role so that it can't be mistaken, with or without colour.
func (t *theme) badge(r site.Role) string {
	if r == site.Live {
		return t.live.Render(" LIVE ")
	}
	return t.copy.Render(" copy ")
}

// asciiOnly tells whether the locale has no UTF-8.
func asciiOnly(env func(string) string) bool {
	for _, k := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if v := env(k); v != "" {
			v = strings.ToLower(v)
			return !strings.Contains(v, "utf-8") && !strings.Contains(v, "utf8")
		}
	}
	return false
}

func localeASCII() bool { return asciiOnly(os.Getenv) }
