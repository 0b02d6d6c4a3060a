package carry

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"alibi/internal/drift"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// Wish is what is to be carried.
type Wish struct {
	To    Side
	Items []string        // by name
	Kinds []string        // all of these kinds, as drift calls them
	All   bool            // all that the other side changed
	Take  map[string]Side // of items that both sides changed: whose is to stand
	Note  string
}

// picks tells whether an item is wished for.
func (w Wish) picks(it *drift.Item) bool {
	return w.All || slices.Contains(w.Items, it.Name) || slices.Contains(w.Kinds, it.Kind)
}

// Plan says what carrying will do. It is worked out from what both sides have now; each item is looked at again before
// it is written.
func Plan(ctx context.Context, s *Sides, d Drifted, w Wish, title bool, at time.Time) (plan.Plan, error) {
	c := &carrying{Sides: s, to: w.To, take: w.Take, plan: true}
	p := plan.Plan{Kind: plan.Sync, At: at, Origin: s.CopySite, Target: s.LiveSite}
	if w.To == Copy {
		p.Origin, p.Target = s.LiveSite, s.CopySite
	}
	names, err := w.names(d.Items, c.from())
	if err != nil {
		return p, err
	}
	got, err := c.want(ctx, d.Items, names)
	if err != nil {
		return p, err
	}
	list, items, left := got.changes, got.items, got.left
	choices := Choices{To: w.To, Take: w.Take, Note: w.Note, Title: title, Copy: s.CopySite.ID}
	for _, it := range items {
		choices.Items = append(choices.Items, Chosen{it.Name, saw(it)})
		p.Goes = append(p.Goes, plan.Part{What: c.says(it, names)})
	}
	note := func(sev site.Severity, code, text, remedy string) {
		p.Findings = append(p.Findings, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
	}
	for _, l := range left {
		remedy := "it stays as it is"
		if l.Why == undecided {
			remedy = fmt.Sprintf("--take %s=%s or --take %s=%s", l.Item, Copy, l.Item, Live)
		}
		note(site.Warn, "left", l.Item+" is not carried: "+l.Why, remedy)
	}
	if len(list) == 0 {
		note(site.Block, plan.Nothing, "nothing is to be carried to "+p.Target.Name, "alibi drift "+s.CopySite.Name+
			" shows what differs")
	}
	both := map[string]bool{}
	for _, ch := range list {
		both[ch.Item] = both[ch.Item] || ch.Merged
	}
	for _, it := range items {
		if both[it.Name] {
			note(site.Note, "merged", it.Name+" was changed on both sides, in different places: both changes are in what is "+
				"written", "carry it to the other side afterwards, for that to have both too")
		}
	}
	if n := c.twins(items); n > 0 {
		note(site.Note, "numbers", fmt.Sprintf("%s the same number as one of %s: the copy's gets another one, and what "+
			"refers to it follows", site.Plural(n, "item has", "items have"), s.LiveSite.Name), "")
	}
	if caches(s, w.To) {
		note(site.Warn, "cache", "a cache of objects is on: visitors may see what was there before until it is emptied",
			"empty it afterwards: alibi caches "+p.Target.Name)
	}
	p.Rows, p.Tables, p.Files = int64(len(list)), len(tablesOf(list)), len(got.files)
	p.Words = site.Plural(len(items), "item", "items") + " of " + p.Origin.Name
	for _, f := range got.files {
		p.Writes = append(p.Writes, p.Target.Name+": "+f.Path)
	}
	c.close(&p, tablesOf(list))
	p.SetDetail(choices)
	p.Sort()
	return p, nil
}

// close adds what all plans of carrying have.
func (c *carrying) close(p *plan.Plan, tables []string) {
	if len(tables) > 0 {
		p.Writes = append(p.Writes, fmt.Sprintf("%s: %s in %s, in one transaction", p.Target.Name,
			site.Plural(p.Rows, "row", "rows"), strings.Join(tables, ", ")))
	}
	p.Estimate = plan.Estimate{Low: time.Second, High: 5*time.Second + time.Duration(p.Rows)*time.Millisecond,
		Basis: "a restore point of what changed since the last one, and the rows"}
	p.Stays = []plan.Part{{What: "everything else of " + p.Target.Name}}
	p.Steps = steps(p.Rows)
	p.Confirm = p.LiveConsent(p.Target)
}

func steps(rows int64) []plan.Step {
	return []plan.Step{{Name: "number", Title: "give each thing a number of its own"},
		{Name: "look", Title: "look at both sides again"},
		{Name: "keep", Title: "take a restore point"},
		{Name: "files", Title: "bring the files that they name"},
		{Name: "apply", Title: "write all rows at one moment", Work: rows, Unit: plan.Rows},
		{Name: "prove", Title: "compare what was written"},
		{Name: "settle", Title: "note what both sides have in common"}}
}

// names are the items that are wished for and changed on the side that is read.
func (w Wish) names(all []*drift.Item, from Side) (out []string, err error) {
	has := func(name string) bool {
		return slices.ContainsFunc(all, func(it *drift.Item) bool { return it.Name == name })
	}
	w.Items = slices.Clone(w.Items)
	for i, name := range w.Items {
		if twin := name + "@" + string(from); !has(name) && has(twin) {
			w.Items[i] = twin // the other side has given its number away meanwhile
		} else if !has(name) {
			return nil, fmt.Errorf("%s does not differ, or not any more: alibi drift lists what does", name)
		}
	}
	for _, it := range all {
		changed := it.Copy
		if from == Live {
			changed = it.Live
		}
		if w.picks(it) && (changed != drift.Same && !it.Noise && !it.Marks || slices.Contains(w.Items, it.Name)) {
			out = append(out, it.Name)
		}
	}
	return out, nil
}

// says writes what becomes of an item.
func (c *carrying) says(it *drift.Item, names []string) string {
	what, state := it.Kind+" "+fmt.Sprintf("%q", it.Title)+" ("+it.Name+")", it.Copy
	if c.to == Copy {
		state = it.Live
	}
	switch state {
	case drift.Made:
		what += " is made"
	case drift.Gone:
		what += " goes"
	default:
		what += " is changed: " + strings.Join(it.Fields, ", ")
	}
	if !slices.Contains(names, it.Name) {
		what += "; others need it"
	}
	return what
}

// twins counts the items that have the number of another one.
func (c *carrying) twins(items []*drift.Item) (n int) {
	for _, it := range items {
		if plainName(it.Name) != it.Name {
			n++
		}
	}
	return n
}

// caches tells whether the side that is written to keeps objects where changed rows are not seen.
func caches(s *Sides, to Side) bool {
	on, _ := stack.CachesOf(s.Transform.Stack).ObjectCache()
	if on == "" {
		return false
	}
	_, err := s.roots[to].Lstat(on)
	return err == nil
}

// UndoPlan says what undoing a run will do.
func UndoPlan(s *Sides, r plan.Run, rec Record, title bool, at time.Time) plan.Plan {
	p := plan.Plan{Kind: plan.Sync, At: at, Origin: s.CopySite, Target: s.LiveSite}
	if rec.To == Copy {
		p.Origin, p.Target = s.LiveSite, s.CopySite
	}
	seen := map[string]bool{}
	for _, ch := range rec.Changes {
		if ch.Dropped == "" && !seen[ch.Item] {
			seen[ch.Item] = true
			p.Goes = append(p.Goes, plan.Part{What: ch.Item + " becomes what it was before run " + r.ID})
		}
	}
	p.Findings = []site.Finding{{Severity: site.Note, Code: "others", Text: "an item that others changed since stays " +
		"as it " +
		"is, and is named", Remedy: ""}}
	p.Rows, p.Tables, p.Words = int64(len(rec.Changes)), len(tablesOf(rec.Changes)), "what was before run "+r.ID
	(&carrying{Sides: s}).close(&p, tablesOf(rec.Changes))
	p.SetDetail(Choices{To: rec.To, Title: title, Undo: r.ID, Copy: s.CopySite.ID})
	return p
}
