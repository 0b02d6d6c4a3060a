package tui

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// person drives the interface without a terminal: keys go in, a frame comes out.
type person struct {
	t *testing.T
	a *app
}

func sitAt(t *testing.T, d *desk.Desk, w, h int) *person {
	t.Helper()
	p := &person{t, newApp(context.Background(), of(d))}
	p.a.theme = newTheme(true, false)
	p.send(tea.WindowSizeMsg{Width: w, Height: h})
	p.run(p.a.load())
	return p
}

// run carries a command out at once, and what follows from it; waiting for the
// next tick is left out.
func (p *person) run(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	done := make(chan tea.Msg, 1)
	go func() { done <- cmd() }()
	select {
	case msg := <-done:
		switch msg := msg.(type) {
		case nil, tickMsg, tea.QuitMsg:
		case tea.BatchMsg:
			for _, c := range msg {
				p.run(c)
			}
		default:
			p.send(msg)
		}
	case <-time.After(time.Minute):
		p.t.Fatal("a command takes too long")
	}
}

func (p *person) send(msg tea.Msg) {
	_, cmd := p.a.Update(msg)
	p.run(cmd)
}

var special = map[string]tea.KeyPressMsg{
	"enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape}, "tab": {Code: tea.KeyTab}, "down": {Code: tea.KeyDown},
	"up": {Code: tea.KeyUp}, "left": {Code: tea.KeyLeft}, "right": {Code: tea.KeyRight},
	"backspace": {Code: tea.KeyBackspace}, "pgdown": {Code: tea.KeyPgDown}, "end": {Code: tea.KeyEnd},
	"ctrl+u": {Code: 'u', Mod: tea.ModCtrl}, "ctrl+t": {Code: 't', Mod: tea.ModCtrl},
	"space": {Code: tea.KeySpace, Text: " "},
}

// press presses keys one after another.
func (p *person) press(keys ...string) {
	p.t.Helper()
	for _, k := range keys {
		if m, ok := special[k]; ok {
			p.send(m)
			continue
		}
		for _, r := range k {
			p.send(tea.KeyPressMsg{Code: r, Text: string(r)})
		}
	}
}

// typed types a text as it is.
func (p *person) typed(s string) {
	for _, r := range s {
		p.send(tea.KeyPressMsg{Code: r, Text: string(r)})
	}
}

// frame is what is seen, without colours, and checked to fit the window.
func (p *person) frame() string {
	p.t.Helper()
	lines := p.a.frame()
	require.Len(p.t, lines, p.a.h)
	for _, l := range lines {
		require.Equal(p.t, p.a.w, ansi.StringWidth(l), "%q", ansi.Strip(l))
	}
	return ansi.Strip(strings.Join(lines, "\n"))
}

func (p *person) sees(texts ...string) {
	p.t.Helper()
	f := p.frame()
	for _, s := range texts {
		assert.Contains(p.t, f, s)
	}
}

// until presses on with ticks until the texts are seen.
func (p *person) until(texts ...string) {
	p.t.Helper()
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); {
		p.send(tickMsg{})
		f := p.frame()
		if !slices.ContainsFunc(texts, func(s string) bool { return !strings.Contains(f, s) }) {
			return
		}
		time.Sleep(30 * time.Millisecond)
	}
	p.t.Fatalf("%q are not all seen:\n%s", texts, p.frame())
}

func world(t *testing.T) (*demotest.World, *person) {
	w := demotest.New(t)
	w.Keep()
	return w, sitAt(t, w.Desk, 128, 40)
}

func TestTheWholeWayOnTheScreens(t *testing.T) {
	w, p := world(t)
	p.sees("Skerry Line", "5 live", "0 copies", " LIVE ", "skerryline.example", "core 6.8, php 8.4.1")
	p.press("/", "pier", "enter")
	p.sees("find: pier", "2 found")
	p.press("c")
	p.sees("plan: copy of skerryline.example", "what to call it", "skerryline-copy", "nothing is written to it",
		"brings", "leaves out", "wp-content/cache", "rewrites", "writes")
	p.press("enter")
	p.until("evidence holds")
	p.sees("run: copy of skerryline-copy", "answers at", "the origin's, with their passwords")
	p.until("ends in 3 d")
	p.press("v")
	p.until("CHECK")
	p.sees("evidence: skerryline-copy", "holds", "sk_posts", "a marker written to the copy", "not found", "found")
	p.press("v")
	p.until("1 of 2")
	p.press("esc", "enter")
	p.sees("THIS COPY", "ITS ORIGIN", "differs", "[copy] Skerry Line", "no mail leaves the copy")
	p.press("y")
	p.until("copied from skerryline.example")
	p.press("esc", "esc")
	p.sees("find: pier")
	p.press("down", "o")
	p.sees("skerryline-copy answers", "/-/key/")
	p.press("enter", "x")
	p.sees("Take skerryline-copy off the air?", "Goes now", "Stays for 2 d")
	p.press("enter")
	p.until("expired, gone in")
	p.press("b")
	p.until("ends in 3 d")
	assert.Equal(t, site.Ready, w.Site("skerryline-copy").State)
	p.press("D")
	p.sees("Remove skerryline-copy for good?", "Type its name to go on:")
	p.press("enter")
	p.sees("that is not its name")
	p.typed("skerryline-copy")
	p.press("enter")
	p.until("done in")
	p.press("esc", "esc")
	p.until("0 copies")
	assert.NotContains(t, p.frame(), "skerryline-copy")
}

