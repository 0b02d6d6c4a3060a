package sealed_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/remote"
	"alibi/internal/site"
)

// On another host our own program keeps a copy in as it does here, and what may be reached is let through.
func TestAHostileCopyOnAnotherHostDoesNotGetOut(t *testing.T) {
	ctx := context.Background()
	o := newOutsideWorld(t)
	w := realtest.New(t, realtest.Options{})
	live := w.Live("ferry")
	drydock := w.Machine("drydock")
	w.Keep()
	other := clonetest.CopyOf(w, live.Site, "other", func(*clone.Choices) {})
	beside := live.Spec
	beside.Server = drydock.Server() // where the copy's own tables are
	o.arm(t, w, beside, other.Root)
	before, rows := tree(t, live.Spec.Root), dumped(t, live.Spec.Database)
	s := clonetest.CopyOf(w, live.Site, "hostile", func(x *clone.Choices) { x.Host, x.Scrub = drydock.Name, "off" })
	require.True(t, s.Proof.Holds)
	assert.Equal(t, site.Walled, s.Proof.Wall)
	o.shutIn(t, w, s, live.Spec, before, rows)
	shellThere(t, w, s)
	o.letThrough(t, w, s)
	killedThere(t, s)
	cutThere(t, drydock, s)
	ours, err := filepath.Glob(filepath.Join(drydock.Dir, "cache/alibi/program-*"))
	require.NoError(t, err)
	assert.Len(t, ours, 1)
	p, err := w.Desk.Copies.PlanRemove(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(p).State)
	assert.NoDirExists(t, filepath.Join(drydock.Dir, "cache/alibi"), "no copy is left there, and nothing of ours")
}

// letThrough lets the copy reach something outside of its host's world, and nothing else.
func (o *outsideWorld) letThrough(t *testing.T, w *realtest.World, s site.Site) {
	t.Helper()
	const reach = `<?php if (isset($_GET['reach'])) { $c = @fsockopen('127.0.0.2', (int) $_GET['reach'], $n, $why, 3);
		exit($c ? 'through: ' . fgets($c) : 'refused'); }`
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "wp-content/mu-plugins/a-reach.php"), []byte(reach), 0o644))
	port := o.aims["port"].(int)
	_, text := answer(t, s, fmt.Sprint("/?reach=", port))
	require.Equal(t, "refused", text)
	to := fmt.Sprint("127.0.0.2:", port)
	_, err := w.Desk.Copies.Allow(context.Background(), s.ID, to, 0)
	require.NoError(t, err)
	_, text = answer(t, s, fmt.Sprint("/?reach=", port))
	assert.Equal(t, "through: 220 outside\r\n", text)
	_, text = answer(t, s, fmt.Sprint("/?reach=", o.aims["web"]))
	assert.Equal(t, "refused", text)
	require.Eventually(t, func() bool {
		list, err := w.Desk.Copies.Caught(context.Background(), s.ID)
		require.NoError(t, err)
		for _, it := range list {
			if it.Kind == "reached" && it.Target == to {
				return it.In > 0
			}
		}
		return false
	}, 20*time.Second, 100*time.Millisecond)
}

// shellThere runs a command behind the wall of a copy on another host.
func shellThere(t *testing.T, w *realtest.World, s site.Site) {
	t.Helper()
	x, err := w.Desk.Hands.ShellOf(context.Background(), s.ID, false, "sh", "-c",
		`echo "$ALIBI_SITE: $(id -u | wc -c)"; ls wp-config.php; ls -d "$0" 2>&1 || echo none; exit 3`, w.Base)
	require.NoError(t, err)
	require.Empty(t, x.Open)
	unasked := []string{"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR"}
	cmd := exec.Command(x.Command[0], append(unasked, x.Command[1:]...)...)
	out, err := cmd.CombinedOutput()
	var ended *exec.ExitError
	require.ErrorAs(t, err, &ended, string(out))
	assert.Equal(t, 3, ended.ExitCode(), string(out))
	account := map[bool]int{true: len("1900000000\n"), false: len(strconv.Itoa(os.Getuid()) + "\n")}[os.Getuid() == 0]
	assert.Contains(t, string(out), fmt.Sprintf("hostile: %d\nwp-config.php\n", account))
	assert.Contains(t, string(out), "none\n", "Alibi's own folder is not there")
}

// killedThere has our program on the other host die: nothing that it started stays, and the copy is started again.
func killedThere(t *testing.T, s site.Site) {
	t.Helper()
	list := programs(t, "\x00"+remote.Errand) // rather than a shell that was told to start it
	require.Len(t, list, 1)
	in := programs(t, filepath.Dir(s.Root))
	require.NotEmpty(t, in, "its world is told its folders")
	require.NoError(t, syscall.Kill(list[0], syscall.SIGKILL))
	require.Eventually(t, func() bool {
		return !slices.ContainsFunc(in, func(pid int) bool { return syscall.Kill(pid, 0) == nil })
	}, 20*time.Second, 50*time.Millisecond, "nothing outlives it")
	require.Eventually(t, func() bool {
		status, _ := answer(t, s, "/")
		return status == 200
	}, 30*time.Second, 200*time.Millisecond)
	left, err := filepath.Glob(filepath.Join(os.TempDir(), fmt.Sprint("alibi-copy-", list[0], "-*")))
	require.NoError(t, err)
	more, err := filepath.Glob(fmt.Sprint("/tmp/alibi-copy-", list[0], "-*"))
	require.NoError(t, err)
	assert.Empty(t, append(left, more...), "the next one cleared up")
}

// cutThere cuts the connections to the other host: what ran there ends, and runs again with the next page.
func cutThere(t *testing.T, m *real.Machine, s site.Site) {
	t.Helper()
	was := programs(t, filepath.Dir(s.Root))
	require.NotEmpty(t, was)
	n, err := m.Cut()
	require.NoError(t, err)
	require.Positive(t, n)
	require.Eventually(t, func() bool {
		return !slices.ContainsFunc(was, func(pid int) bool { return syscall.Kill(pid, 0) == nil })
	}, 20*time.Second, 50*time.Millisecond, "nothing of it goes on without Alibi")
	require.Eventually(t, func() bool {
		status, _ := answer(t, s, "/")
		return status == 200
	}, 30*time.Second, 200*time.Millisecond)
}

// programs are the processes of whose arguments one holds a text.
func programs(t *testing.T, text string) (out []int) {
	t.Helper()
	list, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, name := range list {
		b, err := os.ReadFile(name)
		pid, perr := strconv.Atoi(filepath.Base(filepath.Dir(name)))
		if err == nil && perr == nil && strings.Contains(string(b), text) && pid != os.Getpid() {
			out = append(out, pid)
		}
	}
	return out
}
