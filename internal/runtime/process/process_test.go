package process

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStartAndStop(t *testing.T) {
	dir := t.TempDir()
	p, err := Start(dir, "sleeper", []string{"EXTRA=yes"}, "sh", "-c", "env; sleep 60 & sleep 60")
	require.NoError(t, err)
	log := filepath.Join(dir, "sleeper.log")
	require.Eventually(t, func() bool {
		out, err := os.ReadFile(log)
		return err == nil && strings.Contains(string(out), "EXTRA=yes") && len(Left(dir)) >= 2
	}, 60*time.Second, 10*time.Millisecond, "what it starts is known too")
	assert.Empty(t, Left(dir+"x"))
	assert.Contains(t, Left(filepath.Dir(dir)), p.PID())
	require.NoError(t, p.Stop(50*time.Millisecond))
	<-p.Done()
	assert.Eventually(t, func() bool { return len(Left(dir)) == 0 }, 60*time.Second, 10*time.Millisecond)
	out, err := os.ReadFile(log)
	require.NoError(t, err)
	assert.Contains(t, string(out), "EXTRA=yes")
	assert.NotContains(t, string(out), "GOPATH=", "the person's own environment is not handed on")
}

func TestEndedSaysWhy(t *testing.T) {
	p, err := Start(t.TempDir(), "short", nil, "sh", "-c", "echo no such port; exit 3")
	require.NoError(t, err)
	err = p.Await(5*time.Second, func() bool { return false })
	assert.ErrorContains(t, err, "short does not run: exit status 3: no such port")
	_, err = Start(t.TempDir(), "none", nil, "/no/such/program")
	assert.ErrorContains(t, err, "starting none")
}

func TestAwaitGivesUp(t *testing.T) {
	dir := t.TempDir()
	p, err := Start(dir, "deaf", nil, "sleep", "60")
	require.NoError(t, err)
	assert.ErrorContains(t, p.Await(30*time.Millisecond, func() bool { return false }), "did not answer within 30ms")
	<-p.Done()
	ready := 0
	p, err = Start(dir, "slow", nil, "sleep", "60")
	require.NoError(t, err)
	assert.NoError(t, p.Await(5*time.Second, func() bool { ready++; return ready > 3 }))
	Reap(dir)
	<-p.Done()
	assert.Empty(t, Left(dir))
}
