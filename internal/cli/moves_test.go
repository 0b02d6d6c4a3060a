package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/plan"
)

func TestSeveralSitesAreBroughtUpToTheSwitch(t *testing.T) {
	w := demotest.New(t)
	require.NoError(t, w.Desk.Close())
	home := "--home=" + w.Base
	for what, bad := range map[string][]string{
		"can't come to one folder": {"--root", "/var/www/all"},
		"are of one site":          {"--root", "/var/www/{site}", "--name", "all"},
	} {
		code, _, errs := call(t, append([]string{"move", "tickets.skerryline.example", "skerryline.example", "--to",
			"drydock", home}, bad...)...)
		assert.Equal(t, ExitUsage, code)
		assert.Contains(t, errs, what)
	}
	code, out, errs := call(t, "move", "tickets.skerryline.example", "nobody.example", "skerryline.example", "--to",
		"drydock", "--root", "/var/www/{site}", home)
	assert.NotZero(t, code, "one of them is not known")
	assert.Contains(t, errs, "nobody.example")
	assert.Contains(t, out, "tickets-to-drydock")
	assert.Contains(t, out, "skerryline-to-drydock")

	code, out, errs = call(t, "moves", "go", "--json", home)
	require.Zero(t, code, errs)
	var list []plan.Move
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	require.Len(t, list, 2)
	for _, m := range list {
		assert.True(t, m.Check != nil && m.Check.Holds, m.Name)
		assert.Len(t, m.Passes, 1)
	}
	assert.FileExists(t, w.Dir("drydock", "/var/www/skerryline/wp-config.php"))

	// One that can't be carried is left where it is, and the other one goes on.
	blocked := w.Dir("drydock", "/var/www/skerryline")
	require.NoError(t, os.Rename(blocked, blocked+"-aside"))
	require.NoError(t, os.WriteFile(blocked, nil, 0o644))
	code, out, errs = call(t, "moves", "go", "--again", "--json", home)
	assert.Equal(t, ExitFailed, code)
	assert.Contains(t, errs, "skerryline-to-drydock")
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	passes := map[string]int{}
	for _, m := range list {
		passes[m.Name] = len(m.Passes)
	}
	assert.Equal(t, map[string]int{"tickets-to-drydock": 2, "skerryline-to-drydock": 1}, passes)
	_, err := os.Stat(filepath.Join(blocked+"-aside", "wp-config.php"))
	assert.NoError(t, err)
}

func TestAnAccessSheetByCommand(t *testing.T) {
	w := demotest.New(t)
	require.NoError(t, w.Desk.Close())
	home := "--home=" + w.Base
	ok := func(args ...string) string {
		t.Helper()
		code, out, errs := call(t, append(args, home)...)
		require.Zero(t, code, "%v: %s", args, errs)
		return out
	}
	assert.Contains(t, ok("access"), "begin one with: alibi access NAME --ask")
	out := ok("access", "moor", "--set", "way=ssh", "--set", "user=ops")
	assert.Regexp(t, `host +- +missing`, out)
	file := filepath.Join(t.TempDir(), "moor.toml")
	ok("access", "moor", "--sheet", file)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), "user = 'ops'")
	assert.Contains(t, ok("access", "noust", "--from", file), "ops")
	assert.Contains(t, ok("access", "pier", "--check"), "right", "what the record knows of it")
	ok("access", "moor", "--like", "pier")
	assert.Contains(t, ok("access", "moor", "--use"), "host moor answers")
	assert.Contains(t, ok("access"), "noust")
	for _, c := range []struct {
		want string
		args []string
	}{
		{"sets nothing", []string{"--set", "way"}},
		{"has no field", []string{"--set", "ship=Hythe"}},
		{"secret:NAME", []string{"--set", "password=tide"}},
		{"nobody is there to ask", []string{"--ask"}},
		{"exists", []string{"--sheet", file}},
		{"not right yet", []string{"--check", "--set", "port=1"}},
	} {
		code, _, errs := call(t, append([]string{"access", "moor", home}, c.args...)...)
		assert.NotZero(t, code)
		assert.Contains(t, errs, c.want)
		assert.NotContains(t, errs, "tide")
	}
	ok("access", "moor", "--remove")
	assert.NotContains(t, ok("access"), "moor ")
}
