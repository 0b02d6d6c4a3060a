package pins

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"alibi/internal/site"
)

// FromSite pins a site as it is.
func FromSite(s site.Site, php string, at time.Time) []byte {
	f := s.Facts
	var b strings.Builder
	line := func(format string, a ...any) { fmt.Fprintf(&b, format+"\n", a...) }
	line("# %s as it ran on %s", s.Name, at.Format("2 January 2006"))
	line("about = %s", quote("as "+s.Name+" ran on "+at.Format("2 Jan 2006")))
	line("")
	line("[core]")
	line("version = %s", quote(f.Core))
	line("network = %v", f.Network != nil)
	line("")
	line("[runtime]")
	if php != "" {
		line("php = %s", quote(php))
	}
	if r := s.Runtime; s.Role == site.Copy {
		if r.Memory != "" {
			line("memory = %s", quote(r.Memory))
		}
		if r.RunTime > 0 {
			line("seconds = %d", r.RunTime)
		}
		if r.Upload != "" {
			line("upload = %s", quote(r.Upload))
		}
		if r.Bounds != "" {
			line("bounds = %s", quote(r.Bounds))
		}
		if r.Extensions != "" {
			line("extensions = [%s]", `"`+strings.ReplaceAll(r.Extensions, " ", `", "`)+`"`)
		}
	}
	for _, x := range []struct {
		table string
		list  []site.Component
	}{{"plugins", f.Plugins}, {"themes", f.Themes}} {
		line("")
		line("[%s]", x.table)
		list := slices.Clone(x.list)
		slices.SortFunc(list, func(a, b site.Component) int { return strings.Compare(a.Slug, b.Slug) })
		for _, c := range list {
			if c.State == "must-use" || c.State == "missing" {
				line("# %s is %s", c.Slug, c.State)
				continue
			}
			line("%s = %s", key(c.Slug), component(c))
		}
	}
	return []byte(b.String())
}

func component(c site.Component) string {
	state := ""
	switch c.State {
	case "active", "network":
		state = "on"
	case "off":
		state = "off"
	}
	if state == "" {
		return quote(c.Version)
	}
	return fmt.Sprintf("{ version = %s, state = %s }", quote(c.Version), quote(state))
}

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`, "\r", `\r`).Replace(s) + `"`
}

// key writes a key, in quotes where it has to be.
func key(s string) string {
	if strings.Contains(s, ".") {
		return quote(s)
	}
	return s
}

// WithLock gives a sheet's text with another lock, which always stands last; all
// else, comments too, stays byte for byte.
func WithLock(src []byte, l Lock) []byte {
	text := strings.TrimRight(cutLock(string(src)), "\n") + "\n\n"
	var b strings.Builder
	fmt.Fprintf(&b, "# What the versions above meant; written by alibi pins lock.\n[lock]\nat = %s\n",
		l.At.UTC().Format(time.RFC3339))
	if l.Core != "" {
		fmt.Fprintf(&b, "core = %s\n", quote(l.Core))
	}
	for _, x := range []struct {
		table string
		all   map[string]Locked
	}{{"plugins", l.Plugins}, {"themes", l.Themes}} {
		if len(x.all) == 0 {
			continue
		}
		fmt.Fprintf(&b, "\n[lock.%s]\n", x.table)
		for _, slug := range slices.Sorted(maps.Keys(x.all)) {
			fmt.Fprintf(&b, "%s = { version = %s, digest = %s }\n", key(slug), quote(x.all[slug].Version),
				quote(x.all[slug].Digest))
		}
	}
	return []byte(text + b.String())
}

// cutLock takes the lock off the end of a sheet.
func cutLock(text string) string {
	at := -1
	lines := strings.SplitAfter(text, "\n")
	n := 0
	for i, l := range lines {
		if t := strings.TrimSpace(l); at < 0 && (t == "[lock]" || strings.HasPrefix(t, "[lock.")) {
			at = n
			if i > 0 && strings.HasPrefix(lines[i-1], "# What the versions above meant") {
				at -= len(lines[i-1])
			}
		}
		n += len(l)
	}
	if at < 0 {
		return text
	}
	return text[:at]
}

// Set gives a sheet's text with another version of a component. Comments and
// everything else stay.
func Set(src []byte, table, slug, version string) ([]byte, error) {
	lines := strings.SplitAfter(string(src), "\n")
	in, last := false, -1
	for i, l := range lines {
		t := strings.TrimSpace(l)
		if strings.HasPrefix(t, "[") {
			in = t == "["+table+"]" || strings.HasPrefix(t, "["+table+"] ")
			if in {
				last = i
			}
			continue
		}
		if !in {
			continue
		}
		if t != "" && !strings.HasPrefix(t, "#") {
			last = i
		}
		name, rest, ok := strings.Cut(t, "=")
		if name = strings.Trim(strings.TrimSpace(name), `"'`); !ok || name != slug {
			continue
		}
		was := versionIn(rest)
		if was == "" {
			return nil, fmt.Errorf("the line of %s says no version: edit it by hand", slug)
		}
		lines[i] = strings.Replace(l, was, quote(version), 1)
		return []byte(strings.Join(lines, "")), nil
	}
	add := key(slug) + " = " + quote(version) + "\n"
	if last < 0 {
		head, lock := cutLock(string(src)), ""
		lock = string(src)[len(head):]
		return []byte(
			strings.TrimRight(head, "\n") + "\n\n[" + table + "]\n" + add + site.Either(lock != "", "\n", "") +
				lock,
		), nil
	}
	if !strings.HasSuffix(lines[last], "\n") {
		lines[last] += "\n"
	}
	return []byte(strings.Join(slices.Insert(lines, last+1, add), "")), nil
}

// versionIn gives the quoted version in the value of a component.
func versionIn(value string) string {
	value = strings.TrimSpace(value)
	if strings.HasPrefix(value, "{") {
		_, after, ok := strings.Cut(value, "version")
		if !ok {
			return ""
		}
		_, value, _ = strings.Cut(after, "=")
		value = strings.TrimSpace(value)
	}
	if len(value) < 2 || value[0] != '"' && value[0] != '\'' {
		return ""
	}
	if end := strings.IndexByte(value[1:], value[0]); end >= 0 {
		return value[:end+2]
	}
	return ""
}
