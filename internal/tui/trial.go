package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"alibi/internal/desk"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
	"alibi/internal/site"
)

type style = lipgloss.Style

// trialScreen is the grid of a trial, with verdicts as they come and the reason
// of the one under the cursor.
type trialScreen struct {
	row, col int
	top      int
	id       string
	run      plan.Run
	mem      trial.Memory
	got      bool
}

type trialMsg struct {
	of  *trialScreen
	run plan.Run
	mem trial.Memory
	err error
}

func (x *trialScreen) load(a *app) tea.Cmd {
	return func() tea.Msg {
		r, m, err := a.desk.Components.Trial(a.ctx, x.id)
		return trialMsg{x, r, m, err}
	}
}

func (x *trialScreen) title(*app) string { return "trial" }

func (x *trialScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		if !x.got || !x.run.State.Over() {
			return x.load(a), true
		}
		return nil, true
	case trialMsg:
		if msg.of != x {
			return nil, true
		}
		if msg.err != nil {
			a.say(msg.err.Error(), true)
		} else {
			x.run, x.mem = msg.run, msg.mem
		}
		x.got = true
		return nil, true
	case tea.KeyPressMsg:
		return x.key(a, msg.String())
	}
	return nil, false
}

// layout gives the names of rows and columns and the cells between them.
func (x *trialScreen) layout() (rows, cols []string, cells map[[2]string]trial.Cell) {
	cells = map[[2]string]trial.Cell{}
	for _, c := range x.mem.Cells {
		row, col := "core "+c.Core+site.Either(c.Set != "", "  "+c.Set, ""), "PHP "+c.PHP
		if !slices.Contains(rows, row) {
			rows = append(rows, row)
		}
		if !slices.Contains(cols, col) {
			cols = append(cols, col)
		}
		cells[[2]string{row, col}] = c
	}
	return rows, cols, cells
}

func (x *trialScreen) key(a *app, key string) (tea.Cmd, bool) {
	rows, cols, _ := x.layout()
	n := len(rows)
	if x.run.Plan.Kind != "" && len(x.mem.Cells) == 0 {
		n = len(x.mem.Tries)
	}
	switch key {
	case "left", "h":
		x.col = max(0, x.col-1)
		return nil, true
	case "right", "l":
		x.col = max(0, min(len(cols)-1, x.col+1))
		return nil, true
	case "u":
		s := newRun(x.id)
		a.push(s)
		return s.load(a), true
	case "x":
		if !x.run.State.Over() {
			return a.do(func() (string, error) {
				return "the trial is being cancelled; all of it is removed", a.desk.Runs.Cancel(a.ctx, x.id)
			}), true
		}
	case "T":
		if s, ok := a.find(x.run.Plan.Target.ID); ok {
			a.pop()
			return openTrialPlan(a, s), true
		}
	}
	if by, ok := step(key, n, 10); ok {
		x.row = max(0, min(n-1, x.row+by))
		return nil, true
	}
	return nil, false
}

func (x *trialScreen) keys(*app) []hint {
	out := []hint{{"←→↑↓", "move"}, {"u", "its steps"}}
	if !x.run.State.Over() {
		return append(out, hint{"x", "cancel"}, hint{"Esc", "back, it goes on"})
	}
	return append(out, hint{"T", "another trial"}, hint{"Esc", "back"})
}

func (x *trialScreen) words() []hint {
	return []hint{{"passes", "its pages of every kind answer, no error ended a request, and what was asked for holds"},
		{"fails", "one of these does not; the reason stands below"},
		{"as it is", "the copy itself, tried first: what does not answer there is no variant's fault"},
		{"own bytes", "what the variant took besides the files that all share"},
		{"warning", "a line in the error log that ended no request"}}
}

func (x *trialScreen) view(a *app, w, h int) []string {
	t := a.theme
	if !x.got {
		return []string{"", t.soft.Render("   reading the trial ...")}
	}
	s := x.run.Plan.Target
	state := t.soft.Render(string(x.run.State))
	switch {
	case x.run.Error != "":
		state = t.wrong.Render(plain(x.run.Error))
	case x.run.State == plan.Done:
		state = t.ink.Render(plain(site.Either(x.mem.Found != nil, "the cause was found", x.run.Result)))
	case x.run.State == plan.Running:
		state = t.key.Render(t.glyph("▶ ", "> ")) + t.ink.Render(currentStep(x.run)) +
			t.soft.Render("   "+site.Seconds(x.run.Took(a.desk.Now())))
	}
	out := []string{" " + t.badge(s.Role) + " " + t.mark(s.Mark()) + " " + t.ink.Bold(true).Render(plain(s.Name)) +
		"   " + t.fit(state, w-16-len(s.Name)), ""}
	if as := x.mem.AsItIs; as != nil {
		out = append(out, t.fit("   "+t.soft.Render("as it is   ")+cellVerdict(t, *as)+
			t.soft.Render(fmt.Sprintf("   core %s   PHP %s   %d pages asked for   a whole copy takes %s", as.Core,
				as.PHP, as.Pages, site.Size(x.mem.Full))), w), "")
	}
	if len(x.mem.Cells) > 0 {
		return append(out, x.grid(t, w, h-len(out))...)
	}
	return append(out, x.tries(t, w, h-len(out))...)
}

