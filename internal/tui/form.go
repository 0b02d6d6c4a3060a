package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"alibi/internal/site"
)

// field is one line of a form.
type field struct{ name, label, help string }

// form is values that are typed, one below the other.
type form struct {
	at     int
	values map[string]string
}

// typed takes what is typed, and tells whether it did.
func (f *form) typed(fields []field, msg tea.Msg) bool {
	name := fields[f.at].name
	if p, ok := msg.(tea.PasteMsg); ok {
		f.values[name] += strings.TrimSpace(p.Content)
		return true
	}
	k, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return false
	}
	switch k.String() {
	case "esc":
		return false
	case "tab", "down":
		f.at = (f.at + 1) % len(fields)
	case "shift+tab", "up":
		f.at = (f.at + len(fields) - 1) % len(fields)
	case "backspace":
		if r := []rune(f.values[name]); len(r) > 0 {
			f.values[name] = string(r[:len(r)-1])
		}
	case "ctrl+u":
		f.values[name] = ""
	default:
		if k.Text == "?" || k.Text == "" {
			return false
		}
		f.values[name] += k.Text
	}
	return true
}

// lines draws it, and below what the field under the cursor means.
func (f *form) lines(t *theme, fields []field, w int) (out []string) {
	for i, x := range fields {
		value := plain(f.values[x.name])
		if i == f.at {
			out = append(out, t.key.Render(t.glyph("▶", ">"))+t.ink.Bold(true).Render(t.fit(" "+x.label, 20))+
				t.chosen.Render(t.fit(" "+value+"_", min(70, w-24))))
		} else {
			out = append(out, t.soft.Render(t.fit("  "+x.label, 20))+" "+
				t.ink.Render(site.Either(value != "", " "+value, " -")))
		}
	}
	out = append(out, "")
	for _, line := range wrap(fields[f.at].help, w-4) {
		out = append(out, t.soft.Render("  "+line))
	}
	return append(out, "")
}
