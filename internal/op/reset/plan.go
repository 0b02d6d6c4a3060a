package reset

import (
	"cmp"
	"fmt"
	"path"
	"strings"
	"time"

	"alibi/internal/depot"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// Input is what a plan is made of.
type Input struct {
	Site     site.Site // with facts
	Point    *depot.Point
	Choices  Choices
	Goes     []plan.Part // what is on the site now and will not be
	Stays    []plan.Part
	First    bool // no restore point of the site was taken yet
	Depot    string
	Findings []site.Finding // of who asks
	Unique   int            // changes on a copy that are nowhere else
	Now      time.Time
	By       string
}

// Plan says what bringing a site to another state will do.
func Plan(in Input) plan.Plan {
	s, c := in.Site, in.Choices
	p := plan.Plan{
		Kind:   plan.Reset,
		At:     in.Now,
		Origin: s,
		Target: s,
		By:     in.By,
		Goes:   in.Goes,
		Stays:  in.Stays,
		Words:  words(in),
	}
	if in.Point != nil {
		p.Kind = plan.Restore
		p.Files, p.Bytes, p.Rows, p.Tables = int(in.Point.Files), in.Point.Bytes, in.Point.Rows, len(in.Point.Tables)
	} else if f := s.Facts; f != nil {
		p.Files, p.Bytes, p.Rows, p.Tables = f.Files, f.Bytes, f.Rows, len(f.Tables)
	}
	p.Steps = stepsOf(c.Files, c.Database && s.Database.Engine != "", p.Bytes, p.Rows)
	if c.Change != nil {
		p.Kind, p.Steps = plan.Change, changeSteps(c, s, p.Bytes, p.Rows)
	}
	note := func(sev site.Severity, code, text, remedy string) {
		p.Findings = append(p.Findings, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
	}
	switch {
	case s.Run != "":
		note(site.Block, "busy", "a run ("+s.Run+") is at work on "+s.Name, "wait for it or cancel it")
	case s.State != site.Ready && s.State != site.Parked:
		why, first := s.Unready()
		note(site.Block, "state", why, first)
	case s.Database.Beside() && c.Database:
		note(site.Block, "beside", "the tables of "+s.Name+" stand in the database of its origin",
			"refresh it, or make a new copy with a database of its own")
	}
	moved(in, note)
	if f, by := s.Relayed(); by && c.Database && s.Database.Engine != "" {
		p.Findings = append(p.Findings, f)
	}
	switch {
	case s.Role == site.Live && s.Stack != "wordpress":
		note(site.Warn, "notice", "visitors see the site while its files are exchanged, one by one",
			"do it when nobody is there")
	case s.Role == site.Live:
		note(site.Warn, "live", "visitors of this live site see a notice until all is compared",
			"do it when few are there")
		if in.First {
			note(site.Warn, "first", "nothing of it is kept yet, so that the notice stands while all of it is",
				"take a restore point first: alibi points take "+s.Name)
		}
	}
	if c.Change != nil {
		changeFindings(in, note)
	}
	p.Findings = append(p.Findings, in.Findings...)
	if in.Point != nil && len(in.Goes) == 0 {
		note(site.Note, "same", "nothing differs, as far as sizes, times and digests tell; files are read to be sure",
			"nothing need be done")
	}
	note(site.Note, "kept", "a restore point is taken first, which brings back all that goes",
		"alibi restore "+s.Name+" undoes it")
	if in.Unique > 0 && c.Change == nil {
		note(site.Warn, "lost", unsaved(in.Unique),
			"the restore point that is taken first holds that work; copy the copy if somebody is to go on with it")
	}
	if s.Lease.Held {
		note(site.Warn, "held", "it is held: "+s.Lease.Reason, "ask "+s.Lease.By+" first")
	}
	p.Writes = writes(in)
	p.Loses = in.Unique
	p.Confirm = consent(p, s)
	sec := 1 + float64(p.Files)*0.0004 + float64(p.Bytes)/150e6 + float64(p.Rows)/60e3
	p.Estimate = plan.Estimate{
		Low:   time.Duration(sec * 0.5 * 1e9),
		High:  time.Duration(sec * 3 * 1e9),
		Basis: "usual rates, if all of it differs",
	}
	p.SetDetail(c)
	p.Origin.Facts, p.Target.Facts = nil, nil
	p.Sort()
	return p
}

// moved says what is to be known of a restore point of a live site that has moved since.
func moved(in Input, note func(site.Severity, string, string, string)) {
	s := in.Site
	if in.Point == nil || s.Role != site.Live || in.Point.Site.Root == "" {
		return
	}
	switch was := in.Point.Site; {
	case was.Root == s.Root && len(was.Addresses) > 0 && was.Address() != s.Address():
		note(site.Block, "moved", "the point is of when the site's address was "+was.Address().String()+", and its rows "+
			"name that", "make a copy of the point instead: alibi points copy "+in.Point.ID)
	case was.Root != s.Root:
		note(site.Block, "moved", "the point is of when the site stood in "+was.Root+" on "+was.Host+", and its files and "+
			"rows may name that folder", "make a copy of the point instead: alibi points copy "+in.Point.ID)
	case was.Host != s.Host && in.Choices.Files:
		note(site.Warn, "moved", "the point is of when the site stood on "+was.Host+": the configuration stays as it is now",
			"change it by hand if it is to be as it was")
	}
}

// words say to what the site is brought.
func words(in Input) string {
	if in.Choices.Feed != nil {
		return "what it is, with the content of " + path.Base(in.Choices.Feed.Path)
	}
	if in.Choices.Change != nil {
		return in.Choices.Change.Words
	}
	if in.Point == nil {
		return in.Choices.Clean.words()
	}
	var parts []string
	c := in.Choices
	switch {
	case c.Whole():
	case len(c.Kinds)+len(c.Items) > 0:
		for _, k := range c.Kinds {
			parts = append(parts, string(k))
		}
		if n := len(c.Items); n > 0 {
			parts = append(parts, fmt.Sprintf("%d single items", n))
		}
	default:
		if c.Files {
			parts = append(parts, cmp.Or(strings.Join(c.Paths, ", "), "files"))
		}
		if c.Database {
			parts = append(parts, cmp.Or(strings.Join(c.Tables, ", "), "database"))
		}
	}
	out := "restore point " + in.Point.ID
	if len(parts) > 0 {
		out += " (" + strings.Join(parts, ", ") + ")"
	}
	return out
}

func writes(in Input) (out []string) {
	s, c := in.Site, in.Choices
	if c.Files {
		out = append(out, "folder "+s.Root+" on "+s.Host+strings.TrimRight(": "+strings.Join(c.Paths, ", "), ": "))
	}
	if c.Database && s.Database.Engine != "" {
		out = append(out, "database "+s.Database.Text()+strings.TrimRight(": "+strings.Join(c.Tables, ", "), ": "))
	}
	return append(out, "the depot, "+in.Depot+": a restore point", "nothing else; its address, host and lease stay")
}

func unsaved(n int) string {
	if n == 1 {
		return "1 change made on the copy is nowhere else"
	}
	return site.Number(n) + " changes made on the copy are nowhere else"
}
