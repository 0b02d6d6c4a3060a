package tui

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/op"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// worked is a copy in sight of the board's cursor.
func worked(t *testing.T) (*demotest.World, *person, site.Site) {
	w, p := world(t)
	s := w.Copy("https://skerryline.example", "bench")
	p.run(p.a.load())
	p.press("/", "bench", "enter", "down")
	return w, p, s
}

func TestWhatASiteRunsOnTheScreens(t *testing.T) {
	w, p, s := worked(t)
	p.press("C")
	p.until("WILL BE", "tide-table", "old-slider")
	for p.a.top().(*componentsScreen).parts.All[p.a.top().(*componentsScreen).cursor].Slug != "old-slider" {
		p.press("down")
	}
	p.press("space")
	p.sees("plan 1 change")
	p.press("n")
	p.sees("Which component is to come to bench?")
	p.press("harbour-bell@1.0", "enter")
	p.sees("plan 2 changes", "harbour-bell 1.0")
	p.press("enter")
	p.until("CHANGES", "plugin harbour-bell", "comes as 1.0", "a restore point is taken first")
	p.press("enter")
	p.until("done in")
	got, err := w.Desk.Components.Components(context.Background(), s.ID, false)
	require.NoError(t, err)
	states := map[string]string{}
	for _, c := range got.All {
		states[c.Slug] = c.State
	}
	assert.Equal(t, "active", states["harbour-bell"])
	assert.Equal(t, "active", states["old-slider"])
	p.press("esc")
	p.until("the origin has none")
	for p.a.top().(*componentsScreen).parts.All[p.a.top().(*componentsScreen).cursor].Kind != site.Core {
		p.press("up")
	}
	p.press("d")
	p.sees("is not removed from here")

	p.press("esc", "V")
	p.until("COMPONENT", "harbour-bell", "unlike its origin")
	p.press("d")
	p.until("harbour-bell")
	p.press("P")
	p.until("what is the sheet to be called?")
	p.press("ctrl+u", "as-it-is", "enter")
	p.until("pin sheet as-it-is:")
	p.press("e")
	p.sees("no pin sheet is meant for")
	sheets, err := w.Desk.Pins.PinSheets()
	require.NoError(t, err)
	assert.Len(t, sheets, 1)
}

func TestRescueOnTheScreens(t *testing.T) {
	w, p, s := worked(t)
	on := func() (n int) {
		got, err := w.Desk.Components.Components(context.Background(), s.ID, false)
		require.NoError(t, err)
		for _, c := range got.All {
			if c.Kind == site.Plugin && c.State == "active" {
				n++
			}
		}
		return n
	}
	was := on()
	require.Positive(t, was)
	p.press("C")
	p.until("WILL BE")
	p.press("O")
	p.sees("no plugin was deactivated here by a rescue")
	p.press("X")
	p.until("rescue bench", "CHANGES", "off")
	p.press("enter")
	p.until("done in")
	assert.Zero(t, on())
	p.press("esc")
	p.until("on again, one at a time")
	p.press("O")
	p.until("all are on again")
	assert.Equal(t, was, on())
}

