package desk

import (
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"
	"unicode"

	"alibi/internal/catalogue"
	"alibi/internal/op/carry"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// Deed is something that was done on a copy, to be repeated on its origin.
type Deed struct {
	ID       string    `json:"id"`
	At       time.Time `json:"at"`
	Who      string    `json:"who"`
	Text     string    `json:"text"`
	Commands []string  `json:"commands,omitempty"` // that do it on the origin
	Repeated bool      `json:"repeated,omitempty"`
	Undone   bool      `json:"undone,omitempty"` // the copy was brought back to what it was before
	// Settled tells that a later deed made it needless, or that the origin is so already.
	Settled bool `json:"settled,omitempty"`

	acts []act
}

// WorkList lists what was done on a copy, oldest first.
func (d *Hands) WorkList(ctx context.Context, id site.ID) ([]Deed, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return nil, err
	}
	if s.Role != site.Copy {
		return nil, fmt.Errorf("%s is a live site: a work list is of a copy", s.Name)
	}
	live := "LIVE"
	var facts *site.Facts
	if o, err := d.record.Site(ctx, s.Origin); err == nil {
		live, facts = o.Name, o.Facts
	}
	events, err := d.record.Events(ctx, id, 10_000)
	if err != nil {
		return nil, err
	}
	runs, err := d.record.RunsOf(ctx, id)
	if err != nil {
		return nil, err
	}
	out := []Deed{}
	repeated := map[string]bool{}
	for _, e := range events {
		switch e.Kind {
		case "repeated":
			if _, seen := repeated[e.Text]; !seen {
				repeated[e.Text] = true
			}
		case "repeat again":
			if _, seen := repeated[e.Text]; !seen {
				repeated[e.Text] = false
			}
		case "by hand", "statement":
			out = append(out, Deed{ID: "h" + fmt.Sprint(e.At.UnixMilli()), At: e.At, Who: e.Who, Text: e.Text})
		}
	}
	var back []plan.Run
	for _, r := range runs {
		if r.Plan.Target.ID != id || r.State != plan.Done {
			continue
		}
		switch r.Plan.Kind {
		case plan.Change:
			if x, ok := deed(r, s, live); ok {
				out = append(out, x)
			}
		case plan.Restore, plan.Refresh, plan.Reset:
			back = append(back, r)
		}
	}
	d.undone(ctx, out, back)
	for i := range out {
		out[i].Repeated = repeated[out[i].ID]
	}
	slices.SortStableFunc(out, func(a, b Deed) int { return a.At.Compare(b.At) })
	home, err := d.wentHome(ctx, s)
	if err != nil {
		return nil, err
	}
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return nil, err
	}
	netted(out, s, live, facts, func(a act, since time.Time) bool { return home[a.item(st)].After(since) })
	return out, nil
}

// wentHome tells when things of a copy were last carried to its origin, by what drift calls them, and not taken back.
func (d *core) wentHome(ctx context.Context, s site.Site) (map[string]time.Time, error) {
	runs, err := d.record.RunsOf(ctx, s.Origin)
	if err != nil {
		return nil, err
	}
	out, undone := map[string]time.Time{}, map[string]bool{}
	for _, r := range runs { // the newest first
		c, err := plan.DetailOf[carry.Choices](r.Plan)
		switch {
		case r.Plan.Kind != plan.Sync || r.State != plan.Done || err != nil:
			continue
		case c.Undo != "":
			undone[c.Undo] = true
			if c.Then != nil {
				undone[c.Then.Undo] = true
			}
			continue
		case r.Plan.Origin.ID != s.ID || undone[r.ID]:
			continue
		}
		rec, err := carry.Kept(d.env, r.ID)
		if err != nil {
			continue // it is not known any more
		}
		for _, f := range rec.Files {
			if f.Dropped == "" && out[f.Item].Before(r.Began) {
				out[f.Item] = r.Began
			}
		}
	}
	return out, nil
}

// undone marks what a copy does not have any more.
func (d *core) undone(ctx context.Context, list []Deed, back []plan.Run) {
	for _, r := range back {
		since, first := time.Time{}, ""
		if c, err := plan.DetailOf[reset.Choices](r.Plan); err == nil && r.Plan.Kind == plan.Restore {
			if !c.Whole() {
				continue
			}
			p, err := d.points.FindPoint(ctx, c.Point)
			if err != nil {
				continue // nobody knows any more how far back that was
			}
			since, first = p.Taken, p.Run
		} else if r.Plan.Kind == plan.Reset {
			continue // what was changed since may be there still
		}
		for i := range list {
			if (list[i].At.After(since) || list[i].ID == first) && list[i].At.Before(r.Began) {
				list[i].Undone = true
			}
		}
	}
}

