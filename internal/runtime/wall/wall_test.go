package wall

import (
	"bytes"
	"context"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/site"
)

// short makes a folder that other accounts reach, with a short path.
func short(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "wall")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// give gives a folder, and all that is in it, to the account of a world.
func give(t *testing.T, dir string, to *host.Owner) {
	t.Helper()
	if to != nil {
		require.NoError(t, filepath.WalkDir(dir, func(p string, _ os.DirEntry, err error) error {
			require.NoError(t, err)
			return os.Lchown(p, to.User, to.Group)
		}))
	}
}

// calls are the calls that were told.
type calls struct {
	mu   sync.Mutex
	list []Call
}

func (c *calls) tell(x Call) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.list = append(c.list, x)
}

func (c *calls) to(host string, port int) (n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, x := range c.list {
		if x.Host == host && x.Port == port {
			n++
		}
	}
	return n
}

// run runs a program in a world and gives what it printed.
func run(t *testing.T, w World, ways *Ways, program string, args ...string) string {
	t.Helper()
	l, err := w.Prepare(ways, program, args...)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, l.Program, l.Args...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr, cmd.ExtraFiles = &out, &out, l.Files
	require.NoError(t, cmd.Start())
	c, err := l.Begin()
	if err != nil {
		_ = cmd.Wait()
		require.NoError(t, err, out.String())
	}
	_ = cmd.Wait() // what it ends with is in what it printed
	require.NoError(t, c.Close())
	return out.String()
}

// here needs a wall to be had on this machine.
func here(t *testing.T) {
	t.Helper()
	require.Empty(t, Missing(), "these tests need bubblewrap and namespaces (make needs)")
}

func TestAWorldHasNothingOfTheMachine(t *testing.T) {
	here(t)
	dir, own := short(t), short(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("deep water"), 0o644))
	w := World{Run: own, Write: []string{filepath.Join(own, "site")}, Owner: Account("c1"), Bounds: site.UsualBounds}
	require.NoError(t, os.Mkdir(w.Write[0], 0o755))
	give(t, w.Write[0], w.Owner)
	out := run(t, w, nil, "/bin/sh", "-c", "exec 2>&1; id -u; grep -E '^(Cap|NoNewPrivs)' /proc/self/status; cat "+dir+
		"/secret; ls /root /home /etc/shadow /srv; echo mine >"+own+
		"/site/f; echo no >/usr/f; ls /proc | grep -c '^[0-9]'; "+
		"ulimit -n; unshare -Urn id; cat /proc/1/environ | tr '\\0' ' '; mount -t tmpfs none /mnt; hostname other")
	t.Log(out)
	assert.NotContains(t, out, "deep water")
	for _, cap := range []string{"CapInh", "CapPrm", "CapEff", "CapAmb"} {
		assert.Contains(t, out, cap+":\t0000000000000000")
	}
	assert.Contains(t, out, "NoNewPrivs:\t1")
	assert.NotContains(t, strings.Split(out, "\n"), "0", "it is not root, nor does it see nothing of itself")
	b, err := os.ReadFile(filepath.Join(own, "site", "f"))
	require.NoError(t, err)
	assert.Equal(t, "mine\n", string(b))
	assert.NoFileExists(t, "/usr/f")
	fi, err := os.Stat(filepath.Join(own, "site", "f"))
	require.NoError(t, err)
	if w.Owner != nil {
		assert.Equal(t, w.Owner, host.OwnerOf(fi), "under root it is nobody else's account")
		assert.Contains(t, out, strconv.Itoa(w.Owner.User)+"\n")
	}
}

func TestWhatLeadsOutOfAWorld(t *testing.T) {
	here(t)
	outside, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer outside.Close()
	hits := make(chan struct{}, 100)
	go func() {
		for {
			c, err := outside.Accept()
			if err != nil {
				return
			}
			hits <- struct{}{}
			_, _ = io.WriteString(c, "from outside\n")
			c.Close()
		}
	}()
	port := outside.Addr().(*net.TCPAddr).Port
	var told calls
	var mails []string
	var mu sync.Mutex
	box := &Mailbox{Keep: func(r io.Reader) error {
		b, err := io.ReadAll(r)
		mu.Lock()
		defer mu.Unlock()
		mails = append(mails, string(b))
		return err
	}}
	var dialled []string
	ways := &Ways{
		Own: []string{"copy.alibi.localhost"}, Pages: []int{8088},
		Serve: func(c net.Conn) { _, _ = io.WriteString(c, "own page\n") },
		Mail:  box.Serve, Allowed: []site.Pass{{To: "api.example:" + strconv.Itoa(port)},
			{To: "pay.example:443", Until: time.Now().Add(-time.Second)}},
		Tell: told.tell,
		Dial: func(ctx context.Context, network, addr string) (net.Conn, error) {
			dialled = append(dialled, addr)
			return net.Dial("tcp", outside.Addr().String())
		},
	}
	own := short(t)
	w := World{Run: own, Owner: Account("c2"), Bounds: site.UsualBounds}
	script, err := os.ReadFile("testdata/calls.php")
	require.NoError(t, err)
	code := strings.TrimPrefix(strings.ReplaceAll(string(script), "PORT", strconv.Itoa(port)), "<?php")
	out := run(t, w, ways, "/usr/bin/php", "-n", "-r", code)
	t.Log(out)
	select {
	case <-hits:
	default:
		t.Error("what is allowed was not reached")
	}
	assert.Empty(t, hits, "nothing else reached the machine's port")
	assert.Equal(t, []string{"api.example:" + strconv.Itoa(port)}, dialled)
	assert.Equal(t, 1, strings.Count(out, "from outside"), out)
	assert.Contains(t, out, "refused within a moment")
	assert.Contains(t, out, "tcp://api.example:"+strconv.Itoa(port)+": from outside")
	assert.Equal(t, 2, strings.Count(out, ": own page"))
	assert.Contains(t, out, "220 250 334 334 235 250 250 354 250 221")
	require.Len(t, mails, 1)
	assert.Contains(t, mails[0], "Delivered-To: b@x.example\r\nSubject: tide\r\n\r\nhigh")
	for host, port := range map[string]int{"192.0.2.7": 443, "2001:db8::7": 443, "pay.example": 443, "api.example": 443,
		"192.0.2.9": 5353, "8.8.8.8": 53, "mail.example": 587, "127.0.0.1": port} {
		assert.Positive(t, told.to(host, port), "%s:%d", host, port)
	}
}

