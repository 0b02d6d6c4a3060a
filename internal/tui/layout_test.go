package tui

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"alibi/internal/site"
)

func TestFitIsAlwaysExact(t *testing.T) {
	for _, th := range []*theme{newTheme(true, false), newTheme(true, true)} {
		rapid.Check(t, func(t *rapid.T) {
			s := rapid.StringOf(rapid.RuneFrom([]rune("abc é東京▚─ -"))).Draw(t, "text")
			w := rapid.IntRange(0, 30).Draw(t, "width")
			assert.Equal(t, w, ansi.StringWidth(th.fit(s, w)), "%q in %d", s, w)
			assert.Equal(t, w, ansi.StringWidth(th.fit(th.wrong.Render(s), w)), "styled")
			assert.Equal(t, w, ansi.StringWidth(th.right(s, w)))
			assert.Equal(t, w, ansi.StringWidth(th.ends(s, "right", w)))
		})
	}
}

func TestColumnsShareANarrowWindow(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var cols []column
		least, best := 0, 0
		for range rapid.IntRange(1, 8).Draw(t, "columns") {
			c := column{least: rapid.IntRange(0, 20).Draw(t, "least")}
			c.best = c.least + rapid.IntRange(0, 20).Draw(t, "more")
			cols, least, best = append(cols, c), least+c.least, best+c.best
		}
		w := rapid.IntRange(0, 200).Draw(t, "width")
		sum := 0
		for i, n := range squeeze(w, cols...) {
			assert.LessOrEqual(t, cols[i].least, n)
			assert.LessOrEqual(t, n, cols[i].best)
			sum += n
		}
		assert.Equal(t, min(best, max(w, least)), sum, "no cell is lost")
	})
}

func TestFitCutsWithAnEllipsis(t *testing.T) {
	u, a := newTheme(true, false), newTheme(true, true)
	assert.Equal(t, "harb…", u.fit("harbour", 5))
	assert.Equal(t, "harb~", a.fit("harbour", 5))
	assert.Equal(t, "sea  ", u.fit("sea", 5))
	assert.Equal(t, "…b/c.tar", u.tail("/a/longer/b/c.tar", 8))
	assert.Equal(t, "~b/c.tar", a.tail("/a/longer/b/c.tar", 8))
	assert.Equal(t, "/a/b  ", u.tail("/a/b", 6))
	assert.Equal(t, "  sea", u.right("sea", 5))
	assert.Equal(t, "left   9", u.ends("left", "9", 8))
	assert.Equal(t, "le… 9 KB", u.ends("left side", " 9 KB", 8))
}

func TestBeside(t *testing.T) {
	th := newTheme(true, true)
	lines := th.beside([]string{"a", "b"}, []string{"c"}, 3, 4)
	assert.Len(t, lines, 2)
	assert.Equal(t, "a   | c   ", ansi.Strip(lines[0]))
	assert.Equal(t, "b   |     ", ansi.Strip(lines[1]))
}

func TestBars(t *testing.T) {
	u, a := newTheme(true, false), newTheme(true, true)
	assert.Equal(t, "████    ", u.bar(0.5, 8))
	assert.Equal(t, "▌   ", u.bar(0.125, 4))
	assert.Equal(t, "####....", a.bar(0.5, 8))
	rapid.Check(t, func(t *rapid.T) {
		share := rapid.Float64Range(-1, 2).Draw(t, "share")
		w := rapid.IntRange(1, 40).Draw(t, "width")
		assert.Equal(t, w, ansi.StringWidth(u.bar(share, w)))
		assert.Equal(t, w, ansi.StringWidth(a.bar(share, w)))
		over, rest := u.track(share, w)
		assert.Equal(t, w, ansi.StringWidth(over+rest))
	})
}

func TestPlain(t *testing.T) {
	assert.Equal(t, "a?b?c", plain("a\x1bb\nc"))
	assert.Equal(t, "東京 é", plain("東京 é"))
	assert.Equal(t, "??", plain("\u009b\u0085"), "the second set of control characters too")
}

