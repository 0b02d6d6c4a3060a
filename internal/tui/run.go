package tui

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/plan"
	"alibi/internal/site"
)

// runScreen shows the steps of one run as they happen.
type runScreen struct {
	id  string
	run plan.Run
	got bool
}

type runMsg struct {
	run plan.Run
	err error
}

func newRun(id string) *runScreen { return &runScreen{id: id} }

func (r *runScreen) load(a *app) tea.Cmd {
	return func() tea.Msg {
		run, err := a.desk.Runs.Run(a.ctx, r.id)
		return runMsg{run, err}
	}
}

func (r *runScreen) title(*app) string {
	if !r.got {
		return "run"
	}
	name := r.run.Plan.Target.Name
	if r.run.Plan.Kind == plan.Rehearse {
		name = r.run.Plan.Origin.Name // the copy is gone when it ends
	}
	return fmt.Sprintf("run: %s of %s", r.run.Plan.Kind.Title(), name)
}

func (r *runScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		if !r.got || !r.run.State.Over() {
			return r.load(a), true
		}
	case runMsg:
		if msg.err != nil {
			a.say(msg.err.Error(), true)
		} else if msg.run.ID == r.id || !r.got {
			r.run, r.got = msg.run, true
		}
		return nil, true
	case tea.KeyPressMsg:
		return r.key(a, msg.String())
	}
	return nil, false
}

func (r *runScreen) key(a *app, key string) (tea.Cmd, bool) {
	if !r.got {
		return nil, false
	}
	state := r.run.State
	switch key {
	case "x":
		if state == plan.Done || state == plan.Cancelled {
			return nil, true
		}
		a.asking = &question{title: "Stop this run and take back what it did?",
			lines: []string{
				"The state before it is brought back: " +
					site.Either(r.run.Plan.Kind == plan.Refresh, "the copy as it was.",
						site.Either(r.site(a).Unproven(), "nothing is left behind, nor what was done on the copy since it answers.",
							"nothing is left behind.")),
			},
			yes: func(a *app) tea.Cmd {
				return a.do(func() (string, error) { return "stopping", a.desk.Runs.Cancel(a.ctx, r.id) })
			}}
		return nil, true
	case "A":
		if !r.run.Acceptable {
			return nil, false
		}
		a.asking = &question{title: "Let " + r.run.Plan.Target.Name + " stand as it is?",
			lines: []string{"Its evidence does not hold, and goes on saying so: " + plain(r.run.Error),
				"It can be worked on then. What was there before is gone."},
			yes: func(a *app) tea.Cmd { return r.takeUp(a, a.desk.Runs.Accept) }}
		return nil, true
	case "R":
		return r.takeUp(a, a.desk.Runs.Resume), true
	}
	s := r.site(a)
	early := s.Unproven() && key == "o"
	if !early && (!state.Over() || !r.run.Plan.Kind.Brings() || key == "c") {
		return nil, false
	}
	if key == "enter" {
		a.pop()
		a.push(newSite(s.ID))
		return nil, true
	}
	return siteKey(a, s, key)
}

// takeUp goes on with the run.
func (r *runScreen) takeUp(a *app, take func(context.Context, string) (plan.Run, error)) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		run, err := take(a.ctx, r.id)
		return "taken up again", func(*app) tea.Cmd { r.run = run; return nil }, err
	})
}

// site is the run's copy as the board has it, or as it was planned.
func (r *runScreen) site(a *app) site.Site {
	if s, ok := a.find(r.run.Plan.Target.ID); ok {
		return s
	}
	return r.run.Plan.Target
}

func (r *runScreen) keys(a *app) []hint {
	switch {
	case !r.got:
		return []hint{{"Esc", "back"}}
	case r.run.State == plan.Stopped && r.run.Acceptable:
		return []hint{{"R", "resume"}, {"A", "let it stand"}, {"x", "cancel, take it back"}, {"Esc", "back"}}
	case r.run.State == plan.Stopped:
		return []hint{{"R", "resume"}, {"x", "cancel, take it back"}, {"Esc", "back"}}
	case r.run.State == plan.Paused:
		return []hint{{"R", "go on"}, {"x", "cancel, take it back"}, {"Esc", "back"}}
	case !r.run.State.Over() && r.site(a).Unproven():
		return []hint{{"o", "address"}, {"x", "cancel"}, {"Esc", "back, it goes on"}}
	case !r.run.State.Over():
		return []hint{{"x", "cancel"}, {"Esc", "back, it goes on"}}
	case r.run.State == plan.Done && r.run.Plan.Kind.Brings():
		return []hint{{"Enter", "the site"}, {"o", "address"}, {"v", "evidence"}, {"h", "hold"}, {"t", "time"},
			{"Esc", "back"}}
	}
	return []hint{{"Esc", "back"}}
}

