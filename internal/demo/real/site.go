// Package real sets up machines and sites as they are in the world: WordPress on
// PHP, in MariaDB, behind nginx, reached by OpenSSH, all of it made up and on
// this machine. The CMS and further PHP versions come from a cache that
// script/real fills.
package real

import (
	"bytes"
	"context"
	"embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"alibi/internal/runtime/php"
	"alibi/internal/runtime/process"
	"alibi/internal/site"
	"alibi/internal/tables"
)

//go:embed seed.php
var seedPHP []byte

//go:embed tide-table.php
var tideTable []byte

//go:embed theme
var theme embed.FS

// Sub is a further site of a network.
type Sub struct {
	Name     string `json:"name"`
	Title    string `json:"title"`
	Tagline  string `json:"tagline"`
	Posts    int    `json:"posts"`
	Pictures int    `json:"pictures"`
}

// Spec is a site to be set up.
type Spec struct {
	Host       string        `json:"-"` // what Alibi calls the machine; "" is this one
	Root       string        `json:"-"`
	URL        string        `json:"url"`
	Title      string        `json:"title"`
	Tagline    string        `json:"tagline"`
	Posts      int           `json:"posts"`
	Pictures   int           `json:"pictures"`
	Network    []Sub         `json:"network,omitempty"`
	SubDomains bool          `json:"sub_domains,omitempty"`
	Blocks     bool          `json:"blocks,omitempty"` // has the theme of blocks that comes with the CMS
	Seed       int           `json:"seed"`
	Prefix     string        `json:"-"`
	Server     string        `json:"-"` // as the configuration names it
	Admin      tables.Server `json:"-"`
	Database   string        `json:"-"` // and the account's name
	Password   string        `json:"-"`
}

// Cache is where script/real puts things.
func Cache() (string, error) {
	if dir := os.Getenv("ALIBI_REAL"); dir != "" {
		return dir, nil
	}
	base, err := os.UserCacheDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(base, "alibi-real"), nil
}

// PHPs are the versions that are there, those of the cache among them.
func PHPs(ctx context.Context) ([]php.PHP, error) {
	dir, err := Cache()
	if err != nil {
		return nil, err
	}
	return php.Find(ctx, filepath.Join(dir, "php")), nil
}

// Make sets a site up: files, database, account, content.
func Make(ctx context.Context, s Spec) error {
	cache, err := Cache()
	if err != nil {
		return err
	}
	wp := filepath.Join(cache, "wordpress")
	if _, err := os.Stat(filepath.Join(wp, "wp-settings.php")); err != nil {
		return fmt.Errorf("WordPress is not in %s: run script/real first", cache)
	}
	if err := os.MkdirAll(filepath.Dir(s.Root), 0o755); err != nil {
		return err
	}
	if err := copyTree(ctx, wp, s.Root); err != nil {
		return err
	}
	if err := s.components(); err != nil {
		return err
	}
	if err := s.database(ctx); err != nil {
		return err
	}
	if err := s.config(false); err != nil {
		return err
	}
	if err := s.run(ctx, "install"); err != nil {
		return err
	}
	if err := s.config(s.Network != nil); err != nil {
		return err
	}
	if err := s.run(ctx, "fill"); err != nil {
		return err
	}
	return visit(ctx, s)
}

// components writes the plugin that each site has, and the classic theme, which most have too.
func (s Spec) components() error {
	content := filepath.Join(s.Root, "wp-content")
	plugin := filepath.Join(content, "plugins/tide-table")
	if err := os.MkdirAll(plugin, 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(plugin, "tide-table.php"), tideTable, 0o644); err != nil {
		return err
	}
	if s.Blocks {
		return nil
	}
	files, err := fs.Sub(theme, "theme")
	if err != nil {
		return err
	}
	return os.CopyFS(filepath.Join(content, "themes/skerry"), files)
}