func currentStep(r plan.Run) string {
	for _, p := range r.Steps {
		if !p.Began.IsZero() && p.Ended.IsZero() {
			return p.Title
		}
	}
	return "waiting"
}

// cellVerdict is a cell in a word, with its glyph.
func cellVerdict(t *theme, c trial.Cell) string {
	switch c.State {
	case trial.Passes:
		return t.good.Render(t.glyph("✓ passes", "v passes"))
	case trial.Fails:
		return t.wrong.Render(t.glyph("✗ fails", "x fails"))
	case trial.Running:
		return t.key.Render(t.glyph("▶ ", "> ") + c.Step)
	case trial.Silent:
		return t.soft.Render("? says nothing")
	}
	return t.soft.Render(t.glyph("· waiting", ". waiting"))
}

func (x *trialScreen) grid(t *theme, w, h int) []string {
	rows, cols, cells := x.layout()
	x.row, x.col = max(0, min(x.row, len(rows)-1)), max(0, min(x.col, len(cols)-1))
	cw := max(12, min(31, (w-34)/max(1, len(cols))))
	head := t.fit("", 34)
	for i, c := range cols {
		head += site.Either(i == x.col, t.key, t.head).Render(t.fit(" "+c, cw))
	}
	out := []string{head}
	n := max(1, (h-7)/2)
	x.top = max(min(x.top, x.row), x.row-n+1)
	for i := x.top; i < min(len(rows), x.top+n); i++ {
		first, second := site.Either(i == x.row, t.key, t.ink).Render(t.fit("   "+plain(rows[i]), 34)), t.fit("", 34)
		for k, col := range cols {
			c := cells[[2]string{rows[i], col}]
			here := i == x.row && k == x.col
			first += t.fit(site.Either(here, t.key.Render(t.glyph("▐", "[")), " ")+cellVerdict(t, c), cw)
			figures := ""
			if c.State.Over() {
				figures = "  " + site.Seconds(c.Took) + ", " + site.Size(c.Bytes) +
					site.Either(c.Warnings > 0, ", "+site.Plural(c.Warnings, "warning", "warnings"), "")
			}
			second += t.fit(site.Either(here, t.key.Render(t.glyph("▐", "[")), " ")+t.soft.Render(figures), cw)
		}
		out = append(out, first, second)
	}
	for len(out) < h-5 {
		out = append(out, "")
	}
	c := cells[[2]string{rows[x.row], cols[x.col]}]
	return append(out, x.reason(t, c, w)...)
}

// reason is the verdict under the cursor in full.
func (x *trialScreen) reason(t *theme, c trial.Cell, w int) []string {
	out := []string{t.line(w), "   " + t.ink.Bold(true).Render(plain(c.Name)) + "   " + cellVerdict(t, c)}
	text := c.Reason
	if text == "" && c.State == trial.Passes {
		text = fmt.Sprintf("%d pages were asked for and answer, and no error ended a request", c.Pages)
		if len(c.Said) > 0 {
			text = site.Plural(c.Warnings, "warning", "warnings") + ": " + strings.Join(c.Said, "; ")
		}
	}
	for i, l := range wrap(plain(text), w-6) {
		if i < 3 {
			out = append(out, "   "+site.Either(c.State == trial.Fails, t.ink, t.soft).Render(l))
		}
	}
	return out
}

// tries are the steps of a search for a cause, and what was found.
func (x *trialScreen) tries(t *theme, w, h int) []string {
	var out []string
	if f := x.mem.Found; f != nil {
		for _, l := range wrap(plain(f.Text), w-8) {
			out = append(out, "   "+t.wrong.Render(l))
		}
		out = append(out, "")
	}
	out = append(out, t.head.Render("   "+t.fit("TRIED", w-40)+t.fit("VERDICT", 26)+t.right("TOOK", 8)))
	list := x.mem.Tries
	x.row = max(0, min(x.row, len(list)-1))
	n := max(1, h-len(out)-5)
	x.top = max(min(x.top, x.row), x.row-n+1)
	for i := x.top; i < min(len(list), x.top+n); i++ {
		c := list[i]
		out = append(out, site.Either(i == x.row, t.key.Render(t.glyph("▶", ">")), " ")+"  "+
			t.ink.Render(t.fit(plain(c.Set+site.Either(c.PHP != x.mem.AsItIs.PHP, ", on PHP "+c.PHP, "")), w-40))+
			t.fit(cellVerdict(t, c), 26)+t.soft.Render(t.right(site.Either(c.Took > 0, site.Seconds(c.Took), ""), 8)))
	}
	if len(list) == 0 {
		return append(out, t.soft.Render("   the copy is being laid out ..."))
	}
	for len(out) < h-5 {
		out = append(out, "")
	}
	return append(out, x.reason(t, list[x.row], w)...)
}

