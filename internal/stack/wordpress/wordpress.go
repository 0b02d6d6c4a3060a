// Package wordpress understands WordPress sites, single or network, from their
// files and tables alone (https://developer.wordpress.org/apis/wp-config-php/,
// https://codex.wordpress.org/Database_Description).
package wordpress

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"strings"

	"alibi/internal/host"
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// Stack is WordPress.
type Stack struct{}

func (Stack) Name() string { return "wordpress" }

// Is looks for the core's version file.
func (Stack) Is(_ context.Context, p stack.Place) bool {
	_, err := p.Root.Lstat("wp-includes/version.php")
	return err == nil
}

// maxConfig bounds what is read of a configuration file.
const maxConfig = 1 << 20

// loadConfig reads the configuration, in the root or one folder above it. above
// tells where it was.
func loadConfig(ctx context.Context, p stack.Place) (c config, above bool, err error) {
	b, err := host.ReadFile(p.Root, "wp-config.php", maxConfig)
	if err == nil {
		return readConfig(string(b), path.Join(p.Root.Path(), "wp-config.php")), false, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return c, false, fmt.Errorf("the configuration wp-config.php can't be read: %w; let the account that Alibi signs in with read it", err)
	}
	up := path.Dir(p.Root.Path())
	parent, uerr := p.Host.Open(ctx, up)
	if uerr != nil {
		return c, false, fmt.Errorf("there is no wp-config.php, and the folder above can't be looked into: %w", uerr)
	}
	defer parent.Close()
	if b, uerr = host.ReadFile(parent, "wp-config.php", maxConfig); uerr != nil {
		return c, false, fmt.Errorf("there is no wp-config.php in %s nor above it: the site was never set up, or this is not its folder: %w", p.Root.Path(), err)
	}
	return readConfig(string(b), path.Join(up, "wp-config.php")), true, nil
}

// database says where the configuration puts the tables.
func database(c config, root string) site.Database {
	db := site.Database{Engine: "mysql", Prefix: "wp_"}
	if v := c.variables["table_prefix"]; v.known {
		db.Prefix = v.value
	}
	db.Server, db.Name, db.User = "localhost", c.constants["DB_NAME"].value, c.constants["DB_USER"].value
	if v := c.constants["DB_HOST"]; v.value != "" {
		db.Server = v.value
	}
	engine, dir, file := c.constants["DB_ENGINE"], c.constants["DB_DIR"], c.constants["DB_FILE"]
	if engine.value == "sqlite" || dir.known && c.constants["DB_NAME"].value == "" {
		d, f := path.Join(root, "wp-content/database"), ".ht.sqlite"
		if dir.known && dir.value != "" {
			d = dir.value
		}
		if file.known && file.value != "" {
			f = file.value
		}
		db = site.Database{Engine: "sqlite", Path: path.Join(d, f), Prefix: db.Prefix}
	}
	return db
}

// settingsTables hold settings, in which paths are meant.
var settingsTables = regexp.MustCompile(`(options|sitemeta|usermeta|blogmeta|postmeta|termmeta)$`)

// Scope says that only the tables of settings hold paths.
func (Stack) Scope(table, _ string) rewrite.Scope {
	if settingsTables.MatchString(table) {
		return rewrite.Settings
	}
	return rewrite.Prose
}

// isTable tells whether table is the installation's, or one of its sub-sites',
// table of that name.
func isTable(table, prefix, name string) bool {
	rest, ok := strings.CutPrefix(table, prefix)
	rest = strings.TrimLeft(rest, "0123456789")
	return ok && (rest == name || rest == "_"+name)
}

// Password reads it from the configuration.
func (Stack) Password(ctx context.Context, p stack.Place) (string, error) {
	c, _, err := loadConfig(ctx, p)
	if err != nil {
		return "", err
	}
	v, there := c.constants["DB_PASSWORD"]
	if there && !v.known {
		return "", fmt.Errorf("the configuration works out DB_PASSWORD when it runs, and Alibi runs no code of a live site: %w; write the value into wp-config.php", tables.ErrRefused)
	}
	return v.value, nil
}