// database makes the site's database and its account.
func (s Spec) database(ctx context.Context) error {
	account := tables.Account{Name: s.Database, Password: s.Password, From: []string{"localhost", "127.0.0.1"}}
	return s.Admin.MakeDatabase(ctx, s.Database, "utf8mb4", "utf8mb4_unicode_ci", account)
}

// config writes wp-config.php.
func (s Spec) config(network bool) error {
	var b strings.Builder
	b.WriteString("<?php\n/* The ferry line's site. https://skerryline.example/docs is not a setting. */\n")
	set := func(name, value string) { fmt.Fprintf(&b, "define( '%s', %s );\n", name, value) }
	str := func(v string) string { return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(v) + "'" }
	set("DB_NAME", str(s.Database))
	set("DB_USER", str(s.Database))
	set("DB_PASSWORD", str(s.Password))
	set("DB_HOST", str(s.Server))
	set("DB_CHARSET", "'utf8mb4'")
	for _, k := range []string{"AUTH_KEY", "SECURE_AUTH_KEY", "LOGGED_IN_KEY", "NONCE_KEY", "AUTH_SALT",
		"SECURE_AUTH_SALT", "LOGGED_IN_SALT", "NONCE_SALT"} {
		set(k, str("made up "+k+" of "+s.URL))
	}
	set("WP_MEMORY_LIMIT", "'128M'")
	set("WP_DEBUG", "false")
	set("AUTOMATIC_UPDATER_DISABLED", "true")
	if network {
		u, err := url.Parse(s.URL)
		if err != nil {
			return err
		}
		set("WP_ALLOW_MULTISITE", "true")
		set("MULTISITE", "true")
		set("SUBDOMAIN_INSTALL", site.Either(s.SubDomains, "true", "false"))
		set("DOMAIN_CURRENT_SITE", str(u.Host))
		set("PATH_CURRENT_SITE", "'/'")
		set("SITE_ID_CURRENT_SITE", "1")
		set("BLOG_ID_CURRENT_SITE", "1")
	}
	fmt.Fprintf(
		&b,
		"$table_prefix = %s;\nif ( ! defined( 'ABSPATH' ) ) {\n\tdefine( 'ABSPATH', __DIR__ . '/' "+
			");\n}\nrequire_once ABSPATH . 'wp-settings.php';\n",
		str(s.Prefix),
	)
	return os.WriteFile(filepath.Join(s.Root, "wp-config.php"), []byte(b.String()), 0o600)
}

// run has PHP run a phase of the set-up.
func (s Spec) run(ctx context.Context, phase string) error {
	versions, err := PHPs(ctx)
	if err != nil {
		return err
	}
	p, ok := php.Choose(versions, "8.2")
	if !ok {
		return fmt.Errorf("PHP 8.2 is not installed: run script/real first")
	}
	dir, err := os.MkdirTemp("", "alibi-seed-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	spec, err := json.Marshal(s)
	if err != nil {
		return err
	}
	for name, text := range map[string][]byte{"seed.php": seedPHP, "spec.json": spec} {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o600); err != nil {
			return err
		}
	}
	pr, err := process.Start(dir, "seed", nil, p.CLI, "-d", "memory_limit=1G", "-d", "opcache.enable_cli=0",
		filepath.Join(dir, "seed.php"), s.Root, filepath.Join(dir, "spec.json"), phase)
	if err != nil {
		return err
	}
	select {
	case <-pr.Done():
	case <-ctx.Done():
		_ = pr.Stop(0)
		return ctx.Err()
	}
	out, err := os.ReadFile(filepath.Join(dir, "seed.log"))
	if err != nil {
		return err
	}
	if !bytes.HasSuffix(bytes.TrimSpace(out), []byte("done")) {
		return fmt.Errorf("setting up %s (%s): %s", s.URL, phase, bytes.TrimSpace(out[max(0, len(out)-2000):]))
	}
	return nil
}
