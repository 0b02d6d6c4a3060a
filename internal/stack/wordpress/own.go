package wordpress

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/stack/phpsrc"
)

// ownConfig is what a copy's configuration sets: one unconditional list of
// constants that stands before anything else. PHP never gives a constant another
// value, so that nothing that the origin's configuration does later, in whatever
// branch or included file, changes it.
type ownConfig struct {
	names    []string
	literals map[string]string // PHP
}

func (o *ownConfig) set(name, literal string) {
	if o.literals == nil {
		o.literals = map[string]string{}
	}
	if _, there := o.literals[name]; !there {
		o.names = append(o.names, name)
	}
	o.literals[name] = literal
}

// database sets where the copy's tables are. A copy whose tables stand beside its
// origin's has the origin's account.
func (o *ownConfig) database(ctx context.Context, origin stack.Place, c stack.Change) error {
	db := c.Copy.Database
	if !db.Served() {
		return nil
	}
	password := c.Password
	if db.Beside() {
		var err error
		if password, err = (Stack{}).Password(ctx, origin); err != nil {
			return err
		}
	}
	o.set("DB_NAME", phpsrc.Literal(db.Name))
	o.set("DB_USER", phpsrc.Literal(db.User))
	o.set("DB_PASSWORD", phpsrc.Literal(password))
	o.set("DB_HOST", phpsrc.Literal(db.Server))
	return nil
}

// plugins has must-use plugins loaded from where the quiet plugin is, also where
// the origin's configuration names another folder.
func (o *ownConfig) plugins(conf config) {
	for _, name := range []string{"WPMU_PLUGIN_DIR", "WP_CONTENT_DIR"} {
		if _, there := conf.Constants[name]; there {
			o.set("WPMU_PLUGIN_DIR", "__DIR__ . '/wp-content/mu-plugins'")
		}
	}
}

// addresses sets those that the origin's configuration sets, whatever it makes
// them from.
func (o *ownConfig) addresses(conf config, c stack.Change) {
	if c.Origin.Network != nil {
		if _, there := conf.Constants["DOMAIN_CURRENT_SITE"]; there {
			o.set("DOMAIN_CURRENT_SITE", phpsrc.Literal(c.Copy.Address().HostPort()))
		}
		return
	}
	for _, name := range []string{"WP_HOME", "WP_SITEURL"} {
		s, there := conf.Constants[name]
		if !there {
			continue
		}
		to := c.Copy.Address().String()
		if s.Known && c.Rewriter != nil { // the core may be in a folder of its own
			if v, n, _ := c.Rewriter.Value([]byte(s.Value), rewrite.Settings); n > 0 {
				to = string(v)
			} else if strings.HasPrefix(s.Value, to) { // it was rewritten before
				to = s.Value
			}
		}
		o.set(name, phpsrc.Literal(strings.TrimSuffix(to, "/")))
	}
}

// behaviour sets what the copy does otherwise than its origin.
func (o *ownConfig) behaviour(c stack.Change) {
	if c.Quiet(site.QuietTasks) {
		o.set("DISABLE_WP_CRON", "true")
	}
	switch c.Copy.Settings.Updates {
	case "off":
		o.set("AUTOMATIC_UPDATER_DISABLED", "true")
	case "core":
		o.set("AUTOMATIC_UPDATER_DISABLED", "false")
		o.set("WP_AUTO_UPDATE_CORE", "true")
	case "all":
		o.set("AUTOMATIC_UPDATER_DISABLED", "false")
	}
	if d := c.Copy.Settings.Debug; d != nil {
		o.set("WP_DEBUG", fmt.Sprint(*d))
		o.set("WP_DEBUG_DISPLAY", "false")
	}
	if c.Copy.Runtime.Show {
		o.set("WP_DEBUG", "true")
		o.set("WP_DEBUG_DISPLAY", "true")
	}
}

// ownMark begins the copy's own part of its configuration.
const ownMark = "// What this copy works with, set by Alibi. Nothing below can change it."

