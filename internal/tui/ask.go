package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
)

// question stands over the screen until it is answered: yes or no, or a text.
type question struct {
	title  string
	lines  []string
	input  bool
	secret bool
	text   string
	wrong  string
	must   string // what has to be typed for yes
	yes    func(a *app) tea.Cmd
	typed  func(a *app, text string) (tea.Cmd, error)
	no     func()
}

func (q *question) keys() []hint {
	if q.input {
		return []hint{{"Enter", "go on"}, {"Esc", "back, nothing is done"}}
	}
	return []hint{{"Enter", "yes"}, {"Esc", "no"}}
}

// key takes a key and tells whether the question is over.
func (q *question) key(a *app, msg tea.Msg) (tea.Cmd, bool) {
	if p, ok := msg.(tea.PasteMsg); ok && q.input {
		q.text += strings.TrimSpace(p.Content)
		return nil, false
	}
	k, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return nil, false
	}
	switch k.String() {
	case "esc":
		if q.no != nil {
			q.no()
		}
		return nil, true
	case "enter":
		return q.answer(a)
	case "backspace":
		if r := []rune(q.text); len(r) > 0 {
			q.text = string(r[:len(r)-1])
		}
	case "ctrl+u":
		q.text = ""
	default:
		if q.input {
			q.text += k.Text
		} else if k.String() == "n" {
			if q.no != nil {
				q.no()
			}
			return nil, true
		}
	}
	q.wrong = ""
	return nil, false
}

func (q *question) answer(a *app) (tea.Cmd, bool) {
	if q.must != "" && q.text != q.must {
		q.wrong = "that is not its name"
		return nil, false
	}
	if q.typed != nil {
		cmd, err := q.typed(a, q.text)
		if err != nil {
			q.wrong = err.Error()
			return nil, false
		}
		return cmd, true
	}
	return q.yes(a), true
}

func (q *question) view(a *app, w, h int) []string {
	t := a.theme
	width := min(w-8, 92)
	in := "    "
	out := make([]string, max(1, h/6))
	out = append(out, in+t.ink.Bold(true).Render(q.title), in+t.line(width), "")
	for _, l := range q.lines {
		parts := wrap(plain(l), width)
		if strings.HasPrefix(l, "  ") { // an address or a key: not to be broken unless it must be
			parts = strings.Split(ansi.Hardwrap(plain(l), w-6, true), "\n")
		}
		for _, part := range parts {
			out = append(out, in+t.ink.Render(part))
		}
	}
	if q.input {
		text := q.text
		if q.secret {
			text = strings.Repeat("*", len([]rune(text)))
		}
		out = append(out, "", in+t.chosen.Render(" "+text+"_"+" "))
	}
	if q.wrong != "" {
		out = append(out, "")
		for _, part := range wrap(q.wrong, width) {
			out = append(out, in+t.wrong.Render("! "+part))
		}
	}
	return append(out, "", in+t.line(width))
}
