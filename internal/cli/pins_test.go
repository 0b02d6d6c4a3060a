package cli

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/site"
)

// commands calls the program in a home, and wants it to end well or as expected.
type commands struct {
	t    *testing.T
	home string
}

func (c commands) ok(args ...string) string {
	c.t.Helper()
	code, out, errs := call(c.t, append(args, "--home="+c.home)...)
	require.Zero(c.t, code, "%v: %s", args, errs)
	return out
}

func (c commands) fails(want int, text string, args ...string) {
	c.t.Helper()
	code, _, errs := call(c.t, append(args, "--home="+c.home)...)
	assert.Equal(c.t, want, code, "%v: %s", args, errs)
	assert.Contains(c.t, errs, text, "%v", args)
	assert.NotContains(c.t, errs, "goroutine")
}

func (c commands) read(to any, args ...string) {
	c.t.Helper()
	require.NoError(c.t, json.Unmarshal([]byte(c.ok(append(args, "--json")...)), to))
}

func TestPinSheetsByCommand(t *testing.T) {
	w := demotest.New(t)
	c := commands{t, w.Home}
	assert.Contains(t, c.ok("pins", "list"), "no pin sheet yet")
	assert.Contains(t, c.ok("pins", "make", "skerryline.example", "--name", "as-live"), "as-live: core ")
	c.fails(ExitFailed, "there is a pin sheet", "pins", "make", "skerryline.example", "--name", "as-live")
	assert.Contains(t, c.ok("pins", "make", "skerryline.example", "--name", "as-live", "--over"), "as-live")
	text := c.ok("pins", "show", "as-live")
	assert.Contains(t, text, "# as-live: core ")
	assert.Contains(t, text, "tide-table")

	file := filepath.Join(t.TempDir(), "sheet.toml")
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	write("# why we do this\n[plugins]\ntide-table = \"2.*\"\nquay = 3\n")
	c.fails(ExitFailed, "line 4", "pins", "import", "winter", file)
	write("# why we do this\n[plugins]\ntide-table = \">=the newest\"\n")
	c.fails(ExitFailed, "tide-table", "pins", "import", "winter", file)
	write("# why we do this\n[plugins]\ntide-table = \"2.5.*\" # not 3\n")
	c.ok("pins", "import", "winter", file)
	c.fails(ExitFailed, "there is a pin sheet", "pins", "import", "winter", file)
	c.fails(ExitFailed, "reading the sheet", "pins", "import", "other", file+".gone")
	c.fails(ExitFailed, "can't be the name", "pins", "import", "../winter", file)
	c.ok("pins", "set", "winter", "harbour-bell", "^1.0")
	c.ok("pins", "set", "winter", "slipway-plain", "newest", "--theme")
	c.fails(ExitFailed, "", "pins", "set", "winter", "harbour-bell", "much newer")
	text = c.ok("pins", "show", "winter")
	assert.Contains(t, text, "# why we do this")
	assert.Contains(t, text, "# not 3", "comments stay")
	assert.Contains(t, text, "harbour-bell = \"^1.0\"")
	assert.Contains(t, text, "[themes]\nslipway-plain = \"newest\"")

	write("[plugins]\ntide-table = \"2.5.*\"\n")
	c.ok("pins", "import", "cored", file)
	c.ok("pins", "set", "cored", "core", "6.8")
	assert.Contains(t, c.ok("pins", "show", "cored"),
		"[plugins]\ntide-table = \"2.5.*\"\n\n[core]\nversion = \"6.8\"\n", "the core is no plugin")
	c.ok("pins", "name", "cored", "--remove")
	require.NoError(t, appendTo(filepath.Join(w.Home, "config.toml"), "# mine\n"))

	c.fails(ExitUsage, "--to NAME", "pins", "name", "winter")
	c.ok("pins", "name", "winter", "--to", "season")
	c.fails(ExitFailed, "winter", "pins", "show", "winter")
	c.ok("pins", "name", "season", "--default")
	config, err := os.ReadFile(filepath.Join(w.Home, "config.toml"))
	require.NoError(t, err)
	assert.Contains(t, string(config), "# mine", "what people wrote there stays")
	assert.Regexp(t, `season +default`, c.ok("pins", "list"))
	assert.Contains(t, c.ok("pins", "lock"), "season: ")
	assert.Contains(t, c.ok("pins", "show"), "sha256:", "the default sheet is meant where none is named")

	assert.Contains(t, c.ok("copy", "skerryline.example", "--name", "usual", "--plan", "--json"), `"pins": "season"`)
	c.ok("copy", "skerryline.example", "--name", "trial", "--pins", "none")
	assert.Contains(t, c.ok("pins", "apply", "trial", "--plan"), "tide-table")
	assert.Contains(t, c.ok("pins", "apply", "trial"), "done")
	c.fails(ExitFailed, "it is so already", "pins", "apply", "trial")
	c.fails(ExitFailed, "no pin sheet", "pins", "apply", "trial", "--sheet", "nowhere")
	c.fails(ExitUsage, "it would be changed: plugin harbour-bell", "pins", "apply", "skerryline.example", "--sheet",
		"season")
	out := c.ok("pins", "report", "trial")
	assert.Regexp(t, `trial +plugin +tide-table +2\.5\.0`, out)
	assert.Contains(t, out, "its origin has 2.4.1")
	assert.Greater(t, len(c.ok("pins", "report", "--all")), len(out))
	var g desk.PinGrid
	c.read(&g, "pins", "report", "trial", "skerryline.example")
	assert.Len(t, g.Names, 2)
	c.fails(ExitNotFound, "nowhere", "pins", "report", "nowhere")
	svg := filepath.Join(t.TempDir(), "versions.svg")
	c.ok("draw", "versions", svg)
	drawn, err := os.ReadFile(svg)
	require.NoError(t, err)
	assert.Contains(t, string(drawn), "tide-table")
	c.ok("pins", "name", "season", "--remove")
	c.fails(ExitFailed, "season", "pins", "show", "season")
}

