package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/evidence"
	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// call runs a command as a person would type it, and gives its exit code and
// what it printed.
func call(t *testing.T, args ...string) (code int, out, errs string) {
	t.Helper()
	outF, err := os.CreateTemp(t.TempDir(), "")
	require.NoError(t, err)
	errF, err := os.CreateTemp(t.TempDir(), "")
	require.NoError(t, err)
	in, err := os.Open(os.DevNull)
	require.NoError(t, err)
	defer in.Close()
	was := []*os.File{os.Stdout, os.Stderr, os.Stdin}
	os.Stdout, os.Stderr, os.Stdin = outF, errF, in
	defer func() { os.Stdout, os.Stderr, os.Stdin = was[0], was[1], was[2] }()
	code = Run(args, func(context.Context, *desk.Desk, bool) error { return nil })
	o, err := os.ReadFile(outF.Name())
	require.NoError(t, err)
	e, err := os.ReadFile(errF.Name())
	require.NoError(t, err)
	return code, string(o), string(e)
}

func TestTheWholeWayByCommand(t *testing.T) {
	w := demotest.New(t)
	home := "--home=" + w.Home
	ok := func(args ...string) string {
		t.Helper()
		code, out, errs := call(t, append(args, home)...)
		require.Zero(t, code, "%v: %s", args, errs)
		return out
	}
	assert.Contains(t, ok("list"), "LIVE skerryline.example")
	out := ok("copy", "crew", "--name", "later", "--detach")
	assert.Contains(t, out, ": it waits, since nobody works")
	id, _, _ := strings.Cut(out[strings.LastIndex(out, "alibi runs ")+len("alibi runs "):], "\n")
	assert.Contains(t, ok("runs", id), "nobody works now: alibi keeper goes on")
	assert.Contains(t, ok("list"), "nobody works now")
	r, err := w.Desk.Workings().Record.Run(t.Context(), id)
	require.NoError(t, err)
	r.State = plan.Running // as a keeper leaves it that was killed
	require.NoError(t, w.Desk.Workings().Record.PutRun(t.Context(), r))
	assert.Contains(t, ok("runs", id), "copy of later, left off, by")
	w.Keep()
	assert.Contains(t, ok("copy", "crew", "--name", "now", "--detach"), ": the keeper works on it, process ")
	runs, err := w.Desk.Workings().Record.Runs(t.Context(), 0)
	require.NoError(t, err)
	for _, r := range runs {
		_, err = w.Desk.Runs.Await(t.Context(), r.ID, nil)
		require.NoError(t, err)
	}
	assert.NotContains(t, ok("runs"), "left off")
	w.Stop()
	ok("remove", "later", "--confirm", "later")
	ok("remove", "now", "--confirm", "now")
	assert.Contains(t, ok("inspect", "crew"), "1 serialized value is broken already")
	assert.Contains(t, ok("copy", "skerryline.example", "--plan"), "nothing on the origin")
	out = ok("copy", "skerryline.example", "--name", "winter", "--for", "the winter timetable", "--lease", "6h")
	assert.Contains(t, out, "evidence holds")
	assert.Contains(t, out, "accounts are the origin's, with their passwords")
	assert.Contains(t, ok("list", "--due"), "ends in 6 h")
	assert.Contains(t, ok("evidence", "winter", "--strict"), "evidence holds")
	assert.Contains(t, ok("open", "winter"), "http://winter.localhost:")
	assert.Contains(t, ok("open", "winter", "--inside"), "/-/key/")
	assert.Contains(t, ok("caught", "winter"), "nothing was caught")
	assert.Contains(t, ok("override", "winter"), "leads to 127.0.0.1 and ::1; http://skerryline.example:")
	assert.Contains(t, ok("override", "winter", "--off"), "no name leads to winter any more")
	assert.Contains(t, ok("extend", "winter", "2d"), "ends in 2 d")
	assert.Contains(t, ok("refresh", "winter"), "evidence holds")
	assert.Contains(t, ok("hold", "winter", "sign-off", "on", "Friday"), "held: sign-off on Friday")
	code, _, errs := call(t, "expire", "winter", home)
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "it is held: sign-off on Friday; nothing was done. To go on, say --confirm winter")
	assert.Contains(t, ok("expire", "winter", "--confirm", "winter"), "expired, gone in")
	assert.Contains(t, ok("bring-back", "winter", "--lease", "1h"), "ends in 60 min")
	assert.Contains(t, ok("history", "winter"), "brought back")
	assert.Contains(t, ok("runs"), "done")
	assert.Contains(t, ok("remove", "winter", "--confirm", "winter"), "freed")
	assert.Contains(t, ok("leftovers"), "nothing is left over")
	assert.Contains(t, ok("host", "list"), "pier")
	assert.Contains(t, ok("owner", "crew", "edda"), "edda answers for crew.skerryline.example")
	code, _, errs = call(t, "forget", "crew", home)
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "Alibi will know nothing of it any more; nothing was done")
	ok("forget", "crew", "--confirm", "crew.skerryline.example")
	assert.NotContains(t, ok("list"), "crew.skerryline.example")
}

