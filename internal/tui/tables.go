package tui

import (
	"fmt"
	"os"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/ballast"
	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// tablesPane lists a site's tables.
type tablesPane struct {
	scroll
	fetched[[]desk.TableRow]
	s *site.Site
}

func (p *tablesPane) name() string { return "tables" }

func (p *tablesPane) load(a *app) tea.Cmd {
	if p.got {
		return nil // counting rows is no small thing: i reads anew
	}
	if time.Since(p.last) < again {
		return nil
	}
	p.last = time.Now()
	return reads(p, func() (any, error) { return a.desk.Hands.Tables(a.ctx, p.s.ID) })
}

func (p *tablesPane) take(_ *app, msg tea.Msg) bool { return p.took(p, msg) }

func (p *tablesPane) key(a *app, key string) (tea.Cmd, bool) {
	if by, ok := step(key, len(p.list), a.h-10); ok {
		p.move(by, len(p.list), max(1, a.h-10))
		return nil, true
	}
	switch key {
	case "i":
		p.got, p.last = false, time.Time{}
		return p.load(a), true
	case "s":
		return askStatement(a, *p.s), true
	case "b":
		return openBallast(a, *p.s), true
	case "enter", "right", "l":
		if len(p.list) > 0 {
			x := &rowsScreen{s: *p.s, table: p.list[max(0, min(p.cursor, len(p.list)-1))].Name}
			a.push(x)
			return x.load(a), true
		}
		return nil, true
	}
	return nil, false
}

func (p *tablesPane) hints(*app) []hint {
	out := []hint{{"Enter", "rows"}, {"s", "run a statement"}, {"i", "read anew"}}
	if p.s.Role == site.Copy {
		out = append(out, hint{"b", "ballast"})
	}
	return out
}

func (p *tablesPane) words() []hint {
	return []hint{{"rows", "counted a moment ago"},
		{"origin's", "rows that the origin's table had when it was inspected last"},
		{"key", "what a row is known by; without one, equal rows may repeat"},
		{"statement", "in the database's own language; only reading is allowed, unless it is unlocked on a copy"},
		{"ballast", "made-up content for tests, which can be taken out in one go"}}
}

func (p *tablesPane) view(a *app, w, h int) []string {
	t := a.theme
	nw := max(24, w-84)
	out := []string{
		t.head.Render("   " + t.fit("TABLE", nw) + t.right("ROWS", 12) + t.right("ORIGIN'S", 12) + t.right("SIZE", 11) +
			"  " + t.fit("", 20) + "  KEY"),
	}
	switch {
	case p.err != nil:
		return append(out, t.wrong.Render("   "+plain(p.err.Error())))
	case !p.got:
		return append(out, t.soft.Render("   counting rows ..."))
	case len(p.list) == 0:
		return append(out, t.soft.Render("   the site has no tables"))
	}
	most := int64(1)
	for _, x := range p.list {
		most = max(most, x.Bytes)
	}
	p.see(len(p.list), h-len(out))
	for i := p.top; i < min(len(p.list), p.top+h-2); i++ {
		x := p.list[i]
		was, look := "", t.soft
		if p.s.Role == site.Copy {
			was = site.Either(x.Origin < 0, "none", site.Number(int(x.Origin)))
			if x.Origin != x.Rows {
				look = t.soon
			}
		}
		out = append(out, t.pointer(i == p.cursor)+
			t.ink.Render(t.fit(plain(x.Name), nw)+t.right(site.Number(int(x.Rows)), 12))+look.Render(t.right(was, 12))+
			t.ink.Render(t.right(site.Size(x.Bytes), 11))+"  "+
			t.rule.Render(t.fit(t.bar(float64(x.Bytes)/float64(most), 20), 20))+"  "+
			t.soft.Render(site.Either(len(x.Key) == 0, "none", plain(strings.Join(x.Key, ", ")))))
	}
	return out
}

// rowsScreen browses rows: those of a table, or what a statement gave.
type rowsScreen struct {
	scroll
	s         site.Site
	table     string
	statement string
	where     desk.Where
	skip      int
	col       int // the first column that is shown
	rows      desk.Rows
	got       bool
	err       error
}

// page is how many rows are read at once.
const page = 200

func (x *rowsScreen) load(a *app) tea.Cmd {
	s, table, w, skip, statement := x.s, x.table, x.where, x.skip, x.statement
	x.got = false
	return func() tea.Msg {
		if statement != "" {
			r, err := a.desk.Hands.Query(a.ctx, s.ID, statement, false, page)
			return rowsMsg{x, r, err}
		}
		r, err := a.desk.Hands.TableRows(a.ctx, s.ID, table, w, skip, page)
		return rowsMsg{x, r, err}
	}
}

type rowsMsg struct {
	of   *rowsScreen
	rows desk.Rows
	err  error
}

func (x *rowsScreen) title(*app) string {
	return site.Either(x.table == "", "statement", x.table) + " of " + x.s.Name
}

func (x *rowsScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case rowsMsg:
		if msg.of == x {
			x.rows, x.err, x.got = msg.rows, msg.err, true
			x.scroll = scroll{}
		}
		return nil, true
	case tea.KeyPressMsg:
		return x.key(a, msg.String())
	}
	return nil, false
}