func (r *runScreen) words() []hint {
	return []hint{{"waiting", "it begins as soon as the keeper has a hand free"},
		{"paused", "it waits for a person to say that it may go on, or for a time"},
		{"rate", "measured since the step began"}, {"left", "from the plan at first, then from how the run goes"},
		{"resume", "goes on from the last recorded point"},
		{"cancel", "stops within a second and brings back the state before"}}
}

func (r *runScreen) view(a *app, w, h int) []string {
	t := a.theme
	if !r.got {
		return []string{"", t.soft.Render("   reading the run ...")}
	}
	run := r.run
	now := a.desk.Now()
	out := []string{t.soft.Render(" ") + t.badge(run.Plan.Origin.Role) + " " + t.mark(run.Plan.Origin.Mark()) +
		t.ink.Render(" "+plain(run.Plan.Origin.Name)) + r.leads(t), ""}
	bw := max(8, min(40, w-98))
	until := now
	if run.State.Over() {
		until = run.Ended // a step that was broken off does not go on counting
	}
	for _, p := range run.Steps {
		out = append(out, stepRow(t, p, bw, until))
	}
	out = append(out, "")
	out = append(out, r.summary(a, now, w)...)
	if run.State == plan.Done && run.Plan.Kind.Brings() {
		out = append(out, r.card(a)...)
	}
	return out
}

// leads is what the run makes of its origin.
func (r *runScreen) leads(t *theme) string {
	p := r.run.Plan
	to := t.badge(p.Target.Role) + " " + t.mark(p.Target.Mark()) + t.ink.Bold(true).Render(" "+plain(p.Target.Name))
	switch p.Kind {
	case plan.Keep, plan.Import:
		to = t.ink.Bold(true).Render("the depot")
	case plan.Restore, plan.Reset, plan.Archive, plan.Change, plan.Trial, plan.Blank, plan.Pass, plan.Compare,
		plan.Switch, plan.Clear, plan.Certify:
		to = t.ink.Bold(true).Render(plain(p.Words))
	}
	return t.ink.Render(t.glyph("  →  ", "  ->  ")) + to
}

// stepRow is one step: its state, progress, rate and what came of it.
func stepRow(t *theme, p plan.Progress, bw int, now time.Time) string {
	mark, style := t.soft.Render(t.glyph(" · ", " . ")), t.soft
	share := 0.0
	switch {
	case !p.Ended.IsZero():
		mark, style, share = t.good.Render(t.glyph(" ✓ ", " v ")), t.ink, 1
	case !p.Began.IsZero():
		mark, style = t.key.Render(t.glyph(" ▶ ", " > ")), t.ink.Bold(true)
		if p.Work > 0 {
			share = float64(p.Done) / float64(p.Work)
		}
	}
	amount, rate := "", ""
	if p.Unit != "" && !p.Began.IsZero() {
		amount = units(p.Done, p.Unit)
		if v := p.Rate(now); v >= 1 {
			rate = units(int64(v), p.Unit) + "/s"
		}
	}
	took := ""
	if !p.Began.IsZero() {
		took = site.Seconds(p.Took(now))
	}
	over, rest := t.track(share, bw)
	barStyle := t.copy
	if share == 1 {
		barStyle = t.good
	}
	return mark + style.Render(t.fit(p.Title, 23)) + barStyle.Render(over) + t.rule.Render(rest) +
		t.ink.Render(t.right(took, 8)) + t.ink.Render(t.right(amount, 13)) + "  " +
		t.soft.Render(plain(site.Either(p.Note != "", p.Note, rate)))
}

func units(n int64, u plan.Unit) string {
	if u == plan.Bytes {
		return site.Size(n)
	}
	return site.Number(n) + " " + string(u)
}

