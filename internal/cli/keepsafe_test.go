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

// caller runs commands on a home, and wants them to work.
func caller(t *testing.T, home string) func(args ...string) string {
	return func(args ...string) string {
		t.Helper()
		code, out, errs := call(t, append(args, "--home="+home)...)
		require.Zero(t, code, "%v: %s", args, errs)
		return out
	}
}

func TestRestoreAndResetByCommand(t *testing.T) {
	w := demotest.New(t)
	ok := caller(t, w.Home)
	ok("points", "take", "https://skerryline.example", "--name", "calm")
	assert.Contains(t, ok("restore", "calm", "--plan"), "restoring of LIVE skerryline.example to restore point")
	code, _, errs := call(t, "restore", "calm", "--home="+w.Home)
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "say --confirm skerryline.example")
	assert.Contains(t, ok("restore", "calm", "--confirm", "skerryline.example"), "are what they should be")
	assert.Contains(t, ok("restore", "skerryline.example", "--confirm", "skerryline.example", "--path",
		"wp-content/themes"), "are what they should be", "the one that was taken first")

	ok("copy", "https://skerryline.example", "--name", "slate")
	assert.Contains(t, ok("reset", "slate", "--left"), "plugins")
	assert.Contains(t, ok("reset", "slate", "--plan", "--tidy", "plugins"), "goes")
	assert.Contains(t, ok("reset", "slate", "--tidy", "plugins,uploads", "--to", "clean", "--confirm", "slate"),
		"left over")
	assert.Contains(t, ok("restore", "slate", "--confirm", "slate"), "are what they should be", "that is undone")
	assert.Contains(t, ok("reset", "slate", "--kind", "posts", "--confirm", "slate"), "done in")
	assert.Contains(t, ok("reset", "slate", "--to", "origin", "--confirm", "slate"), "done in")
	assert.Contains(t, ok("reset", "slate", "--to", "calm", "--confirm", "slate"), "done in")
	assert.Contains(t, ok("reset", "slate", "--to", "site:tickets", "--confirm", "slate"), "done in")
	password := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(password, []byte("made-up-word\n"), 0o600))
	assert.Contains(t, ok("reset", "slate", "--admin", "harbour", "--mail", "harbour@skerryline.example",
		"--password-file", password, "--confirm", "slate"), "done in")
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{ExitUsage, "not both", []string{"reset", "slate", "--kind", "posts", "--plugin", "x"}},
		{ExitUsage, "all of it is replaced", []string{"reset", "slate", "--kind", "posts", "--to", "origin"}},
		{ExitUsage, "is no kind of content", []string{"restore", "calm", "--kind", "boats"}},
		{ExitUsage, "not both", []string{"restore", "calm", "--kind", "posts", "--table", "sk_posts"}},
		{ExitFailed, "no file or folder of the site", []string{"restore", "calm", "--path", "../.."}},
		{ExitNotFound, "no such restore point", []string{"restore", "none"}},
	} {
		code, _, errs := call(t, append(c.args, "--home="+w.Home)...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errs)
		assert.Contains(t, errs, c.want)
	}
}

func TestArchivesByCommand(t *testing.T) {
	w := demotest.New(t)
	ok := caller(t, w.Home)
	assert.Contains(t, ok("archives"), "no archives were made here")
	dir := t.TempDir()
	file := filepath.Join(dir, "ferry.tar.zst")
	assert.Contains(t, ok("archives", "make", "https://skerryline.example", file, "--part", "64K", "--plan"),
		"the archive "+file)
	assert.Contains(t, ok("archives", "make", "https://skerryline.example", file), "done in")
	assert.Contains(t, ok("archives", "check", file), "every byte is what it was")
	ok("archives", "make", "--all", dir)
	var list []struct {
		Name  string `json:"name"`
		There bool   `json:"there"`
	}
	require.NoError(t, json.Unmarshal([]byte(ok("archives", "--json")), &list))
	assert.Greater(t, len(list), 1)
	other := caller(t, demotest.New(t).Home)
	assert.Contains(t, other("archives", "import", file), "restore point")
	other("points", "copy", "ferry.tar.zst", "--name", "carried")
	assert.Contains(t, other("list"), "carried")
	assert.Contains(t, ok("archives", "import", file, "--as", "https://skerryline.example"), "restore point")
	require.NoError(t, os.Truncate(file, 1000))
	code, _, errs := call(t, "archives", "check", file, "--home="+w.Home)
	assert.Equal(t, ExitNoProof, code)
	assert.Contains(t, errs, "damaged")
	assert.NotContains(t, errs, "goroutine")
	for _, bad := range [][]string{{"archives", "make", file},
		{"archives", "make", "skerryline.example", file, "--part", "small"}} {
		code, _, _ := call(t, append(bad, "--home="+w.Home)...)
		assert.Equal(t, ExitUsage, code, bad)
	}
}

func TestEndsCostsFrontsAndBulkByCommand(t *testing.T) {
	w := demotest.New(t)
	c := w.Desk.Config()
	c.Cost = desk.CostRates{Currency: "EUR", Hosts: map[string]float64{c.Machine: 0.5}}
	require.NoError(t, desk.SaveConfig(w.Home, c))
	ok := caller(t, w.Home)
	ok("copy", "https://skerryline.example", "--name", "one", "--lease", "2d")
	ok("copy", "https://skerryline.example", "--name", "two")
	assert.Contains(t, ok("ends"), "goes off the air")
	assert.Contains(t, ok("deleted"), "nothing is deleted")
	assert.Contains(t, ok("delete", "one"), "one")
	assert.Contains(t, ok("deleted"), "one")
	assert.Contains(t, ok("bring-back", "one"), "one")
	assert.Contains(t, ok("bulk", "extend", "one", "two", "--by", "5d"), "two: done")
	assert.Contains(t, ok("bulk", "keep", "one", "skerryline.example", "--plan"), "keep")
	code, _, errs := call(t, "bulk", "remove", "one", "two", "--home="+w.Home)
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, `--confirm "remove 2"`)
	assert.Contains(t, ok("park", "one", "--contact", "harbour@skerryline.example"), "off the air")
	assert.Contains(t, ok("lift", "one"), "visitors see one again")
	code, _, errs = call(t, "park", "skerryline.example", "--home="+w.Home)
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "say --confirm skerryline.example")
	assert.Contains(t, ok("bulk", "remove", "one", "two", "--confirm", "remove 2"), "freed")
	assert.Regexp(t, `(?s)two.*EUR in all; ending copies saved \d+\.`, ok("costs"),
		"the rest of the lifetimes at half a unit an hour")
	for name, begins := range map[string]string{"leases.svg": "<?xml", "depot.svg": "<?xml", "depot.pdf": "%PDF"} {
		file := filepath.Join(t.TempDir(), name)
		what, _, _ := strings.Cut(name, ".")
		ok("draw", what, file)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, begins, string(text[:len(begins)]))
	}
	code, _, _ = call(t, "draw", "depot", filepath.Join(t.TempDir(), "x.txt"), "--home="+w.Home)
	assert.Equal(t, ExitUsage, code)
}