func appendTo(file, text string) error {
	f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

func TestASheetIsEditedInAnEditor(t *testing.T) {
	w := demotest.New(t)
	c := commands{t, w.Home}
	c.ok("pins", "make", "skerryline.example", "--name", "as-live")
	t.Setenv("VISUAL", `sh -c 'printf "[plugins]\ntide-table = \"2.5.0\"\n" > "$1"' sh`)
	assert.Contains(t, c.ok("pins", "edit", "as-live"), "as-live: ")
	assert.Contains(t, c.ok("pins", "show", "as-live"), `tide-table = "2.5.0"`)
	t.Setenv("VISUAL", `sh -c 'echo "[plug" > "$1"' sh`)
	c.fails(ExitFailed, "nothing was stored", "pins", "edit", "as-live")
	t.Setenv("VISUAL", "false")
	c.fails(ExitFailed, "nothing was changed", "pins", "edit", "as-live")
	assert.Contains(t, c.ok("pins", "show", "as-live"), `tide-table = "2.5.0"`)
}

func TestComponentsByCommand(t *testing.T) {
	w := demotest.New(t)
	c := commands{t, w.Home}
	c.ok("copy", "skerryline.example", "--name", "parts")
	assert.Regexp(t, `plugin +tide-table +2\.4\.1 +active`, c.ok("components", "parts"))
	assert.Regexp(t, `tide-table +2\.4\.1 +active +3\.`, c.ok("components", "parts", "--updates"))
	assert.Contains(t, c.ok("components", "parts", "--history"), "changed nothing")
	assert.Contains(t, c.ok("search", "bell"), "harbour-bell")
	assert.Contains(t, c.ok("search", "slipway", "--themes"), "slipway-plain")
	assert.Contains(t, c.ok("search", "submarine"), "has no plugin for these words")

	c.fails(ExitUsage, "", "install", "parts")
	c.fails(ExitUsage, "not both", "install", "parts", "x", "--theme", "--plugin")
	c.fails(ExitFailed, "no-such-thing", "install", "parts", "no-such-thing")
	c.fails(ExitFailed, "9.9", "install", "parts", "harbour-bell@9.9")
	assert.Contains(t, c.ok("install", "parts", "harbour-bell@1.0", "--plan"), "harbour-bell")
	assert.NotContains(t, c.ok("components", "parts"), "harbour-bell", "a plan does nothing")
	assert.Contains(t, c.ok("install", "parts", "harbour-bell@1.0"), "done")
	c.ok("install", "parts", "slipway-plain", "--theme", "--activate")
	assert.Regexp(t, `theme +slipway-plain +\S+ +active`, c.ok("components", "parts"))
	c.fails(ExitUsage, "what to update", "update", "parts")
	c.fails(ExitFailed, "no-such-thing", "update", "parts", "no-such-thing")
	c.ok("update", "parts", "tide-table@2.5.0")
	assert.Regexp(t, `tide-table +2\.5\.0`, c.ok("components", "parts"))
	c.fails(ExitUsage, "what to switch", "switch", "parts")
	c.ok("switch", "parts", "--all-off", "--except", "tide-table")
	var list desk.Parts
	c.read(&list, "components", "parts")
	for _, p := range list.All {
		if p.Kind == site.Plugin && p.State != "must-use" {
			assert.Equal(t, p.Slug == "tide-table", p.State == "active", p.Slug)
		}
	}
	c.fails(ExitUsage, "what to remove", "uninstall", "parts")
	c.ok("uninstall", "parts", "--unused", "--except", "harbour-bell")
	c.read(&list, "components", "parts")
	var left []string
	for _, p := range list.All {
		if p.State == "off" {
			left = append(left, p.Slug)
		}
	}
	assert.Equal(t, []string{"harbour-bell"}, left)
	history := c.ok("components", "parts", "--history")
	assert.Contains(t, history, "plugin tide-table")
	assert.Contains(t, history, "theme slipway-plain")
	c.fails(ExitUsage, "To go on", "update", "skerryline.example", "tide-table")
	assert.Contains(t, c.ok("rescue", "parts", "--plan"), "off")
	c.fails(ExitUsage, "live site", "runtime", "skerryline.example", "--php", "8.4")
	c.fails(ExitUsage, "", "runtime", "parts", "--extensions", "!")
}

func TestSetsOfATrialAreRead(t *testing.T) {
	for text, want := range map[string]desk.SetWish{
		"now=": {Name: "now"},
		"tide-table@3.0": {Name: "tide-table@3.0",
			Put: []site.Source{{Kind: site.Plugin, Slug: "tide-table", Version: "3.0"}}},
		"new = tide-table@3.0.0 + -old-slider +": {Name: "new",
			Put: []site.Source{{Kind: site.Plugin, Slug: "tide-table", Version: "3.0.0"}}, Off: []string{"old-slider"}},
	} {
		got, err := parseSet(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, bad := range []string{"x=gopher://tide", "x=-", "x=a+-b c", "x=site:crew"} {
		_, err := parseSet(bad)
		assert.Error(t, err, bad)
	}
}

func TestTrialsByCommand(t *testing.T) {
	w := demotest.New(t)
	c := commands{t, w.Home}
	c.ok("copy", "skerryline.example", "--name", "tried")
	assert.Empty(t, strings.TrimSpace(c.ok("trials")))
	c.fails(ExitNotFound, "nowhere", "trials", "nowhere")
	c.fails(ExitFailed, "does not run here", "trial", "tried", "--php", "8.2")
	c.fails(ExitFailed, "does not run here", "cause", "tried")
	c.fails(ExitNotFound, "nowhere", "trial", "nowhere")
	c.fails(ExitUsage, "names no plugin to deactivate", "trial", "tried", "--set", "x=-")
	c.fails(ExitFailed, "is a live site", "trial", "skerryline.example")
}
