package wordpress

import (
	"context"
	"crypto/rand"
	_ "embed"
	"maps"
	"path"
	"slices"
	"strings"

	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/stack/phpsrc"
	"alibi/internal/tables"
)

// touched are the settings that Adjust changes.
var touched = []string{"blogname", "blog_public", "ping_sites", "rewrite_rules"}

// Touches names the settings that Adjust changes.
func (Stack) Touches(prefix, table string) (string, []string) {
	if !isTable(table, prefix, "options") {
		return "", nil
	}
	return "option_name", touched
}

// Keyed names the columns of settings whose names may begin with the prefix.
func (Stack) Keyed(prefix, table string) string {
	switch {
	case isTable(table, prefix, "options"):
		return "option_name"
	case isTable(table, prefix, "usermeta"):
		return "meta_key"
	}
	return ""
}

// Adjust sets the title, the wish not to be indexed and the list of services
// that are told of new posts, and has the CMS make its link structure anew.
func (Stack) Adjust(c stack.Change, t tables.Table, row tables.Row) int {
	if !isTable(t.Name, c.Origin.Prefix, "options") {
		return 0
	}
	name, value := t.Column("option_name"), t.Column("option_value")
	if name < 0 || value < 0 {
		return 0
	}
	to, set := "", false
	v := &row.Values[value]
	switch string(row.Values[name].Bytes) {
	case "blogname":
		to, set = stack.TitleMark+v.String(), c.Title && !strings.HasPrefix(v.String(), stack.TitleMark)
	case "blog_public":
		to, set = "0", c.Quiet(site.QuietRobots)
	case "ping_sites":
		to, set = "", c.Quiet(site.QuietWebhooks)
	case "rewrite_rules":
		set = true
	}
	if !set || v.String() == to {
		return 0
	}
	*v = tables.Value{Kind: tables.Text, Bytes: []byte(to)}
	return 1
}

// salts are the constants that sign sessions.
var salts = []string{
	"AUTH_KEY",
	"SECURE_AUTH_KEY",
	"LOGGED_IN_KEY",
	"NONCE_KEY",
	"AUTH_SALT",
	"SECURE_AUTH_SALT",
	"LOGGED_IN_SALT",
	"NONCE_SALT",
}

// QuietFile is the must-use plugin that keeps what constants can't.
const QuietFile = "wp-content/mu-plugins/alibi-quiet.php"

// Configure rewrites the configuration for the copy and adds the quiet plugin.
func (Stack) Configure(ctx context.Context, origin stack.Place, c stack.Change) (map[string][]byte, error) {
	conf, _, err := loadConfig(ctx, origin)
	if err != nil {
		return nil, err
	}
	file := path.Join(c.Copy.Root, "wp-config.php")
	conf = readConfig(rewriteStrings(conf.Src, c.Rewriter), file)
	own := &ownConfig{}
	own.set("WP_ENVIRONMENT_TYPE", "'staging'")
	if c.Copy.Database.InFile() {
		own.set("DB_DIR", phpsrc.Literal(path.Dir(c.Copy.Database.Path)))
		own.set("DB_FILE", phpsrc.Literal(path.Base(c.Copy.Database.Path)))
	}
	if err := own.database(ctx, origin, c); err != nil {
		return nil, err
	}
	for _, name := range salts {
		// sessions of the origin don't open the copy, nor the reverse
		own.set(name, phpsrc.Literal(rand.Text()+rand.Text()))
	}
	own.addresses(conf, c)
	own.plugins(conf)
	own.behaviour(c)
	own.cache(c)
	secrets, err := (Stack{}).Secrets(ctx, origin)
	if err != nil {
		return nil, err
	}
	out, err := surroundings(ctx, origin, c, secrets)
	if err != nil {
		return nil, err
	}
	out["wp-config.php"] = []byte(own.before(conf, c.Copy.Database.Prefix))
	out[QuietFile] = []byte(quietPlugin(c))
	return out, nil
}

// rewriteStrings changes addresses and paths in the strings of PHP source.
func rewriteStrings(src string, r *rewrite.Rewriter) string {
	var b strings.Builder
	last := 0
	for _, t := range phpsrc.Tokens(src) {
		if t.Kind != 's' || r == nil {
			continue
		}
		out, n, _ := r.Value([]byte(src[t.Lo:t.Hi]), rewrite.Settings)
		if n > 0 {
			b.WriteString(src[last:t.Lo])
			b.Write(out)
			last = t.Hi
		}
	}
	return b.String() + src[last:]
}

//go:embed quiet.php
var quietPHP string

//go:embed tries.php
var triesPHP string

// Caught is the folder to which a copy writes what would have left it.
func (Stack) Caught(s site.Site) string { return path.Join(path.Dir(s.Root), "caught") }

// quietPlugin is the must-use plugin with the copy's settings.
func quietPlugin(c stack.Change) string {
	var rules, own, known []string
	for _, r := range c.Copy.Quiet {
		rules = append(rules, phpsrc.Literal(string(r)))
	}
	for _, a := range append(slices.Clone(c.Copy.Addresses), site.Address{Host: "localhost"}) {
		own = append(own, phpsrc.Literal(a.Host))
	}
	byHost := map[string]site.Rule{}
	for _, o := range c.Origin.Outward {
		byHost[o.Host] = o.Rule
	}
	for _, h := range slices.Sorted(maps.Keys(byHost)) {
		known = append(known, phpsrc.Literal(h)+" => "+phpsrc.Literal(string(byHost[h])))
	}
	var allow []string
	for _, h := range c.Copy.AllowedHosts() {
		allow = append(allow, phpsrc.Literal(h))
	}
	list := func(items []string) string { return "array( " + strings.Join(items, ", ") + " )" }
	settings := "array(\n\t\t'rules'  => " + list(rules) + ",\n\t\t'own'    => " + list(own) + ",\n\t\t'allow'  => " +
		list(allow) + ",\n\t\t'known'  => " + list(known) +
		",\n\t\t'caught' => " + phpsrc.Literal(Stack{}.Caught(c.Copy)) +
		",\n\t\t'secret' => " + phpsrc.Literal(c.Secret) + ",\n\t)"
	return strings.Replace(quietPHP, "/*SETTINGS*/array()", settings, 1) + triesPHP
}