func TestWrap(t *testing.T) {
	for _, l := range wrap("nothing is written to the live site, whatever is chosen here", 20) {
		assert.LessOrEqual(t, len(l), 20)
	}
	assert.Equal(t, []string{"short"}, wrap("short", 40))
}

func TestScrollKeepsTheCursorInSight(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(0, 50).Draw(t, "rows in all")
		rows := rapid.IntRange(1, 20).Draw(t, "rows in sight")
		var s scroll
		for range rapid.IntRange(0, 12).Draw(t, "moves") {
			s.move(rapid.IntRange(-60, 60).Draw(t, "by"), n, rows)
			if n == 0 {
				assert.Zero(t, s.cursor)
				continue
			}
			assert.GreaterOrEqual(t, s.cursor, 0)
			assert.Less(t, s.cursor, n)
			assert.GreaterOrEqual(t, s.cursor, s.top)
			assert.Less(t, s.cursor, s.top+rows)
			assert.GreaterOrEqual(t, s.top, 0)
		}
	})
}

func TestStep(t *testing.T) {
	for key, want := range map[string]int{"j": 1, "down": 1, "k": -1, "up": -1, "pgdown": 10, "pgup": -10, "g": -99,
		"G": 99, "home": -99, "end": 99} {
		by, ok := step(key, 99, 10)
		assert.True(t, ok, key)
		assert.Equal(t, want, by, key)
	}
	_, ok := step("x", 99, 10)
	assert.False(t, ok)
}

func TestBadgesSayTheWord(t *testing.T) {
	th := newTheme(true, false)
	assert.Equal(t, " LIVE ", ansi.Strip(th.badge(site.Live)))
	assert.Equal(t, " copy ", ansi.Strip(th.badge(site.Copy)))
	assert.NotEqual(t, th.badge(site.Live), newTheme(false, false).badge(site.Live), "a light ground has its own")
	assert.Contains(t, th.badge(site.Live), "\x1b[1;", "and it is bold, where there are no colours")
}

func TestTurned(t *testing.T) {
	list := []int{1, 2, 3}
	assert.Equal(t, 2, turned(list, 1, 1))
	assert.Equal(t, 3, turned(list, 1, -1))
	assert.Equal(t, 1, turned(list, 3, 1))
	assert.Equal(t, 2, turned(list, 99, 1), "a value of one's own goes on from the first")
}

func TestToggled(t *testing.T) {
	all := site.QuietRules
	without := toggled(all, site.QuietTasks)
	assert.Len(t, without, len(all)-1)
	assert.NotContains(t, without, site.QuietTasks)
	assert.Equal(t, all, toggled(without, site.QuietTasks), "in their order again")
}

func TestWorst(t *testing.T) {
	assert.Equal(t, "nothing stands out", worst(nil))
	got := worst([]site.Finding{{Severity: site.Note, Text: "a"}, {Severity: site.Warn, Text: "b"},
		{Severity: site.Warn, Text: "c"}})
	assert.Equal(t, "warning: b", got)
}

func TestWindow(t *testing.T) {
	lines := strings.Split("0 1 2 3 4 5 6 7 8 9", " ")
	for at := range lines {
		w := window(lines, at, 4)
		assert.Len(t, w, 4)
		assert.Contains(t, w, lines[at])
	}
	assert.Len(t, window(lines, 3, 40), 10)
}

func TestFindingLines(t *testing.T) {
	th := newTheme(true, true)
	lines := findingLines(th, []site.Finding{{Severity: site.Block, Text: "no room", Remedy: "make some"},
		{Severity: site.Note, Text: "odd"}}, 60)
	assert.Contains(t, ansi.Strip(lines[0]), "X obstacle no room; make some")
	assert.Contains(t, ansi.Strip(lines[1]), ". note odd")
	for _, l := range lines {
		assert.Equal(t, 60, ansi.StringWidth(l))
	}
}