func TestHandsOnTheScreens(t *testing.T) {
	w, p, s := worked(t)
	ctx := context.Background()
	p.press("f")
	p.until("wp-content/", "wp-config.php", "the copy's own")
	p.press("enter")
	p.until("/wp-content", "themes/")
	p.press("left")
	p.until("index.php")
	file := filepath.Join(s.Root, "wp-content/themes/harbour/style.css")
	require.NoError(t, os.WriteFile(file, []byte("h1 { color: red }\n"), 0o644))
	p.press("m")
	p.until("wp-content/themes/harbour/style.css", "changed")
	p.press("enter")
	p.until("beside its origin", "+h1 { color: red }")
	p.press("esc", "c")
	p.sees("To which site is wp-content/themes/harbour/style.css to be carried?")
	p.press("enter")
	p.until("are repla", "files of wp-content/themes/harbour/style.css", "visitors of this live site see a notice")
	p.press("enter")
	p.sees("Type its name to go on:")
	p.press("esc", "esc", "tab")
	p.until("sk_posts", "ORIGIN'S")
	p.press("enter")
	p.until("rows in the order of the key", "post_title")
	p.press("/", "post_status=publish", "enter")
	p.until("rows with post_status = publish")
	p.press("x", "ctrl+u", filepath.Join(t.TempDir(), "rows.csv"), "enter")
	p.until("written to")
	p.press("esc", "s", "ctrl+u", "DELETE FROM sk_posts", "enter")
	p.until("this statement may write")
	p.press("esc", "s", "ctrl+u", "SELECT 6*7 AS answer", "enter")
	p.until("answer", "42")
	p.press("esc", "b")
	p.until("ballast on bench", "10 posts", "table sk_posts")
	p.press("enter")
	p.until("done in")
	p.press("esc")

	require.NoError(t, os.MkdirAll(op.Logs(s), 0o700))
	require.NoError(
		t,
		os.WriteFile(filepath.Join(op.Logs(s), op.ErrorLog),
			[]byte("[28-Nov-2026 10:00:00 UTC] PHP Warning:  the bell in "+s.Root+
				"/x.php on line 1\n[28-Nov-2026 10:00:01 UTC] PHP Fatal error:  the quay in "+s.Root+
				"/y.php on line 2\n#0 {main}\n"), 0o600),
	)
	p.press("tab")
	p.until("1 fatal", "1 warning", "the quay in y.php", "#0 {main}")
	p.press("o")
	p.until("the quay")
	p.press("tab")
	p.until("administrator", "its people are its origin's")
	p.press("S")
	p.until("make people up on bench", "with people in them", "sk_users")
	p.press("enter")
	p.until("done in")
	p.press("esc")
	p.until("its people are made up")
	p.press("P")
	p.until("none of")
	p.press("n")
	p.until("say what the account is to be called")
	p.press("tester", "tab", "tab", "a long word 9")
	p.until("account tester", "comes", "************")
	p.press("esc", "tab")
	p.until("accounts may do everything", "plugin old-slider is off")
	p.press("x")
	p.until("kept results in tables")
	p.press("esc", "tab")
	p.until("nothing was done on this copy yet")
	p.press("n", "moved the menu", "enter")
	p.until("moved the menu")
	p.press("space")
	deeds, err := w.Desk.Hands.WorkList(ctx, s.ID)
	require.NoError(t, err)
	require.Len(t, deeds, 1)
	assert.True(t, deeds[0].Repeated)
}

func TestHandsOnALiveSite(t *testing.T) {
	_, p := world(t)
	p.press("/", "pier", "enter", "f")
	p.until("wp-content/")
	p.press("m")
	p.sees("what changed is known of copies")
	p.press("tab", "b")
	p.sees("content is made up on copies only")
	p.press("tab")
	p.until("the tide table is older than a day")
	p.press("s")
	p.until("Alibi does not know where it is")
	p.press("tab", "S")
	p.sees("accounts are used and changed on copies only")
	p.press("tab")
	p.until("plugin tide-table 2.4.1: 3.0.0 waits")
	p.press("tab")
	p.until("wp-content/")
}

func TestAnEditedFileIsPlannedAndLands(t *testing.T) {
	w, p, s := worked(t)
	editor := filepath.Join(t.TempDir(), "editor")
	require.NoError(t, os.WriteFile(editor, []byte("#!/bin/sh\necho '/* by hand */' >> \"$1\"\n"), 0o755))
	name := "wp-content/themes/harbour/style.css"
	was, err := w.Desk.Hands.FileText(context.Background(), s.ID, name)
	require.NoError(t, err)
	// What the editor leaves comes back as a plan; the editor itself takes the
	// terminal, which is tried in tmux.
	p.run(openEdit(p.a, s, name, was, append(was, []byte("/* by hand */\n")...)))
	p.until("DIFFERENCE", "+/* by hand */", "its syntax was not checked")
	p.press("enter")
	p.until("done in")
	is, err := w.Desk.Hands.FileText(context.Background(), s.ID, name)
	require.NoError(t, err)
	assert.Contains(t, string(is), "/* by hand */")
}

