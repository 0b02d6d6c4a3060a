package sealed_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/evidence"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/runtime/outbox"
	"alibi/internal/runtime/wall"
	"alibi/internal/site"
)

// outsideWorld is what a hostile copy aims at: listeners of every kind on this machine, each of which counts who
// came.
type outsideWorld struct {
	came atomic.Int64
	aims map[string]any
}

func newOutsideWorld(t *testing.T) *outsideWorld {
	t.Helper()
	o := &outsideWorld{aims: map[string]any{}}
	dir, err := os.MkdirTemp("", "out")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	greet := func(network, addr, say string) net.Addr {
		l, err := net.Listen(network, addr)
		require.NoError(t, err)
		t.Cleanup(func() { l.Close() })
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				o.came.Add(1)
				_, _ = io.WriteString(c, say)
				c.Close()
			}
		}()
		return l.Addr()
	}
	port := func(a net.Addr) int { return a.(*net.TCPAddr).Port }
	o.aims["port"] = port(greet("tcp", ":0", "220 outside\r\n"))
	o.aims["web"] = port(greet("tcp", ":0", "HTTP/1.0 200 OK\r\n\r\n<x>outside</x>"))
	o.aims["unix"] = filepath.Join(dir, "s")
	greet("unix", filepath.Join(dir, "s"), "outside\n")
	require.NoError(t, os.Chmod(filepath.Join(dir, "s"), 0o777))
	o.aims["abstract"] = "alibi-outside-" + strconv.Itoa(os.Getpid())
	greet("unix", "@"+o.aims["abstract"].(string), "outside\n")
	u, err := net.ListenPacket("udp", ":0")
	require.NoError(t, err)
	t.Cleanup(func() { u.Close() })
	o.aims["udp"] = u.LocalAddr().(*net.UDPAddr).Port
	go func() {
		b := make([]byte, 100)
		for {
			_, from, err := u.ReadFrom(b)
			if err != nil {
				return
			}
			o.came.Add(1)
			_, _ = u.WriteTo([]byte("outside"), from)
		}
	}()
	const key = 0x7a11b1
	id, err := unix.SysvShmGet(key, 16, unix.IPC_CREAT|0o666)
	require.NoError(t, err)
	t.Cleanup(func() { _, _ = unix.SysvShmCtl(id, unix.IPC_RMID, nil) })
	o.aims["shm"] = key
	o.aims["pid"] = os.Getpid()
	o.aims["machine"], err = os.Hostname()
	require.NoError(t, err)
	o.aims["address"] = "127.0.0.1"
	if list, err := net.InterfaceAddrs(); err == nil {
		for _, a := range list {
			if n, ok := a.(*net.IPNet); ok && !n.IP.IsLoopback() && n.IP.To4() != nil {
				o.aims["address"] = n.IP.String()
			}
		}
	}
	return o
}

// arm puts the hostile plugin into a live site, with what it aims at.
func (o *outsideWorld) arm(t *testing.T, w *realtest.World, spec real.Spec, other string) {
	t.Helper()
	_, socket, _ := strings.Cut(spec.Server, ":")
	for k, v := range map[string]any{"root": spec.Root, "password": spec.Password, "account": spec.Database,
		"database": spec.Database, "socket": socket, "home": w.Base, "other": other} {
		o.aims[k] = v
	}
	code, err := os.ReadFile("testdata/hostile.php")
	require.NoError(t, err)
	aims, err := json.Marshal(o.aims)
	require.NoError(t, err)
	dir := filepath.Join(spec.Root, "wp-content/mu-plugins")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "hostile.php"), code, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "aims.json"), aims, 0o644))
}

// A copy with a plugin that tries everything it can think of, beside its live site on one machine: nothing gets
// through, what it called is told, and the plugin's legitimate work goes on.
func TestAHostileCopyDoesNotGetOut(t *testing.T) {
	ctx := context.Background()
	o := newOutsideWorld(t)
	w := realtest.New(t, realtest.Options{})
	single := w.Live("ferry")
	network := w.Live("fleet", func(s *real.Spec) {
		s.Network = []real.Sub{{Name: "north", Title: "North Island", Posts: 2}}
	})
	w.Keep()
	other := clonetest.CopyOf(w, single.Site, "other", func(*clone.Choices) {})
	for _, c := range []struct {
		live *realtest.Live
		php  string
	}{{single, "7.4"}, {single, "8.2"}, {network, "8.4"}} {
		t.Run(c.live.Site.Name+" on "+c.php, func(t *testing.T) {
			o.arm(t, w, c.live.Spec, other.Root)
			before := tree(t, c.live.Spec.Root)
			rows := dumped(t, c.live.Spec.Database)
			s := clonetest.CopyOf(w, c.live.Site, "hostile", func(x *clone.Choices) { x.Runtime.PHP, x.Scrub = c.php, "off" })
			require.True(t, s.Proof.Holds)
			o.shutIn(t, w, s, c.live.Spec, before, rows)
			p, err := w.Desk.Copies.PlanRemove(ctx, s.ID)
			require.NoError(t, err)
			require.Equal(t, plan.Done, w.Run(p).State)
		})
	}
}