func TestJSONIsTheValuesThemselves(t *testing.T) {
	w := demotest.New(t)
	home := "--home=" + w.Home
	get := func(v any, args ...string) {
		t.Helper()
		code, out, errs := call(t, append(args, home, "--json")...)
		require.Zero(t, code, errs)
		require.NoError(t, json.Unmarshal([]byte(out), v), out)
	}
	var b desk.Board
	get(&b, "list")
	assert.Equal(t, 5, b.Live)
	var p plan.Plan
	get(&p, "copy", "crew", "--plan")
	assert.Equal(t, plan.Copy, p.Kind)
	var r plan.Run
	get(&r, "copy", "crew", "--name", "jay")
	assert.Equal(t, plan.Done, r.State)
	var rep evidence.Report
	get(&rep, "evidence", "jay")
	assert.True(t, rep.Proof().Holds)
	var s site.Site
	get(&s, "inspect", "jay")
	assert.Equal(t, "jay", s.Name)
	var left []any
	get(&left, "leftovers")
	assert.Empty(t, left)
	var runs []plan.Run
	get(&runs, "runs")
	assert.Len(t, runs, 1)
}

func TestExitCodes(t *testing.T) {
	w := demotest.New(t)
	home := "--home=" + w.Home
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{ExitNotFound, `no site is called "zanzibar"`, []string{"inspect", "zanzibar"}},
		{ExitNotFound, "not in the record", []string{"runs", "zanzibar"}},
		{ExitUsage, "accepts 1 arg(s), received 0; see: alibi copy --help", []string{"copy"}},
		{ExitUsage, `unknown command "nosuch" for "alibi"; see: alibi --help`, []string{"nosuch"}},
		{ExitUsage, `unknown command "nosuch" for "alibi pins"`, []string{"pins", "nosuch"}},
		{ExitUsage, "say which: alibi host add,", []string{"host"}},
		{ExitFailed, "the plan can't be carried out", []string{"copy", "crew", "--name", "A B", "--plan"}},
		{ExitNotFound, "there is no archive", []string{"archives", "check", "/no/such/file"}},
		{ExitFailed, "this is no archive of Alibi's", []string{"archives", "check", "/etc/hostname"}},
		{ExitUsage, "unknown flag: --fast", []string{"copy", "crew", "--fast"}},
		{ExitUsage, `"soon" is no lifetime`, []string{"copy", "crew", "--lease", "soon"}},
		{ExitUsage, `"noise" is no quiet rule`, []string{"copy", "crew", "--loud", "noise"}},
		{ExitUsage, `"poems" is no kind of content: posts, pages`, []string{"copy", "crew", "--only", "poems"}},
		{ExitUsage, `"huge" is no size`, []string{"copy", "crew", "--larger", "huge"}},
		{ExitFailed, "can't be part of an address", []string{"copy", "crew", "--name", "A B"}},
		{ExitFailed, "can be made on this machine only", []string{"copy", "crew", "--host", "pier"}},
		{ExitFailed, "it has no lease", []string{"extend", "crew"}},
		{ExitFailed, "is no absolute path", []string{"add", "srv"}},
		{ExitFailed, "there is no site in this folder", []string{"add", "/usr/bin"}},
		{ExitFailed, "host nowhere", []string{"host", "add", "nowhere", "127.0.0.1:1"}},
		{ExitUsage, "needs a terminal", []string{}},
	} {
		code, _, errs := call(t, append(c.args, home)...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errs)
		assert.Contains(t, errs, c.want, "%v", c.args)
		assert.NotContains(t, errs, "goroutine", "%v", c.args)
		assert.Equal(t, 1, strings.Count(strings.TrimSpace(errs), "\n")+1, "one line: %s", errs)
	}
}

func TestRefreshAsksBeforeWorkIsLost(t *testing.T) {
	w := demotest.New(t)
	home := "--home=" + w.Home
	code, _, errs := call(t, "copy", "skerryline.example", "--name", "mine", home)
	require.Zero(t, code, errs)
	require.NoError(t, w.Spoil("row-extra", w.Site("mine")))
	code, _, errs = call(t, "refresh", "mine", home)
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "1 change made here will be lost, and can be found nowhere else; nothing was done")
	code, _, errs = call(t, "refresh", "mine", "--confirm", "mine", home)
	assert.Zero(t, code, errs)
}

