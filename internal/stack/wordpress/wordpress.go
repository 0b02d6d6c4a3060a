// Package wordpress understands WordPress sites, single or network, from their
// files and tables alone (https://developer.wordpress.org/apis/wp-config-php/,
// https://codex.wordpress.org/Database_Description).
package wordpress

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"alibi/internal/host"
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/stack/phpsrc"
	"alibi/internal/tables"
)

// Stack is WordPress.
type Stack struct{}

var _ interface {
	stack.Stack
	stack.Laid
	stack.Settings
	stack.Movable
	stack.Contents
	stack.People
	stack.Filler
	stack.Installer
	stack.Notices
	stack.Caches
	stack.Secrets
	stack.Components
	stack.Describer
	stack.Items
	stack.Secretive
} = Stack{}

func (Stack) Name() string { return "wordpress" }

// Is looks for the core's version file.
func (Stack) Is(_ context.Context, p stack.Place) bool {
	_, err := p.Root.Lstat("wp-includes/version.php")
	return err == nil
}

// maxConfig bounds what is read of a configuration file.
const maxConfig = 1 << 20

// Layout is where WordPress has things.
func (Stack) Layout() stack.Layout {
	return stack.Layout{
		Config:  "wp-config.php",
		Uploads: "wp-content/uploads",
		Log:     "wp-content/debug.log",
		Caches:  "wp-content/cache",
		Folders: []string{"wp-content/plugins", "wp-content/themes", "wp-content/uploads"},
	}
}

// config is what a configuration file sets.
type config struct {
	phpsrc.Config
	evaluated bool  // PHP said what it sets
	chosen    bool  // which of its databases is meant is known
	why       error // why PHP could not say it, where it was asked
}

// readConfig reads src, which stands at the absolute path file. What it includes is told but for the core.
func readConfig(src, file string) config {
	c := config{Config: phpsrc.Read(src, file)}
	c.Includes = slices.DeleteFunc(c.Includes, func(n string) bool { return strings.HasSuffix(n, "wp-settings.php") })
	return c
}

// loadConfig reads the configuration, in the root or one folder above it, and has
// PHP say what it sets where that can't be told by reading. Of several databases it
// takes the one that is known to be the site's. above tells where it was.
func loadConfig(ctx context.Context, p stack.Place) (c config, above bool, err error) {
	if c, above, err = findConfig(ctx, p); err != nil || c.ambiguous() == "" {
		return c, above, err
	}
	read := c
	if p.PHP != nil && p.PHP() != "" {
		read.Constants, read.Variables = maps.Clone(c.Constants), maps.Clone(c.Variables)
		c, err = c.evaluate(ctx, p, above)
		if ctx.Err() != nil {
			return c, above, ctx.Err()
		}
		c.why = err
	}
	db := p.About(ctx).Database
	if db == "" || db == c.Constants["DB_NAME"].Value {
		c.chosen = db != ""
		return c, above, nil
	}
	if read.meant(db) {
		return read, above, nil
	}
	return c, above, nil
}

func findConfig(ctx context.Context, p stack.Place) (c config, above bool, err error) {
	b, err := host.ReadFile(p.Root, "wp-config.php", maxConfig)
	if err == nil {
		return readConfig(string(b), path.Join(p.Root.Path(), "wp-config.php")), false, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return c, false, fmt.Errorf("the configuration wp-config.php can't be read: %w; let the account that Alibi "+
			"signs in with read it", err)
	}
	up := path.Dir(p.Root.Path())
	parent, uerr := p.Host.Open(ctx, up)
	if uerr != nil {
		return c, false, fmt.Errorf("there is no wp-config.php, and the folder above can't be looked into: %w", uerr)
	}
	defer parent.Close()
	if b, uerr = host.ReadFile(parent, "wp-config.php", maxConfig); uerr != nil {
		return c, false, fmt.Errorf("there is no wp-config.php in %s nor above it: the site was never set up, or "+
			"this is not its folder: %w", p.Root.Path(), err)
	}
	return readConfig(string(b), path.Join(up, "wp-config.php")), true, nil
}

// database says where the configuration puts the tables.
func database(c config, root string) site.Database {
	db := site.Database{Engine: site.Served, Prefix: "wp_"}
	if v := c.Variables["table_prefix"]; v.Known {
		db.Prefix = v.Value
	}
	db.Server, db.Name, db.User = "localhost", c.Constants["DB_NAME"].Value, c.Constants["DB_USER"].Value
	if v := c.Constants["DB_HOST"]; v.Value != "" {
		db.Server = v.Value
	}
	engine, dir, file := c.Constants["DB_ENGINE"], c.Constants["DB_DIR"], c.Constants["DB_FILE"]
	if engine.Value == "sqlite" || dir.Known && c.Constants["DB_NAME"].Value == "" {
		d, f := path.Join(root, "wp-content/database"), ".ht.sqlite"
		if dir.Known && dir.Value != "" {
			d = dir.Value
		}
		if file.Known && file.Value != "" {
			f = file.Value
		}
		db = site.Database{Engine: site.File, Path: path.Join(d, f), Prefix: db.Prefix}
	}
	return db
}

// settingsTables hold settings, in which paths are meant.
var settingsTables = []string{"options", "sitemeta", "usermeta", "blogmeta", "postmeta", "termmeta"}

// Scope says that only the tables of settings hold paths.
func (Stack) Scope(table, _ string) rewrite.Scope {
	for _, s := range settingsTables {
		if strings.HasSuffix(table, s) {
			return rewrite.Settings
		}
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
	v, there := c.Constants["DB_PASSWORD"]
	if there && !v.Known {
		return "", fmt.Errorf(
			"the configuration works out DB_PASSWORD when it runs, and Alibi runs no code of a live site: %w; write "+
				"the value into wp-config.php",
			tables.ErrRefused,
		)
	}
	return v.Value, nil
}

// Owns takes the tables with the site's prefix, but for those of other
// installations whose prefix begins with this one.
func (Stack) Owns(s tables.Schema, prefix string) func(string) bool {
	var others []string
	for _, t := range s.Tables {
		p, ok := strings.CutSuffix(t.Name, "options")
		if _, posts := s.Table(p + "posts"); ok && posts && !isTable(t.Name, prefix, "options") {
			others = append(others, p)
		}
	}
	return func(table string) bool {
		for _, o := range others {
			if len(o) > len(prefix) && strings.HasPrefix(table, o) {
				return false
			}
		}
		return strings.HasPrefix(table, prefix)
	}
}
