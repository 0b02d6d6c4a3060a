package wordpress

import (
	"bytes"
	"cmp"
	"context"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/runtime/wall"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/stack/phpsrc"
)

// A configuration is PHP, and what it sets may depend on which host name is asked
// for, on the environment, or on other files. Where it does, and a PHP is at hand,
// PHP itself says what it sets: in a folder of its own that holds nothing but the
// configuration, without extensions, and with all functions turned off that reach
// anything. No other code of the site is run.

//go:embed evaluate.php
var evaluatePHP []byte

// decisive are the settings that say which site a configuration is about.
var decisive = []string{"DB_NAME", "DB_USER", "DB_PASSWORD", "DB_HOST", "DB_DIR", "DB_FILE", "WP_HOME", "WP_SITEURL"}

// turnedOff are the functions that reach anything but files, which open_basedir
// keeps to the folder.
var turnedOff = strings.Join(
	[]string{
		"exec",
		"shell_exec",
		"system",
		"passthru",
		"popen",
		"proc_open",
		"pcntl_exec",
		"pcntl_fork",
		"mail",
		"dl",
		"putenv",
		"fsockopen",
		"pfsockopen",
		"stream_socket_client",
		"stream_socket_server",
		"socket_create",
		"gethostbyname",
		"gethostbynamel",
		"dns_get_record",
		"curl_init",
		"mysqli_connect",
		"posix_kill",
		"symlink",
		"link",
		"ini_set",
		"set_time_limit",
		"sleep",
		"usleep",
	},
	",",
)

// ambiguous says in words why what a configuration sets can't be told by reading
// it; "" where it can.
func (c config) ambiguous() string {
	for _, n := range decisive {
		if c.branches(n) {
			return "it sets " + n + " in a branch, or in more than one place"
		}
		if s, there := c.Constants[n]; there && !s.Known {
			return "it works out " + n + " when it runs"
		}
	}
	if len(c.Includes) > 0 {
		return "it includes " + c.Includes[0]
	}
	return ""
}

// evaluate has PHP say what an ambiguous configuration sets, for the site's host
// name.
func (c config) evaluate(ctx context.Context, p stack.Place, above bool) (config, error) {
	dir, err := os.MkdirTemp(p.Temp, "config-")
	if err != nil {
		return c, err
	}
	defer os.RemoveAll(dir)
	root := p.Root.Path()
	here := func(name string) string { return filepath.Join(dir, "t", name) }
	file := path.Join(root, "wp-config.php")
	if above {
		file = path.Join(path.Dir(root), "wp-config.php")
	}
	if err := c.layOut(ctx, p, file, here); err != nil {
		return c, err
	}
	run := filepath.Join(dir, "evaluate.php")
	if err := os.WriteFile(run, evaluatePHP, 0o600); err != nil {
		return c, err
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	cmd, err := wall.Once(ctx, dir, site.Bounds{Program: 1 << 30, Processes: 8, CPU: 5 * time.Second, File: 1 << 20},
		p.PHP(), "-n", "-d", "open_basedir="+dir, "-d", "disable_functions="+turnedOff,
		"-d", "allow_url_fopen=0", "-d", "memory_limit=64M", "-d", "max_execution_time=4", "-d", "display_errors=0",
		"-d", "log_errors=0", run, here(file), here(root), p.About(ctx).HostPort)
	if err != nil {
		return c, err
	}
	cmd.Env, cmd.Dir, cmd.WaitDelay = []string{"PATH=/usr/bin:/bin"}, dir, time.Second
	text, err := cmd.Output()
	return c.said(text, err, dir, func(v string) string { return strings.ReplaceAll(v, filepath.Join(dir, "t"), "") })
}

// layOut writes the configuration, and what it includes, as they stand to one
// another there: below a folder of ours, which their absolute paths are led to.
func (c config) layOut(ctx context.Context, p stack.Place, file string, here func(string) string) error {
	texts, root := c.reads(ctx, p, file), p.Root.Path()
	texts[path.Join(root, "wp-settings.php")] = "<?php\n"
	for name, text := range texts {
		for led := range texts {
			if _, inside := strings.CutPrefix(led, root+"/"); !inside {
				text = strings.ReplaceAll(text, phpsrc.Literal(led), phpsrc.Literal(here(led)))
				text = strings.ReplaceAll(text, `"`+led+`"`, phpsrc.Literal(here(led)))
			}
		}
		if err := os.MkdirAll(filepath.Dir(here(name)), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(here(name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// reads gives the configuration and the text of each file that it includes, by
// absolute path. Those that can't be read are not among them: PHP says what comes
// of that.
func (c config) reads(ctx context.Context, p stack.Place, file string) map[string]string {
	texts, root := map[string]string{file: c.Src}, p.Root.Path()
	for left := slices.Clone(c.Includes); len(left) > 0 && len(texts) < 20; left = left[1:] {
		name := path.Clean(left[0])
		if _, seen := texts[name]; seen || !path.IsAbs(name) {
			continue
		}
		var text []byte
		var err error
		if rel, inside := strings.CutPrefix(name, root+"/"); inside {
			text, err = host.ReadFile(p.Root, rel, maxConfig)
		} else {
			text, err = outside(ctx, p.Host, name)
		}
		if err != nil {
			continue
		}
		texts[name] = string(text)
		left = append(left, readConfig(string(text), name).Includes...)
	}
	return texts
}

// outside reads a file that a configuration includes from elsewhere on its host.
func outside(ctx context.Context, h host.Host, name string) ([]byte, error) {
	root, err := h.Open(ctx, path.Dir(name))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return host.ReadFile(root, path.Base(name), maxConfig)
}

// said reads what PHP says: each constant and the table prefix.
func (c config) said(text []byte, err error, dir string, real func(string) string) (config, error) {
	_, coded, found := bytes.Cut(text, []byte("\nalibi:"))
	var out struct {
		Constants map[string]any `json:"constants"`
		Prefix    *string        `json:"prefix"`
		Error     string         `json:"error"`
	}
	b, derr := base64.StdEncoding.DecodeString(strings.TrimSpace(string(coded)))
	if !found || derr != nil || json.Unmarshal(b, &out) != nil {
		return c, fmt.Errorf("PHP can't work the configuration out: %w", cmp.Or(err, errors.New("it says nothing")))
	}
	if out.Error != "" {
		return c, fmt.Errorf("PHP can't work the configuration out: %s", strings.ReplaceAll(real(out.Error), dir, ""))
	}
	for n, v := range out.Constants {
		s := c.Constants[n]
		switch v := v.(type) {
		case string:
			s.Value, s.Known = real(v), true
		case bool:
			s.Value, s.Known = site.Either(v, "1", ""), true
		case float64:
			s.Value, s.Known = fmt.Sprint(v), true
		default:
			continue
		}
		if s.Value == "" && s.Env != "" {
			s.Known = false // the environment is not here
		}
		c.Constants[n] = s
	}
	if out.Prefix != nil {
		s := c.Variables["table_prefix"]
		s.Value, s.Known = *out.Prefix, true
		c.Variables["table_prefix"] = s
	}
	c.evaluated = true
	return c, nil
}
