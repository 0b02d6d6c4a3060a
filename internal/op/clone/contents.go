package clone

import (
	"slices"
	"strings"

	"alibi/internal/plan"
	"alibi/internal/site"
)

// contents says what follows from the choice of kinds of content and of tables.
func contents(p *plan.Plan, in Input, note func(site.Severity, string, string, string)) {
	f, c := in.Origin.Facts, in.Choices
	for _, t := range c.Empty {
		i := slices.IndexFunc(f.Tables, func(x site.Table) bool { return x.Name == t })
		if i < 0 {
			note(site.Block, "table", "the site has no table "+t, "choose from: "+tableNames(f))
			continue
		}
		p.Rows -= f.Tables[i].Rows
		p.Data -= f.Tables[i].Bytes
		p.LeftOut = append(p.LeftOut, plan.LeftOut{What: "rows of " + t, Why: "chosen", Bytes: f.Tables[i].Bytes})
	}
	if c.Only == nil {
		return
	}
	p.AtMost = true
	if len(f.Kinds) == 0 {
		note(site.Block, "kinds", "what kinds of content "+in.Origin.Name+" has is not known",
			"inspect it again, or bring all")
	}
	if len(c.Only) == 0 {
		note(site.Block, "kinds", "no kind of content is chosen", "choose at least one")
	}
	for _, k := range site.Kinds {
		n, chosen := f.Has(k), slices.Contains(c.Only, k)
		switch {
		case chosen && n == 0 && len(f.Kinds) > 0:
			note(site.Note, "kind-absent", in.Origin.Name+" has no "+string(k), "nothing is brought of this kind")
		case !chosen && n > 0:
			p.LeftOut = append(
				p.LeftOut,
				plan.LeftOut{
					What: site.Plural(n, "entry", "entries") + " of " + string(k),
					Why:  "chosen, but for what others need",
				},
			)
		}
	}
	if !slices.Contains(c.Only, site.Media) && f.Has(site.Media) > 0 {
		note(site.Note, "media-files", "the files of the media library come all the same: texts may name them",
			"leave out the folder of uploads too if they need not")
	}
}

func tableNames(f *site.Facts) string {
	names := make([]string, len(f.Tables))
	for i, t := range f.Tables {
		names[i] = t.Name
	}
	return strings.Join(names, ", ")
}

// scrubs tells whether personal data are made up, and says so.
func scrubs(in Input, t site.Site, note func(site.Severity, string, string, string)) bool {
	leaves := t.Host != in.Local && t.Host != in.Origin.Host
	switch c := in.Choices.Scrub; {
	case in.Origin.Facts.Database.Engine == "":
		return false
	case c == "on" || c == "" && in.Over != nil && in.Over.Scrubbed || c == "" && leaves ||
		in.Origin.Scrubbed && c == "":
		note(
			site.Note,
			"scrubbed",
			"names, mail addresses, phones, places and passwords of people are made up on the copy; nobody's "+
				"password signs in to it",
			"sign in with a key: alibi open "+t.Name+" --inside",
		)
		return true
	case c == "off" && leaves:
		note(site.Warn, "personal", "people's data go to "+t.Host+" as they are", "have them made up: --scrub")
	}
	return false
}