func (x *rowsScreen) key(a *app, key string) (tea.Cmd, bool) {
	if by, ok := step(key, len(x.rows.Rows), 20); ok {
		x.move(by, len(x.rows.Rows), max(1, (a.h-8)/2))
		return nil, true
	}
	switch key {
	case "right", "l":
		x.col = min(max(0, len(x.rows.Columns)-1), x.col+1)
	case "left", "h":
		x.col = max(0, x.col-1)
	case "n":
		if x.rows.More && x.statement == "" {
			x.skip += page
			return x.load(a), true
		}
	case "p":
		if x.skip > 0 {
			x.skip = max(0, x.skip-page)
			return x.load(a), true
		}
	case "/":
		if x.statement != "" {
			return nil, true
		}
		a.asking = &question{title: "Which rows of " + x.table + "?",
			lines: []string{"A text that stands in one of the columns, or COLUMN=TEXT for a column that is just that.",
				"Empty: all rows."}, input: true, text: x.where.Text,
			typed: func(a *app, text string) (tea.Cmd, error) {
				x.where, x.skip = desk.Where{Text: text}, 0
				if c, v, ok := strings.Cut(text, "="); ok && !strings.ContainsAny(c, " '\"") {
					x.where = desk.Where{Column: c, Text: v, Exact: true}
				}
				return x.load(a), nil
			}}
	case "x":
		return x.askCSV(a), true
	default:
		return nil, false
	}
	return nil, true
}

