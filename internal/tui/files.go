package tui

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// filesPane walks through a site's files; of a copy it marks what changed.
type filesPane struct {
	scroll
	fetched[[]desk.FileRow]
	s       *site.Site
	dir     string
	on      string // the name that the cursor is to be on
	changed bool   // only what changed, of the whole tree
}

func (p *filesPane) name() string { return "files" }

// again is how often a tree is looked at for changes.
const again = 3 * time.Second

func (p *filesPane) load(a *app) tea.Cmd {
	if time.Since(p.last) < again || p.got && p.s.Role == site.Live { // a live site is read once
		return nil
	}
	p.last = time.Now()
	dir, changed := p.dir, p.changed
	return reads(p, func() (any, error) {
		if !changed {
			return a.desk.Hands.Files(a.ctx, p.s.ID, dir)
		}
		list, err := a.desk.Hands.FilesChanged(a.ctx, *p.s)
		return slices.DeleteFunc(list, func(r desk.FileRow) bool { return r.State == desk.FileOwn }), err
	})
}

func (p *filesPane) take(_ *app, msg tea.Msg) bool {
	if !p.took(p, msg) {
		return false
	}
	if p.on != "" {
		p.cursor = max(0, slices.IndexFunc(p.list, func(r desk.FileRow) bool { return path.Base(r.Path) == p.on }))
		p.on = ""
	}
	return true
}

func (p *filesPane) enter(a *app, dir, on string) tea.Cmd {
	p.dir, p.on, p.scroll, p.last, p.got = dir, on, scroll{}, time.Time{}, false
	return p.load(a)
}

func (p *filesPane) key(a *app, key string) (tea.Cmd, bool) {
	if by, ok := step(key, len(p.list), a.h-10); ok {
		p.move(by, len(p.list), max(1, a.h-10))
		return nil, true
	}
	switch key {
	case "left", "backspace", "h":
		if p.dir == "" || p.changed {
			return nil, key != "backspace"
		}
		up := path.Dir(p.dir)
		return p.enter(a, site.Either(up == ".", "", up), path.Base(p.dir)), true
	case "m":
		if p.s.Role != site.Copy {
			a.say("what changed is known of copies", true)
			return nil, true
		}
		p.changed = !p.changed
		return p.enter(a, p.dir, ""), true
	}
	if len(p.list) == 0 {
		return nil, false
	}
	r := p.list[max(0, min(p.cursor, len(p.list)-1))]
	switch key {
	case "enter", "right", "l":
		switch {
		case r.Dir && r.State != desk.FileGone:
			return p.enter(a, r.Path, ""), true
		case !r.Dir:
			return openText(a, *p.s, r), true
		}
		return nil, true
	case "e":
		return editFile(a, *p.s, r), true
	case "c":
		return askCarry(a, *p.s, r), true
	}
	return nil, false
}

func (p *filesPane) hints(*app) []hint {
	return []hint{{"Enter", "open"}, {"←", "up"}, {"e", "edit"}, {"c", "carry to another site"},
		{"m", site.Either(p.changed, "all files", "only what changed")}}
}

func (p *filesPane) words() []hint {
	return []hint{{"changed", "on the copy since it was brought, by size or time"},
		{"new", "the copy has it and was not brought it"}, {"gone", "it was brought and is not there any more"},
		{"own", "it makes the copy one; the origin has another, or none"},
		{"carry", "put this file or folder in place of the one of that name on another site"},
		{"edit", "in $EDITOR, with a syntax check by the PHP that the site runs before it lands"}}
}

// stateOf says how a file stands to what was brought.
func (t *theme) stateOf(r desk.FileRow) (string, style) {
	text := string(r.State)
	if r.Below > 0 {
		text = site.Plural(r.Below, "file", "files") + " below"
	}
	switch r.State {
	case desk.FileChanged:
		return t.glyph("≠ ", "# ") + text, t.soon
	case desk.FileNew:
		return "+ " + text, t.copy
	case desk.FileGone:
		return "- " + text, t.wrong
	case desk.FileOwn:
		return t.glyph("· ", ". ") + site.Either(r.Below > 0, text, "the copy's own"), t.soft
	}
	return "", t.soft
}