// deed reads what a run changed.
func deed(r plan.Run, s site.Site, live string) (Deed, bool) {
	k := reset.ChangeOf(r.Plan)
	if k == nil || k.Scrub || k.Caches || k.Ballast != nil || k.Account != nil {
		return Deed{}, false // for the copy alone
	}
	out := Deed{ID: r.ID, At: r.Began, Who: r.Plan.By, Text: r.Plan.Words}
	do := func(v verb, what, text string) { out.acts = append(out.acts, act{v, what, text}) }
	for _, p := range k.Put {
		switch {
		case p.Source.Kind == site.Core:
			out.Text += "; the core of a live site is updated by its own page"
		case p.Source.Kind == site.Theme:
			do(installTheme, p.Source.Slug, named(p))
		default:
			do(install, p.Source.Slug, named(p))
		}
	}
	names := slices.DeleteFunc(slugs(k.Switch.On), func(n string) bool { // what is installed is activated by that
		return slices.ContainsFunc(k.Put, func(p catalogue.Package) bool { return p.Source.Slug == n })
	})
	for _, n := range names {
		do(switchOn, n, n)
	}
	for _, n := range k.Switch.Off {
		do(switchOff, n, n)
	}
	if k.Switch.Theme != "" {
		do(switchTheme, k.Switch.Theme, k.Switch.Theme)
	}
	for _, p := range k.Remove {
		do(uninstall, path.Base(p), path.Base(p))
	}
	for _, x := range k.Carry {
		do(carryPath, x.Path, x.Path)
	}
	for _, x := range k.Edit {
		do(carryPath, x.Path, x.Path)
	}
	out.Commands = commands(out.acts, s.Name, live)
	if k.Runtime != nil {
		out.Text += "; the runtime of a live site is its host's"
	}
	return out, true
}

// named writes a component as the command line takes it.
func named(p catalogue.Package) string {
	s := p.Source
	switch {
	case s.Git() && s.Ref != "":
		return word(s.From + "#" + s.Ref)
	case strings.HasPrefix(s.From, "site:"):
		return s.From + "/" + s.Slug
	case s.From != "":
		return word(s.From)
	}
	return s.Slug + "@" + s.Version
}

// word is a text as one word of a shell.
func word(s string) string {
	if strings.ContainsFunc(s, func(r rune) bool {
		return !strings.ContainsRune("/._-:@#", r) && !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}) || strings.HasPrefix(s, "#") {
		return quoted(s)
	}
	return s
}

func slugs(files []string) (out []string) {
	for _, f := range files {
		slug, _, _ := strings.Cut(f, "/")
		out = append(out, strings.TrimSuffix(slug, ".php"))
	}
	return out
}

// NoteDeed adds something to a copy's work list that was done by hand.
func (d *Hands) NoteDeed(ctx context.Context, id site.ID, text string) error {
	if text = strings.TrimSpace(text); text == "" {
		return fmt.Errorf("say what was done")
	}
	return d.log(ctx, id, "by hand", "%s", text)
}

// Repeated ticks something off, or takes the tick away.
func (d *Hands) Repeated(ctx context.Context, id site.ID, deed string, is bool) error {
	list, err := d.WorkList(ctx, id)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(x Deed) bool { return x.ID == deed }) {
		return fmt.Errorf("the work list has no %q; see: alibi worklist", deed)
	}
	return d.log(ctx, id, site.Either(is, "repeated", "repeat again"), "%s", deed)
}

// WriteDeeds writes a work list as Markdown, to be handed to whoever repeats it.
func WriteDeeds(w io.Writer, s site.Site, list []Deed) {
	fmt.Fprintf(w, "# What was done on %s\n\n", s.Name)
	for _, x := range list {
		if x.Undone || x.Settled {
			continue
		}
		fmt.Fprintf(w, "- [%s] %s (%s, %s)\n", site.Either(x.Repeated, "x", " "), x.Text,
			x.At.Format("2 Jan 2006 15:04"), x.Who)
		for _, c := range x.Commands {
			fmt.Fprintf(w, "      %s\n", c)
		}
	}
}
