// Package php finds the PHP versions that a machine has.
package php

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"alibi/internal/host"
)

// PHP is one installed version.
type PHP struct {
	Version string `json:"version"` // such as 8.2.36
	CLI     string `json:"cli,omitempty"`
	FPM     string `json:"fpm,omitempty"`
}

// Series is the version without its last number, by which sites choose.
func (p PHP) Series() string { return Series(p.Version) }

// Series cuts a version to its first two numbers.
func Series(version string) string {
	parts := strings.SplitN(version, ".", 3)
	if len(parts) < 2 {
		return version
	}
	return parts[0] + "." + parts[1]
}

// places are where distributions put PHP.
var places = []string{
	"/usr/bin/php",
	"/usr/bin/php[0-9]*",
	"/usr/sbin/php-fpm*",
	"/usr/local/bin/php",
	"/usr/local/sbin/php-fpm",
	"/opt/php/*/bin/php",
	"/opt/php/*/sbin/php-fpm",
}

// Find looks where distributions put PHP, and in folders that hold a php and a
// php-fpm, or folders with such ones; newest first, one of each series.
func Find(ctx context.Context, folders ...string) []PHP {
	patterns := slices.Clone(places)
	for _, f := range folders {
		patterns = append(patterns, within(f)...)
	}
	found := map[string]*PHP{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	seen := map[string]bool{}
	for _, p := range patterns {
		list, err := filepath.Glob(p)
		if err != nil {
			continue // a folder's name that is no pattern
		}
		for _, file := range list {
			if real, err := filepath.EvalSymlinks(file); err != nil || seen[real] {
				continue
			} else {
				seen[real] = true
			}
			wg.Go(func() {
				version, fpm := ask(ctx, file)
				if version == "" {
					return
				}
				mu.Lock()
				defer mu.Unlock()
				x := found[Series(version)]
				if x == nil {
					x = &PHP{Version: version}
					found[Series(version)] = x
				}
				if fpm && x.FPM == "" {
					x.FPM = file
				} else if !fpm && x.CLI == "" {
					x.CLI = file
				}
			})
		}
	}
	wg.Wait()
	var out []PHP
	for _, p := range found {
		out = append(out, *p)
	}
	slices.SortFunc(out, func(a, b PHP) int { return Compare(b.Version, a.Version) })
	return out
}

// within are the names by which PHP stands in a folder, or in folders of it.
func within(folder string) (out []string) {
	for _, dir := range []string{"", "*", "bin", "sbin", "*/bin", "*/sbin"} {
		for _, name := range []string{"php", "php[0-9]*", "php-fpm", "php-fpm[0-9]*"} {
			out = append(out, filepath.Join(folder, dir, name))
		}
	}
	return out
}

// Empty names the folders in which there is no PHP.
func Empty(ctx context.Context, folders ...string) (out []string) {
	for _, f := range folders {
		found := false
		for _, p := range within(f) {
			list, _ := filepath.Glob(p) // a folder's name that is no pattern holds none
			for _, file := range list {
				if version, _ := ask(ctx, file); version != "" {
					found = true
				}
			}
		}
		if !found {
			out = append(out, f)
		}
	}
	return out
}

// answer is what is known of a file, as long as it is the same file.
type answer struct {
	size    int64
	changed time.Time
	version string
	fpm     bool
}

// asked holds the programs that have said what they are, by file: to start one takes longer than all
// that is wanted of it.
var asked sync.Map

// ask gives what a program says of itself, which it is asked once as long as it stays the same file.
func ask(ctx context.Context, file string) (version string, fpm bool) {
	fi, err := os.Stat(file)
	if err != nil {
		return "", false
	}
	if known, ok := asked.Load(file); ok {
		if p := known.(answer); p.size == fi.Size() && p.changed.Equal(host.ChangedOf(fi)) {
			return p.version, p.fpm
		}
	}
	if version, fpm = run(ctx, file); version != "" {
		asked.Store(file, answer{fi.Size(), host.ChangedOf(fi), version, fpm})
	}
	return version, fpm
}

// run has a program say its version: "PHP 8.2.36 (fpm-fcgi) ...".
func run(ctx context.Context, file string) (version string, fpm bool) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, file, "-n", "-v")
	cmd.Env = []string{}
	out, err := cmd.Output()
	line, _, _ := bytes.Cut(out, []byte("\n"))
	words := strings.Fields(string(line))
	if err != nil || len(words) < 3 || words[0] != "PHP" {
		return "", false
	}
	version, _, _ = strings.Cut(words[1], "-")
	return version, words[2] == "(fpm-fcgi)"
}

// Compare orders versions by their numbers.
func Compare(a, b string) int {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		m, n := 0, 0
		if i < len(x) {
			m, _ = strconv.Atoi(x[i])
		}
		if i < len(y) {
			n, _ = strconv.Atoi(y[i])
		}
		if m != n {
			return m - n
		}
	}
	return 0
}

// Choose gives the installed version that is nearest to a wanted one: of its
// series, else the next later one, else the newest. "" wants the newest.
func Choose(have []PHP, want string) (PHP, bool) {
	if len(have) == 0 {
		return PHP{}, false
	}
	best := have[0]
	for _, p := range have {
		if p.Series() == Series(want) {
			return p, true
		}
		if want != "" && Compare(p.Version, want) > 0 && Compare(p.Version, best.Version) < 0 {
			best = p
		}
	}
	return best, want == ""
}