func TestBoundsOfAWorld(t *testing.T) {
	here(t)
	own := short(t)
	w := World{Run: own, Owner: Account("c3"), Write: []string{filepath.Join(own, "site")},
		Bounds: site.Bounds{Program: 512 << 20,
			Processes: 20, File: 1 << 20, Files: 64, Temp: 64 << 20, CPU: time.Hour}}
	require.NoError(t, os.Mkdir(w.Write[0], 0o755))
	give(t, w.Write[0], w.Owner)
	out := run(t, w, nil, "/bin/sh", "-c", `cd `+w.Write[0]+`; exec 2>&1
(head -c 3000000 /dev/zero >big); ls -l big | awk '{print "file", $5}'
head -c 100000000 /dev/zero | (cat >/tmp/f); ls -l /tmp/f | awk '{print "temp", ($5 <= 67108864)}'
php -n -d memory_limit=-1 -r 'str_repeat("x", 700000000);' | tail -1
i=0; while [ $i -lt 40 ]; do (sleep 5) & i=$((i+1)); done; echo end`)
	t.Log(out)
	assert.Contains(t, out, "file 1048576")
	assert.Contains(t, out, "temp 1")
	assert.Contains(t, out, "Out of memory")
	assert.Contains(t, out, "fork")
}

func TestNoProcessOfAWorldOutlivesIt(t *testing.T) {
	here(t)
	own := short(t)
	w := World{Run: own, Owner: Account("c4"), Bounds: site.UsualBounds, As: map[string]string{"/tell": own}}
	out := run(t, w, nil, "/bin/sh", "-c", "setsid sh -c 'trap \"\" TERM HUP; sleep 3127' & sleep 0.2; pgrep -c "+
		"sleep || echo 1")
	assert.Equal(t, "1\n", out, "it ran")
	left, err := exec.Command("pgrep", "-f", "sleep 3127").Output()
	assert.Error(t, err, "%s are left", left)
}

// The same holds for people who are not root: it is tried as another account where these tests run as root.
func TestAnOrdinaryAccountHasTheSameWall(t *testing.T) {
	here(t)
	if os.Geteuid() != 0 {
		return // then the other tests have shown it
	}
	dir := short(t)
	b, err := os.ReadFile(os.Args[0])
	require.NoError(t, err)
	program := filepath.Join(dir, "wall.test")
	require.NoError(t, os.WriteFile(program, b, 0o755))
	temp := filepath.Join(dir, "temp")
	require.NoError(t, os.Mkdir(temp, 0o700))
	require.NoError(t, os.Chown(temp, 65534, 65534))
	cmd := exec.Command(program, "-test.v", "-test.run",
		"^(TestAWorldHasNothingOfTheMachine|TestWhatLeadsOutOfAWorld|TestBoundsOfAWorld|TestNoProcessOfAWorldOutlivesIt)$")
	require.NoError(t, os.CopyFS(filepath.Join(temp, "testdata"), os.DirFS("testdata")))
	cmd.Dir, cmd.Env = temp, []string{"PATH=/usr/bin:/bin", "TMPDIR=" + temp, "HOME=" + temp}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, 4, strings.Count(string(out), "--- PASS"), string(out))
}

// Files are given to a copy's account while its code puts links in the way: nothing outside becomes that account's.
func TestWhatIsGivenStaysInsideWhateverIsPutInTheWay(t *testing.T) {
	if os.Geteuid() != 0 {
		return // files are given to others under root alone
	}
	dir, outside := t.TempDir(), t.TempDir()
	for _, d := range []string{filepath.Join(dir, "a"), outside} {
		require.NoError(t, os.MkdirAll(filepath.Join(d, "b"), 0o755))
		for i := range 20 {
			require.NoError(t, os.WriteFile(filepath.Join(d, "b", strconv.Itoa(i)), nil, 0o600))
		}
	}
	require.NoError(t, os.Symlink(filepath.Join(outside, "b/0"), filepath.Join(dir, "link")))
	stop, ended := make(chan struct{}), make(chan struct{})
	var swaps atomic.Int64
	go func() {
		defer close(ended)
		at, aside := filepath.Join(dir, "a"), filepath.Join(dir, "aside")
		for {
			select {
			case <-stop:
				return
			default:
			}
			if os.Rename(at, aside) != nil || os.Symlink(outside, at) != nil || os.Remove(at) != nil ||
				os.Rename(aside, at) != nil {
				t.Error("the test's own links can't be exchanged")
				swaps.Store(3000)
				return
			}
			swaps.Add(1)
		}
	}()
	for i := 0; swaps.Load() < 3000; i++ {
		_ = Give(dir, host.Owner{User: 1900000001 + i%2, Group: 1900000001}) // it may be in the way just then
	}
	close(stop)
	<-ended
	require.NoError(t, filepath.WalkDir(outside, func(name string, d os.DirEntry, err error) error {
		require.NoError(t, err)
		fi, err := d.Info()
		require.NoError(t, err)
		assert.Zero(t, host.OwnerOf(fi).User, name)
		return nil
	}))
}
