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
	Items []string                     // by name
	Kinds []string                     // all of these kinds, as drift calls them
	Find  string                       // all that have this in their name
	Whole bool                         // all that is wished for, or nothing
	All   bool                         // all that the other side changed
	But   []string                     // by name or kind: of all or of kinds, what is not carried
	Take  map[string]Side              // of items that both sides changed: whose is to stand, or Both
	Hand  map[string]map[string]string // of such items: what people wrote, by place; see Sides.Conflicts
	// SubSite is the number of a network's sub-site: of all and of kinds, what is of it.
	SubSite string
	Note    string
	// With is another copy of the same origin, in place of that: the first of the two stands for the live site.
	With site.ID
}

// Picks tells whether an item is wished for.
func (w Wish) Picks(it *drift.Item) bool {
	if slices.Contains(w.But, it.Name) || slices.Contains(w.But, it.Kind) ||
		w.SubSite != "" && w.SubSite != it.SubSite() {
		return slices.Contains(w.Items, it.Name)
	}
	return w.All || slices.Contains(w.Items, it.Name) || slices.Contains(w.Kinds, it.Kind) ||
		w.Find != "" && it.Has(w.Find)
}

// Plan says what carrying will do. It is worked out from what both sides have now; each item is looked at again before
// it is written.
func Plan(ctx context.Context, s *Sides, d Drifted, w Wish, title bool, at time.Time) (plan.Plan, error) {
	x, err := draw(ctx, s, d, w, title, at)
	if err != nil {
		return plan.Plan{}, err
	}
	return x.plan(ctx, d)
}

// toward begins a plan that writes to a side.
func (s *Sides) toward(to Side, at time.Time) plan.Plan {
	p := plan.Plan{Kind: plan.Sync, At: at, Origin: s.CopySite, Target: s.LiveSite}
	if to == Copy {
		p.Origin, p.Target = p.Target, p.Origin
	}
	return p
}

// drawn is what is known of a plan before it is written down.
type drawn struct {
	*carrying
	p       plan.Plan
	names   []string // of the items that are wished for
	got     *wanted
	choices Choices
}

func (x *drawn) empty() bool { return len(x.got.changes)+len(x.got.files)+len(x.drafts) == 0 }

// draw works out what is to be carried one way.
func draw(ctx context.Context, s *Sides, d Drifted, w Wish, title bool, at time.Time) (*drawn, error) {
	take, made, drafts, err := s.decided(d.Items, w, at)
	if err != nil {
		return nil, err
	}
	c := &carrying{Sides: s, to: w.To, take: take, hand: w.Hand, plan: true, drafts: drafts, strict: w.Whole}
	x := &drawn{carrying: c, p: s.toward(w.To, at),
		choices: Choices{To: w.To, Take: take, Hand: w.Hand, Note: w.Note, Title: title, Copy: s.CopySite.ID,
			Filter: s.trees.LiveFilter, Decided: made, Beside: s.besides(), Whole: w.Whole}}
	for _, it := range drafts {
		x.choices.Drafts = append(x.choices.Drafts, plainName(it.Name))
	}
	if x.names, err = w.names(d.Items, c.from()); err != nil {
		return nil, err
	}
	if x.got, err = c.want(ctx, d.Items, x.names); err != nil {
		return nil, err
	}
	for _, it := range x.got.items {
		x.choices.Items = append(x.choices.Items, Chosen{it.Name, s.saw(it)})
		if _, now := w.Take[it.Name]; !now && take[it.Name] != "" {
			add(&x.p, site.Note, "decided", fmt.Sprintf("%s: %s, as was decided on %s", it.Name, s.stands(take[it.Name]),
				it.DecidedAt.Format("2 Jan 2006")), fmt.Sprintf("--take %s=%s decides otherwise", it.Name, s.word(c.to)))
		}
	}
	return x, nil
}