func TestEvidenceThatDoesNotHoldHasItsExitCode(t *testing.T) {
	w := demotest.New(t)
	home := "--home=" + w.Home
	code, _, errs := call(t, "copy", "skerryline.example", "--name", "bent", home)
	require.Zero(t, code, errs)
	require.NoError(t, w.Spoil("file-changed", w.Site("bent")))
	code, out, _ := call(t, "evidence", "bent", "--strict", home)
	assert.Equal(t, ExitNoProof, code)
	assert.Contains(t, out, "wp-content/themes/harbour/style.css is different")
	code, out, _ = call(t, "evidence", "bent", "--last", "--json", home)
	assert.Equal(t, ExitNoProof, code)
	assert.True(t, json.Valid([]byte(out)))
}

func TestHeadlessDemo(t *testing.T) {
	home := filepath.Join(t.TempDir(), "demo")
	code, out, errs := call(t, "demo", "--headless", "--home", home)
	require.Zero(t, code, errs)
	for _, stage := range []string{"== inspect", "== plan", "== copy", "== evidence", "== open", "== expire",
		"nothing is left over; the whole way took"} {
		assert.Contains(t, out, stage)
	}
	code, _, errs = call(t, "demo", "--headless", "--home", home, "--spoil", "row-changed")
	assert.Equal(t, ExitNoProof, code, "the demo's folder is made anew, and damage is found: %s", errs)
	code, _, errs = call(t, "demo", "--headless", "--home", t.TempDir(), "--spoil", "nonsense")
	assert.Equal(t, ExitFailed, code)
	assert.Contains(t, errs, "is no way to spoil a copy")
	mine := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(mine, "precious"), nil, 0o600))
	code, _, errs = call(t, "demo", "--headless", "--home", mine)
	assert.Equal(t, ExitFailed, code)
	assert.Contains(t, errs, "is not a demo's folder and not empty")
	assert.FileExists(t, filepath.Join(mine, "precious"))
}

func TestEveryCommandHasHelp(t *testing.T) {
	a := &app{out: &bytes.Buffer{}, err: &bytes.Buffer{}, in: os.Stdin}
	root := a.root()
	for _, c := range root.Commands() {
		assert.NotEmpty(t, c.Short, c.Name())
		assert.NotContains(t, c.Short, ".", "%s: one line", c.Name())
	}
	code, out, _ := call(t, "__complete", "refresh", "", "--home="+demotest.New(t).Home)
	assert.Zero(t, code)
	assert.NotContains(t, out, "skerryline.example", "only copies can be refreshed")
	code, out, _ = call(t, "completion", "bash")
	assert.Zero(t, code)
	assert.Contains(t, out, "alibi")
}

func TestNothingThatIsNotOursReachesTheTerminal(t *testing.T) {
	w := demotest.New(t)
	ctx := context.Background()
	home := "--home=" + w.Home
	const evil = "tide\x1b]0;owned\x07\u009b31m\u202etxt"
	s := w.Site("crew")
	_, err := w.Desk.Workings().Record.ChangeSite(ctx, s.ID, func(s *site.Site) error {
		s.Title, s.Owner, s.Client = evil, evil, evil
		s.Facts.Title, s.Facts.Plugins = evil, append(s.Facts.Plugins,
			site.Component{Slug: evil, Name: evil, Version: evil, State: "active"})
		return nil
	})
	require.NoError(t, err)
	require.NoError(t, w.Desk.Workings().Record.Log(ctx, inventory.Event{At: time.Now(), Who: evil, Site: s.ID,
		Kind: "note",
		Text: evil}))
	for _, args := range [][]string{{"list"}, {"list", "--json"}, {"history", "crew"}, {"history", "crew", "--json"},
		{"inspect", "crew"}, {"components", "crew"}, {"tables", "crew"}, {"accounts", "crew"},
		{"query", "crew", "SELECT '" + evil + "' AS '" + evil + "'"}, {"inspect", evil}, {"files", "crew", evil}} {
		_, out, errs := call(t, append(args, home)...)
		for _, c := range []string{"\x1b", "\x07", "\u009b", "\u202e"} {
			assert.NotContains(t, out, c, args)
			assert.NotContains(t, errs, c, args)
		}
		assert.NotEmpty(t, out+errs, args)
	}
}
