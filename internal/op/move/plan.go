package move

import (
	"path"
	"strings"
	"time"

	"alibi/internal/plan"
	"alibi/internal/site"
)

// Input is what a plan of a move is made of.
type Input struct {
	Site, Place site.Site // with facts
	Move        plan.Move
	Written     bool // something was written at the other place since both were the same
	Now         time.Time
	By          string
}

// Contains tells whether a site's folder is another one's or above it.
func Contains(a, b site.Site) bool {
	return a.Host == b.Host && strings.HasPrefix(path.Clean(b.Root)+"/", strings.TrimRight(a.Root, "/")+"/")
}

// new begins a plan.
func (in Input) new(kind plan.Kind) plan.Plan {
	p := plan.Plan{Kind: kind, At: in.Now, Origin: in.Site, Target: in.Place, By: in.By, Words: in.Move.There().String()}
	if f := in.Site.Facts; f != nil {
		p.Files, p.Bytes, p.Rows, p.Tables, p.Data = f.Files, f.Bytes, f.Rows, len(f.Tables), f.TableBytes
	}
	switch s := in.Site; {
	case s.Run != "":
		p.Findings = append(p.Findings, site.Finding{Severity: site.Block, Code: "busy",
			Text: "a run (" + s.Run + ") is at work on " + s.Name, Remedy: "wait for it or cancel it"})
	case s.State != site.Ready:
		why, first := s.Unready()
		p.Findings = append(p.Findings, site.Finding{Severity: site.Block, Code: "state", Text: why, Remedy: first})
	}
	p.SetDetail(Choices{Move: in.Move.Name})
	return p
}

func (in Input) finish(p plan.Plan) plan.Plan {
	p.Origin.Facts, p.Target.Facts = nil, nil
	p.Sort()
	return p
}

func (in Input) hasTables() bool { return in.Site.Database.Engine != "" }

// bringing are the steps of a pass.
func (in Input) bringing(p plan.Plan, extra ...plan.Step) []plan.Step {
	out := append(extra, plan.Step{Name: "stage", Title: "bring the files", Work: p.Bytes, Unit: plan.Bytes})
	if in.hasTables() {
		out = append(out, plan.Step{Name: "tables", Title: "bring the rows", Work: p.Rows, Unit: plan.Rows})
	}
	return append(out, plan.Step{Name: "files", Title: "put the files in place"})
}

// PlanPass says what bringing a site to its other place will do, while it goes on.
func PlanPass(in Input) plan.Plan {
	first := len(in.Move.Passes) == 0
	p := in.new(plan.Pass)
	steps := []plan.Step{{Name: "prepare", Title: "make room there"}}
	if first && in.Move.Over {
		steps = append(steps, plan.Step{Name: "keep", Title: "take a restore point", Unit: plan.Bytes})
	}
	p.Steps = append(in.bringing(p, steps...), plan.Step{Name: "settle", Title: "compare the rows",
		Work: p.Rows, Unit: plan.Rows})
	p.Writes = append(in.written(), "nothing on the live site")
	sec := 1 + float64(p.Bytes)/40e6 + float64(p.Rows)/60e3 + float64(p.Files)*0.0005 + in.Move.OneByOne().Seconds()
	p.Estimate = plan.Estimate{Low: time.Duration(sec * 0.5 * 1e9), High: time.Duration(sec * 3 * 1e9),
		Basis: "usual rates, if all of it is to be brought"}
	if n := len(in.Move.Passes); n > 0 {
		last := in.Move.Passes[n-1].Took
		p.Estimate = plan.Estimate{Low: last / 4, High: last + 2*time.Second, Basis: "the last pass"}
	}
	return in.finish(p)
}

func (in Input) written() []string {
	out := []string{"folder " + in.Place.Root + " on " + in.Place.Host}
	if in.hasTables() {
		out = append(out, "database "+in.Place.Database.Text()+" on "+in.Place.Host)
	}
	return out
}