// plan writes it down.
func (x *drawn) plan(ctx context.Context, d Drifted) (plan.Plan, error) {
	p, list := x.p, x.got.changes
	for _, it := range x.got.items {
		p.Goes = append(p.Goes, plan.Part{What: x.says(it, x.names)})
	}
	for _, it := range x.drafts {
		p.Goes = append(p.Goes, plan.Part{What: fmt.Sprintf("%s %q (%s) of %s is kept as a draft beside it", it.Kind,
			it.Title, it.Name, x.called(Copy))})
	}
	if err := x.finds(ctx, &p, d, x.got); err != nil {
		return p, err
	}
	p.Rows, p.Tables, p.Files = int64(len(list)), len(tablesOf(list)), len(x.got.files)
	p.Words = site.Plural(len(x.got.items)+len(x.drafts), "item", "items") + " of " + p.Origin.Name
	x.close(&p, tablesOf(list), x.got.files)
	p.SetDetail(x.choices)
	p.Sort()
	return p, nil
}

// remedy tells how much it matters that an item is left, and what can be done.
func (c *carrying) remedy(l Left) (sev site.Severity, remedy string) {
	switch {
	case l.Why == c.stands(c.to):
		return site.Note, fmt.Sprintf("alibi sync %s %s --to %s makes both the same", c.named(), l.Item, c.word(c.from()))
	case l.Why == undecided:
		remedy = fmt.Sprintf("--take %s=%s, --take %s=%s or --by-hand %s", l.Item, c.word(Copy), l.Item, c.word(Live), l.Item)
	default:
		remedy = "it stays as it is"
	}
	return site.Either(c.strict, site.Block, site.Warn), remedy
}

// finds adds what is to be known of a plan.
func (c *carrying) finds(ctx context.Context, p *plan.Plan, d Drifted, got *wanted) error {
	if f, by := p.Target.Relayed(); by && len(got.changes)+len(c.drafts) > 0 {
		p.Findings = append(p.Findings, f)
	}
	for _, l := range got.left {
		sev, remedy := c.remedy(l)
		add(p, sev, "left", l.Item+" is not carried: "+l.Why, remedy)
	}
	if len(got.changes)+len(got.files)+len(c.drafts) == 0 {
		remedy := "alibi drift " + c.named() + " shows what differs"
		if len(got.left) > 0 {
			_, how := c.remedy(got.left[0])
			remedy += "; " + got.left[0].Item + ": " + got.left[0].Why + ": " + how
		}
		add(p, site.Block, plan.Nothing, "nothing is to be carried to "+p.Target.Name, remedy)
	}
	both := map[string]bool{}
	for _, ch := range got.changes {
		both[ch.Item] = both[ch.Item] || ch.Merged
	}
	for _, f := range got.files {
		both[f.Item] = both[f.Item] || c.changedBoth(got.items, f.Item)
	}
	for _, it := range got.items {
		if both[it.Name] {
			add(p, site.Note, "merged", it.Name+" was changed on both sides, in different places: both changes are in what is "+
				"written", site.Either(c.both, "", "carry it to the other side too (--to both), for that to have both"))
		}
	}
	if n := c.twins(got.items); n > 0 {
		add(p, site.Note, "numbers", fmt.Sprintf("%s the same number as one of %s: the copy's gets another one, and what "+
			"refers to it follows", site.Plural(n, "item has", "items have"), c.LiveSite.Name), "")
	}
	names, err := c.shortNames(ctx, d.Items)
	if err != nil {
		return err
	}
	for r, to := range names {
		was := c.Transform.Items().ShortName(c.Transform.Change.Origin.Prefix, r.Table, *r.CopyRow).Name
		add(p, site.Note, "short-name", fmt.Sprintf("both sides gave the short name %q: what the copy gave it to gets %q",
			was, to.Name), "")
	}
	if caches(c.Sides, c.to) {
		add(p, site.Warn, "cache", "a cache of objects is on: visitors may see what was there before until it is emptied",
			"empty it afterwards: alibi caches "+p.Target.Name)
	}
	c.findsOfFiles(p, d, got)
	return nil
}