func (p *filesPane) view(a *app, w, h int) []string {
	t := a.theme
	where := "/" + p.dir
	if p.changed {
		where = "what changed since it was brought, of the whole tree"
	}
	nw := max(24, w-62)
	out := []string{t.soft.Render("   " + plain(where)), "",
		t.head.Render("   " + t.fit("NAME", nw) + t.right("SIZE", 10) + "   " + t.fit("WRITTEN", 20) +
			"SINCE IT WAS BROUGHT")}
	switch {
	case p.err != nil:
		return append(out, t.wrong.Render("   "+plain(p.err.Error())))
	case !p.got:
		return append(out, t.soft.Render("   reading ..."))
	case len(p.list) == 0:
		return append(out, t.soft.Render(site.Either(p.changed, "   nothing changed", "   nothing is in this folder")))
	}
	p.see(len(p.list), h-len(out))
	for i := p.top; i < min(len(p.list), p.top+h-3); i++ {
		r := p.list[i]
		name, size, style := plain(site.Either(p.changed, r.Path, path.Base(r.Path))), site.Size(r.Size), t.ink
		switch {
		case r.Dir:
			name, size, style = name+"/", "", t.ink.Bold(true)
		case r.Link != "":
			name, size = name+" -> "+plain(r.Link), "link"
		}
		when := ""
		if !r.ModTime.IsZero() {
			when = r.ModTime.Local().Format("2 Jan 2006 15:04")
		}
		text, look := t.stateOf(r)
		out = append(out, t.pointer(i == p.cursor)+style.Render(t.fit(name, nw))+t.ink.Render(t.right(size, 10))+"   "+
			t.soft.Render(t.fit(when, 20))+look.Render(text))
	}
	return out
}

// textScreen shows a text: a file, or how it differs from the origin's.
type textScreen struct {
	top   int
	head  string
	lines []string
	diff  bool
}

// openText shows a file of a site; of a copy's that changed, how it differs from
// the origin's.
func openText(a *app, s site.Site, r desk.FileRow) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		x := &textScreen{head: r.Path + " of " + s.Name}
		is, err := a.desk.Hands.FileText(a.ctx, s.ID, r.Path)
		if err != nil && !(r.State == desk.FileGone && errors.Is(err, fs.ErrNotExist)) {
			return "", nil, err
		}
		text := string(is)
		if r.State != desk.FileSame {
			was, err := a.desk.Hands.FileText(a.ctx, s.Origin, r.Path)
			if err == nil || errors.Is(err, fs.ErrNotExist) {
				if d := desk.Difference("the origin's", "the copy's", was, is); d != "" {
					text, x.diff, x.head = d, true, r.Path+", as "+s.Name+" has it beside its origin"
				}
			}
		}
		x.lines = strings.Split(strings.TrimRight(text, "\n"), "\n")
		return "", func(a *app) tea.Cmd { a.push(x); return nil }, nil
	})
}

func (x *textScreen) title(*app) string { return site.Either(x.diff, "difference", "text") }

func (x *textScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	if k, ok := msg.(tea.KeyPressMsg); ok {
		if by, ok := step(k.String(), len(x.lines), a.h-6); ok {
			x.top = max(0, min(len(x.lines)-1, x.top+by))
			return nil, true
		}
	}
	return nil, false
}

func (x *textScreen) keys(*app) []hint { return []hint{{"↑↓", "move"}, {"Esc", "back"}} }
func (x *textScreen) words() []hint {
	return []hint{{"+", "a line that the copy has and its origin does not"},
		{"-", "a line that the origin has and the copy does not"}}
}

func (x *textScreen) view(a *app, w, h int) []string {
	t := a.theme
	out := []string{t.soft.Render(" " + plain(x.head)), ""}
	for i := x.top; i < min(len(x.lines), x.top+h-2); i++ {
		l := x.lines[i]
		look := t.ink
		if x.diff {
			switch {
			case strings.HasPrefix(l, "+"):
				look = t.copy
			case strings.HasPrefix(l, "-"):
				look = t.wrong
			case strings.HasPrefix(l, "@@"):
				look = t.soft
			}
		}
		out = append(out, look.Render(t.fit(" "+plain(strings.ReplaceAll(l, "\t", "    ")), w)))
	}
	return out
}

