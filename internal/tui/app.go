// Package tui is the full-screen interface: a screen a file, each a view of
// what package desk gives. Nothing here waits: what takes time is a command
// whose answer comes as a message, and a frame is drawn from what is in memory.
package tui

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"alibi/internal/desk"
	"alibi/internal/keeper"
	"alibi/internal/plan"
	"alibi/internal/printable"
	"alibi/internal/site"
)

// screen is one page of the interface.
type screen interface {
	title(a *app) string
	// update takes a message; keys that it does not know are the app's.
	update(a *app, msg tea.Msg) (tea.Cmd, bool)
	// view gives at most h lines of at most w cells.
	view(a *app, w, h int) []string
	keys(a *app) []hint
	words() []hint // what the words on the screen mean
}

// hint is a key or a word, and what it does or means.
type hint struct{ key, text string }

// app is the root of the interface.
type app struct {
	ctx     context.Context
	desk    services
	theme   *theme
	board   desk.Board
	version string
	err     error // the last reading of the record failed
	loaded  bool
	stack   []screen
	w, h    int
	note    string // of the last act, until the next key
	noteBad bool
	carried bool // this process is the keeper
	help    bool
	helpAt  int // lines of it that were moved past
	helpOut int // lines of it that have no room
	asking  *question
	program *tea.Program
	marked  map[site.ID]bool // sites for what is done to several
	drawn   string           // the last picture
	drawnAt time.Time
	stale   bool // something happened since
}

// Run opens the interface and returns when it is closed. carried says that
// this process is the keeper already.
func Run(ctx context.Context, d *desk.Desk, carried bool) error {
	a := newApp(ctx, of(d))
	a.carried = carried
	a.program = tea.NewProgram(a, tea.WithContext(ctx))
	d.SetAsker(a)
	end := func() error { return nil }
	if !carried {
		s, err := keeper.Stand(ctx, d, func(works bool, _ string) {
			if works {
				go a.program.Send(carriedMsg{})
			}
		})
		if err != nil {
			return err
		}
		a.carried, end = s.First == nil, s.End
	}
	_, err := a.program.Run()
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		err = nil
	}
	return errors.Join(err, end())
}

func newApp(ctx context.Context, d services) *app {
	a := &app{ctx: ctx, desk: d, theme: newPlainTheme(localeASCII())}
	a.stack = []screen{&boardScreen{}}
	return a
}

// Messages.
type (
	boardMsg struct {
		board   desk.Board
		version string
		err     error
	}
	tickMsg struct{}
	// carriedMsg tells that this process became the keeper.
	carriedMsg struct{}
	// doneMsg tells how an act ended; then is what follows.
	doneMsg struct {
		text string
		err  error
		then func(a *app) tea.Cmd
	}
)

func (a *app) Init() tea.Cmd { return tea.Batch(tea.RequestBackgroundColor, a.load(), tick()) }

func tick() tea.Cmd {
	return tea.Tick(250*time.Millisecond, func(time.Time) tea.Msg { return tickMsg{} })
}

// load reads the board if anything changed since the last time.
func (a *app) load() tea.Cmd {
	last, fresh := a.version, a.loaded
	return func() tea.Msg {
		v, err := a.desk.Version(a.ctx)
		if err == nil && v == last && fresh {
			return nil
		}
		b, berr := a.desk.Fleet.Board(a.ctx)
		return boardMsg{b, v, errors.Join(err, berr)}
	}
}

// do runs something in the background; its error or text is shown at the foot.
func (a *app) do(act func() (string, error)) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		text, err := act()
		return text, nil, err
	})
}

func (a *app) doThen(act func() (string, func(*app) tea.Cmd, error)) tea.Cmd {
	return func() tea.Msg {
		text, then, err := act()
		return doneMsg{text, err, then}
	}
}

func (a *app) say(text string, bad bool) { a.note, a.noteBad = text, bad }

func (a *app) push(s screen) { a.stack = append(a.stack, s) }

func (a *app) pop() {
	if len(a.stack) > 1 {
		a.stack = a.stack[:len(a.stack)-1]
	}
}

func (a *app) top() screen { return a.stack[len(a.stack)-1] }

