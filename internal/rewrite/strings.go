package rewrite

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"unicode/utf8"

	"alibi/internal/phpval"
)

// Texts returns v with every text that stands in it given to edit, whatever it is
// encoded in: PHP-serialized (lengths are set anew), JSON (in its own style),
// escaped for HTML or in percent, base64, and one in another. A value in which
// edit changes nothing is v itself. What looks serialized and is broken, or can't
// be written again as it was, is given to edit as it stands.
func Texts(v []byte, edit func(text []byte) ([]byte, bool)) []byte {
	out, _ := texts(v, edit, 0)
	return out
}

func texts(v []byte, edit func([]byte) ([]byte, bool), depth int) ([]byte, bool) {
	if len(v) == 0 || depth > maxNesting {
		return v, false
	}
	if phpval.Looks(v) {
		changed := false
		out, err := phpval.Edit(v, func(place phpval.Place, _ int, payload []byte) ([]byte, bool) {
			if place == phpval.Name {
				return nil, false
			}
			repl, is := texts(payload, edit, depth+1)
			changed = changed || is
			return repl, is
		})
		if err == nil {
			return out, changed
		}
	}
	if inner, wrap, ok := unwrap(v); ok {
		if out, is := texts(inner, edit, depth+1); is {
			return wrap(out), true
		}
		return v, false
	}
	if looksJSON(v) {
		return jsonTexts(v, edit, depth)
	}
	if dec, ok := wholeBase64(v); ok {
		if out, is := texts(dec, edit, depth+1); is {
			return []byte(base64.StdEncoding.EncodeToString(out)), true
		}
	}
	return edit(v)
}

// wholeBase64 decodes a value that is nothing but base64 of a text.
func wholeBase64(v []byte) ([]byte, bool) {
	if len(v) < 16 || len(v)%4 != 0 || bytes.ContainsAny(v[:16], " .@<{") {
		return nil, false
	}
	dec, err := base64.StdEncoding.DecodeString(string(v))
	if err != nil || !utf8.Valid(dec) ||
		bytes.ContainsFunc(dec, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' && r != '\r' && r != 0 }) {
		return nil, false
	}
	return dec, true
}

// jsonTexts gives the string tokens of a JSON text to edit, decoded, and writes
// those that it changes in their own style.
func jsonTexts(v []byte, edit func([]byte) ([]byte, bool), depth int) ([]byte, bool) {
	var out []byte
	last := 0
	for lo, i := range jsonStrings(v) {
		var text string
		if json.Unmarshal(v[lo-1:i+1], &text) != nil {
			continue
		}
		repl, is := texts([]byte(text), edit, depth+1)
		if !is {
			continue
		}
		out = append(append(out, v[last:lo]...), jsonQuote(repl, styleOf([]byte(text), v[lo:i]))...)
		last = i
	}
	if last == 0 {
		return v, false
	}
	return append(out, v[last:]...), true
}

// styleOf finds the style in which a JSON string was written; one that mixes
// them counts as the one that escapes most.
func styleOf(text, raw []byte) int {
	for style := range jsonStyles {
		if bytes.Equal(jsonQuote(text, style), raw) {
			return style
		}
	}
	return jsonStyles - 1
}
