package tui

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
)

var update = flag.Bool("update", false, "write the golden screens anew")

// golden are the main views, by the keys that lead there from the board.
var golden = []struct {
	name string
	keys []string
	sees string // once it is loaded
}{
	{"board", nil, "crew"},
	{"help", []string{"?"}, ""},
	{"live-site", []string{"enter"}, "crew"},
	{"copy", []string{"down", "down", "down", "enter"}, "near"},
	{"plan", []string{"c"}, "lives for"},
	{"evidence", []string{"down", "down", "down", "v"}, "evidence"},
	{"points", []string{"R"}, "before"},
	{"reset", []string{"down", "down", "down", "z"}, "goes"},
	{"components", []string{"down", "down", "down", "C"}, "6.8"},
	{"versions", []string{"V"}, "core"},
	{"runs", []string{"u"}, "restore"},
	{"history", []string{"y"}, "restore"},
	{"ends", []string{"e"}, "broken"},
	{"kept", []string{"K"}, "depot"},
	{"files", []string{"down", "down", "down", "f"}, "wp-content"},
	{"tables", []string{"down", "down", "down", "f", "tab"}, "sk_posts"},
	{"drift", []string{"down", "down", "down", "d"}, "ON THE COPY"},
}

// room and size are what depends on the machine that the tests run on; room has as many digits as there is of it.
var (
	room = regexp.MustCompile(`\d+(\.\d+)? [KMGT]iB (are )?free\b *`)
	size = regexp.MustCompile(`\d+(\.\d+)? [KMGT]iB free|free +\d+(\.\d+)? [KMGT]iB`)
)

// The screens are those of a home that is kept as data, at the moment in which it was written.
func TestGoldenScreens(t *testing.T) {
	local := time.Local
	time.Local = time.UTC
	defer func() { time.Local = local }()
	w, dir := demotest.Former(t, func(o *desk.Options) { o.Now = func() time.Time { return demotest.FormerEnd } })
	for _, window := range []struct {
		name string
		w, h int
		look *theme
	}{{"128x40", 128, 40, newTheme(true, false)}, {"80x24", 80, 24, newTheme(true, false)},
		{"plain", 100, 30, newPlainTheme(true)}} {
		for _, g := range golden {
			t.Run(g.name+" "+window.name, func(t *testing.T) {
				p := sitAt(t, w.Desk, window.w, window.h)
				p.a.theme = window.look
				p.press(g.keys...)
				p.until(g.sees)
				checkGolden(t, filepath.Join("testdata", "golden", g.name+"-"+window.name+".txt"), p.frame(), dir)
			})
		}
	}
}

// checkGolden compares a frame with the one that is kept.
func checkGolden(t *testing.T, name, frame, dir string) {
	t.Helper()
	frame = strings.ReplaceAll(frame, dir, "/srv/former")
	frame = room.ReplaceAllStringFunc(frame, func(s string) string { return fmt.Sprintf("%-*s", len(s), "###########") })
	frame = size.ReplaceAllStringFunc(frame, func(s string) string { return strings.Repeat("#", len(s)) })
	lines := strings.Split(frame, "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	got := strings.Join(lines, "\n") + "\n"
	if *update {
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(got), 0o644))
	}
	want, err := os.ReadFile(name)
	require.NoError(t, err, "go test ./internal/tui -run Golden -update writes it")
	assert.Equal(t, string(want), got, name)
}
