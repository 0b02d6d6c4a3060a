package demotest

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"alibi/internal/desk"
	"alibi/internal/keeper"
	"alibi/internal/plan"
	"alibi/internal/work"
)

// Main runs a package's tests by run, or, if it is asked to, runs as a keeper
// that kills itself at a moment: KilledAt starts the tests again as that process.
func Main(m *testing.M, run func(*testing.M)) {
	home, at := os.Getenv("ALIBI_TEST_HOME"), os.Getenv("ALIBI_TEST_KILL")
	if home == "" {
		run(m)
		return
	}
	ctx := context.Background()
	d, err := desk.Open(ctx, desk.Options{Home: home, Observe: func(m work.Moment) {
		if m.Step+" "+m.Phase == at {
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		}
	}})
	if err != nil {
		panic(err)
	}
	k, err := keeper.Take(d)
	if err != nil {
		panic(err)
	}
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	_ = k.Run(ctx)
	os.Exit(3) // the moment never came
}

// KilledAt has another process work on the home until it kills itself at a
// moment: a step's name, and "begin", "progress" or "end".
func KilledAt(t *testing.T, w *World, moment string) {
	t.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "ALIBI_TEST_HOME="+w.Base, "ALIBI_TEST_KILL="+moment)
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	require.True(t, errors.As(err, &exit), "%v: %s", err, out)
	require.Equal(t, syscall.SIGKILL, exit.Sys().(syscall.WaitStatus).Signal(), "at %s: %s", moment, out)
}

// Resumed puts a keeper to work and waits for the run that was killed.
func Resumed(t *testing.T, w *World, id string) plan.Run {
	t.Helper()
	w.Keep()
	defer w.Stop()
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	defer cancel()
	r, err := w.Desk.Runs.Await(ctx, id, nil)
	require.NoError(t, err)
	require.Equal(t, plan.Done, r.State, r.Error)
	return r
}

// Once does something at a moment of a run, as KilledAt knows them, the first time that it comes.
func Once(moment string, do func()) func(*desk.Options) {
	return func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if do != nil && m.Step+" "+m.Phase == moment {
				now := do
				do = nil
				now()
			}
		}
	}
}
