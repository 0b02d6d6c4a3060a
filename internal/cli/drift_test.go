package cli

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/op/carry"
)

func TestDriftByCommand(t *testing.T) {
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
	}
	ok("copy", "skerryline.example", "--name", "winter")
	assert.Contains(t, ok("drift", "winter"), "winter and its origin are as they were when they parted.")
	ok("query", "winter", "UPDATE sk_options SET option_value = 'By boat' WHERE option_name = 'blogdescription'",
		"--write")
	out := ok("drift", "winter")
	assert.Regexp(t, `setting:blogdescription +setting +blogdescription +changed +- +option_value`, out)
	assert.Contains(t, out, "Of table sk_term_relationships it can't be told what changed: its rows are not known by "+
		"numbers.")
	var d carry.Drifted
	require.NoError(t, json.Unmarshal([]byte(ok("drift", "winter", "--json")), &d))
	require.Len(t, d.Items, 1)
	require.NotEmpty(t, d.Items[0].Versions)
	assert.Equal(t, "By boat", *d.Items[0].Versions[0].Copy)
	fails(ExitFailed, "name a copy", "drift", "skerryline.example")
	fails(ExitUsage, "name a copy, or a run with --undo", "sync")
	fails(ExitUsage, "--to live or --to copy", "sync", "winter", "post:1", "--to", "there")
	fails(ExitUsage, "say what is to be carried", "sync", "winter", "--to", "live")
	fails(ExitUsage, "write --take ITEM=live", "sync", "winter", "post:1", "--to", "live", "--take", "post:1")
	fails(ExitFailed, "post:1000000 does not differ", "sync", "winter", "post:1000000", "--to", "live")
	fails(ExitFailed, "it is a file that is exchanged whole", "sync", "winter", "--all", "--to", "live", "--confirm",
		"skerryline.example")
	fails(ExitNotFound, "", "sync", "--undo", "abc")
}
