package main

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// binary is the program under test, built once.
var binary string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "alibi-")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "alibi")
	build := exec.Command("go", "build", "-o", binary, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		panic(string(out))
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// terminal is a real terminal, kept by tmux, with the program in it.
type terminal struct {
	t      *testing.T
	socket string
}

func start(t *testing.T, w, h int, env []string, args ...string) *terminal {
	t.Helper()
	x := &terminal{t, filepath.Join(t.TempDir(), "tmux")}
	line := "env LANG=C.UTF-8 LC_ALL=C.UTF-8 " + strings.Join(env, " ") + " " + binary + " " + strings.Join(args, " ") +
		"; echo ended with $?; sleep 60"
	x.tmux("-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(w), "-y", fmt.Sprint(h), line)
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", x.socket, "kill-server").Run() })
	return x
}

func (x *terminal) tmux(args ...string) string {
	x.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", x.socket}, args...)...).CombinedOutput()
	require.NoError(x.t, err, "tmux is needed for this test: %s", out)
	return string(out)
}

func (x *terminal) screen() string { return x.tmux("capture-pane", "-p") }

// keys presses keys by tmux's names.
func (x *terminal) keys(keys ...string) {
	x.t.Helper()
	x.tmux(append([]string{"send-keys"}, keys...)...)
}

// sees waits until a text is on the screen.
func (x *terminal) sees(texts ...string) string {
	x.t.Helper()
	s := ""
	for _, text := range texts {
		for end := time.Now().Add(2 * time.Minute); !strings.Contains(s, text); {
			s = x.screen()
			if time.Now().After(end) {
				x.t.Fatalf("%q did not come:\n%s", text, s)
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	return s
}

// get asks a copy for a page as a browser would.
func get(t *testing.T, address string) (int, string) {
	t.Helper()
	d := net.Dialer{}
	c := http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DialContext: d.DialContext}}
	host := regexp.MustCompile(`^http://([^/:]+):(\d+)`).FindStringSubmatch(address)
	require.NotNil(t, host, address)
	r, err := http.NewRequest(http.MethodGet, "http://127.0.0.1:"+host[2]+"/", nil)
	require.NoError(t, err)
	r.Host = host[1] + ":" + host[2]
	resp, err := c.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(b)
}

func TestAPersonsWholeWay(t *testing.T) {
	home := filepath.Join(t.TempDir(), "demo")
	x := start(t, 128, 40, nil, "demo", "--home", home)
	began := time.Now()
	x.sees("Skerry Line", "timetable-2028")
	t.Logf("the board stood after %v", time.Since(began))
	x.sees("held: redesign sign-off", "its run failed", "expired, gone in", "parked", "ends soon")
	x.keys("Enter")
	x.sees("SIZE OF THE FILES", "REACHES OUTWARD")
	x.keys("c")
	x.sees("what to call it", "nothing is written to it", "brings")
	x.keys("Enter")
	s := x.sees("done in", "answers at")
	address := regexp.MustCompile(`http://\S+/`).FindString(s)
	status, page := get(t, address)
	assert.Equal(t, 200, status)
	assert.Contains(t, page, "<b>COPY</b>")
	assert.Contains(t, page, "Crew Logbook")
	x.keys("v")
	x.sees("evidence holds", "a marker written to the copy")
	x.keys("Escape")
	x.sees("done in")
	x.keys("Enter")
	x.sees("ITS ORIGIN")
	x.keys("x")
	x.sees("off the air?", "Stays for")
	x.keys("Enter")
	x.sees("expired, gone in")
	status, page = get(t, address)
	assert.Equal(t, 410, status)
	assert.Contains(t, page, "bring-back")
	x.keys("q")
	x.sees("ended with 0")
}

func TestNarrowAndResized(t *testing.T) {
	x := start(t, 80, 24, nil, "demo", "--home", filepath.Join(t.TempDir(), "demo"))
	s := x.sees("timetable-2028", "now 6h")
	for _, l := range strings.Split(s, "\n") {
		assert.LessOrEqual(t, len([]rune(l)), 80)
	}
	x.tmux("resize-window", "-x", "140", "-y", "45")
	x.sees("EVIDENCE", "CORE   PHP")
	x.tmux("resize-window", "-x", "50", "-y", "10")
	x.sees("alibi needs 60x12 cells")
	x.tmux("resize-window", "-x", "100", "-y", "30")
	x.sees("timetable-2028")
	x.keys("?")
	x.sees("Keys of this screen", "What the words mean")
	x.keys("Escape")
	x.sees("SIZE")
	x.keys("q")
	x.sees("ended with 0")
}

func TestWithoutColourAndWithoutUTF8(t *testing.T) {
	x := start(t, 128, 40, []string{"NO_COLOR=1", "LC_ALL=C"}, "demo", "--home", filepath.Join(t.TempDir(), "demo"))
	x.sees("timetable-2028")
	raw := x.tmux("capture-pane", "-p", "-e")
	assert.NotRegexp(t, `\x1b\[[0-9;]*(38|48);[25];`, raw, "no colours")
	for _, r := range x.screen() {
		if r > 126 {
			t.Fatalf("%q is not ASCII", r)
		}
	}
	x.sees(" LIVE ", "copy", "ends soon")
}

func TestClosingDuringARunAndGoingOn(t *testing.T) {
	home := filepath.Join(t.TempDir(), "home")
	root := filepath.Join(t.TempDir(), "site")
	require.NoError(t, os.MkdirAll(root, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "index.html"), []byte("<html><body>boats"), 0o644))
	for i := range 6000 {
		require.NoError(t, os.WriteFile(filepath.Join(root, fmt.Sprintf("picture-%04d.txt", i)),
			[]byte(strings.Repeat("sea ", 2000)), 0o644))
	}
	run := func(args ...string) string {
		t.Helper()
		out, err := exec.Command(binary, append(args, "--home", home)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	run("list")
	conf, err := os.ReadFile(filepath.Join(home, "config.toml"))
	require.NoError(t, err)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, _ := net.SplitHostPort(ln.Addr().String())
	ln.Close()
	require.NoError(t, os.WriteFile(filepath.Join(home, "config.toml"),
		[]byte(strings.Replace(string(conf), "port = 7700", "port = "+port, 1)), 0o600))
	run("add", root, "--address", "boats.example")
	x := start(t, 128, 40, nil, "--home", home)
	x.sees("boats.example")
	x.keys("c")
	x.sees("what to call it")
	x.keys("Enter")
	x.sees("bring the files")
	x.keys("q")
	s := x.sees("Close Alibi?", "This window carries the keeper")
	assert.Contains(t, s, "alibi keeper")
	x.keys("Enter")
	x.sees("ended with 0")
	assert.Contains(t, run("runs"), "left off", "it is not over")
	x = start(t, 128, 40, nil, "--home", home)
	x.sees("boats-copy")
	x.keys("j")
	x.sees("evidence holds", "no runs")
	x.keys("q")
	x.sees("ended with 0")
	assert.Contains(t, run("runs"), "done")
	assert.Contains(t, run("leftovers"), "nothing is left over")
}