func TestPlanChoicesChangeWhatFollows(t *testing.T) {
	_, p := world(t)
	p.press("/", "skerryline.example", "enter")
	for p.a.stack[0].(*boardScreen).rows[p.a.stack[0].(*boardScreen).cursor].s.Name != "skerryline.example" {
		p.press("down")
	}
	p.press("c", "ctrl+u")
	p.sees("obstacle a copy needs a name")
	p.press("enter")
	p.sees("choose another name")
	p.typed("Big Boat")
	p.sees(`try "big-boat"`)
	p.press("ctrl+u")
	p.typed("big-boat")
	p.sees("http://big-boat.localhost")
	p.press("tab")
	p.typed("see if q and ? do harm")
	p.press("tab", "right")
	p.sees("‹ 7 d ›")
	p.press("left", "left", "left")
	p.sees("‹ 6 h ›")
	p.press("left")
	p.sees("held, no end")
	p.press("tab", "space")
	p.sees("‹ everything ›")
	assert.NotContains(t, p.frame(), "leaves out   wp-content/cache")
	p.press("tab")
	p.typed("wp-content/themes")
	p.sees("wp-content/themes (chosen)")
	p.press("tab", "right")
	p.sees("larger than 64 MiB")
	p.press("tab", "right")
	p.sees("as the origin's", "warning the copy will call itself")
	p.press("tab", "right")
	p.sees("come while it answers", "of media (", "come behind")
	p.press("left", "tab", "right")
	p.sees("made up", "nobody's password signs in")
	p.press("left", "tab", "right")
	p.sees("stay, but for what others need", "entries of posts")
	p.press("left")
	plan := p.a.stack[len(p.a.stack)-1].(*planScreen)
	for plan.choicesFor()[plan.at].label != "quiet: mail" { // past the kinds that it has
		p.press("tab")
	}
	p.press("right")
	p.sees("OFF", "the quiet rule for mail is off")
	p.press("up", "up", "?")
	p.sees("What the words mean")
	p.press("esc", "esc")
	p.sees("5 found")
	assert.Empty(t, p.a.board.Runs, "going back does nothing")
}

func TestTimeHoldAndWrongInput(t *testing.T) {
	w, p := world(t)
	w.Copy("https://skerryline.example", "held-one")
	p.run(p.a.load())
	p.press("/", "held-one", "enter", "down", "t")
	p.sees("How much more time for held-one?")
	p.press("ctrl+u")
	p.typed("soon")
	p.press("enter")
	p.sees(`"soon" is no lifetime`)
	p.press("ctrl+u")
	p.typed("2w")
	p.press("enter")
	p.until("17 d")
	p.press("h", "enter")
	p.sees("a hold needs a reason")
	p.typed("sign-off on Friday")
	p.press("enter")
	p.until("held: sign-off on Friday")
	p.press("x")
	p.sees("But it is held: sign-off on Friday.", "Type its name")
	p.press("esc")
	assert.Equal(t, site.Ready, w.Site("held-one").State)
}

func TestRefreshThatLosesWorkAsksForTheName(t *testing.T) {
	w, p := world(t)
	s := w.Copy("https://skerryline.example", "worked-on")
	require.NoError(t, w.Spoil("row-changed", s))
	p.run(p.a.load())
	p.press("/", "worked-on", "enter", "down", "r")
	p.sees("plan: bring worked-on in line with skerryline.example", "1 change made on the copy is nowhere else")
	p.press("enter")
	p.sees("Lose what was done on worked-on?")
	p.typed("worked-on")
	p.press("enter")
	p.until("evidence holds")
}

func TestOwnerAndForgetting(t *testing.T) {
	w, p := world(t)
	p.press("w")
	p.sees("Who answers for crew.skerryline.example?", "runa")
	p.press("ctrl+u")
	p.typed("edda")
	p.press("enter")
	p.until("edda answers for it")
	p.press("D")
	p.sees("Take the live site crew.skerryline.example out of the record?", "which is not touched")
	p.press("enter")
	p.sees("that is not its name")
	p.typed("crew.skerryline.example")
	p.press("enter")
	p.until("4 live")
	_, err := w.Desk.Fleet.Find(context.Background(), "crew")
	assert.Error(t, err)
}

func TestAFailedRunSaysWhatToDo(t *testing.T) {
	w, p := world(t)
	db := w.Dir("drydock", "/var/www/crew/wp-content/database/.ht.sqlite")
	pl := w.Plan("crew", "unlucky")
	require.NoError(t, os.Rename(db, db+".away"))
	r := w.Run(pl)
	require.Equal(t, plan.Stopped, r.State)
	p.run(p.a.load())
	p.sees("! its run failed; u shows why")
	p.press("u")
	p.until("unlucky")
	p.press("enter")
	p.until("failed:")
	p.sees("is not there", "resume the run when the cause is fixed")
	require.NoError(t, os.Rename(db+".away", db))
	p.press("R")
	p.until("evidence holds")
}