func (a *app) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	if _, tick := msg.(tickMsg); !tick {
		a.stale = true
	}
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		a.w, a.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		a.theme = newTheme(msg.IsDark(), a.theme.ascii)
	case boardMsg:
		a.err = msg.err
		if msg.err == nil {
			a.board, a.version, a.loaded = msg.board, msg.version, true
		}
	case tickMsg:
		cmd, _ := a.top().update(a, msg)
		return a, tea.Batch(a.load(), tick(), cmd)
	case doneMsg:
		a.top().update(a, msg) // an act of its own may be over
		if msg.err != nil {
			a.say(msg.err.Error(), true)
			return a, nil
		}
		if msg.text != "" {
			a.say(msg.text, false)
		}
		var cmd tea.Cmd
		if msg.then != nil {
			cmd = msg.then(a)
		}
		return a, tea.Batch(cmd, a.load())
	case *question:
		a.asking = msg
	case carriedMsg:
		a.carried = true
		return a, nil
	case tea.KeyPressMsg, tea.PasteMsg:
		return a, a.key(msg)
	}
	cmd, _ := a.top().update(a, msg)
	return a, cmd
}

// key gives a key to the question that is open, the help, the screen, or the
// app, in this order.
func (a *app) key(msg tea.Msg) tea.Cmd {
	key := ""
	if k, ok := msg.(tea.KeyPressMsg); ok {
		key = k.String()
	}
	if key == "ctrl+c" {
		return a.quit(true)
	}
	if a.asking != nil {
		cmd, over := a.asking.key(a, msg)
		if over {
			a.asking = nil
		}
		return cmd
	}
	if a.help {
		if by, ok := step(key, a.helpOut, 10); ok && a.helpOut > 0 {
			a.helpAt = max(0, min(a.helpAt+by, a.helpOut))
			return nil
		}
		a.help, a.helpAt = false, 0
		return nil
	}
	a.note = ""
	if cmd, taken := a.top().update(a, msg); taken {
		return cmd
	}
	switch key {
	case "?":
		a.help = true
	case "esc", "backspace":
		a.pop()
	case "q":
		return a.quit(false)
	case "y":
		a.push(newHistory(a, ""))
		return nil
	}
	return nil
}

// quit closes, after saying what closing means if that is not nothing.
func (a *app) quit(now bool) tea.Cmd {
	if len(a.board.Runs) == 0 || !a.carried || now {
		return tea.Quit
	}
	n := len(a.board.Runs)
	a.asking = &question{
		title: "Close Alibi?",
		lines: []string{
			fmt.Sprintf("%s under way. This window carries the keeper: closing it stops %s where %s, to be "+
				"taken up again", site.Plural(n, "run is", "runs are"), site.Either(n == 1, "it", "them"),
				site.Either(n == 1, "it is", "they are")),
			"at the next start. To have runs go on without a window, start: alibi keeper",
		},
		yes: func(a *app) tea.Cmd { return tea.Quit },
	}
	return nil
}

func (a *app) View() tea.View {
	v := tea.NewView("")
	v.AltScreen = true
	v.WindowTitle = "alibi"
	if a.w == 0 {
		return v
	}
	if a.stale || time.Since(a.drawnAt) >= time.Second { // clocks and spans of time go on
		a.drawn, a.drawnAt, a.stale = printable.Frame(strings.Join(a.frame(), "\n")), time.Now(), false
	}
	v.SetContent(a.drawn)
	return v
}

// frame is the whole picture: a head line, a rule, the screen, a rule, a foot.
func (a *app) frame() []string {
	t := a.theme
	if a.w < 60 || a.h < 12 {
		return []string{"alibi needs 60x12 cells;", fmt.Sprintf("this window has %dx%d", a.w, a.h)}
	}
	foot := a.foot()
	h := a.h - 3 - len(foot)
	var body []string
	switch {
	case a.asking != nil:
		body = a.asking.view(a, a.w, h)
	case a.help:
		body = a.helpView(a.w, h)
	default:
		body = a.top().view(a, a.w, h)
	}
	lines := make([]string, 0, a.h)
	lines = append(lines, a.headLine(), t.line(a.w))
	for i := range h {
		l := ""
		if i < len(body) {
			l = body[i]
		}
		lines = append(lines, t.fit(l, a.w))
	}
	return append(append(lines, t.line(a.w)), foot...)
}

