package site

import (
	"fmt"
	"strings"
	"unicode"
)

// MaxName is how long a name may be: with the port it still fits a host label.
const MaxName = 50

// CheckName says whether name can be a copy's name and so part of its address:
// at most 50 of a-z, 0-9 and -, not in use. The error says what to type instead.
func CheckName(name string, taken func(string) bool) error {
	if name == "" {
		return fmt.Errorf("a copy needs a name, such as winter-timetable")
	}
	if len(name) > MaxName {
		return fmt.Errorf("the name %q has %d characters; at most %d fit an address", name, len(name), MaxName)
	}
	if s := Slug(name); s != name {
		return fmt.Errorf("the name %q can't be part of an address (only a-z, 0-9 and - between them); try %q", name, s)
	}
	if taken != nil && taken(name) {
		return fmt.Errorf("the name %q is in use; try %q", name, FreeName(name, taken))
	}
	return nil
}

// Slug makes an address-safe name of any text; "site" where nothing is left.
func Slug(text string) string {
	var b strings.Builder
	dash := false
	for _, r := range strings.ToLower(text) {
		switch {
		case r < unicode.MaxASCII && (unicode.IsLetter(r) || unicode.IsDigit(r)):
			if dash && b.Len() > 0 {
				b.WriteByte('-')
			}
			dash = false
			b.WriteRune(r)
		default:
			dash = true
		}
	}
	s := b.String()
	if len(s) > MaxName {
		s = strings.TrimRight(s[:MaxName], "-")
	}
	if s == "" {
		s = "site"
	}
	return s
}

// FreeName is base, or base with the lowest number from 2 that makes it free.
func FreeName(base string, taken func(string) bool) string {
	name := base
	for n := 2; taken(name); n++ {
		tail := fmt.Sprintf("-%d", n)
		name = strings.TrimRight(base[:min(len(base), MaxName-len(tail))], "-") + tail
	}
	return name
}

// DeriveName proposes a name for a copy: its purpose if there is one, else the
// origin's first label with its role.
func DeriveName(origin Site, purpose string, taken func(string) bool) string {
	if words := strings.Fields(purpose); len(words) > 0 {
		return FreeName(Slug(strings.Join(words[:min(3, len(words))], " ")), taken)
	}
	base := origin.Name
	if h := origin.Address().Host; origin.Role == Live && h != "" {
		base = strings.TrimPrefix(h, "www.")
		base, _, _ = strings.Cut(base, ".")
	}
	base = strings.TrimSuffix(Slug(base), "-copy")
	return FreeName(Slug(base+"-copy"), taken)
}