// The tries are real ones: on a machine without the wall many of them get through.
func TestWithoutAWallAHostileCopyGetsOut(t *testing.T) {
	had := wall.Missing
	wall.Missing = func() string { return "this test wants none" }
	defer func() { wall.Missing = had }()
	o := newOutsideWorld(t)
	w := realtest.New(t, realtest.Options{})
	live := w.Live("ferry")
	w.Keep()
	other := clonetest.CopyOf(w, live.Site, "other", func(*clone.Choices) {})
	o.arm(t, w, live.Spec, other.Root)
	s := clonetest.CopyOf(w, live.Site, "hostile", func(x *clone.Choices) { x.Scrub = "off" })
	reports, err := w.Desk.Copies.Reports(context.Background(), s.ID, 1)
	require.NoError(t, err)
	i := slices.IndexFunc(reports[0].Checks, func(c evidence.Check) bool { return c.Name == "wall" })
	assert.Equal(t, evidence.Noted, reports[0].Checks[i].Verdict, "the evidence says so")
	assert.Contains(t, reports[0].Checks[i].Text, "no wall: this test wants none")
	assert.Positive(t, reports[0].Checks[i].Number)
	through := 0
	for _, got := range tries(t, s) {
		if got {
			through++
		}
	}
	assert.Greater(t, through, 25)
	assert.Greater(t, o.came.Load(), int64(10))
	w.Stop()
}

// shutIn has a copy try all that it can think of: nothing gets through, the live site is what it was, what was called
// is told, and the copy's legitimate work goes on.
func (o *outsideWorld) shutIn(t *testing.T, w *realtest.World, s site.Site, live real.Spec, before []string,
	rows string) {
	t.Helper()
	came := o.came.Load()
	got := tries(t, s)
	assert.Greater(t, len(got), 100)
	for name, through := range got {
		assert.False(t, through, name)
	}
	assert.Equal(t, came, o.came.Load(), "nobody came to what listens outside")
	assert.Equal(t, before, tree(t, live.Root), "the live site's files")
	assert.Equal(t, rows, dumped(t, live.Database), "the live site's tables")
	told(t, w, s, live, o)
	_, text := answer(t, s, "/?legitimate=1")
	assert.Equal(t, "count 1, upload whole, own page 200", text)
}

// tries has a copy try to get out, and gives what got through, by name.
func tries(t *testing.T, s site.Site) map[string]bool {
	t.Helper()
	status, text := answer(t, s, "/?hostile=1")
	require.Equal(t, 200, status, text)
	var got map[string]bool
	require.NoError(t, json.Unmarshal([]byte(text), &got), text)
	return got
}

// answer asks a copy for a page, and waits for as long as it takes.
func answer(t *testing.T, s site.Site, path string) (int, string) {
	t.Helper()
	c := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "tcp", "127.0.0.1:"+s.Address().Port)
	}, DisableKeepAlives: true}}
	resp, err := c.Get(s.Address().String() + path)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(b)
}

// told wants what a hostile copy called among what was caught, by target.
func told(t *testing.T, w *realtest.World, s site.Site, live real.Spec, o *outsideWorld) {
	t.Helper()
	want := []string{fmt.Sprintf("tcp 127.0.0.1:%d", o.aims["port"]), fmt.Sprintf("udp 127.0.0.1:%d", o.aims["udp"]),
		fmt.Sprintf("tcp 127.0.0.1:%d", o.aims["web"]), "tcp mail.example:465", "mail mail.example:587",
		"the database as " + live.Database, "the database as root"}
	require.Eventually(t, func() bool {
		list, err := w.Desk.Copies.Caught(context.Background(), s.ID)
		require.NoError(t, err)
		mails, asked := 0, 0
		missing := slices.DeleteFunc(slices.Clone(want), func(x string) bool {
			return slices.ContainsFunc(list, func(it outbox.Item) bool { return it.Kind == "refused" && it.To == x })
		})
		for _, it := range list {
			if it.Kind == "mail" && it.Subject == "hostile tide" {
				mails++
			}
			if it.Kind == "refused" && slices.ContainsFunc(it.By, func(by string) bool {
				return strings.HasPrefix(by, "mu-plugins/hostile.php:")
			}) {
				asked++
			}
		}
		if len(missing) > 0 || mails != 2 || asked < 3 {
			t.Log("not told yet:", missing, "mails:", mails, "with who asked:", asked)
		}
		return len(missing) == 0 && mails == 2 && asked >= 3
	}, time.Minute, 500*time.Millisecond)
}

// tree lists a folder: names, sizes and modes.
func tree(t *testing.T, root string) (out []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(root, func(name string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		fi, err := d.Info()
		if err == nil {
			out = append(out, fmt.Sprint(name, fi.Mode(), fi.Size(), fi.ModTime()))
		}
		return err
	}))
	return out
}

// dumped sums the tables of a database up.
func dumped(t *testing.T, database string) string {
	t.Helper()
	names, err := mariadbtest.Text(database, "SELECT GROUP_CONCAT(CONCAT('`', TABLE_NAME, '`')) FROM "+
		"information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()")
	require.NoError(t, err)
	out := ""
	for _, n := range strings.Split(names, ",") {
		sum, err := mariadbtest.Text(database, "SELECT CONCAT(COUNT(*)) FROM "+n)
		require.NoError(t, err)
		out += n + " " + sum + "\n"
	}
	return out
}
