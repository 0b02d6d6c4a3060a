package process

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func TestGentle(t *testing.T) {
	if os.Getenv("ALIBI_TEST_GENTLE") != "" { // in a process of its own: it can't be taken back
		Gentle()
		done := make(chan int)
		for range 8 {
			go func() {
				n, err := unix.Getpriority(unix.PRIO_PROCESS, unix.Gettid())
				assert.NoError(t, err)
				done <- 20 - n // as the kernel gives it
			}()
		}
		for range 8 {
			assert.Equal(t, niceness, <-done, "every thread gives way")
		}
		return
	}
	cmd := exec.Command(os.Args[0], "-test.run", "^TestGentle$", "-test.v")
	cmd.Env = append(os.Environ(), "ALIBI_TEST_GENTLE=1")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "PASS: TestGentle")
}
