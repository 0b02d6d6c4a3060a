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
)

func TestRestorePointsByCommand(t *testing.T) {
	w := demotest.New(t)
	home := "--home=" + w.Home
	ok := func(args ...string) string {
		t.Helper()
		code, out, errs := call(t, append(args, home)...)
		require.Zero(t, code, "%v: %s", args, errs)
		return out
	}
	assert.Contains(t, ok("points"), "no restore points; take one with: alibi points take SITE")
	assert.Contains(t, ok("points", "take", "skerryline.example", "--plan"),
		"the depot, "+filepath.Join(w.Home, "depot"))
	assert.Contains(t, ok("points", "take", "skerryline.example", "--name", "first light"),
		"restore point of LIVE skerryline.example")
	ok("points", "take", "skerryline.example")
	var list []struct {
		ID    string `json:"id"`
		Added int64  `json:"added"`
	}
	require.NoError(t, json.Unmarshal([]byte(ok("points", "skerryline.example", "--json")), &list))
	require.Len(t, list, 2)
	assert.Less(t, list[0].Added, list[1].Added/5)
	assert.Contains(t, ok("points", "rehearse", "first"), "rehearsal of LIVE skerryline.example")
	assert.NotContains(t, ok("list"), "rehearsal")
	assert.Contains(t, ok("points", "files", "skerryline.example"), "wp-content", "its newest")
	assert.Contains(t, ok("points"), "first light")
	ok("points", "copy", "first light", "--name", "then", "--lease", "1d")
	assert.Contains(t, ok("list"), "then")
	assert.Contains(t, ok("refresh", "then", "--at", list[1].ID), "done in")
	assert.Contains(t, ok("points", "verify"), "every byte is what it was")
	assert.Contains(t, ok("points", "diff", list[0].ID), "rows are as they were")
	assert.Contains(t, ok("points", "files", "first", "wp-content"), "uploads")
	sql := filepath.Join(t.TempDir(), "x.sql")
	assert.Contains(t, ok("points", "dump", "first", sql), "are in "+sql)
	dumped, err := os.ReadFile(sql)
	require.NoError(t, err)
	assert.Contains(t, string(dumped), `INSERT INTO "sk_posts"`)
	out := filepath.Join(t.TempDir(), "uploads")
	assert.Contains(t, ok("points", "extract", "first", "wp-content/uploads", out), "are in "+out)
	assert.DirExists(t, out)
	assert.Contains(t, ok("points", "schedule", "skerryline.example", "7 daily, 4 weekly"), "7 daily, 4 weekly")
	assert.Contains(t, ok("points", "schedule", "skerryline.example", "off"), "no schedule")
	assert.Contains(t, ok("points", "prune", "--daily", "1", "--hourly", "0"), "0 would go",
		"one has a name, one is the newest")
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{ExitNotFound, "no such restore point; see: alibi points", []string{"points", "rehearse", "1999"}},
		{ExitFailed, "say more of it", []string{"points", "rehearse", "20"}},
		{
			ExitUsage, "is no rule: write how many of which",
			[]string{"points", "schedule", "skerryline.example", "often"},
		},
		{ExitUsage, "would be gone for good; nothing was done", []string{"points", "forget", list[0].ID}},
		{ExitFailed, "is no copy of that", []string{"refresh", "then", "--at", otherPoint(t, ok)}},
	} {
		code, _, errs := call(t, append(c.args, home)...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errs)
		assert.Contains(t, errs, c.want, "%v", c.args)
	}
	assert.Contains(t, ok("points", "forget", list[0].ID, "--confirm", list[0].ID), "forgotten")
	packs, err := filepath.Glob(filepath.Join(w.Home, "depot", "packs", "*", "*.zst"))
	require.NoError(t, err)
	for _, f := range packs {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		text[10] ^= 1
		require.NoError(t, os.WriteFile(f, text, 0o600))
	}
	code, text, errs := call(t, "points", "verify", home)
	assert.Equal(t, ExitNoProof, code, errs)
	assert.Contains(t, text, "is not what it was")
	assert.Contains(t, errs, "verify --mend sets aside what is damaged")
	code, text, errs = call(t, "points", "verify", "--mend", home)
	assert.Equal(t, ExitNoProof, code, errs)
	assert.Contains(t, text, "damaged packs set aside")
	ok("points", "take", "skerryline.example")
	ok("points", "take", "crew.skerryline.example")
	assert.Contains(t, ok("points", "verify"), "every byte is what it was")
}

// otherPoint takes a point of another site and gives its number.
func otherPoint(t *testing.T, ok func(...string) string) string {
	t.Helper()
	out := ok("points", "take", "crew.skerryline.example")
	_, rest, found := strings.Cut(out, "restore point 2")
	require.True(t, found, out)
	return "2" + rest[:strings.IndexByte(rest, ':')]
}
