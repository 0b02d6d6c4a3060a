package tui

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/plan"
	"alibi/internal/site"
)

// siteHints are the keys that fit a site, the same ones on every screen.
func siteHints(s site.Site) []hint {
	open := hint{"Enter", "open"}
	switch {
	case s.Role == site.Live:
		return []hint{open, {"c", "copy"}, {"C", "what it runs"}, {"f", "hands on"}, {"R", "restore points"},
			{"i", "read anew"}, {"A", "archive"}, {"I", "add content"}, {"z", "reset"},
			{"F", site.Either(s.Front == nil, "park", "show again")}}
	case s.State == site.Expired:
		return []hint{open, {"b", "bring back"}, {"D", "remove"}}
	case s.State == site.Failed || s.State == site.Making:
		return []hint{open, {"u", "its run"}}
	case s.Unproven():
		return []hint{{"Enter", "its run"}, {"o", "address"}, {"t", "time"}, {"h", "hold"}}
	}
	return []hint{open, {"c", "copy"}, {"r", "refresh"}, {"v", "evidence"}, {"d", "drift"}, {"o", "address"},
		{"C", "what it runs"}, {"f", "hands on"}, {"T", "try versions"}, {"R", "restore points"}, {"p", "live name"},
		{"m", "caught"},
		{"t", "time"}, {"h", "hold"}, {"x", "expire"}, {"z", "reset"}, {"A", "archive"}, {"I", "add content"},
		{"F", site.Either(s.Front == nil, "park, hide", "show again")}}
}

// siteKey does what a key means for a site.
func siteKey(a *app, s site.Site, key string) (tea.Cmd, bool) {
	switch key {
	case "enter":
		if s.Run != "" {
			a.push(newRun(s.Run))
			return nil, true
		}
		a.push(newSite(s.ID))
		return nil, true
	case "c":
		return openPlan(a, s, false), true
	case "i":
		a.say("reading "+s.Name+" ...", false)
		return a.do(func() (string, error) {
			s, err := a.desk.Fleet.Inspect(a.ctx, s.ID)
			return s.Name + " was read anew", err
		}), true
	}
	if cmd, done := anySiteKey(a, s, key); done {
		return cmd, true
	}
	if s.Role != site.Copy {
		switch key {
		case "D":
			return askForget(a, s), true
		case "M":
			return openMoves(a, s), true
		}
		return nil, false
	}
	switch key {
	case "r":
		return openPlan(a, s, true), true
	case "v":
		return openEvidence(a, s), true
	case "d":
		return openDrift(a, s, site.Site{}), true
	case "T":
		return openTrial(a, s), true
	case "o":
		return openAddress(a, s), true
	case "p":
		return askLiveName(a, s), true
	case "m":
		return openCaught(a, s), true
	case "t":
		return askTime(a, s), true
	case "h":
		return askHold(a, s), true
	case "x":
		return askExpire(a, s), true
	case "b":
		return a.do(func() (string, error) {
			s, err := a.desk.Copies.BringBack(a.ctx, s.ID, 0)
			return s.Name + " is back: " + s.LeaseText(a.desk.Now()), err
		}), true
	case "D":
		return askRemove(a, s), true
	}
	return nil, false
}

// anySiteKey does what a key means for live sites and copies alike.
func anySiteKey(a *app, s site.Site, key string) (tea.Cmd, bool) {
	switch key {
	case "w":
		return askOwner(a, s), true
	case "C":
		return openComponents(a, s), true
	case "f":
		return openHands(a, s), true
	case "R":
		a.push(&pointsScreen{id: s.ID})
		return nil, true
	case "z":
		return openReset(a, s), true
	case "F":
		return askFront(a, s), true
	case "A":
		return askArchive(a, s, nil), true
	case "I":
		return askBring(a, s), true
	}
	return nil, false
}

