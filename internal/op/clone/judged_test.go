package clone_test

import (
	"context"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/op"
	"alibi/internal/site"
)

// judged has a program that shares no code with Alibi compare a copy with its
// origin: values taken apart by PHP itself, addresses exchanged by plain
// replacement, files by their digests. Both must be as they were made.
func judged(t *testing.T, origin, copied site.Site) {
	t.Helper()
	versions, err := real.PHPs(context.Background())
	require.NoError(t, err)
	cli := ""
	for _, p := range versions {
		if p.Series() == "8.2" {
			cli = p.CLI
		}
	}
	require.NotEmpty(t, cli, "PHP 8.2 is needed")
	judge, err := filepath.Abs("../../../bench/judge.php")
	require.NoError(t, err)
	args := []string{judge, origin.Root, copied.Root, origin.Address().String(), copied.Address().String()}
	for _, p := range op.Pairs(origin.Facts.Addresses, copied.Address()) {
		args = append(args, p.From.Host+"="+p.To.Host+":"+p.To.Port)
	}
	out, err := exec.Command(cli, args...).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), ", 0 faults")
}