// before gives the origin's configuration with the copy's own before it: what the
// origin sets of it is taken out where it stands by itself, and has no effect
// elsewhere. The table prefix, which is a variable, is set again just before the
// core is loaded.
func (o *ownConfig) before(conf config, prefix string) string {
	var b strings.Builder
	b.WriteString(ownMark + "\n")
	for _, n := range o.names {
		fmt.Fprintf(&b, "define( '%s', %s );\n", n, o.literals[n])
	}
	quoted := make([]string, len(o.names))
	for i, n := range o.names {
		quoted[i] = phpsrc.Literal(n)
	}
	fmt.Fprintf(&b, `set_error_handler( function ( $level, $text ) {
	return (bool) preg_match( '/^Constant (\\S+) already defined/i', $text, $m ) && in_array( $m[1], array( %s ), true );
}, E_WARNING | E_NOTICE );
`, strings.Join(quoted, ", "))
	rest := strings.TrimLeft(strings.TrimPrefix(conf.without(o.names), "\ufeff"), " \t\r\n")
	if !strings.HasPrefix(rest, "<?") {
		rest = "<?php\n?>" + rest
	}
	if prefix != "" {
		fmt.Fprintf(&b, "$table_prefix = %s;\n", phpsrc.Literal(prefix))
		rest = prefixAgain(rest, prefix)
	}
	b.WriteString("// The origin's configuration follows.\n")
	at := firstStatement(rest)
	return rest[:at] + "\n" + b.String() + strings.TrimLeft(rest[at:], " \t\r\n")
}

// firstStatement is the place in PHP source where the first statement may stand:
// behind the opening tag, and what must come before all others.
func firstStatement(src string) int {
	toks := phpsrc.Tokens(src)
	at := len(src)
	for i := 0; i < len(toks); i++ {
		t := toks[i]
		switch {
		case t.Kind == 'o':
			at = t.Hi
			continue
		case t.Kind == 'i' && (strings.EqualFold(t.Text, "declare") || strings.EqualFold(t.Text, "namespace")):
			for i < len(toks) && toks[i].Kind != ';' {
				i++
			}
			if i < len(toks) {
				at = toks[i].Hi
			}
			continue
		}
		return at
	}
	return at
}

// without takes the definitions of constants out of a configuration that stand in
// no branch and nothing else's definition rests on the place of.
func (c config) without(names []string) string {
	src := c.Src
	toks := phpsrc.Tokens(src)
	type span struct{ lo, hi int }
	var cut []span
	depth := 0
	for i := 0; i+3 < len(toks); i++ {
		switch toks[i].Kind {
		case '{':
			depth++
		case '}':
			depth--
		}
		t := toks[i]
		begins := i == 0 || toks[i-1].Kind == ';' || toks[i-1].Kind == 'o' || toks[i-1].Kind == '}'
		if depth != 0 || !begins || t.Kind != 'i' || !strings.EqualFold(t.Text, "define") || toks[i+1].Kind != '(' ||
			toks[i+2].Kind != 's' ||
			!slices.Contains(names, toks[i+2].Text) {
			continue
		}
		open := 0
		for j := i + 1; j < len(toks); j++ {
			if toks[j].Kind == '(' {
				open++
			}
			if toks[j].Kind == ')' {
				if open--; open == 0 {
					if j+1 < len(toks) && toks[j+1].Kind == ';' {
						cut = append(cut, span{t.Lo, toks[j+1].Hi})
					}
					break
				}
			}
		}
	}
	for _, s := range slices.Backward(cut) {
		src = src[:s.lo] + src[s.hi:]
	}
	return src
}

// prefixAgain sets the table prefix just before the core's settings are loaded.
func prefixAgain(src, prefix string) string {
	toks := phpsrc.Tokens(src)
	for i, t := range toks {
		if t.Kind != 's' || !strings.HasSuffix(t.Text, "wp-settings.php") {
			continue
		}
		for j := i; j >= 0; j-- {
			if k := toks[j]; k.Kind == 'i' &&
				slices.Contains([]string{"require", "require_once", "include", "include_once"},
					strings.ToLower(k.Text)) {
				return src[:k.Lo] + "$table_prefix = " + phpsrc.Literal(prefix) + "; " + src[k.Lo:]
			}
		}
	}
	return src
}

// databases are those that a configuration names, in the order of their places.
func (c config) databases() []string {
	var out []string
	for _, s := range c.Each["DB_NAME"] {
		if s.Known && !slices.Contains(out, s.Value) {
			out = append(out, s.Value)
		}
	}
	return out
}

// meant takes from each of the decisive constants the one that stands with a
// database's name: at the same of its places, where it has as many. It tells
// whether the configuration names that database.
func (c *config) meant(database string) bool {
	at := slices.IndexFunc(c.Each["DB_NAME"], func(s phpsrc.Setting) bool { return s.Known && s.Value == database })
	if at < 0 {
		return false
	}
	for _, n := range decisive {
		if len(c.Each[n]) == len(c.Each["DB_NAME"]) {
			c.Constants[n] = c.Each[n][at]
		}
	}
	c.chosen = true
	return true
}

// branches tells whether one of some constants is set in more than one place, or
// in a branch, so that what it is depends on what happens when it runs.
func (c config) branches(names ...string) bool {
	return slices.ContainsFunc(names, func(n string) bool {
		return len(c.Placed[n]) > 1 || slices.Contains(c.Placed[n], true)
	})
}