// askCSV asks where the rows are to be written.
func (x *rowsScreen) askCSV(a *app) tea.Cmd {
	rows := x.rows
	a.asking = &question{title: "Where are these rows to be written?",
		lines: []string{fmt.Sprintf("The %s that are shown, as comma-separated values. Nothing is written over.",
			site.Plural(len(rows.Rows), "row", "rows"))}, input: true,
		text: "./" + site.Either(x.table == "", "rows", x.table) + ".csv",
		typed: func(a *app, text string) (tea.Cmd, error) {
			return a.do(func() (string, error) {
				f, err := os.OpenFile(strings.TrimSpace(text), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
				if err != nil {
					return "", err
				}
				if err := rows.CSV(f); err != nil {
					f.Close()
					return "", err
				}
				return site.Plural(len(rows.Rows), "row", "rows") + " written to " + f.Name(), f.Close()
			}), nil
		}}
	return nil
}

func (x *rowsScreen) keys(*app) []hint {
	out := []hint{{"←→", "columns"}}
	if x.statement == "" {
		out = append(out, hint{"/", "filter"})
	}
	if x.rows.More && x.statement == "" {
		out = append(out, hint{"n", "further rows"})
	}
	if x.skip > 0 {
		out = append(out, hint{"p", "rows before"})
	}
	return append(out, hint{"x", "write as CSV"}, hint{"Esc", "back"})
}

func (x *rowsScreen) words() []hint {
	return []hint{{"NULL", "the value is none, which is not the same as an empty text"},
		{"0x...", "bytes that are no text"}, {"the row", "the one under the cursor stands below in full"}}
}

func (x *rowsScreen) view(a *app, w, h int) []string {
	t := a.theme
	of := site.Either(x.statement == "", "rows in the order of the key", plain(x.statement))
	if x.where.Text != "" || x.where.Exact {
		of = "rows with " + site.Either(x.where.Column == "", "", x.where.Column+" = ") + plain(x.where.Text)
	}
	out := []string{" " + t.badge(x.s.Role) + " " + t.mark(x.s.Mark()) + " " + t.soft.Render(t.fit(of, w-12)), ""}
	switch {
	case x.err != nil:
		for _, l := range wrap(plain(x.err.Error()), w-6) {
			out = append(out, t.wrong.Render("   "+l))
		}
		return out
	case !x.got:
		return append(out, t.soft.Render("   reading ..."))
	case len(x.rows.Rows) == 0:
		return append(out, t.soft.Render("   no row"))
	}
	x.col = max(0, min(x.col, len(x.rows.Columns)-1))
	widths := x.widths(w - 3)
	line := ""
	for i, cw := range widths {
		line += t.fit(plain(x.rows.Columns[x.col+i]), cw-2) + "  "
	}
	out = append(out, t.head.Render("   "+line))
	n := max(3, h*6/10-len(out))
	x.see(len(x.rows.Rows), n)
	for i := x.top; i < min(len(x.rows.Rows), x.top+n); i++ {
		line := ""
		for k, cw := range widths {
			line += t.fit(desk.Short(x.rows.Rows[i][x.col+k], cw), cw-2) + "  "
		}
		look := site.Either(i == x.cursor, t.ink.Bold(true), t.soft)
		out = append(out, t.pointer(i == x.cursor)+look.Render(line))
	}
	out = append(out, t.soft.Render(fmt.Sprintf("   row %s of %s%s", site.Number(x.skip+x.cursor+1),
		site.Number(x.skip+len(x.rows.Rows)), site.Either(x.rows.More, " and more", ""))), t.line(w))
	return append(out, x.whole(t, w, h-len(out))...)
}

// widths says how many columns fit, and how wide each is.
func (x *rowsScreen) widths(w int) (out []int) {
	for k := x.col; k < len(x.rows.Columns); k++ {
		cw := len(x.rows.Columns[k])
		for _, r := range x.rows.Rows {
			cw = max(cw, len([]rune(desk.Short(r[k], 36))))
		}
		if cw += 2; cw > w {
			if len(out) == 0 {
				out = append(out, w)
			}
			return out
		}
		w -= cw
		out = append(out, cw)
	}
	return out
}

// whole is the row under the cursor, a column a line.
func (x *rowsScreen) whole(t *theme, w, h int) (out []string) {
	row := x.rows.Rows[max(0, min(x.cursor, len(x.rows.Rows)-1))]
	for k := x.col; k < len(row); k++ {
		name := t.fit(plain(x.rows.Columns[k]), 24)
		for i, l := range wrap(desk.Short(row[k], 4*(w-30)), w-30) {
			if i > 0 {
				name = t.fit("", 24)
			}
			out = append(out, "   "+t.soft.Render(name)+" "+t.ink.Render(l))
		}
	}
	return out[:max(0, min(len(out), h))]
}

// askStatement asks for a statement, and shows what it gives.
func askStatement(a *app, s site.Site) tea.Cmd {
	a.asking = &question{title: "Which statement is to be run in the database of " + s.Name + "?",
		lines: []string{
			"In the database's own language. Only reading is allowed here; alibi query --write unlocks a copy.",
		}, input: true, text: "SELECT ", typed: func(a *app, text string) (tea.Cmd, error) {
			x := &rowsScreen{s: s, statement: strings.TrimSpace(text)}
			a.push(x)
			return x.load(a), nil
		}}
	return nil
}

// openBallast opens the plan of making content up.
func openBallast(a *app, s site.Site) tea.Cmd {
	if s.Role != site.Copy {
		a.say("content is made up on copies only; c makes one", true)
		return nil
	}
	l := ballast.Load{Seed: 1, Counts: map[string]int{"posts": 10, "terms": 3, "comments": 10}}
	steps := []int{0, 1, 3, 5, 10, 20, 50, 100, 500, 1000}
	x := &stateScreen{name: "ballast on " + s.Name, site: s}
	x.make = func() (plan.Plan, error) { return a.desk.Hands.PlanBallast(a.ctx, s.ID, l) }
	for _, k := range ballast.Kinds {
		if k == "products" && s.Facts != nil && s.Facts.Has(site.Products) == 0 {
			continue
		}
		x.choices = append(x.choices, stateChoice{label: k,
			help: "How many are made up. The same seed makes the same up; all of it goes in one go.",
			text: func() string { return site.Number(l.Counts[k]) },
			turn: func(by int) { l.Counts[k] = turned(steps, l.Counts[k], by) }})
	}
	x.choices = append(x.choices,
		stateChoice{label: "seed", help: "Another seed makes other content up.",
			text: func() string { return fmt.Sprint(l.Seed) },
			turn: func(by int) { l.Seed = uint64(max(1, int(l.Seed)+by)) }},
		stateChoice{label: "or", help: "All that was ever made up goes, of whatever seed.",
			text: func() string { return site.Either(l.Remove, "take all ballast out", "put this in") },
			turn: func(int) { l.Remove = !l.Remove }})
	a.push(x)
	return x.ask()
}