func TestAddingASite(t *testing.T) {
	_, p := world(t)
	dir := t.TempDir()
	p.press("n")
	p.sees("add a live site", "Nothing is written to a live site")
	p.press("tab")
	p.typed(dir)
	p.press("enter")
	p.sees("there is no site in this folder")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.html"), []byte("<p>hello"), 0o644))
	p.press("enter")
	p.sees("name it with --address")
	p.press("tab")
	p.send(tea.PasteMsg{Content: "harbour.example\n"})
	p.press("enter")
	p.until("was added; nothing was written to it")
	p.sees("harbour.example", "files only"[:5])
	p.press("esc", "n", "ctrl+t")
	p.sees("add a host", "with your agent, keys, ~/.ssh/config and known hosts")
	p.typed("gone")
	p.press("tab")
	p.typed("127.0.0.1:1")
	p.press("enter")
	p.until("does not answer")
}

func TestEmptyAndOddWindows(t *testing.T) {
	d, err := desk.Open(context.Background(), desk.Options{Home: filepath.Join(t.TempDir(), "home")})
	require.NoError(t, err)
	defer d.Close()
	p := sitAt(t, d, 100, 30)
	p.sees("There are no sites yet.", "n adds a live site", "alibi demo")
	p.press("l")
	p.sees("Nothing is left over")
	p.press("esc", "u")
	p.until("nothing has been run yet")
	p.press("esc", "y")
	p.until("nothing has happened yet")
	p.a.w, p.a.h = 40, 10
	assert.Contains(t, p.a.View().Content, "alibi needs 60x12 cells")
	assert.True(t, p.a.View().AltScreen)
	p.a.w = 0
	assert.True(t, p.a.View().AltScreen, "before the size is known too")
}

func TestEveryScreenFitsEveryWindow(t *testing.T) {
	w, _ := world(t)
	w.Copy("islands", "isles")
	w.Copy("tickets", "a-name-that-is-as-long-as-names-are-allowed-to-be")
	for _, size := range [][2]int{{60, 12}, {80, 24}, {119, 33}} {
		for _, ascii := range []bool{false, true} {
			p := sitAt(t, w.Desk, size[0], size[1])
			p.a.theme = newTheme(false, ascii)
			for _, keys := range [][]string{{}, {"down", "enter"}, {"esc", "?"}, {"esc", "c"}, {"esc", "u"},
				{"esc", "y"}, {"esc", "l"}, {"esc", "n"}, {"esc", "down", "v"}, {"esc", "o"}, {"enter", "s"},
				{"esc", "e"}, {"esc", "K"}, {"esc", "z"}, {"right"}, {"esc", "F"}, {"esc", "space", "B"}, {"esc"},
				{"esc", "C"}, {"esc", "V"}, {"esc", "G", "f"}, {"tab"}, {"enter"}, {"esc", "tab"}, {"tab"}, {"tab"},
				{"esc", "T"}, {"esc", "down", "d"}, {"space"}, {"enter"}, {"esc", "esc"}} {
				p.press(keys...)
				p.send(tickMsg{})
				f := p.frame() // checks the size of each line
				if ascii {
					for _, r := range f {
						if r > 126 {
							t.Fatalf("%q in ASCII at %v:\n%s", r, size, f)
						}
					}
				}
			}
		}
	}
}

func TestTextFromOutsideObeysNobody(t *testing.T) {
	_, p := world(t)
	p.a.board.Families[0].Live.Name = "evil\x1b[2J\x07\u009bname"
	p.a.version += "x"
	p.sees("evil?[2J??name")
	assert.NotContains(t, strings.Join(p.a.frame(), ""), "\x1b[2J")
}

func TestClosingSaysWhatItMeans(t *testing.T) {
	_, p := world(t)
	p.a.carried = true
	_, cmd := p.a.Update(tea.KeyPressMsg{Code: 'q', Text: "q"})
	require.NotNil(t, cmd)
	assert.IsType(t, tea.QuitMsg{}, cmd())
	p.a.board.Runs = []plan.Run{{State: plan.Running}}
	p.press("q")
	p.sees("Close Alibi?", "1 run is under way", "alibi keeper")
	p.press("esc")
	p.sees("SITE")
}

func TestQuestionsFromTheHost(t *testing.T) {
	_, p := world(t)
	yes := false
	p.send(
		&question{title: "Is this the right host?", lines: []string{"SHA256:abc"},
			yes: func(*app) tea.Cmd { yes = true; return nil }},
	)
	p.sees("Is this the right host?", "SHA256:abc")
	p.press("enter")
	assert.True(t, yes)
	secret := ""
	p.send(
		&question{title: "passphrase", input: true, secret: true,
			typed: func(_ *app, s string) (tea.Cmd, error) { secret = s; return nil, nil }},
	)
	p.typed("tide")
	p.sees("****")
	assert.NotContains(t, p.frame(), "tide")
	p.press("enter")
	assert.Equal(t, "tide", secret)
}
