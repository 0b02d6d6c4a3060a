package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
)

func TestWorkingOnACopyByCommand(t *testing.T) {
	w := demotest.New(t)
	home := "--home=" + w.Home
	ok := func(args ...string) string {
		t.Helper()
		code, out, errs := call(t, append(args, home)...)
		require.Zero(t, code, errs)
		return out
	}
	fails := func(want int, text string, args ...string) {
		t.Helper()
		code, _, errs := call(t, append(args, home)...)
		assert.Equal(t, want, code, "%v", args)
		assert.Contains(t, errs, text)
		assert.NotContains(t, errs, "goroutine")
	}
	ok("copy", "skerryline.example", "--name", "winter")
	assert.Contains(t, ok("files", "winter"), "wp-content")
	css := "wp-content/themes/harbour/style.css"
	text := filepath.Join(t.TempDir(), "style.css")
	require.NoError(t, os.WriteFile(text, []byte("h1 { color: red }\n"), 0o600))
	out := ok("edit", "winter", css, "--from", text)
	assert.Contains(t, out, "+h1 { color: red }")
	assert.Contains(t, ok("files", "winter", "--changed"), css)
	assert.Equal(t, "h1 { color: red }\n", ok("files", "winter", css, "--text"))
	fails(ExitFailed, "it is so already", "edit", "winter", css, "--from", text)
	fails(ExitUsage, "To go on", "carry", "winter", css, "skerryline.example")
	assert.Contains(t, ok("carry", "winter", css, "skerryline.example", "--confirm", "skerryline.example"), "done")
	require.NoError(t, os.WriteFile(text, []byte("{ no json"), 0o600))
	fails(ExitFailed, "the text is not right", "edit", "winter", "wp-content/x.json", "--from", text)

	code, out, errs := call(t, "shell", "winter", home, "--", "sh", "-c",
		`cat "$1" /root/.profile 2>&1; pwd; ls /proc | grep -c '^[0-9]'`, "sh", css)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "h1 { color: red }", "it sees the copy")
	assert.Contains(t, out, "/root/.profile: No such file")
	assert.Contains(t, out, "winter/now/site")
	assert.Contains(t, ok("shell", "winter", "--outside", "--json"), "${SHELL")
	assert.Contains(t, ok("allow", "winter"), "may reach nothing outside")
	assert.Contains(t, ok("allow", "winter", "api.example:8443", "--once"), "api.example:8443")
	fails(ExitUsage, "HOST:PORT", "allow", "winter", "https://x")
	fails(ExitUsage, "not both", "allow", "winter", "x.example", "--once", "--end")
	fails(ExitFailed, "may not reach x.example anyway", "allow", "winter", "x.example", "--end")
	assert.Contains(t, ok("allow", "winter", "api.example:8443", "--end"), "may reach nothing outside")
	fails(ExitUsage, "can't be let through", "copy", "skerryline.example", "--name", "x", "--allow", "a b")

	assert.Contains(t, ok("tables", "winter"), "sk_posts")
	assert.Contains(t, ok("rows", "winter", "sk_options", "--column", "option_name", "--match", "blogname", "--is"),
		"[copy] Skerry Line")
	assert.Contains(t, ok("query", "winter", "SELECT 6*7 AS answer", "--csv"), "answer\r\n42\r\n")
	fails(ExitFailed, "unlock it with --write", "query", "winter", "DELETE FROM sk_comments")
	assert.Contains(t, ok("query", "winter", "DELETE FROM sk_comments", "--write"), "rows changed")
	fails(ExitFailed, "is a live site", "query", "skerryline.example", "DELETE FROM sk_comments", "--write")
	var r desk.Rows
	require.NoError(t, json.Unmarshal([]byte(ok("rows", "winter", "sk_users", "--limit", "1", "--json")), &r))
	assert.True(t, r.More)

	assert.Contains(t, ok("logs", "winter"), "nothing is in")
	assert.Contains(t, ok("logs", "skerryline.example", "--count"), "other")
	fails(ExitUsage, "is no kind of ballast", "ballast", "winter", "boats=3")
	fails(ExitUsage, "say how much of what", "ballast", "winter")
	assert.Contains(t, ok("ballast", "winter", "posts=3", "terms=1"), "done")
	assert.Contains(t, ok("ballast", "winter", "--remove"), "done")
	fails(ExitNoProof, "people of its origin are on winter", "scrub", "winter", "--prove")
	assert.Contains(t, ok("scrub", "winter"), "done")
	assert.Contains(t, ok("scrub", "winter", "--prove"), "none found")
	assert.Contains(t, ok("accounts", "winter"), "someone-")
	word := filepath.Join(t.TempDir(), "word")
	require.NoError(t, os.WriteFile(word, []byte("a long enough word\n"), 0o600))
	assert.Contains(t, ok("accounts", "winter", "--account", "tester", "--role", "editor", "--password-file", word),
		"done")
	assert.Contains(t, ok("open", "winter", "--as", "editor"), "/-/key/")
	fails(ExitFailed, "no account and no role", "open", "winter", "--as", "pirate")

	list := ok("worklist", "winter", "--note", "moved the menu")
	assert.Contains(t, list, "alibi carry winter "+css+" skerryline.example")
	assert.Contains(t, list, "DELETE FROM sk_comments")
	assert.Contains(t, list, "moved the menu")
	assert.NotContains(t, list, "ballast", "what is for the copy alone is not repeated")
	var deeds []desk.Deed
	require.NoError(t, json.Unmarshal([]byte(ok("worklist", "winter", "--json")), &deeds))
	assert.Contains(t, ok("worklist", "winter", "--done", deeds[0].ID, "--markdown"), "- [x] ")
	assert.Contains(t, ok("install", "winter", "harbour-bell@1.0"), "done")
	assert.Contains(t, ok("components", "winter", "--history"), "plugin harbour-bell")
	fails(ExitFailed, "no core of the CMS", "new", "practice")
	assert.True(t, strings.Contains(ok("help"), "worklist"))
}