// touched are the settings that Adjust changes.
var touched = []string{"blogname", "blog_public", "ping_sites"}

// Touches names the settings that Adjust changes.
func (Stack) Touches(prefix, table string) (string, []string) {
	if !isTable(table, prefix, "options") {
		return "", nil
	}
	return "option_name", touched
}

// Adjust sets the title, the wish not to be indexed and the list of services
// that are told of new posts.
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
	}
	if !set || v.String() == to {
		return 0
	}
	*v = tables.Value{Kind: tables.Text, Bytes: []byte(to)}
	return 1
}

// salts are the constants that sign sessions.
var salts = []string{"AUTH_KEY", "SECURE_AUTH_KEY", "LOGGED_IN_KEY", "NONCE_KEY", "AUTH_SALT", "SECURE_AUTH_SALT", "LOGGED_IN_SALT", "NONCE_SALT"}

// QuietFile is the must-use plugin that keeps what constants can't.
const QuietFile = "wp-content/mu-plugins/alibi-quiet.php"

// Configure rewrites the configuration for the copy and adds the quiet plugin.
func (Stack) Configure(ctx context.Context, origin stack.Place, c stack.Change) (map[string][]byte, error) {
	conf, _, err := loadConfig(ctx, origin)
	if err != nil {
		return nil, err
	}
	file := path.Join(c.Copy.Root, "wp-config.php")
	conf = readConfig(rewriteStrings(conf.src, c.Rewriter), file)
	set := func(name, literal string) { conf = readConfig(conf.with(name, literal), file) }
	set("WP_ENVIRONMENT_TYPE", "'staging'")
	if c.Copy.Database.Engine == "sqlite" {
		if now := database(conf, c.Copy.Root); now.Path != c.Copy.Database.Path {
			set("DB_DIR", phpLiteral(path.Dir(c.Copy.Database.Path)))
			set("DB_FILE", phpLiteral(path.Base(c.Copy.Database.Path)))
		}
	}
	if db := c.Copy.Database; db.Engine == "mysql" {
		for name, v := range map[string]string{"DB_NAME": db.Name, "DB_USER": db.User, "DB_PASSWORD": c.Password, "DB_HOST": db.Server} {
			set(name, phpLiteral(v))
		}
	}
	for _, name := range salts {
		if _, there := conf.constants[name]; there {
			set(name, phpLiteral(rand.Text()+rand.Text())) // sessions of the origin don't open the copy, nor the reverse
		}
	}
	if c.Quiet(site.QuietTasks) {
		set("DISABLE_WP_CRON", "true")
	}
	if c.Quiet(site.QuietWebhooks) || c.Quiet(site.QuietStatistics) || c.Quiet(site.QuietPayments) {
		set("WP_HTTP_BLOCK_EXTERNAL", "true")
	}
	out := map[string][]byte{"wp-config.php": []byte(conf.src)}
	if c.Quiet(site.QuietMail) || c.Quiet(site.QuietRobots) {
		out[QuietFile] = []byte(quietPlugin(c))
	}
	return out, nil
}

// rewriteStrings changes addresses and paths in the strings of PHP source.
func rewriteStrings(src string, r *rewrite.Rewriter) string {
	var b strings.Builder
	last := 0
	for _, t := range phpTokens(src) {
		if t.kind != 's' || r == nil {
			continue
		}
		out, n, _ := r.Value([]byte(src[t.lo:t.hi]), rewrite.Settings)
		if n > 0 {
			b.WriteString(src[last:t.lo])
			b.Write(out)
			last = t.hi
		}
	}
	return b.String() + src[last:]
}

func quietPlugin(c stack.Change) string {
	s := "<?php\n/*\nPlugin Name: Quiet rules\nDescription: What this copy must not do to the outside. Written by Alibi; lifted by a plan of Alibi's.\n*/\n"
	if c.Quiet(site.QuietMail) {
		s += "add_filter( 'pre_wp_mail', '__return_false' );\n"
	}
	if c.Quiet(site.QuietRobots) {
		s += "add_action( 'send_headers', function () { header( 'X-Robots-Tag: noindex, nofollow' ); } );\n"
	}
	return s
}