func (r *runScreen) summary(a *app, now time.Time, w int) []string {
	t := a.theme
	run := r.run
	text := ""
	switch run.State {
	case plan.Waiting:
		return []string{t.soft.Render("   waiting for its turn")}
	case plan.Paused:
		return []string{"   " + t.soon.Render("paused: "+plain(run.Gate.String()))}
	case plan.Running:
		text = "running for " + site.Seconds(run.Took(now))
		if left, ok := remaining(run, now); ok {
			text += ", about " + site.Seconds(left) + " left"
		}
		if overtaken(run, now) {
			text += fmt.Sprintf("; longer than was planned (%s to %s), worked out anew",
				site.Seconds(run.Plan.Estimate.Low), site.Seconds(run.Plan.Estimate.High))
		}
		if run.Tries > 1 {
			text += fmt.Sprintf(", taken up %d times", run.Tries)
		}
		lines := []string{"   " + t.ink.Render(text)}
		if s := r.site(a); s.Unproven() {
			for _, l := range wrap("answers at "+s.Address().String()+
				", "+s.Yet()+": what is done on it from now on is told apart from damage", w-8) {
				lines = append(lines, "   "+t.soon.Render(l))
			}
		}
		return lines
	case plan.Done:
		text = "done in " + site.Seconds(run.Took(now))
		if e := run.Plan.Estimate; e.High > 0 {
			text += fmt.Sprintf(" (planned %s to %s)", site.Seconds(e.Low), site.Seconds(e.High))
		}
		lines := wrap(plain(text+": "+run.Result), w-8)
		out := []string{"   " + t.good.Render(t.glyph("✓ ", "* ")) + t.ink.Bold(true).Render(lines[0])}
		for _, l := range lines[1:] {
			out = append(out, "     "+t.ink.Bold(true).Render(l))
		}
		return out
	case plan.Cancelled:
		if run.Error != "" {
			break // it failed, and took everything back itself
		}
		return []string{"   " + t.ink.Render("cancelled; the state before it was brought back")}
	}
	var out []string
	for _, l := range wrap("failed: "+plain(run.Error), w-8) {
		out = append(out, "   "+t.wrong.Render("! "+l))
	}
	for _, l := range wrap(run.Remedy, w-8) {
		out = append(out, "     "+t.ink.Render(l))
	}
	return out
}

// card says what to do with a finished copy.
func (r *runScreen) card(a *app) []string {
	t := a.theme
	s := r.run.Plan.Target
	line := func(label, text string) string {
		return "     " + t.soft.Render(t.fit(label, 14)) + t.ink.Render(plain(text))
	}
	out := []string{"", line("answers at", s.Address().String()+"/")}
	if s.Stack == "wordpress" {
		out = append(out, line("accounts", s.AccountsText()+"; o gives an address that signs in"))
	}
	return append(out, line("quiet", quietText(s)), line("lease", r.site(a).LeaseText(a.desk.Now())),
		line("next", "o to open it, v for the evidence in full, Enter for the site, h to hold it"))
}

// runsScreen lists the latest runs.
type runsScreen struct {
	scroll
	list []plan.Run
	got  bool
}

type runsMsg struct {
	list []plan.Run
	err  error
}

func (r *runsScreen) title(*app) string { return "runs" }

func (r *runsScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case tickMsg:
		return func() tea.Msg {
			list, err := a.desk.Runs.Latest(a.ctx, 2000)
			return runsMsg{list, err}
		}, true
	case runsMsg:
		if msg.err != nil {
			a.say(msg.err.Error(), true)
		}
		r.list, r.got = msg.list, true
		return nil, true
	case tea.KeyPressMsg:
		if by, ok := step(msg.String(), len(r.list), a.h-8); ok {
			r.move(by, len(r.list), a.h-6)
			return nil, true
		}
		if msg.String() == "enter" && r.cursor < len(r.list) {
			s := newRun(r.list[r.cursor].ID)
			a.push(s)
			return s.load(a), true
		}
	}
	return nil, false
}

func (r *runsScreen) keys(*app) []hint { return []hint{{"Enter", "open"}, {"Esc", "back"}} }
func (r *runsScreen) words() []hint {
	return []hint{{"done", "ended well"}, {"failed", "stopped; open it to resume it or take it back"},
		{"cancelled", "taken back"}}
}

func (r *runsScreen) view(a *app, w, h int) []string {
	t := a.theme
	if !r.got {
		return []string{"", t.soft.Render("   reading the record ...")}
	}
	if len(r.list) == 0 {
		return []string{"", t.soft.Render("   nothing has been run yet")}
	}
	out := []string{
		t.head.Render("   " + t.fit("BEGAN", 14) + t.fit("WHAT", 14) + t.fit("SITE", 28) + t.fit("STATE", 11) +
			t.right("TOOK", 8) + "  WHAT CAME OF IT"),
	}
	r.see(len(r.list), h-1)
	for i := r.top; i < min(len(r.list), r.top+h-1); i++ {
		run := r.list[i]
		style := t.ink
		switch run.State {
		case plan.Stopped:
			style = t.wrong
		case plan.Done:
			style = t.good
		}
		name := t.ink.Render(t.fit(plain(run.Plan.Target.Name), 24))
		if i == r.cursor {
			name = t.chosen.Render(t.fit(plain(run.Plan.Target.Name), 24))
		}
		out = append(out, site.Either(i == r.cursor, t.key.Render(t.glyph("▶", ">")), " ")+"  "+
			t.soft.Render(t.fit(site.Ago(a.desk.Now().Sub(run.Made)), 14))+
			t.ink.Render(t.fit(run.Plan.Kind.Title(), 14))+t.mark(run.Plan.Target.Mark())+" "+name+" "+
			style.Render(t.fit(string(run.State), 11))+t.ink.Render(t.right(site.Seconds(run.Took(a.desk.Now())), 8))+
			"  "+t.soft.Render(plain(run.Result+run.Error)))
	}
	return out
}
