package desk

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// configPath is where a home's configuration stands.
func configPath(home string) string { return filepath.Join(home, "config.toml") }

// setInConfig sets one text in a section of the configuration file and leaves everything else in it as
// people wrote it, comments too.
func setInConfig(home, section, key, value string) error {
	b, err := os.ReadFile(configPath(home))
	if err != nil {
		return fmt.Errorf("reading the configuration: %w", err)
	}
	text := strings.Join(setLine(strings.Split(string(b), "\n"), section, key, value), "\n")
	if err := os.WriteFile(configPath(home), []byte(text), 0o600); err != nil {
		return fmt.Errorf("writing the configuration: %w", err)
	}
	return nil
}

// setLine sets a key in a section of lines of TOML; where the section is not there it is added.
func setLine(lines []string, section, key, value string) []string {
	line := key + " = " + strconv.Quote(value)
	in, at := false, -1
	for i, l := range lines {
		bare := strings.TrimSpace(l)
		if strings.HasPrefix(bare, "[") {
			head, _, _ := strings.Cut(bare, "#")
			in = strings.TrimSpace(head) == "["+section+"]"
			if in {
				at = i
			}
			continue
		}
		name, rest, is := strings.Cut(bare, "=")
		if !in || !is || strings.TrimSpace(name) != key {
			continue
		}
		if _, comment, has := strings.Cut(afterText(rest), "#"); has {
			line += " #" + comment
		}
		lines[i] = l[:len(l)-len(strings.TrimLeft(l, " \t"))] + line
		return lines
	}
	if at < 0 {
		return append(lines, "["+section+"]", line, "")
	}
	return append(lines[:at+1], append([]string{line}, lines[at+1:]...)...)
}

// afterText is what stands behind a value: a # in a quoted text begins no comment.
func afterText(value string) string {
	v := strings.TrimSpace(value)
	if v == "" || v[0] != '"' && v[0] != '\'' {
		return v
	}
	for i := 1; i < len(v); i++ {
		switch {
		case v[i] == '\\' && v[0] == '"':
			i++
		case v[i] == v[0]:
			return v[i+1:]
		}
	}
	return ""
}

// digestOfConfig tells one text of the configuration from another; zero where there is none.
func digestOfConfig(home string) [32]byte {
	b, err := os.ReadFile(configPath(home))
	if err != nil {
		return [32]byte{}
	}
	return sha256.Sum256(b)
}

// Stale tells whether the configuration is another one than when Alibi was started here.
func (d *Desk) Stale() bool { return d.core.stale() }

func (d *core) stale() bool { return digestOfConfig(d.home()) != d.configDigest }
