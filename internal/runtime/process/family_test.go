package process_test

import (
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/runtime/process"
)

func TestAFamilyIsWhatAProgramStarted(t *testing.T) {
	p, err := process.Start(t.TempDir(), "sh", nil, "/bin/sh", "-c", "sleep 600 & wait")
	require.NoError(t, err)
	defer p.Stop(0) //nolint:errcheck // it ends with the test
	var all []process.Member
	sleeps := func(m process.Member) bool { return m.Name == "sleep" }
	require.Eventually(t, func() bool { all = p.Family(); return slices.ContainsFunc(all, sleeps) }, time.Minute,
		10*time.Millisecond)
	assert.Len(t, all, 2)
	assert.Positive(t, all[0].Own)
	assert.NotEqual(t, os.Getpid(), all[0].PID)
	assert.Equal(t, p.PID(), all[0].PID)
	require.NoError(t, all[slices.IndexFunc(all, sleeps)].End())
	assert.Error(t, process.Member{}.End(), "no program is not all of our own")
}