func askOwner(a *app, s site.Site) tea.Cmd {
	a.asking = &question{title: "Who answers for " + s.Name + "?", input: true, text: s.Owner,
		typed: func(a *app, text string) (tea.Cmd, error) {
			return a.do(func() (string, error) {
				s, err := a.desk.Fleet.SetOwner(a.ctx, s.ID, text)
				return s.Owner + " answers for " + s.Name, err
			}), nil
		}}
	return nil
}

func askForget(a *app, s site.Site) tea.Cmd {
	a.asking = &question{title: "Take the live site " + s.Name + " out of the record?",
		lines: []string{"Goes: what Alibi knows of it.",
			"Stays: the site itself, which is not touched, and the history.", "", "Type its name to go on:"},
		input: true, must: s.Name,
		yes: func(a *app) tea.Cmd {
			return a.do(func() (string, error) {
				return s.Name + " is out of the record", a.desk.Fleet.Forget(a.ctx, s.ID)
			})
		}}
	return nil
}

func openAddress(a *app, s site.Site) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		key, err := a.desk.Copies.Latchkey(a.ctx, s.ID, "")
		if s.State != site.Ready {
			return "", nil, fmt.Errorf("%s is %s: it does not answer now", s.Name, s.State)
		}
		lines := []string{"As a stranger sees it:", "  " + s.Address().String() + "/", ""}
		if err == nil {
			lines = append(lines, "Signed in as its first administrator, once, within a minute:", "  "+key, "",
				"Accounts and passwords of the copy are the origin's.")
		}
		if !a.carried {
			lines = append(lines, "It answers while the keeper is at work.")
		}
		return "", func(a *app) tea.Cmd {
			a.asking = &question{title: s.Name + " answers", lines: lines, yes: func(*app) tea.Cmd { return nil }}
			return nil
		}, nil
	})
}

func askTime(a *app, s site.Site) tea.Cmd {
	a.asking = &question{title: "How much more time for " + s.Name + "?", input: true, text: "3d",
		lines: []string{"It " + s.LeaseText(a.desk.Now()) + ". Write a number and m, h, d or w: 6h, 3d, 2w."},
		typed: func(a *app, text string) (tea.Cmd, error) {
			by, err := site.ParseSpan(text)
			if err != nil {
				return nil, err
			}
			if !s.Lease.Held {
				return extend(a, s, by), nil
			}
			return asking(func(a *app) {
				a.asking = &question{title: "End the hold of " + s.Name + "?",
					lines: []string{"It is held, by " + s.Lease.By + ": " + s.Lease.Reason + ".",
						"With more time it gets an end.", "", "Type its name to go on:"},
					input: true, must: s.Name, yes: func(a *app) tea.Cmd { return extend(a, s, by) }}
			}), nil
		}}
	return nil
}

// extend gives a copy more time.
func extend(a *app, s site.Site, by time.Duration) tea.Cmd {
	typed := a.typed()
	return a.do(func() (string, error) {
		s, err := a.desk.Copies.Extend(a.ctx, s.ID, by, typed)
		return s.Name + " " + s.LeaseText(a.desk.Now()), err
	})
}

func askHold(a *app, s site.Site) tea.Cmd {
	a.asking = &question{title: "Keep " + s.Name + " without an end: why?", input: true,
		lines: []string{"The reason stands on the board for everybody who wonders."},
		typed: func(a *app, text string) (tea.Cmd, error) {
			if _, err := s.Lease.Hold(text, ""); err != nil {
				return nil, err
			}
			return a.do(func() (string, error) {
				s, err := a.desk.Copies.Hold(a.ctx, s.ID, text)
				return s.Name + " is held: " + text, err
			}), nil
		}}
	return nil
}

