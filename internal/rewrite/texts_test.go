package rewrite

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/phpval"
)

// louder exchanges a word wherever it stands.
func louder(text []byte) ([]byte, bool) {
	out := bytes.ReplaceAll(text, []byte("quiet"), []byte("LOUDER!"))
	return out, !bytes.Equal(out, text)
}

func TestTextsAreFoundInEveryEncoding(t *testing.T) {
	inner := string(phpval.Map("say", "a quiet word", "n", 3).Marshal())
	js, _ := json.Marshal(map[string]string{"say": "a <quiet> word/é"})
	for name, c := range map[string]struct{ in, want string }{
		"plain":              {"a quiet word", "a LOUDER! word"},
		"nothing":            {"a word", "a word"},
		"empty":              {"", ""},
		"serialized":         {inner, string(phpval.Map("say", "a LOUDER! word", "n", 3).Marshal())},
		"twice serialized":   {serial(inner), serial(string(phpval.Map("say", "a LOUDER! word", "n", 3).Marshal()))},
		"json":               {`{"say":"quiet","n":1}`, `{"say":"LOUDER!","n":1}`},
		"json, slashes kept": {`{"u":"https:\/\/quiet.example\/"}`, `{"u":"https:\/\/LOUDER!.example\/"}`},
		"json in serialized": {serial(`["quiet"]`), serial(`["LOUDER!"]`)},
		"serialized in json": {quoteJSON(inner),
			quoteJSON(string(phpval.Map("say", "a LOUDER! word", "n", 3).Marshal()))},
		"percent, serialized": {url.QueryEscape(inner),
			url.QueryEscape(string(phpval.Map("say", "a LOUDER! word", "n", 3).Marshal()))},
		"base64": {base64.StdEncoding.EncodeToString([]byte("say a quiet word!")),
			base64.StdEncoding.EncodeToString([]byte("say a LOUDER! word!"))},
		"base64 of serialized": {base64.StdEncoding.EncodeToString([]byte(inner)),
			base64.StdEncoding.EncodeToString(phpval.Map("say", "a LOUDER! word", "n", 3).Marshal())},
		"broken serialized": {`a:1:{s:3:"say";s:9:"a quiet word";}`, `a:1:{s:3:"say";s:9:"a LOUDER! word";}`},
		"bytes":             {"\xff\xfequiet\x00", "\xff\xfeLOUDER!\x00"},
		"names of classes":  {`O:5:"quiet":0:{}`, `O:5:"quiet":0:{}`},
	} {
		assert.Equal(t, c.want, string(Texts([]byte(c.in), louder)), name)
	}
	assert.Contains(t, string(Texts(js, louder)), `LOUDER!`)
	assert.True(t, json.Valid(Texts(js, louder)))
	same := []byte("nothing to do here")
	assert.Equal(t, &same[0], &Texts(same, louder)[0], "what does not change is not copied")
}

// Whatever a value is wrapped in, taking the wrapping off again gives the changed
// text, and a second time nothing changes.
func TestTextsKeepTheirWrapping(t *testing.T) {
	type wrap struct {
		name    string
		on, off func(string) string
	}
	off := func(s string) string {
		v, err := phpval.Parse([]byte(s))
		if err != nil {
			return "broken: " + s
		}
		return v.Str
	}
	wraps := []wrap{
		{"serialized", serial, off},
		{"json", quoteJSON, func(s string) (out string) { _ = json.Unmarshal([]byte(s), &out); return out }},
	}
	rapid.Check(t, func(t *rapid.T) {
		parts := rapid.SliceOfN(rapid.SampledFrom([]string{"quiet", " ", "é", "<b>", `"`, `\`, "/", "x", "\n", "'"}), 1,
			8).Draw(t, "parts")
		text := "in " + strings.Join(parts, "")
		chosen := rapid.SliceOfN(rapid.IntRange(0, len(wraps)-1), 0, 3).Draw(t, "wraps")
		value := text
		for _, w := range chosen {
			value = wraps[w].on(value)
		}
		out := string(Texts([]byte(value), louder))
		got := out
		for i := len(chosen) - 1; i >= 0; i-- {
			got = wraps[chosen[i]].off(got)
		}
		want, _ := louder([]byte(text))
		require.Equal(t, string(want), got)
		assert.Equal(t, out, string(Texts([]byte(out), louder)))
	})
}

func FuzzTexts(f *testing.F) {
	for _, s := range []string{`a:1:{i:0;s:5:"quiet";}`, `{"a":"quiet"}`, "cXVpZXQgcXVpZXQgcXVpZXQh", `"quiet`,
		`s:5:"quiet"`, `{"\u0071uiet":"\ud800"}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, v []byte) {
		was := bytes.Clone(v)
		out := Texts(v, louder)
		if !bytes.Equal(v, was) {
			t.Error("the value itself was changed")
		}
		if phpval.Valid(v) && !phpval.Valid(out) {
			t.Errorf("%q became %q, which is not well formed", v, out)
		}
		if json.Valid(v) && !json.Valid(out) {
			t.Errorf("%q became %q, which is no JSON", v, out)
		}
		if Texts(v, func([]byte) ([]byte, bool) { return nil, false }); !bytes.Equal(v, was) {
			t.Error("looking changed the value")
		}
	})
}