// PlanSwitch says what switching a site over to its other place will do, or back.
func PlanSwitch(in Input) plan.Plan {
	m := in.Move
	p := in.new(plan.Switch)
	p.Steps = []plan.Step{{Name: "prepare", Title: "write its configuration"},
		{Name: "hold", Title: "show a notice"}}
	if m.Moved { // what is at the old place is its former state, and is written over
		p.Steps = append(p.Steps[:1:1], plan.Step{Name: "keep", Title: "take a restore point",
			Unit: plan.Bytes}, p.Steps[1])
	}
	p.Steps = in.bringing(p, p.Steps...)
	p.Steps = append(p.Steps, plan.Step{Name: "prove", Title: "compare all of it", Work: p.Rows, Unit: plan.Rows})
	if m.Names != nil && len(m.Names.Old) > 0 {
		p.Steps = append(p.Steps, plan.Step{Name: "names", Title: "change its names"})
	}
	p.Steps = append(p.Steps, plan.Step{Name: "swap", Title: "note where it stands"},
		plan.Step{Name: "serve", Title: "let visitors in"})
	p.Writes = append(in.written(), "a notice in "+in.Site.Root+" on "+in.Site.Host)
	if m.Names != nil && len(m.Names.Old) > 0 {
		_, want := m.Names.To(!m.Moved)
		p.Writes = append(p.Writes, "names: "+setsText(want))
		for _, r := range m.Names.Old {
			if !m.Moved {
				p.Rewrites = append(p.Rewrites, plan.Rewrite{From: r.String(), To: newOf(m.Names.New, r)})
			}
		}
	}
	p.Confirm = consent(p, in.Site)
	if f, by := in.Place.Relayed(); by {
		p.Findings = append(p.Findings, f)
	}
	p.Findings = append(p.Findings, site.Finding{Severity: site.Warn, Code: "held",
		Text:   "visitors see a notice for about " + site.Seconds(m.WillHold()) + ", and can't write",
		Remedy: "do it when few are there"})
	if in.Site.Front != nil {
		p.Findings = append(p.Findings, site.Finding{Severity: site.Block, Code: "front",
			Text: "visitors see a notice already", Remedy: "take it away first: alibi lift " + in.Site.Name})
	}
	p.Estimate = plan.Estimate{Low: m.WillHold() / 2, High: 2*m.WillHold() + 2*time.Second, Basis: "the last pass"}
	return in.finish(p)
}

func newOf(list []site.RecordSet, r site.RecordSet) string {
	for _, n := range list {
		if n.Name == r.Name && n.Type == r.Type {
			return n.String()
		}
	}
	r.Values = nil
	return r.String()
}

// PlanClear says what clearing up will do: the place where the site does not stand is emptied.
func PlanClear(in Input) plan.Plan {
	p := in.new(plan.Clear)
	if in.Written {
		p.Steps = append(p.Steps, plan.Step{Name: "keep", Title: "take a restore point", Work: p.Bytes, Unit: plan.Bytes})
		p.Findings = append(p.Findings, site.Finding{Severity: site.Warn, Code: "written", Text: "something was written " +
			"there since both places were the same", Remedy: "a restore point keeps it; see whether the site needs it"})
	} else {
		p.Findings = append(p.Findings, site.Finding{Severity: site.Note, Code: "kept", Text: "all of it was the same at " +
			"both places, and nothing was written there since: no restore point is taken", Remedy: "nothing need be done"})
	}
	p.Steps = append(p.Steps, plan.Step{Name: "empty", Title: "remove tables and files"})
	p.Words = "empty " + in.Move.There().String()
	for _, w := range in.written() {
		if len(in.Move.Passes) > 0 {
			p.Writes = append(p.Writes, "empties "+w)
		}
	}
	if f, by := in.Place.Relayed(); by && in.hasTables() {
		p.Findings = append(p.Findings, f)
	}
	if names := Detaches(in.Move); len(names) > 0 {
		p.Writes = append(p.Writes, "panel of "+in.Place.Host+": detaches "+strings.Join(names, ", "))
	}
	p.Writes = append(p.Writes, "nothing where the site stands")
	p.Estimate = plan.Estimate{Low: time.Second, High: 5*time.Second + time.Duration(p.Files)*2*time.Millisecond,
		Basis: "usual rates"}
	p.Confirm = consent(p, in.Site)
	switch m := in.Move; {
	case !m.Moved:
	case Redirects(m):
		p.Findings = append(p.Findings, site.Finding{Severity: site.Warn, Code: "sent",
			Text:   "whoever comes by " + m.From.Address.String() + " is not sent on any more",
			Remedy: "see that nobody comes by it, or leave it as it is"})
	case m.Watch != nil && len(m.Watch.Answers) == 0:
		p.Findings = append(p.Findings, site.Finding{Severity: site.Warn, Code: "unwatched", Text: "no record of " +
			"the site's names is known to this move: whoever is led to " + in.Place.Host + " still finds nothing there",
			Remedy: "see first that its names lead to " + in.Site.Host})
	}
	if in.Move.Moved && (in.Move.Watch == nil || !in.Move.Watch.Done) {
		p.Findings = append(p.Findings, site.Finding{Severity: site.Block, Code: "watch",
			Text:   "it is not seen yet that nobody is led to the old place any more",
			Remedy: "alibi move " + in.Move.Name + " watch"})
	}
	return in.finish(p)
}
