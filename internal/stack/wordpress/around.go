package wordpress

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"strings"

	"alibi/internal/host"
	"alibi/internal/rewrite"
	"alibi/internal/stack"
	"alibi/internal/stack/phpsrc"
)

// shortestSecret is from which length on a value is looked for in texts: shorter ones stand there by chance.
const shortestSecret = 8

// Secrets gives what opens the site and its database: the password of its account, and what sessions
// are signed with.
func (Stack) Secrets(ctx context.Context, p stack.Place) ([]string, error) {
	conf, _, err := loadConfig(ctx, p)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, name := range append([]string{"DB_PASSWORD"}, salts...) {
		if v := conf.Constants[name]; v.Known && len(v.Value) >= shortestSecret &&
			!strings.HasPrefix(v.Value, "put your") {
			out = append(out, v.Value)
		}
	}
	return out, nil
}

// around are files beside the configuration that work with it, or are former ones.
var around = regexp.MustCompile(`(?i)^(\.env(\..*)?|\.user\.ini|php\.ini|\.htaccess|wp-config[^/]*)$`)

// pathDirectives are those of PHP's configuration that name files and folders.
// Source: "List of php.ini directives" of the PHP manual.
var pathDirectives = regexp.MustCompile(
	`(?i)^\s*(php_(?:admin_)?value\s+)?(auto_prepend_file|auto_append_file|include_path|error_log|open_basedir|` +
		`session\.save_path|session\.save_handler|upload_tmp_dir|` +
		`sys_temp_dir|sendmail_path|opcache\.preload|extension|zend_extension)\b`,
)

// surroundings writes the files that work with the configuration for the copy: paths and addresses
// are the copy's, what leads out of the site is left out, and what opens the live site is taken out.
func surroundings(
	ctx context.Context,
	origin stack.Place,
	c stack.Change,
	secrets []string,
) (map[string][]byte, error) {
	brought := c.Brought
	if brought == nil {
		brought = func(want func(string) bool) ([]string, error) { return besideConfig(origin.Root, want) }
	}
	names, err := brought(func(name string) bool {
		return around.MatchString(path.Base(name)) && name != "wp-config.php"
	})
	if err != nil {
		return nil, fmt.Errorf("looking for files beside the configuration: %w", err)
	}
	out := map[string][]byte{}
	for _, name := range names {
		fi, err := origin.Root.Lstat(name)
		if errors.Is(err, fs.ErrNotExist) || err == nil && (!fi.Mode().IsRegular() || fi.Size() > maxConfig) {
			continue
		}
		if err != nil {
			return nil, err
		}
		text, err := host.ReadFile(origin.Root, name, maxConfig)
		if errors.Is(err, fs.ErrPermission) || errors.Is(err, fs.ErrNotExist) {
			continue // the copy does not have it either
		}
		if err != nil {
			return nil, err
		}
		if now := forCopy(text, origin.Root.Path(), c, secrets); !bytes.Equal(now, text) {
			out[name] = now
		}
	}
	return out, ctx.Err()
}

// besideConfig gives the files in the folders where the configuration stands.
func besideConfig(root host.Tree, want func(string) bool) (out []string, err error) {
	for _, dir := range []string{".", "wp-admin"} {
		list, err := root.ReadDir(dir)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		for _, fi := range list {
			if name := path.Join(dir, fi.Name()); want(name) {
				out = append(out, name)
			}
		}
	}
	return out, nil
}

// forCopy writes the text of such a file for the copy.
func forCopy(text []byte, root string, c stack.Change, secrets []string) []byte {
	if c.Rewriter != nil {
		if now, n, _ := c.Rewriter.Value(text, rewrite.Settings); n > 0 {
			text = now
		}
	}
	for _, s := range secrets {
		text = bytes.ReplaceAll(text, []byte(s), []byte("taken-out-on-the-copy"))
	}
	lines := strings.Split(string(text), "\n")
	for i, line := range lines {
		if !pathDirectives.MatchString(line) {
			continue
		}
		line = strings.ReplaceAll(line, strings.TrimSuffix(root, "/")+"/", c.Copy.Root+"/")
		if leadsOut(line, c.Copy.Root) {
			line = "; left out on this copy, since it leads out of the site: " + strings.TrimSpace(line)
			if strings.Contains(line, "php_") {
				line = "#" + line[1:]
			}
		}
		lines[i] = line
	}
	return []byte(strings.Join(lines, "\n"))
}

var absolute = regexp.MustCompile(`(^|[\s"'=:;])(/[^\s"':;]+)`)

// leadsOut tells whether a line names a file outside a folder.
func leadsOut(line, root string) bool {
	for _, m := range absolute.FindAllStringSubmatch(line, -1) {
		if p := path.Clean(m[2]); p != root && !strings.HasPrefix(p, root+"/") {
			return true
		}
	}
	return strings.Contains(line, "://")
}

// cache keeps the copy's objects apart from those of its origin in a cache that both may reach. The
// file that switches such a cache on is not brought at all.
func (o *ownConfig) cache(c stack.Change) {
	own := phpsrc.Literal("alibi-" + string(c.Copy.ID) + ":")
	o.set("WP_CACHE_KEY_SALT", own)
	o.set("WP_REDIS_PREFIX", own)
}
