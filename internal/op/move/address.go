package move

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// pairs rewrites the folder of a site into that of another place, and its addresses into the one that it has there;
// nil where both are the same.
func pairs(here, there site.Site) (*rewrite.Rewriter, error) {
	var folders []rewrite.PathPair
	if here.Root != there.Root {
		folders = append(folders, rewrite.PathPair{From: here.Root, To: there.Root})
	}
	var addresses []rewrite.Pair
	if here.Address() != there.Address() {
		all := here.Addresses
		if f := here.Facts; f != nil && len(f.Addresses) > 0 {
			all = f.Addresses
		}
		for _, p := range op.Pairs(all, there.Address()) {
			p.To.Path = there.Address().Path // a site of its own is in that folder, where copies are in none
			addresses = append(addresses, p)
		}
	}
	if len(folders)+len(addresses) == 0 {
		return nil, nil
	}
	return rewrite.New(addresses, folders)
}

// Redirects tells whether the site has another address at its new place: visitors who come by the former one are sent
// there.
func Redirects(m plan.Move) bool { return !m.To.Address.IsZero() }

// under gives pages of one address as they are called under another one.
func under(list []op.Page, from, to site.Address) []op.Page {
	out := make([]op.Page, 0, len(list))
	for _, p := range list {
		if rest, is := strings.CutPrefix(p.Path, from.Path+"/"); is {
			p.Path = to.Path + "/" + rest
		}
		out = append(out, p)
	}
	return out
}

// statuses has the pages of a list answer as others did, one by one.
func statuses(list, answered []op.Page) []op.Page {
	out := make([]op.Page, 0, len(list))
	for i, p := range list {
		if p.Status = 0; i < len(answered) {
			p.Status = answered[i].Status
		}
		out = append(out, p)
	}
	return out
}

// aboutAddress says what is to be known where the site gets another address.
func (v *surveying) aboutAddress() {
	m := v.m
	if !Redirects(m) {
		return
	}
	v.note(site.Warn, "address", "its address becomes "+m.To.Address.String()+": links to "+m.From.Address.String()+
		" are changed in rows and in the configuration, and whoever comes by the former one is sent to the new one",
		"refresh its copies afterwards, which know it by the former one")
	if v.here.Database.Engine == "" {
		v.note(site.Warn, "address", "it has no tables: addresses that stand in its files stay as they are",
			"change them by hand")
	}
}

// sent is the front of a place at which a site has left an address.
func sent(to, from site.Address) site.Front {
	return site.Front{Kind: site.FrontMoved, Address: to.String(), Path: from.Path}
}

// mostKept is up to how many values of a table are named.
const mostKept = 20

// keptIn names the values of rows that could not be rewritten.
func keptIn(c stack.Changed) (out []string) {
	for _, k := range c.Kept[:min(len(c.Kept), mostKept)] {
		out = append(out, k.String()+": it "+k.Why.String())
	}
	return out
}

// stillKept are those of before, but for the tables that were read since.
func stillKept(before, now map[string][]string) map[string][]string {
	out := map[string][]string{}
	maps.Copy(out, before)
	maps.Copy(out, now)
	maps.DeleteFunc(out, func(_ string, list []string) bool { return len(list) == 0 })
	return out
}

// aboutKept says which values name the former place still.
func aboutKept(m plan.Move) (out []site.Finding) {
	for _, table := range slices.Sorted(maps.Keys(m.Kept)) {
		list := m.Kept[table]
		one := len(list) == 1
		out = append(out, site.Finding{Severity: site.Warn, Code: "kept", Text: fmt.Sprintf("%d%s of the table %s %s the "+
			"former folder or address and could not be rewritten, the first: %s", len(list),
			site.Either(one, " value", site.Either(len(list) == mostKept, " values or more", " values")), table,
			site.Either(one, "names", "name"), list[0]), Remedy: "see whether the site needs it, and set it right by hand"})
	}
	return out
}