func (a *app) headLine() string {
	t := a.theme
	b := a.board
	left := t.key.Render(" alibi") + "  " + t.ink.Bold(true).Render(plain(a.top().title(a)))
	stats := ""
	if a.loaded && a.w >= 100 {
		stats = fmt.Sprintf("%d live   %s   %s today   %s", b.Live, site.Plural(b.Copies, "copy", "copies"),
			site.Plural(b.EndSoon, "ends", "end"), runsText(b.Runs))
	} else if a.loaded {
		stats = fmt.Sprintf("%d live  %s  %s", b.Live, site.Plural(b.Copies, "copy", "copies"), runsText(b.Runs))
	}
	return t.ends(left, t.soft.Render(stats+"   "+a.desk.Now().Format("Mon 2 Jan 15:04")+" "), a.w)
}

func runsText(runs []plan.Run) string {
	if len(runs) == 0 {
		return "no runs"
	}
	r := runs[0]
	return fmt.Sprintf("%s (%s)", site.Plural(len(runs), "run", "runs"), percent(r))
}

// mostFoot is how many lines what is said at the foot may take.
const mostFoot = 4

// foot says what became of what was asked for last, whole, or which keys there are.
func (a *app) foot() []string {
	t := a.theme
	switch {
	case a.note != "" && a.noteBad:
		return a.said(" ! ", a.note, t.wrong)
	case a.note != "":
		return a.said(t.glyph(" ✓ ", " * "), a.note, t.good)
	case a.err != nil:
		return a.said(" ! ", a.err.Error(), t.wrong)
	case a.board.Stale:
		return a.said(" ! ", "config.toml was changed since this window was opened: close it and open it again", t.soon)
	}
	return []string{a.hintLine()}
}

// said breaks a text into as many lines as it needs.
func (a *app) said(mark, text string, style lipgloss.Style) (out []string) {
	lines := wrap(plain(text), a.w-4)
	for i, l := range lines[:min(len(lines), mostFoot)] {
		out = append(out, a.theme.fit(style.Render(site.Either(i == 0, mark, "   ")+l), a.w))
	}
	return out
}

func (a *app) hintLine() string {
	t := a.theme
	hints := a.top().keys(a)
	if a.asking != nil {
		hints = a.asking.keys()
	}
	s := ""
	for _, k := range hints {
		if ansi.StringWidth(s)+ansi.StringWidth(k.key+k.text)+3 > a.w-7 {
			break // help has all of them
		}
		s += " " + t.key.Render(t.keyName(k.key)) + " " + t.soft.Render(k.text) + " "
	}
	return t.ends(s, t.key.Render("? ")+t.soft.Render("help "), a.w)
}

// arrows are the keys that have no ASCII.
var arrows = strings.NewReplacer("←→↑↓", "arrows", "←→", "<- ->", "↑↓", "up down", "←", "<-")

// keyName writes a key's name as the terminal can show it.
func (t *theme) keyName(key string) string { return site.Either(t.ascii, arrows.Replace(key), key) }

// find gives a site of the board by its ID.
func (a *app) find(id site.ID) (site.Site, bool) {
	for _, f := range a.board.Families {
		if f.Live.ID == id {
			return f.Live, true
		}
		for _, c := range f.Copies {
			if c.ID == id {
				return c, true
			}
		}
	}
	return site.Site{}, false
}

// HostKey asks the person about a key that was never seen. It is called from
// commands, not from Update.
func (a *app) HostKey(name, print string) (bool, error) {
	answer := make(chan bool, 1)
	a.program.Send(&question{title: "Is this the right host?",
		lines: []string{name + " is not known yet. Its key is", "", "  " + print, "",
			"Compare it with what the host's keeper told you. It is asked for only once."},
		yes: func(*app) tea.Cmd { answer <- true; return nil }, no: func() { answer <- false }})
	select {
	case ok := <-answer:
		return ok, nil
	case <-a.ctx.Done():
		return false, a.ctx.Err()
	}
}

// Secret asks for a password or passphrase.
func (a *app) Secret(prompt string) (string, error) {
	answer := make(chan string, 1)
	a.program.Send(&question{title: prompt, input: true, secret: true,
		typed: func(_ *app, s string) (tea.Cmd, error) { answer <- s; return nil, nil }, no: func() { close(answer) }})
	select {
	case s, ok := <-answer:
		if !ok {
			return "", errors.New("nothing was typed")
		}
		return s, nil
	case <-a.ctx.Done():
		return "", a.ctx.Err()
	}
}