// openTrial shows the last trial of a copy, or the plan of its first.
func openTrial(a *app, s site.Site) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		list, err := a.desk.Components.Trials(a.ctx, s.ID)
		if err != nil {
			return "", nil, err
		}
		return "", func(a *app) tea.Cmd {
			if len(list) == 0 {
				return openTrialPlan(a, s)
			}
			x := &trialScreen{id: list[0].ID}
			a.push(x)
			return x.load(a)
		}, nil
	})
}

// openTrialPlan opens the plan of a trial.
func openTrialPlan(a *app, s site.Site) tea.Cmd {
	kinds := []string{"a grid of versions", "the cause of a failure"}
	cores := []string{"its own", "its own and the newest", "the newest"}
	phps := []string{"every one here", "its own"}
	measures := []string{"a page of every kind", "only what is named here"}
	kind, core, php, measure, set, pages, text, without, command := kinds[0], cores[0], phps[0], measures[0], "", "",
		"", "", ""
	x := &stateScreen{name: "try " + s.Name, site: s}
	x.make = func() (plan.Plan, error) {
		w := desk.TrialWish{Cause: kind == kinds[1], Check: trial.Check{
			Pages: strings.Fields(pages), Command: strings.TrimSpace(command), Only: measure == measures[1],
		}}
		if text != "" {
			w.Check.Texts = []string{text}
		}
		if without != "" {
			w.Check.Without = []string{without}
		}
		if w.Cause {
			return a.desk.Components.PlanTrial(a.ctx, s.ID, w)
		}
		w.Cores = map[string][]string{cores[0]: {"own"}, cores[1]: {"own", "newest"}, cores[2]: {"newest"}}[core]
		if php == phps[0] {
			w.Runtimes = []string{"all"}
		}
		if list := strings.Fields(set); len(list) > 0 {
			w.Sets = append(w.Sets, desk.SetWish{Name: "as it is"})
			for _, n := range list {
				src, err := site.ParseSource("", n)
				if err != nil {
					return plan.Plan{}, err
				}
				if src.Kind == "" && src.From == "" {
					src.Kind = site.Plugin
				}
				w.Sets = append(w.Sets, desk.SetWish{Name: "with " + n, Put: []site.Source{src}})
			}
		}
		return a.desk.Components.PlanTrial(a.ctx, s.ID, w)
	}
	x.choices = []stateChoice{
		{
			label: "search for", help: "A grid tries every core under every PHP with each component. For the cause " +
				"of a failure halves of the plugins are tried until one, or a pair, is left.",
			text: func() string { return kind }, turn: func(by int) { kind = turned(kinds, kind, by) },
		},
		{label: "core", help: "Versions of the CMS.", text: func() string { return core },
			turn: func(by int) { core = turned(cores, core, by) }},
		{label: "PHP", help: "Series of PHP that this machine has.", text: func() string { return php },
			turn: func(by int) { php = turned(phps, php, by) }},
		{
			label: "components", help: "Besides the copy as it is, a row with each of these: names of the catalogue, " +
				"with blanks between (tide-table@3.0.0 quay-forms).", text: func() string { return set },
			typed: func(v string) { set = v },
		},
		{
			label: "measured by", help: "A page of every kind that the copy has answers without an error; or only " +
				"the pages, texts and command below.", text: func() string { return measure },
			turn: func(by int) { measure = turned(measures, measure, by) },
		},
		{
			label: "pages", help: "Addresses below the copy's own that have to answer, with blanks between " +
				"(timetable/ tides/today/).", text: func() string { return pages }, typed: func(v string) { pages = v },
		},
		{label: "text", help: "A text that has to stand on one of the pages.", text: func() string { return text },
			typed: func(v string) { text = v }},
		{label: "without", help: "A text that must not stand on any of the pages.",
			text: func() string { return without }, typed: func(v string) { without = v }},
		{label: "command", help: "A shell command that has to end with 0. ALIBI_URL says where the variant answers.",
			text: func() string { return command }, typed: func(v string) { command = v }},
	}
	x.started = func(a *app, r plan.Run) tea.Cmd {
		y := &trialScreen{id: r.ID}
		a.push(y)
		return y.load(a)
	}
	a.push(x)
	return x.ask()
}