// editFile opens a file in the person's editor, and then the plan of writing what
// came of it.
func editFile(a *app, s site.Site, r desk.FileRow) tea.Cmd {
	if r.Dir || r.Link != "" || r.State == desk.FileGone {
		a.say("only a file can be edited", true)
		return nil
	}
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		was, err := a.desk.Hands.FileText(a.ctx, s.ID, r.Path)
		return "", func(a *app) tea.Cmd { return editOn(a, s, r.Path, was, was) }, err
	})
}

// editOn has a text edited, and opens the plan of writing it in place of what was.
func editOn(a *app, s site.Site, name string, was, text []byte) tea.Cmd {
	return inEditorOf(a, path.Base(name), text, func(text []byte) tea.Msg {
		if bytes.Equal(was, text) {
			return doneMsg{text: "nothing was changed"}
		}
		return doneMsg{then: func(a *app) tea.Cmd { return openEdit(a, s, name, was, text) }}
	})
}

// inEditorOf gives the terminal to the person's editor with a text in a file of
// that name, until it is closed; then takes what came of it.
func inEditorOf(a *app, name string, text []byte, then func([]byte) tea.Msg) tea.Cmd {
	dir, err := os.MkdirTemp("", "alibi-edit-")
	file := filepath.Join(dir, name)
	if err == nil {
		err = os.WriteFile(file, text, 0o600)
	}
	if err != nil {
		a.say(err.Error(), true)
		return nil
	}
	cmd := exec.Command("sh", "-c", desk.Editor()+` "$1"`, "sh", file)
	return tea.ExecProcess(cmd, func(err error) tea.Msg {
		defer os.RemoveAll(dir)
		text, rerr := os.ReadFile(file)
		if err != nil || rerr != nil {
			return doneMsg{
				err: fmt.Errorf("the editor %s: %w; nothing was changed", desk.Editor(), errors.Join(err, rerr)),
			}
		}
		return then(text)
	})
}

// openEdit opens the plan of writing a file anew.
func openEdit(a *app, s site.Site, name string, was, text []byte) tea.Cmd {
	anyway := false
	x := &stateScreen{name: "edit " + path.Base(name), site: s}
	x.make = func() (plan.Plan, error) { return a.desk.Hands.PlanEdit(a.ctx, s.ID, name, text, anyway) }
	x.choices = []stateChoice{
		{
			label: "if it is not right", help: "What the site's PHP can't read, or a copy does not answer with, does " +
				"not land, unless it is meant. E edits on.",
			text: func() string { return site.Either(anyway, "it lands all the same", "it does not land") },
			turn: func(int) { anyway = !anyway },
		},
	}
	for _, l := range strings.Split(strings.TrimRight(desk.Difference("as it is", "as it will be", was, text), "\n"),
		"\n") {
		if strings.HasPrefix(l, "+") || strings.HasPrefix(l, "-") || strings.HasPrefix(l, "@@") {
			x.gentler = append(x.gentler, plain(strings.ReplaceAll(l, "\t", "    ")))
		}
	}
	x.listHead = "DIFFERENCE"
	x.more = func(a *app, key string) (tea.Cmd, bool) {
		if key != "E" {
			return nil, false
		}
		a.pop()
		return editOn(a, s, name, was, text), true
	}
	a.push(x)
	return x.ask()
}

// askCarry asks to which site a file or folder is to be carried.
func askCarry(a *app, s site.Site, r desk.FileRow) tea.Cmd {
	to := ""
	if o, ok := a.find(s.Origin); ok {
		to = o.Name
	}
	a.asking = &question{title: "To which site is " + plain(r.Path) + " to be carried?",
		lines: []string{
			"It takes the place of the one of that name there. A plan shows what changes; nothing is done yet.",
			"Of a live site the name must be typed, and a restore point is taken first.",
		}, input: true, text: to, typed: func(a *app, text string) (tea.Cmd, error) {
			to, err := a.desk.Fleet.Find(a.ctx, strings.TrimSpace(text))
			if err != nil {
				return nil, err
			}
			x := &stateScreen{name: "carry " + path.Base(r.Path), site: to}
			x.make = func() (plan.Plan, error) { return a.desk.Hands.PlanCarry(a.ctx, s.ID, to.ID, r.Path) }
			x.choices = []stateChoice{{label: "from", help: "The site whose files take the place of those here.",
				text: func() string { return s.Name }}}
			a.push(x)
			return x.ask(), nil
		}}
	return nil
}
