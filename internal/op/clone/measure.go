package clone

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// measure works out what is brought and what is left out.
func measure(p *plan.Plan, d *detail, in Input) {
	f, c := in.Origin.Facts, in.Choices
	p.Files, p.Bytes = f.Files, f.Bytes
	p.Rows, p.Tables, p.Data = f.Rows, len(f.Tables), f.TableBytes
	out := func(what, why string, files int, bytes int64) {
		p.LeftOut = append(p.LeftOut, plan.LeftOut{What: what, Why: why, Files: files, Bytes: bytes})
		d.Filter.Folders = append(d.Filter.Folders, what)
		p.Files -= files
		p.Bytes -= bytes
	}
	skipped := map[string]bool{}
	for _, s := range c.Skip {
		s = strings.Trim(path.Clean(s), "/")
		var files int
		var bytes int64
		for _, w := range f.Folders {
			if !skipped[w.Path] && (w.Path == s || strings.HasPrefix(w.Path, s+"/")) {
				files, bytes = files+w.Files, bytes+w.Bytes
				skipped[w.Path] = true
			}
		}
		out(s, "chosen", files, bytes)
	}
	for _, w := range f.Folders {
		if w.Spare != "" && !c.Spare && !skipped[w.Path] {
			out(w.Path, w.Spare, w.Files, w.Bytes)
		}
	}
	if c.Larger > 0 {
		d.Filter.Larger = c.Larger
		files, bytes := f.Larger(c.Larger)
		p.LeftOut = append(
			p.LeftOut,
			plan.LeftOut{
				What:  "files larger than " + site.Size(c.Larger) + ", but the core's",
				Why:   "chosen",
				Files: files,
				Bytes: bytes,
			},
		)
		p.Files -= files
		p.Bytes -= bytes
	}
}

// relevant drops the findings that the choices have settled.
func relevant(all []site.Finding, c Choices) []site.Finding {
	return slices.DeleteFunc(slices.Clone(all), func(f site.Finding) bool {
		return f.Code == "large-file" && c.Larger > 0 && c.Larger <= stack.Largest
	})
}

func writes(in Input, p plan.Plan) []string {
	w := []string{"nothing on the origin", "folder " + op.Folder(p.Target)}
	if p.Target.Host != in.Local {
		w[1] += " on " + p.Target.Host
	}
	if p.Kind == plan.Refresh {
		w[1] += ", what is in it is replaced"
	}
	switch db := p.Target.Database; {
	case db.InFile():
		w = append(w, "database "+db.Path)
	case db.Served():
		if db.Beside() {
			w[0] = "no table of the origin's"
			return append(w, "tables "+db.Prefix+"... in the origin's database "+db.Name,
				"all of it is removed with the copy")
		}
		w = append(w, "database and account "+db.Text())
		if p.Target.Host != in.Local {
			w = append(w, "Alibi's own program on "+p.Target.Host+", in ~/.cache/alibi, which keeps the copy's code in")
		}
	}
	return append(w, "all of it is removed with the copy")
}

// limits adds the findings about room, quota and what would be lost.
func limits(p *plan.Plan, in Input, note func(site.Severity, string, string, string)) {
	need := p.Bytes + p.Data*2 // the snapshot and the copy's tables
	if free := in.Places[p.Target.Host].Free; free > 0 {
		p.FreeThen = free - p.Bytes - p.Data
		if need > free {
			note(site.Block, "disk", fmt.Sprintf("the copy needs %s, and %s are free", site.Size(need),
				site.Size(free)), "leave out large folders or files, or make room")
		} else if free-need < 1<<30 {
			note(site.Warn, "disk", fmt.Sprintf("only %s will be free afterwards", site.Size(p.FreeThen)),
				"leave out large folders, or expire copies that nobody needs")
		}
	}
	if in.Over == nil {
		if f := in.Quota.Check(in.Use, p.Target.Host, p.Bytes+p.Data); f != nil {
			p.Findings = append(p.Findings, *f)
		}
		return
	}
	if in.Lost != nil && in.Lost.Copy > 0 {
		note(
			site.Warn,
			"lost",
			site.Plural(in.Lost.Copy, "change made on the copy is", "changes made on the copy are")+
				" nowhere else and will be lost",
			"copy the copy first if that work is worth keeping",
		)
	}
}

// estimate is how long the run will take: from what runs between the same hosts
// took, else from rates that are usual.
func estimate(p plan.Plan, past []plan.Run, same bool) plan.Estimate {
	model := func(p plan.Plan) float64 {
		base := 0.25
		if p.Target.Database.Served() { // its code runs: it is started, and its pages are asked for
			base = 4
		}
		return base + float64(p.Files)*0.0012 + float64(p.Bytes)/120e6 + float64(p.Rows)/40e3
	}
	var low, high float64
	n := 0
	for _, r := range past {
		if r.State != plan.Done || r.Plan.Kind != p.Kind || r.Plan.Origin.Host != p.Origin.Host || n == 8 {
			continue
		}
		if d, err := plan.DetailOf[detail](r.Plan); err != nil || d.Same { // what brought nothing tells nothing
			continue
		}
		ratio := r.Ended.Sub(r.Began).Seconds() / model(r.Plan)
		if n == 0 {
			low, high = ratio, ratio
		}
		low, high = min(low, ratio), max(high, ratio)
		n++
	}
	basis := fmt.Sprintf("%s from %s", site.Plural(n, "earlier run", "earlier runs"), p.Origin.Host)
	if n == 0 {
		low, high, basis = 0.5, 2, "usual rates: nothing was copied from there yet"
	}
	if n > 0 && n < 3 { // one or two runs tell little
		low, high = low/2, high*2
	}
	if same {
		low, high, basis = 0.02, 0.2, "it looks once more whether anything has changed"
	}
	m := model(p) * float64(time.Second)
	return plan.Estimate{Low: time.Duration(m * low * 0.85), High: time.Duration(m * high * 1.25), Basis: basis}
}
