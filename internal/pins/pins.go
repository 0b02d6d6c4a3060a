// Package pins reads and writes pin sheets: TOML files that say what a copy has
// to run. The format is described in docs/formats/pin-sheet.md.
package pins

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"alibi/internal/ballast"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
)

// Sheet is a pin sheet.
type Sheet struct {
	About    string         `toml:"about"`
	Core     Core           `toml:"core"`
	Runtime  Runtime        `toml:"runtime"`
	Settings Settings       `toml:"settings"`
	Plugins  map[string]Pin `toml:"-"`
	Themes   map[string]Pin `toml:"-"`
	// what becomes of plugins and themes that are not named: "leave" (usual), "off" or "remove"
	Others  string         `toml:"others"`
	Ballast map[string]int `toml:"ballast"`
	Lock    Lock           `toml:"lock"`

	RawPlugins map[string]any `toml:"plugins"`
	RawThemes  map[string]any `toml:"themes"`

	lines map[string]int // by path
}

// Core pins the CMS.
type Core struct {
	Version  string `toml:"version"`
	Language string `toml:"language"`
	Network  *bool  `toml:"network"`
}

// Runtime pins what the code runs on.
type Runtime struct {
	PHP        string `toml:"php"`
	Memory     string `toml:"memory"`
	Seconds    int    `toml:"seconds"`
	Upload     string `toml:"upload"`
	Bounds     string `toml:"bounds"` // of its programs: site.Bounds.With
	ShowErrors bool   `toml:"show_errors"`

	Extensions []string `toml:"extensions"` // besides the usual ones ("intl"), and not ("-gd")
}

// Wanted is the runtime that the sheet asks for, as a site has one.
func (r Runtime) Wanted() site.Runtime {
	extensions, _ := php.ParseChoice(r.Extensions) // it was checked when the sheet was read
	return site.Runtime{PHP: r.PHP, Memory: r.Memory, RunTime: r.Seconds, Upload: r.Upload, Show: r.ShowErrors,
		Extensions: extensions, Bounds: r.Bounds}
}

// Settings pins some of the site's own.
type Settings struct {
	Debug   *bool     `toml:"debug"`
	Updates string    `toml:"updates"` // by itself: "off", "core" or "all"
	Quiet   *[]string `toml:"quiet"`
}

// Pin is one component.
type Pin struct {
	Version string // exact, a range, or "newest"; "": any
	State   string // "on" or "off"; "": as it is, or on where it comes anew
	From    string // where it comes from, if not from the catalogue
	Ref     string
	Digest  string
}

// Lock is what ranges meant when the sheet was locked.
type Lock struct {
	At      time.Time         `toml:"at"`
	Core    string            `toml:"core"`
	Plugins map[string]Locked `toml:"plugins"`
	Themes  map[string]Locked `toml:"themes"`
}

// Locked is an exact version, with the digest of its files.
type Locked struct {
	Version string `toml:"version"`
	Digest  string `toml:"digest"`
}

// Errors are what is wrong with a sheet, with lines.
type Errors []error

func (e Errors) Error() string {
	var out []string
	for _, x := range e {
		out = append(out, x.Error())
	}
	return strings.Join(out, "\n")
}

// Parse reads a sheet; name is what its errors call it.
func Parse(name string, src []byte) (*Sheet, error) {
	s := &Sheet{}
	dec := toml.NewDecoder(bytes.NewReader(src)).DisallowUnknownFields()
	if err := dec.Decode(s); err != nil {
		var at *toml.DecodeError
		var strict *toml.StrictMissingError
		switch {
		case errors.As(err, &strict):
			var all Errors
			for _, e := range strict.Errors {
				line, _ := e.Position()
				all = append(all, fmt.Errorf("%s, line %d: there is nothing called %q in a pin sheet", name, line,
					strings.Join(e.Key(), ".")))
			}
			return nil, all
		case errors.As(err, &at):
			line, _ := at.Position()
			return nil, Errors{fmt.Errorf("%s, line %d: %s", name, line, strings.TrimPrefix(at.Error(), "toml: "))}
		}
		return nil, Errors{fmt.Errorf("%s: %w", name, err)}
	}
	s.lines = lines(src)
	var all Errors
	wrong := func(path, format string, a ...any) {
		all = append(all, fmt.Errorf("%s, line %d: %s", name, s.lines[path], fmt.Sprintf(format, a...)))
	}
	s.Plugins, s.Themes = s.pins("plugins", s.RawPlugins, wrong), s.pins("themes", s.RawThemes, wrong)
	s.RawPlugins, s.RawThemes = nil, nil
	s.check(wrong)
	if len(all) > 0 {
		return nil, all
	}
	return s, nil
}

// lines tells on which line each key stands.
func lines(src []byte) map[string]int {
	out := map[string]int{}
	var p unstable.Parser
	p.Reset(src)
	var table []string
	keys := func(it unstable.Iterator) (path []string, line int) {
		for it.Next() {
			path = append(path, string(it.Node().Data))
			line = p.Shape(p.Range(it.Node().Data)).Start.Line
		}
		return path, line
	}
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.Table:
			var line int
			table, line = keys(e.Key())
			out[strings.Join(table, ".")] = line
		case unstable.KeyValue:
			path, line := keys(e.Key())
			out[strings.Join(slices.Concat(table, path), ".")] = line
		}
	}
	return out
}

