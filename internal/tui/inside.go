package tui

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/desk"
	"alibi/internal/op/keep"
	"alibi/internal/site"
)

// sinceScreen tells what became of a site since a restore point.
type sinceScreen struct {
	scroll
	point desk.Point
	is    *keep.Changes
}

func openSince(a *app, p desk.Point) tea.Cmd {
	a.say("comparing "+p.Site.Name+" with its restore point ...", false)
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		c, err := a.desk.Points.Since(a.ctx, p)
		return "compared; both were only read", func(a *app) tea.Cmd {
			a.push(&sinceScreen{point: p, is: c})
			return nil
		}, err
	})
}

func (s *sinceScreen) title(*app) string {
	return s.point.Site.Name + " since " + s.point.Taken.Local().Format("Mon 2 Jan 15:04")
}

func (s *sinceScreen) rows() int { return len(s.is.Tables) + len(s.is.Files) }

func (s *sinceScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	if k, ok := msg.(tea.KeyPressMsg); ok {
		if by, ok := step(k.String(), s.rows(), a.h-8); ok {
			s.move(by, s.rows(), max(1, a.h-8))
			return nil, true
		}
	}
	return nil, false
}

func (s *sinceScreen) keys(*app) []hint { return []hint{{"Esc", "back"}} }
func (s *sinceScreen) words() []hint {
	return []hint{{"added", "on the site, and not in the restore point"},
		{"removed", "in the restore point, and not on the site any more"}, {"changed", "in both, and not the same"}}
}

func (s *sinceScreen) view(a *app, w, h int) []string {
	t := a.theme
	out := []string{
		t.soft.Render(fmt.Sprintf("   %s files and %s rows are as they were", site.Number(s.is.Same.Files),
			site.Number(s.is.Same.Rows))), "",
	}
	if s.rows() == 0 {
		return append(out, t.good.Render(t.glyph("   ✓ ", "   * "))+t.ink.Render("Nothing changed since."))
	}
	out = append(out, t.head.Render("   "+t.fit("", 8)+t.fit("WHAT", min(60, max(20, w-50)))+t.right("ADDED", 9)+
		t.right("CHANGED", 10)+t.right("REMOVED", 10)))
	count := func(n int64) string {
		if n == 0 {
			return t.glyph("·", ".")
		}
		return site.Number(n)
	}
	s.see(s.rows(), h-len(out))
	for i := s.top; i < min(s.rows(), s.top+h-3); i++ {
		kind, name, n := "table", "", [3]int64{}
		if i < len(s.is.Tables) {
			x := s.is.Tables[i]
			name, n = x.Name+site.Either(x.Shape, " (its definition changed)", ""),
				[3]int64{x.Added, x.Changed, x.Removed}
		} else {
			x := s.is.Files[i-len(s.is.Tables)]
			kind, name = "file", x.Path
			n[slices.Index([]string{keep.Added, keep.Changed, keep.Removed}, x.What)] = 1
		}
		out = append(out, site.Either(i == s.cursor, t.key.Render(t.glyph("▶", ">")), " ")+"  "+
			t.soft.Render(t.fit(kind, 8))+
			t.ink.Render(t.fit(plain(name), min(60, max(20, w-50)))+t.right(count(n[0]), 9)+t.right(count(n[1]), 10)+
				t.right(count(n[2]), 10)))
	}
	return out
}

// filesScreen walks through the folders of a restore point.
type filesScreen struct {
	scroll
	point desk.Point
	dir   string // "" is the site's
	list  []fs.FileInfo
}

func openFiles(a *app, p desk.Point, dir string, then func(*app, []fs.FileInfo)) tea.Cmd {
	return a.doThen(func() (string, func(*app) tea.Cmd, error) {
		list, err := a.desk.Points.Browse(a.ctx, p, dir)
		return "", func(a *app) tea.Cmd { then(a, list); return nil }, err
	})
}

func (f *filesScreen) title(*app) string {
	return "files of " + f.point.Site.Name + ", " + f.point.Taken.Local().Format("Mon 2 Jan 15:04")
}

func (f *filesScreen) update(a *app, msg tea.Msg) (tea.Cmd, bool) {
	k, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return nil, false
	}
	if by, ok := step(k.String(), len(f.list), a.h-8); ok {
		f.move(by, len(f.list), max(1, a.h-8))
		return nil, true
	}
	switch k.String() {
	case "enter", "right":
		if len(f.list) > 0 && f.list[f.cursor].IsDir() {
			return f.enter(a, path.Join(f.dir, f.list[f.cursor].Name()), ""), true
		}
		return nil, true
	case "left", "backspace":
		if f.dir != "" {
			up := path.Dir(f.dir)
			return f.enter(a, site.Either(up == ".", "", up), path.Base(f.dir)), true
		}
		return nil, true
	case "e":
		f.extract(a)
		return nil, true
	}
	return nil, false
}

// enter shows another folder, with the cursor on a name.
func (f *filesScreen) enter(a *app, dir, on string) tea.Cmd {
	return openFiles(a, f.point, dir, func(_ *app, list []fs.FileInfo) {
		f.dir, f.list, f.scroll = dir, list, scroll{}
		f.cursor = max(0, slices.IndexFunc(list, func(fi fs.FileInfo) bool { return fi.Name() == on }))
	})
}

func (f *filesScreen) extract(a *app) {
	what := f.dir
	if len(f.list) > 0 {
		what = path.Join(f.dir, f.list[f.cursor].Name())
	}
	name := site.Either(what == "", f.point.Site.Name, path.Base(what))
	a.asking = &question{title: "Where is " + plain(name) + " to be brought?",
		lines: []string{"A new place on this machine; nothing is written over.",
			"Neither the restore point nor the site is touched."}, input: true, text: "./" + name,
		typed: func(a *app, text string) (tea.Cmd, error) {
			return a.do(func() (string, error) {
				files, bytes, err := a.desk.Points.Extract(a.ctx, f.point, what, strings.TrimSpace(text))
				return fmt.Sprintf("%s, %s, brought to %s", site.Plural(files, "file", "files"), site.Size(bytes),
					text), err
			}), nil
		}}
}

func (f *filesScreen) keys(*app) []hint {
	return []hint{{"Enter", "into the folder"}, {"←", "up"}, {"e", "extract"}, {"Esc", "back"}}
}

func (f *filesScreen) words() []hint {
	return []hint{{"extract", "bring a file or folder to a new place on this machine"}}
}

func (f *filesScreen) view(a *app, w, h int) []string {
	t := a.theme
	out := []string{t.soft.Render("   " + plain("/"+f.dir)), "",
		t.head.Render("   " + t.fit("NAME", min(70, max(20, w-40))) + t.right("SIZE", 10) + "   CHANGED")}
	if len(f.list) == 0 {
		return append(out, t.soft.Render("   nothing is in this folder"))
	}
	f.see(len(f.list), h-len(out))
	for i := f.top; i < min(len(f.list), f.top+h-3); i++ {
		fi := f.list[i]
		name, size := plain(fi.Name()), site.Size(fi.Size())
		style := t.ink
		switch {
		case fi.IsDir():
			name, size, style = name+"/", "", t.ink.Bold(true)
		case !fi.Mode().IsRegular():
			size = "link"
		}
		out = append(out, site.Either(i == f.cursor, t.key.Render(t.glyph("▶", ">")), " ")+"  "+
			style.Render(t.fit(name, min(70, max(20, w-40))))+t.ink.Render(t.right(size, 10))+"   "+
			t.soft.Render(fi.ModTime().Local().Format("2 Jan 2006 15:04")))
	}
	return out
}
