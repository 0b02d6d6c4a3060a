package mysql_test

import (
	"bytes"
	"context"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
)

func TestADumpIsLoadedByTheServersOwnClient(t *testing.T) {
	ctx := context.Background()
	from, err := oddDatabase(t, "dumped").Snapshot(ctx)
	require.NoError(t, err)
	defer from.Close()
	var text bytes.Buffer
	require.NoError(t, mysql.Dump(ctx, from, &text))
	to := newDatabase(t, "loaded")
	for range 2 { // the second time over what is there
		cmd := exec.Command("mariadb", "--no-defaults", "--socket="+root().Addr, "--user=root", "--comments", "loaded")
		cmd.Stdin = bytes.NewReader(text.Bytes())
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	is, err := to.Snapshot(ctx)
	require.NoError(t, err)
	defer is.Close()
	sizeless := func(list []tables.Table) (out []tables.Table) {
		for _, tab := range list {
			tab.Bytes = 0 // the server estimates it, and not always alike
			out = append(out, tab)
		}
		return out
	}
	require.Equal(t, sizeless(from.Schema().Tables), sizeless(is.Schema().Tables))
	for i, o := range from.Schema().After {
		assert.Equal(t, o, is.Schema().After[i])
	}
	for _, tab := range from.Schema().Tables {
		want, _ := lines(t, from, tab.Name, tables.Range{})
		got, _ := lines(t, is, tab.Name, tables.Range{})
		assert.ElementsMatch(t, want, got, tab.Name)
	}
	ctx, cancel := context.WithCancel(ctx)
	cancel()
	assert.Error(t, mysql.Dump(ctx, from, &text))
}
