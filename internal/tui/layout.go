package tui

import (
	"strings"
	"unicode/utf8"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"alibi/internal/printable"
)

// fit makes s exactly w cells wide: cut with an ellipsis, or padded.
func (t *theme) fit(s string, w int) string {
	if w <= 0 {
		return ""
	}
	if n := ansi.StringWidth(s); n <= w {
		return s + strings.Repeat(" ", w-n)
	}
	return ansi.Truncate(s, w, t.glyph("…", "~")) +
		strings.Repeat(" ", max(0, w-ansi.StringWidth(ansi.Truncate(s, w, t.glyph("…", "~")))))
}

// tail cuts a path that is too long at its beginning: its end tells one from another.
func (t *theme) tail(path string, w int) string {
	n := ansi.StringWidth(path)
	if n <= w || w <= 1 {
		return t.fit(path, w)
	}
	return ansi.TruncateLeft(path, n-w+1, t.glyph("…", "~"))
}

// column is the width of a column: as wide as it is at its best, and as narrow as it may become.
type column struct{ best, least int }

// squeeze gives the widths of columns that share w cells: on a narrow window those that can be
// narrower are, by equal shares of what they can spare.
func squeeze(w int, cols ...column) []int {
	out := make([]int, len(cols))
	spare, lack := 0, -w
	for i, c := range cols {
		out[i] = c.best
		lack += c.best
		spare += c.best - c.least
	}
	if lack <= 0 || spare == 0 {
		return out
	}
	lack = min(lack, spare)
	left := lack
	for i, c := range cols {
		out[i] -= (c.best - c.least) * lack / spare
		left -= (c.best - c.least) * lack / spare
	}
	for i := 0; left > 0; i = (i + 1) % len(out) { // what the division left over
		if out[i] > cols[i].least {
			out[i]--
			left--
		}
	}
	return out
}

// right puts s at the right end of w cells.
func (t *theme) right(s string, w int) string {
	if n := ansi.StringWidth(s); n < w {
		return strings.Repeat(" ", w-n) + s
	}
	return t.fit(s, w)
}

// ends puts a at the left and b at the right of w cells; a gives way.
func (t *theme) ends(a, b string, w int) string {
	n := ansi.StringWidth(b)
	if n >= w {
		return t.fit(b, w)
	}
	if ansi.StringWidth(a) >= w-n && !strings.HasPrefix(ansi.Strip(b), " ") {
		return t.fit(a, w-n-1) + " " + b
	}
	return t.fit(a, w-n) + b
}

// beside joins two columns of lines with a rule between them.
func (t *theme) beside(a, b []string, wa, wb int) []string {
	out := make([]string, max(len(a), len(b)))
	for i := range out {
		l, r := "", ""
		if i < len(a) {
			l = a[i]
		}
		if i < len(b) {
			r = b[i]
		}
		out[i] = t.fit(l, wa) + t.rule.Render(t.glyph(" │ ", " | ")) + t.fit(r, wb)
	}
	return out
}

// wrap breaks text into lines of at most w cells.
func wrap(s string, w int) []string {
	return strings.Split(ansi.Wordwrap(s, max(10, w), ""), "\n")
}

// part is a piece of a text in one style.
type part struct {
	text  string
	style lipgloss.Style
}

// wrapped breaks a text of several parts into lines.
func wrapped(parts []part, w int) (out []string) {
	text := ""
	for _, p := range parts {
		text += p.text
	}
	at, left := 0, nonBlank(parts[0].text)
	for _, line := range wrap(text, w) {
		done, from := "", 0
		for i, r := range line {
			for left == 0 && at < len(parts)-1 && r != ' ' {
				done += parts[at].style.Render(line[from:i])
				at, from = at+1, i
				left = nonBlank(parts[at].text)
			}
			if r != ' ' {
				left--
			}
		}
		out = append(out, done+parts[at].style.Render(line[from:]))
	}
	return out
}

// nonBlank counts what is no blank in a text: lines are broken at blanks, which go.
func nonBlank(s string) int { return utf8.RuneCountInString(strings.ReplaceAll(s, " ", "")) }

// plain makes text from outside safe to show: control characters would
// otherwise be the terminal's to obey.
func plain(s string) string {
	return printable.Line(s)
}

// scroll keeps a cursor in sight of a window of rows.
type scroll struct{ cursor, top int }

// move moves the cursor and the window with it.
func (s *scroll) move(by, n, rows int) {
	s.cursor = max(0, min(n-1, s.cursor+by))
	s.see(n, rows)
}

func (s *scroll) see(n, rows int) {
	s.cursor = max(0, min(n-1, s.cursor))
	if s.cursor < s.top {
		s.top = s.cursor
	}
	if s.cursor >= s.top+rows {
		s.top = s.cursor - rows + 1
	}
	s.top = max(0, min(s.top, n-rows))
}

// step is how far a key moves, and whether it is one that does.
func step(key string, n, page int) (int, bool) {
	switch key {
	case "down", "j":
		return 1, true
	case "up", "k":
		return -1, true
	case "pgdown", "ctrl+f":
		return page, true
	case "pgup", "ctrl+b":
		return -page, true
	case "home", "g":
		return -n, true
	case "end", "G":
		return n, true
	}
	return 0, false
}