// findsOfFiles adds what is to be known of the files of a plan.
func (c *carrying) findsOfFiles(p *plan.Plan, d Drifted, got *wanted) {
	if slices.ContainsFunc(got.files, func(f File) bool { return f.Item == "core" }) {
		add(p, site.Note, "core", "the core's files are carried, not what its update makes of the tables",
			"sign in to the administration of "+p.Target.Name+" afterwards: the CMS updates its tables there by itself")
	}
	ofFiles := func(it *drift.Item) bool { return len(it.Rows) == 0 }
	for _, u := range d.Uncovered {
		if u.Why == drift.OnCopyAlone && slices.ContainsFunc(got.items, ofFiles) {
			add(p, site.Warn, "table", "table "+u.Table+" is on the copy alone, and no table is carried",
				"a plugin that comes makes its tables when it is switched on: if it misses them, switch it off and on there")
		}
	}
	if len(got.files) >= manyFiles {
		add(p, site.Note, "notice", "visitors of "+p.Target.Name+" see a notice while its files are exchanged", "")
	}
}

func add(p *plan.Plan, sev site.Severity, code, text, remedy string) {
	p.Findings = append(p.Findings, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
}

// perFile is how long exchanging a file takes at most: some questions and answers over a slow line.
const perFile = 200 * time.Millisecond

// mostWrites is how many files a plan names one by one.
const mostWrites = 12

// close adds what all plans of carrying have.
func (c *carrying) close(p *plan.Plan, tables []string, files []File) {
	for i, f := range files {
		if i == mostWrites {
			p.Writes = append(p.Writes, fmt.Sprintf("%s: %s more", p.Target.Name, site.Plural(len(files)-i, "file", "files")))
			break
		}
		p.Writes = append(p.Writes, p.Target.Name+": "+f.Path+site.Either(f.After.Path == "", " goes", ""))
	}
	if len(tables) > 0 {
		p.Writes = append(p.Writes, fmt.Sprintf("%s: %s in %s, in one transaction", p.Target.Name,
			site.Plural(p.Rows, "row", "rows"), strings.Join(tables, ", ")))
	}
	p.Estimate = plan.Estimate{Low: time.Second, High: 5*time.Second + time.Duration(p.Rows)*time.Millisecond +
		time.Duration(len(files))*perFile, Basis: "a restore point of what changed since the last one, the rows and files"}
	p.Stays = []plan.Part{{What: "everything else of " + p.Target.Name}}
	p.Steps = steps(p.Rows, len(files) > 0)
	p.Confirm = p.LiveConsent(p.Target)
}

func steps(rows int64, files bool) []plan.Step {
	out := []plan.Step{{Name: "look", Title: "look at both sides"}, {Name: "keep", Title: "take a restore point"}}
	if files {
		out = append(out, plan.Step{Name: "stage", Title: "bring the files"},
			plan.Step{Name: "files", Title: "exchange the files"})
	}
	return append(out, plan.Step{Name: "apply", Title: "write all rows", Work: rows, Unit: plan.Rows},
		plan.Step{Name: "prove", Title: "compare all of it"},
		plan.Step{Name: "settle", Title: "note what is common"})
}

// changedBoth tells whether both sides changed an item.
func (c *carrying) changedBoth(items []*drift.Item, name string) bool {
	return slices.ContainsFunc(items, func(it *drift.Item) bool { return it.Name == name && it.Merges })
}

// names are the items that are wished for and changed on the side that is read.
func (w Wish) names(all []*drift.Item, from Side) (out []string, err error) {
	has := func(name string) bool {
		return slices.ContainsFunc(all, func(it *drift.Item) bool { return it.Name == name })
	}
	w.Items = slices.Clone(w.Items)
	for i, name := range w.Items {
		if twin := drift.TwinOf(name, string(from)); !has(name) && has(twin) {
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
		if w.Picks(it) && (changed != drift.Same && !it.Noise && !it.Marks || slices.Contains(w.Items, it.Name)) {
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
		if n := len(it.Owns); n > 0 {
			what += ", and " + site.Plural(n, it.Owns[0].Kind, it.Owns[0].Kind+"s") + " of it"
		}
	default:
		what += " is changed: " + Differs(it)
	}
	if !slices.Contains(names, it.Name) {
		what += "; others need it"
	}
	return what
}

// mostFields is how many of the places in which an item differs are named.
const mostFields = 6

// Differs names what of an item differs.
func Differs(it *drift.Item) string {
	list := it.Fields
	if len(list) > mostFields {
		list = append(list[:mostFields:mostFields], fmt.Sprintf("%d more", len(it.Fields)-mostFields))
	}
	return strings.Join(list, ", ")
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