// pins reads the components of a table: a text is the version, a table says more.
func (s *Sheet) pins(what string, raw map[string]any, wrong func(path, format string, a ...any)) map[string]Pin {
	out := map[string]Pin{}
	for slug, v := range raw {
		at := what + "." + slug
		if !site.GoodSlug(slug) {
			wrong(at, "%q can't be the name of one of %s", slug, what)
			continue
		}
		var p Pin
		switch v := v.(type) {
		case string:
			p.Version = v
		case map[string]any:
			fields := map[string]*string{"version": &p.Version, "state": &p.State, "from": &p.From, "ref": &p.Ref,
				"digest": &p.Digest}
			for k, x := range v {
				if text, ok := x.(string); ok && fields[k] != nil {
					*fields[k] = text
					continue
				}
				wrong(at, "%s of %s: a component has version, state, from, ref and digest, each a text", k, slug)
			}
		default:
			wrong(at, "%s: write its version as a text, or a table with version, state, from, ref and digest", slug)
			continue
		}
		if err := CheckRange(p.Version); err != nil {
			wrong(at, "%s: %v", slug, err)
		}
		if p.State != "" && p.State != "on" && p.State != "off" {
			wrong(at, "%s: a component is on or off, not %q", slug, p.State)
		}
		if p.Digest != "" && !strings.HasPrefix(p.Digest, "sha256:") {
			wrong(at, "%s: a digest begins with sha256:", slug)
		}
		if p.From != "" {
			if _, err := site.ParseSource("", p.From); err != nil {
				wrong(at, "%s: %v", slug, err)
			}
		}
		out[slug] = p
	}
	return out
}

func (s *Sheet) check(wrong func(path, format string, a ...any)) {
	if err := CheckRange(s.Core.Version); err != nil {
		wrong("core.version", "the core: %v", err)
	}
	for _, x := range []struct{ path, v string }{{"runtime.memory", s.Runtime.Memory},
		{"runtime.upload", s.Runtime.Upload}} {
		if _, err := site.ParseSize(x.v); x.v != "" && (err != nil || strings.Trim(x.v, "0123456789KMG") != "") {
			wrong(x.path, "%q is no size that PHP knows: write 256M or 1G", x.v)
		}
	}
	if v := s.Runtime.PHP; v != "" && (strings.Count(v, ".") != 1 || strings.Trim(v, "0123456789.") != "") {
		wrong("runtime.php", "%q is no series of PHP: write 8.2", v)
	}
	if _, err := php.ParseChoice(s.Runtime.Extensions); err != nil {
		wrong("runtime.extensions", "%v", err)
	}
	if _, err := (site.Bounds{}).With(s.Runtime.Bounds); err != nil {
		wrong("runtime.bounds", "%v", err)
	}
	if s.Runtime.Seconds < 0 {
		wrong("runtime.seconds", "%d seconds is no time", s.Runtime.Seconds)
	}
	if !slices.Contains([]string{"", "off", "core", "all"}, s.Settings.Updates) {
		wrong("settings.updates", "updates are off, core or all, not %q", s.Settings.Updates)
	}
	if !slices.Contains([]string{"", "leave", "off", "remove"}, s.Others) {
		wrong("others", "others are left (leave), deactivated (off) or removed (remove), not %q", s.Others)
	}
	if s.Settings.Quiet != nil {
		for _, r := range *s.Settings.Quiet {
			if site.Rule(r).Explain() == "" {
				wrong("settings.quiet", "%q is no quiet rule: mail, tasks, statistics, robots, payments, webhooks", r)
			}
		}
	}
	on := ""
	for slug, p := range s.Themes {
		if p.State == "on" {
			if on != "" {
				wrong("themes."+slug, "two themes are on: %s and %s", min(on, slug), max(on, slug))
			}
			on = slug
		}
	}
	for kind, n := range s.Ballast {
		if !slices.Contains(ballast.Kinds, kind) || n < 0 {
			wrong("ballast."+kind, "there is no ballast of %d %s: it is of %s", n, kind,
				strings.Join(ballast.Kinds, ", "))
		}
	}
}

// Explain says in one sentence what the sheet means.
func (s *Sheet) Explain() string {
	var parts []string
	core := "any core"
	if s.Core.Version != "" {
		core = "core " + s.Core.Version
	}
	if s.Core.Language != "" {
		core += " in " + s.Core.Language
	}
	if s.Core.Network != nil {
		core += site.Either(*s.Core.Network, ", a network", ", a single site")
	}
	php := "any PHP"
	if s.Runtime.PHP != "" {
		php = "PHP " + s.Runtime.PHP
	}
	parts = append(parts, core+" on "+php)
	exact, floating, off := 0, 0, 0
	for _, p := range s.Plugins {
		switch {
		case p.State == "off":
			off++
		case Exact(p.Version):
			exact++
		default:
			floating++
		}
	}
	n := len(s.Plugins)
	text := fmt.Sprintf("%d plugins", n)
	if n == 1 {
		text = "1 plugin"
	}
	var how []string
	for _, x := range []struct {
		n    int
		what string
	}{{exact, "pinned"}, {floating, "floating"}, {off, "off"}} {
		if x.n > 0 {
			how = append(how, fmt.Sprintf("%d %s", x.n, x.what))
		}
	}
	if len(how) > 0 {
		text += " (" + strings.Join(how, ", ") + ")"
	}
	parts = append(parts, text)
	for _, slug := range slices.Sorted(maps.Keys(s.Themes)) {
		if s.Themes[slug].State == "on" {
			parts = append(parts, "the theme "+slug)
		}
	}
	switch s.Others {
	case "off":
		parts = append(parts, "everything else off")
	case "remove":
		parts = append(parts, "nothing else")
	}
	if !s.Lock.At.IsZero() {
		parts = append(parts, "locked on "+s.Lock.At.Format("2 Jan 2006"))
	}
	return strings.Join(parts, ", ")
}
