package wordpress

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/stack"
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
		if s, there := c.constants[n]; there && !s.known {
			return "it works out " + n + " when it runs"
		}
	}
	if len(c.includes) > 0 {
		return "it includes " + c.includes[0]
	}
	return ""
}

// evaluate has PHP say what an ambiguous configuration sets, for the site's host
// name.
func (c config) evaluate(ctx context.Context, p stack.Place, above bool) (config, error) {
	name := ""
	if p.Named != nil {
		name = p.Named(ctx)
	}
	dir, err := os.MkdirTemp(p.Temp, "config-")
	if err != nil {
		return c, err
	}
	defer os.RemoveAll(dir)
	root := p.Root.Path()
	top := path.Dir(root) // the configuration may stand one folder above the root
	here := func(name string) string { return filepath.Join(dir, "t", strings.TrimPrefix(name, top)) }
	file := path.Join(root, "wp-config.php")
	if above {
		file = path.Join(top, "wp-config.php")
	}
	if err := c.layOut(p, root, file, here); err != nil {
		return c, err
	}
	run := filepath.Join(dir, "evaluate.php")
	if err := os.WriteFile(run, evaluatePHP, 0o600); err != nil {
		return c, err
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	cmd := exec.CommandContext(
		ctx,
		p.PHP(),
		"-n",
		"-d",
		"open_basedir="+dir,
		"-d",
		"disable_functions="+turnedOff,
		"-d",
		"allow_url_fopen=0",
		"-d",
		"memory_limit=64M",
		"-d",
		"max_execution_time=4",
		"-d",
		"display_errors=0",
		"-d",
		"log_errors=0",
		run,
		here(file),
		here(root),
		name,
	)
	cmd.Env, cmd.Dir, cmd.WaitDelay = []string{"PATH=/usr/bin:/bin"}, dir, time.Second
	text, err := cmd.Output()
	return c.said(
		text,
		err,
		dir,
		func(v string) string { return strings.ReplaceAll(v, filepath.Join(dir, "t"), top) },
	)
}

// layOut writes the configuration, and what it includes of the site's own folder,
// as they stand to one another there.
func (c config) layOut(p stack.Place, root, file string, here func(string) string) error {
	put := func(name string, text []byte) error {
		if err := os.MkdirAll(filepath.Dir(here(name)), 0o700); err != nil {
			return err
		}
		return os.WriteFile(here(name), text, 0o600)
	}
	if err := errors.Join(put(file, []byte(c.src)), put(path.Join(root, "wp-settings.php"), []byte("<?php\n"))); err != nil {
		return err
	}
	seen := []string{}
	for left := slices.Clone(c.includes); len(left) > 0 && len(seen) < 20; left = left[1:] {
		rel, inside := strings.CutPrefix(path.Clean(left[0]), root+"/")
		if !inside || slices.Contains(seen, rel) {
			continue
		}
		seen = append(seen, rel)
		text, err := host.ReadFile(p.Root, rel, maxConfig)
		if err != nil {
			continue // PHP says what comes of that
		}
		if err := put(path.Join(root, rel), text); err != nil {
			return err
		}
		left = append(left, readConfig(string(text), path.Join(root, rel)).includes...)
	}
	return nil
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
		return c, fmt.Errorf("PHP can't work the configuration out: %w", cmpErr(err, errors.New("it says nothing")))
	}
	if out.Error != "" {
		return c, fmt.Errorf("PHP can't work the configuration out: %s", strings.ReplaceAll(real(out.Error), dir, ""))
	}
	for n, v := range out.Constants {
		s := c.constants[n]
		switch v := v.(type) {
		case string:
			s.value, s.known = real(v), true
		case bool:
			s.value, s.known = map[bool]string{true: "1"}[v], true
		case float64:
			s.value, s.known = fmt.Sprint(v), true
		default:
			continue
		}
		if s.value == "" && s.env != "" {
			s.known = false // the environment is not here
		}
		c.constants[n] = s
	}
	if out.Prefix != nil {
		s := c.variables["table_prefix"]
		s.value, s.known = *out.Prefix, true
		c.variables["table_prefix"] = s
	}
	c.evaluated = true
	return c, nil
}

func cmpErr(err, or error) error {
	if err != nil {
		return err
	}
	return or
}
