package tui

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// texts that try a screen's patience
var nasty = []string{"", "a", "東京の潮汐表", "é́́ combined", "\x1b[2J\x07evil", "tab\there\r\nand there",
	strings.Repeat("word ", 200), strings.Repeat("unbroken", 60), "\u202eright to left", "\u009b31mred",
	string([]byte{0xff, 0xfe})}

// sizes of windows, from the smallest that is allowed
var sizes = [][2]int{{60, 12}, {80, 24}, {128, 40}, {220, 60}}

// everywhere shows a screen in every window, presses keys on it and looks at the
// frame after each.
func everywhere(t *testing.T, make func() screen, keys ...string) {
	t.Helper()
	w := demotest.At(t, t.TempDir())
	w.Open()
	for _, size := range sizes {
		for _, ascii := range []bool{false, true} {
			p := &person{t, newApp(context.Background(), of(w.Desk))}
			p.a.theme = newTheme(true, ascii)
			p.a.w, p.a.h = size[0], size[1]
			p.a.push(make())
			f := p.frame()
			for _, k := range keys {
				p.press(k)
				f = p.frame()
			}
			assert.NotContains(t, f, "\x1b[2J")
			assert.NotContains(t, f, "\x07")
			assert.NotContains(t, f, "\u202e")
			assert.NotContains(t, f, "\u009b")
		}
	}
}

func TestRowsWithAnyTextAreShown(t *testing.T) {
	r := desk.Rows{Table: "sk_options", More: true}
	for i := range 14 {
		r.Columns = append(r.Columns, fmt.Sprintf("column_%d_%s", i, nasty[i%len(nasty)]))
	}
	for i := range 60 {
		row := make([]desk.Cell, len(r.Columns))
		for k := range row {
			if (i+k)%5 > 0 {
				row[k] = &nasty[(i*7+k)%len(nasty)]
			}
		}
		r.Rows = append(r.Rows, row)
	}
	everywhere(t, func() screen {
		return &rowsScreen{s: site.Site{Name: "winter", Role: site.Copy}, table: "sk_options", rows: r, got: true}
	}, "down", "pgdown", "end", "right", "right", "right", "left", "up", "l", "l", "l", "l", "l", "l", "l", "l", "l",
		"l", "l", "l", "l", "?", "esc")
	everywhere(t, func() screen {
		return &rowsScreen{statement: nasty[6], rows: desk.Rows{Columns: []string{""}}, got: true}
	}, "down", "right", "n", "p", "/")
}

func TestATrialWithAnyNumberOfCellsIsShown(t *testing.T) {
	run := plan.Run{ID: "r", State: plan.Running, Began: time.Now(),
		Plan:  plan.Plan{Kind: plan.Trial, Target: site.Site{Name: "winter", Role: site.Copy}},
		Steps: []plan.Progress{{Title: "try each variant", Began: time.Now()}}}
	states := []trial.State{trial.Waiting, trial.Running, trial.Passes, trial.Fails}
	for _, n := range [][2]int{{1, 1}, {1, 9}, {30, 2}, {12, 12}} {
		m := trial.Memory{AsItIs: &trial.Cell{Core: "6.1.9", PHP: "8.2", State: trial.Passes}}
		for i := range n[0] {
			for k := range n[1] {
				m.Cells = append(m.Cells, trial.Cell{Name: fmt.Sprint("cell ", i, k), Core: fmt.Sprint("6.", i),
					PHP: fmt.Sprint("8.", k), Set: nasty[i%len(nasty)], State: states[(i+k)%4],
					Step: "asking for pages", Reason: nasty[(i+k)%len(nasty)], Warnings: k, Bytes: 1 << (i % 40),
					Took: time.Duration(i) * time.Hour})
			}
		}
		everywhere(t, func() screen { return &trialScreen{id: "r", run: run, mem: m, got: true} }, "down", "right",
			"pgdown", "end", "l", "l", "left", "up", "?", "esc")
	}
	var tries []trial.Cell
	for i, text := range nasty {
		tries = append(tries, trial.Cell{Set: text, PHP: fmt.Sprint("8.", i%2), State: states[i%4], Reason: text})
	}
	everywhere(t, func() screen {
		return &trialScreen{id: "r", run: run, got: true,
			mem: trial.Memory{AsItIs: &trial.Cell{PHP: "8.1"}, Tries: tries, Found: &trial.Found{Text: nasty[6]}}}
	}, "down", "end", "up", "pgdown")
	everywhere(t, func() screen { return &trialScreen{id: "r", run: run, got: true} }, "down", "right", "end")
	everywhere(t, func() screen { return &trialScreen{id: "r"} }, "down")
}

func TestVersionsSideBySideAreShown(t *testing.T) {
	g := desk.PinGrid{}
	for i := range 17 {
		g.Sites = append(g.Sites, site.Site{Name: nasty[i%len(nasty)] + fmt.Sprint(i), Role: site.Copy,
			Facts: &site.Facts{}})
		g.Names = append(g.Names, g.Sites[i].Name)
	}
	for i := range 40 {
		row := desk.PinRow{Kind: []string{"core", "php", "plugin", "theme"}[min(3, i/2)], Slug: nasty[i%len(nasty)]}
		for k := range g.Sites {
			c := desk.PinCell{Version: site.Either(k%3 == 0, "", fmt.Sprint("2.", k)),
				State: site.Either(k%2 == 0, "active", "off")}
			for n, mark := range desk.PinMarks {
				if (i+k)%(n+2) == 0 {
					c.Marks, c.Why = append(c.Marks, mark[0]), append(c.Why, nasty[(i+k)%len(nasty)])
				}
			}
			row.Cells = append(row.Cells, c)
		}
		g.Rows = append(g.Rows, row)
	}
	everywhere(t, func() screen { return &pinsScreen{grid: g, got: true} }, "down", "right", "pgdown", "end", "l", "l",
		"l", "l", "d", "left", "up", "?", "esc")
	everywhere(t, func() screen { return &pinsScreen{got: true} }, "down", "right", "d", "enter")
}

func TestAnyTextOfAFileIsShown(t *testing.T) {
	lines := append([]string{"--- the origin's", "+++ the copy's", "@@ -1,2 +1,2 @@"}, nasty...)
	for i, l := range nasty {
		lines = append(lines, site.Either(i%2 == 0, "+", "-")+l)
	}
	for _, diff := range []bool{false, true} {
		everywhere(t, func() screen { return &textScreen{head: nasty[7], lines: lines, diff: diff} }, "down", "pgdown",
			"end", "up")
	}
	everywhere(t, func() screen { return &textScreen{lines: []string{""}} }, "down", "end")
}