func TestTrialsOnTheScreens(t *testing.T) {
	w, p, s := worked(t)
	ctx := context.Background()
	p.press("T")
	p.until("search for", "only sites whose database is a server's are run", "a page of every kind")
	p.press("right", "tab", "tab", "tab", "tab", "right", "tab", "timetable/ tides/", "tab", "High water", "tab",
		"Fatal")
	p.until("the cause of a failure", "only what is named here", "timetable/ tides/")
	var chosen trial.Choices
	require.Eventually(t, func() bool {
		return json.Unmarshal(p.a.top().(*stateScreen).plan.Detail, &chosen) == nil && len(chosen.Check.Without) > 0
	}, 60*time.Second, 20*time.Millisecond)
	assert.Equal(t, trial.Check{
		Pages: []string{"timetable/", "tides/"}, Texts: []string{"High water"}, Without: []string{"Fatal"}, Only: true,
	}, chosen.Check)
	p.press("esc")
	m := trial.Memory{Full: 40 << 20, AsItIs: &trial.Cell{Core: "6.1.9", PHP: "8.2", State: trial.Passes, Pages: 9}}
	for _, php := range []string{"7.4", "8.4"} {
		m.Cells = append(m.Cells, trial.Cell{Name: "core 6.1.9, PHP " + php, Core: "6.1.9", PHP: php,
			State: trial.Passes, Pages: 9, Took: time.Second, Bytes: 1 << 20})
	}
	m.Cells[1].State, m.Cells[1].Reason = trial.Fails, "each() is gone"
	r := plan.Run{ID: "tried", State: plan.Done, Made: time.Now(), Began: time.Now(), Ended: time.Now(),
		Result: "1 of 2 variants pass", Plan: plan.Plan{Kind: plan.Trial, Target: s, Detail: []byte("{}")}}
	require.NoError(t, w.Desk.Workings().Record.PutRun(ctx, r))
	require.NoError(t, w.Desk.Workings().Record.SetCheckpoint(ctx, r.ID, m))
	p.press("T")
	p.until("1 of 2 variants pass", "PHP 7.4", "PHP 8.4", "passes", "fails", "9 pages were asked for")
	p.press("right")
	p.until("each() is gone")
	m.Cells, m.Tries, m.Found = nil, []trial.Cell{{Set: "all plugins", State: trial.Fails, Reason: "the bell",
		PHP: "8.2"}, {Set: "half of them", State: trial.Passes, PHP: "8.2"}},
		&trial.Found{Plugins: []string{"fog-horn"}, Text: "the plugin fog-horn makes the check fail"}
	require.NoError(t, w.Desk.Workings().Record.SetCheckpoint(ctx, r.ID, m))
	p.press("esc", "T")
	p.until("the plugin fog-horn makes the check fail", "half of them", "the bell")
}

func TestABlankSiteIsPlannedOnTheScreens(t *testing.T) {
	_, p := world(t)
	p.press("N")
	p.until("a blank site", "what to call it")
	p.until("the catalogue has no core of the CMS") // the demo's has none
}

func TestPeopleAndPinsAmongTheChoicesOfACopy(t *testing.T) {
	w, p := world(t)
	_, err := w.Desk.Pins.SavePins("spring", []byte("[runtime]\nmemory = \"256M\"\n"), false)
	require.NoError(t, err)
	p.press("/", "pier", "enter", "c")
	p.until("pin sheet", "people")
	x := p.a.top().(*planScreen)
	for x.choicesFor()[x.at].label != "people" {
		p.press("down")
	}
	p.press("right")
	p.sees("made up", "nobody's password signs in")
	p.press("down", "right")
	p.sees("spring", "its components come when the copy stands")
	assert.True(t, x.plan.Target.Scrubbed)
	assert.Equal(t, "256M", x.plan.Target.Runtime.Memory)
}