// askExpire says what goes and what stays; a name has to be typed where
// something would be lost that is nowhere else.
func askExpire(a *app, s site.Site) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		why := a.desk.Fleet.Precious(a.ctx, s)
		grace := site.Span(a.desk.Grace())
		q := &question{title: "Take " + s.Name + " off the air?",
			lines: []string{"Goes now: its address answers no more.",
				"Stays for " + grace + ": its files and tables; b brings it back.",
				"Goes after that: everything that was made for it.", "Stays: its origin, which is not touched."},
			yes: func(a *app) tea.Cmd {
				typed := a.typed()
				return a.do(func() (string, error) {
					s, err := a.desk.Copies.Expire(a.ctx, s.ID, typed)
					return s.Name + " " + s.LeaseText(a.desk.Now()), err
				})
			}}
		if why != "" {
			q.lines = append(q.lines, "", "But "+why+".", "Type its name to go on:")
			q.input, q.must = true, s.Name
		}
		return "", func(a *app) tea.Cmd { a.asking = q; return nil }, nil
	})
}

func askRemove(a *app, s site.Site) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		p, err := a.desk.Copies.PlanRemove(a.ctx, s.ID)
		if err != nil {
			return "", nil, err
		}
		lines := []string{fmt.Sprintf("%s of files and tables are removed, and can't be brought back.",
			site.Size(p.Bytes)), p.Writes[0] + ".", "Stays: its origin, and what was done, in the history."}
		for _, f := range p.Findings {
			lines = append(lines, "", f.Severity.String()+": "+f.Text)
		}
		q := &question{title: "Remove " + s.Name + " for good?", lines: append(lines, "", "Type its name to go on:"),
			input: true, must: s.Name, yes: func(a *app) tea.Cmd { return start(a, p) }}
		return "", func(a *app) tea.Cmd { a.asking = q; return nil }, nil
	})
}

// typed is what a person has typed into the question that is being answered.
func (a *app) typed() string {
	if a.asking == nil {
		return ""
	}
	return a.asking.text
}

// start puts a plan to work, with what was typed for it, and opens its run.
func start(a *app, p plan.Plan) tea.Cmd {
	typed := a.typed()
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		r, err := a.desk.Runs.StartTyped(a.ctx, p, typed)
		if err != nil {
			return "", nil, err
		}
		return "", func(a *app) tea.Cmd {
			switch a.top().(type) {
			case *planScreen, *stateScreen:
				a.pop()
			}
			s := newRun(r.ID)
			a.push(s)
			return s.load(a)
		}, nil
	})
}

// openEvidence shows the latest evidence about a copy.
func openEvidence(a *app, s site.Site) tea.Cmd {
	e := &evidenceScreen{id: s.ID, name: s.Name}
	a.push(e)
	return e.load(a)
}

// done is the share of a run that is over, 0 to 1: of its steps, each by its work.
func done(r plan.Run) float64 {
	if r.State.Over() {
		return 1
	}
	if len(r.Steps) == 0 {
		return 0
	}
	sum := 0.0
	for _, p := range r.Steps {
		switch {
		case !p.Ended.IsZero():
			sum++
		case p.Work > 0 && !p.Began.IsZero():
			sum += min(1, float64(p.Done)/float64(p.Work))
		}
	}
	return sum / float64(len(r.Steps))
}

func percent(r plan.Run) string { return fmt.Sprintf("%.0f %%", done(r)*100) }

// overtaken tells whether a run takes longer than was planned.
func overtaken(r plan.Run, now time.Time) bool {
	return r.Plan.Estimate.High > 0 && r.Took(now) > r.Plan.Estimate.High
}

// remaining estimates the rest of a run: from the plan at first, then more and
// more from how it went.
func remaining(r plan.Run, now time.Time) (time.Duration, bool) {
	if r.State.Over() || r.Began.IsZero() {
		return 0, false
	}
	took, share := now.Sub(r.Began), done(r)
	planned := (r.Plan.Estimate.Low+r.Plan.Estimate.High)/2 - took
	if share < 0.05 {
		return max(0, planned), planned > 0
	}
	seen := time.Duration(float64(took) * (1 - share) / share)
	if overtaken(r, now) { // the plan was wrong: only what was seen counts
		return seen, true
	}
	return max(0, time.Duration(float64(planned)*(1-share)+float64(seen)*share)), true
}
