package keeper_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/keeper"
)

// A keeper that is killed while it starts a program leaves its lock with that for a moment.
func TestALockThatIsLeftWithAProgramForAMomentIsWaitedFor(t *testing.T) {
	w := demotest.New(t)
	lock := filepath.Join(w.Home, "keeper.lock")
	f, err := os.OpenFile(lock, os.O_CREATE|os.O_RDWR, 0o600)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	// flock(1) takes the lock and ends; the program that was started has it then, until it is told.
	ends, end, err := os.Pipe()
	require.NoError(t, err)
	defer end.Close()
	cmd := exec.Command("sh", "-c", `exec 9<>"$1"; flock 9; cat <&3 >/dev/null & exit 0`, "sh", lock)
	cmd.ExtraFiles = []*os.File{ends}
	require.NoError(t, cmd.Run())
	ends.Close()
	require.True(t, keeper.Taken(w.Home))
	go func() {
		time.Sleep(200 * time.Millisecond)
		end.Close()
	}()
	k, err := keeper.Take(w.Desk)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_ = k.Run(ctx) // it lets go of all at once, in the midst of its first look
}
