// Package internal holds nothing but the rules of the house.
package internal

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// deps gives the packages of ours, and the interface libraries, that each
// package of ours is built from.
func deps(t *testing.T) map[string][]string {
	t.Helper()
	out, err := exec.Command("go", "list", "-deps", "-f", "{{.ImportPath}}: {{join .Deps \" \"}}", "alibi/...").Output()
	require.NoError(t, err)
	m := map[string][]string{}
	for _, line := range strings.Split(string(out), "\n") {
		name, rest, ok := strings.Cut(line, ": ")
		if !ok || !strings.HasPrefix(name, "alibi/") {
			continue
		}
		m[name] = nil
		for _, d := range strings.Fields(rest) {
			if strings.HasPrefix(d, "alibi/") || strings.HasPrefix(d, "charm.land/") {
				m[name] = append(m[name], d)
			}
		}
	}
	return m
}

// may says which rooms a room may be built from, for those with a strict rule.
// A prefix stands for all below it.
var may = map[string][]string{
	"alibi/internal/site":     {},
	"alibi/internal/phpval":   {},
	"alibi/internal/plan":     {"site"},
	"alibi/internal/rewrite":  {"site", "phpval"},
	"alibi/internal/host":     {},
	"alibi/internal/tree":     {"host"},
	"alibi/internal/tables":   {"host", "site", "diff", "relay"}, // an embedded engine reads files where they are
	"alibi/internal/relay":    {"tables", "host", "site", "diff"},
	"alibi/internal/diff":     {"tables", "host", "site"},
	"alibi/internal/baseline": {"tables", "diff", "tree", "host"},
	"alibi/internal/work":     {"inventory", "plan", "site"},
	"alibi/internal/scrub":    {"rewrite", "tables", "diff", "phpval", "host", "site"},
	"alibi/internal/state":    {"host", "tables", "tree", "diff", "site"},
	"alibi/internal/stack": {"ballast", "host", "relay", "runtime/wall", "rewrite", "scrub", "site", "tables", "diff",
		"tree", "phpval"},
}

func TestRoomsKeepTheirDirection(t *testing.T) {
	all := deps(t)
	require.Contains(t, all, "alibi/internal/tui")
	for room, allowed := range may {
		for name, ds := range all {
			if name != room && !(strings.HasPrefix(name, room+"/") && room != "alibi/internal/host") ||
				strings.HasSuffix(name, "test") {
				continue
			}
			for _, d := range ds {
				ok := strings.HasPrefix(d, room)
				for _, a := range allowed {
					ok = ok || d == "alibi/internal/"+a || strings.HasPrefix(d, "alibi/internal/"+a+"/")
				}
				assert.True(t, ok, "%s must not be built from %s", name, d)
			}
		}
	}
}

func TestOnlyTheInterfaceKnowsTheInterface(t *testing.T) {
	for name, ds := range deps(t) {
		switch name {
		case "alibi/internal/tui", "alibi/cmd/alibi":
			continue
		}
		for _, d := range ds {
			assert.False(t, strings.HasPrefix(d, "charm.land/") || d == "alibi/internal/tui",
				"%s must not be built from %s", name, d)
			if name != "alibi/internal/keeper" && !strings.HasPrefix(name, "alibi/internal/demo") {
				assert.NotEqual(t, "alibi/internal/cli", d, "%s must not be built from the command line", name)
			}
		}
	}
}

// engineRooms may name an engine of databases: the engines themselves, and what opens them.
var engineRooms = []string{"alibi/internal/tables/engines", "alibi/internal/tables/mysql",
	"alibi/internal/tables/sqlite"}

func TestOnlyOneRoomKnowsTheEngines(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}}: {{join .Imports \" \"}} {{join .TestImports \" "+
		"\"}} {{join .XTestImports \" \"}}", "alibi/...").Output()
	require.NoError(t, err)
	known := 0
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		name, rest, _ := strings.Cut(line, ": ")
		for _, d := range strings.Fields(rest) {
			if d != "alibi/internal/tables/mysql" && d != "alibi/internal/tables/sqlite" {
				continue
			}
			known++
			assert.Contains(t, engineRooms, name, "%s must not be built from %s: package engines opens databases",
				name, d)
		}
	}
	assert.GreaterOrEqual(t, known, 2)
}

func TestWhatWasOpenedToReadIsNotWrittenTo(t *testing.T) {
	require.NoError(t, filepath.WalkDir(".", func(name string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		text, err := os.ReadFile(name)
		assert.NotContains(t, string(text), ".(host.Root)", "%s: a claim gives a host.Root, not an assertion", name)
		return err
	}))
}

func TestOperationsKeepToThemselves(t *testing.T) {
	for name, ds := range deps(t) {
		if !strings.HasPrefix(name, "alibi/internal/op") {
			continue
		}
		for _, d := range ds {
			for _, no := range []string{"desk", "keeper", "gateway", "cli", "demo"} {
				assert.False(t, strings.HasPrefix(d, "alibi/internal/"+no), "%s must not be built from %s", name, d)
			}
			if name != "alibi/internal/op" && d != name {
				assert.False(t, strings.HasPrefix(d, "alibi/internal/op/"), "%s must not be built from %s", name, d)
			}
		}
	}
}

func TestNamesSayWhatThingsAre(t *testing.T) {
	for name := range deps(t) {
		last := name[strings.LastIndexByte(name, '/')+1:]
		assert.NotContains(t, []string{"util", "utils", "common", "helpers", "misc", "shared", "base"}, last)
	}
}

func TestTheArchitectureNamesEachRoom(t *testing.T) {
	text, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	picture, err := os.ReadFile("../docs/rooms.svg")
	require.NoError(t, err)
	rooms := map[string]bool{}
	for name := range deps(t) {
		if rest, ok := strings.CutPrefix(name, "alibi/internal/"); ok {
			room, _, _ := strings.Cut(rest, "/")
			rooms[room] = true
		}
	}
	assert.Greater(t, len(rooms), 20)
	for room := range rooms {
		assert.Contains(t, string(text), "  "+room+"/", "docs/architecture.md")
		assert.Contains(t, string(picture), ">"+room+"<", "docs/rooms.svg")
	}
}

func TestScreensAndCommandsAskTheServices(t *testing.T) {
	for _, room := range []string{"tui", "cli"} {
		files, err := filepath.Glob(filepath.Join(room, "*.go"))
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, name := range files {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			assert.NotContains(t, string(text), ".Workings()", "%s: a service gives what is missing", name)
		}
	}
}

// theCMS is how files and tables of the CMS are called.
var theCMS = regexp.MustCompile(
	`wp-(content|includes|admin|login|config|settings)\b|"wp_|post_name|option_name|user_login`,
)

func TestOnlyOneRoomKnowsTheCMS(t *testing.T) {
	comment := regexp.MustCompile(`(?m)^\s*//.*$`)
	known := 0
	require.NoError(t, filepath.WalkDir(".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		room := filepath.ToSlash(filepath.Dir(name))
		text, err := os.ReadFile(name)
		found := theCMS.FindString(comment.ReplaceAllString(string(text), ""))
		switch {
		case strings.HasPrefix(room, "stack/wordpress"):
			if found != "" {
				known++
			}
		case strings.HasPrefix(room, "demo"), name == "cli/examples.go": // a world of sites, and what people type
		default:
			assert.Empty(t, found, "%s: package wordpress knows it", name)
		}
		return err
	}))
	assert.Greater(t, known, 10)
}
