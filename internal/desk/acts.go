package desk

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"alibi/internal/site"
	"alibi/internal/stack"
)

// act is one thing that was done on a copy and can be done on its origin.
type act struct {
	verb verb
	what string // a component's slug, a path
	text string // what the command line takes for it
}

type verb uint8

const (
	install verb = iota
	installTheme
	switchOn
	switchOff
	switchTheme
	uninstall
	carryPath
)

// subject is what an act decides: a later act on it makes the earlier one needless.
func (a act) subject() string {
	switch a.verb {
	case switchOn, switchOff:
		return "state " + a.what
	case switchTheme:
		return "theme"
	case carryPath:
		return "path " + a.what
	}
	return "version " + a.what
}

// settles are the subjects of earlier acts that are needless after this one.
func (a act) settles() []string {
	out := []string{a.subject()}
	if a.verb == install || a.verb == uninstall { // what is installed is on, what is removed is off
		out = append(out, "state "+a.what)
	}
	return out
}

// sameOn tells whether an origin is so already.
func (a act) sameOn(f *site.Facts) bool {
	if f == nil {
		return false
	}
	at := func(list []site.Component) (site.Component, bool) {
		i := slices.IndexFunc(list, func(c site.Component) bool { return c.Slug == a.what })
		if i < 0 {
			return site.Component{}, false
		}
		return list[i], true
	}
	p, has := at(f.Plugins)
	on := has && (p.State == "active" || p.State == "network")
	switch a.verb {
	case install:
		return on && a.text == a.what+"@"+p.Version
	case switchOn:
		return on
	case switchOff:
		return !on
	case uninstall:
		_, theme := at(f.Themes)
		return !has && !theme
	case switchTheme:
		t, _ := at(f.Themes)
		return t.State == "active"
	}
	return false
}

// commands are those that do acts on an origin.
func commands(acts []act, copied, live string) (out []string) {
	say := func(format string, a ...any) { out = append(out, fmt.Sprintf(format, a...)) }
	var on, off []string
	for _, a := range acts {
		switch a.verb {
		case install:
			say("alibi install %s %s", live, a.text)
		case installTheme:
			say("alibi install %s %s --theme", live, a.text)
		case switchOn:
			on = append(on, a.what)
		case switchOff:
			off = append(off, a.what)
		}
	}
	if len(on) > 0 {
		say("alibi switch %s --on %s", live, strings.Join(on, ","))
	}
	if len(off) > 0 {
		say("alibi switch %s --off %s", live, strings.Join(off, ","))
	}
	for _, a := range acts {
		switch a.verb {
		case switchTheme:
			say("alibi switch %s --theme %s", live, a.what)
		case uninstall:
			say("alibi uninstall %s %s", live, a.what)
		case carryPath:
			say("alibi carry %s %s %s", copied, word(a.what), live)
		}
	}
	return out
}

// item names what drift calls the thing that an act changed; "" where that does not tell.
func (a act) item(st stack.Stack) string {
	of := stack.ItemsOf(st).FileItem
	stands := func(k site.ComponentKind) string {
		return of(path.Join(stack.ComponentsOf(st).Stands(k, a.what), "x")).Name
	}
	switch a.verb {
	case install, uninstall:
		return stands(site.Plugin)
	case installTheme:
		return stands(site.Theme)
	case carryPath:
		return of(a.what).Name
	}
	return ""
}

// netted leaves out of deeds, the oldest first, what a later one made needless, what the origin has already, and what
// went there since. A deed of which nothing is left is settled.
func netted(list []Deed, copied site.Site, live string, origin *site.Facts, went func(a act, since time.Time) bool) {
	settled := map[string]bool{}
	for i := len(list) - 1; i >= 0; i-- {
		x := &list[i]
		if x.Undone || len(x.acts) == 0 {
			continue
		}
		left := slices.DeleteFunc(slices.Clone(x.acts),
			func(a act) bool { return settled[a.subject()] || a.sameOn(origin) || went(a, x.At) })
		for _, a := range x.acts {
			for _, s := range a.settles() {
				settled[s] = true
			}
		}
		x.Commands = commands(left, copied.Name, live)
		x.Settled = len(left) == 0
	}
}
