package rewrite

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/phpval"
)

// TestFindMissesNothing compares the fast search with a plain one.
func TestFindMissesNothing(t *testing.T) {
	r := rw(t, live+" "+dest, "https://tickets.skerryline.example http://t.localhost",
		"https://kiosk.example http://k.localhost")
	words := []string{
		"skerryline.example",
		"SKERRYLINE.example",
		"Kiosk.Example",
		"tickets.",
		"sker",
		"ryline",
		".example",
		"x",
		"kkk",
		" ",
	}
	rapid.Check(t, func(t *rapid.T) {
		v := []byte(strings.Join(rapid.SliceOfN(rapid.SampledFrom(words), 0, 30).Draw(t, "words"), ""))
		found := map[int]bool{}
		for _, at := range r.find(v, Prose, nil) {
			found[at] = true
		}
		low := bytes.ToLower(v)
		for _, host := range []string{"skerryline.example", "kiosk.example"} {
			for from := 0; ; {
				i := bytes.Index(low[from:], []byte(host))
				if i < 0 {
					break
				}
				assert.True(t, found[from+i], "%q at %d of %q", host, from+i, v)
				from += i + len(host)
			}
		}
	})
}

func TestBase64IsFoundAtEachAlignment(t *testing.T) {
	r := rw(t, live+" "+dest)
	for _, enc := range []*base64.Encoding{base64.StdEncoding, base64.RawStdEncoding, base64.URLEncoding,
		base64.RawURLEncoding} {
		for n := range 12 {
			in := strings.Repeat("?", n) + " " + live + "/~é"
			got, hits, issue := r.Value([]byte("v="+enc.EncodeToString([]byte(in))), Prose)
			require.Equal(t, 1, hits, "%d bytes before it", n)
			assert.Equal(t, Clean, issue)
			// Where nothing in the run tells the alphabets apart, the common one is written.
			run := strings.TrimRight(strings.NewReplacer("-", "+", "_", "/").Replace(strings.TrimPrefix(string(got),
				"v=")), "=")
			dec, err := base64.RawStdEncoding.DecodeString(run)
			require.NoError(t, err)
			assert.Equal(t, strings.Replace(in, live, dest, 1), string(dec))
		}
	}
}

func TestBase64ThatCanNotBeDecodedIsReported(t *testing.T) {
	r := rw(t, live+" "+dest)
	in := "A" + base64.StdEncoding.EncodeToString([]byte("xx "+live)) + "==="
	got, hits, issue := r.Value([]byte(in), Prose)
	assert.Equal(t, in, string(got))
	assert.Zero(t, hits)
	assert.Equal(t, Unkeepable, issue)
}

func TestJSONQuoteIsReadBackInEveryStyle(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.String().Draw(t, "text")
		for style := range jsonStyles {
			var back string
			require.NoError(t, json.Unmarshal([]byte(`"`+string(jsonQuote([]byte(s), style))+`"`), &back))
			assert.Equal(t, s, back)
		}
	})
}

func TestJSONKeepsItsStyle(t *testing.T) {
	r := rw(t, live+" "+dest)
	inner := serial(live + "/é<b>\n")
	for style := range jsonStyles {
		in := fmt.Sprintf(`{ "n": 1.50, "v":"%s", "v":[ ] }`, jsonQuote([]byte(inner), style))
		want := fmt.Sprintf(`{ "n": 1.50, "v":"%s", "v":[ ] }`, jsonQuote([]byte(serial(dest+"/é<b>\n")), style))
		got, hits, issue := r.Value([]byte(in), Prose)
		assert.Equal(t, want, string(got), "style %d", style)
		assert.Equal(t, 1, hits)
		assert.Equal(t, Clean, issue)
	}
}

func TestSerializedKeysAndNames(t *testing.T) {
	r := rw(t, live+" "+dest)
	in := string(phpval.Map(live, phpval.Map("k", live+"/a")).Marshal())
	got, hits, _ := r.Value([]byte(in), Prose)
	assert.Equal(t, string(phpval.Map(dest, phpval.Map("k", dest+"/a")).Marshal()), string(got),
		"keys of arrays are changed")
	assert.Equal(t, 2, hits)
	object := phpval.Value{
		Kind:  'O',
		Class: "stdClass",
		Items: []phpval.Item{{Key: phpval.String("skerryline.example"), Val: phpval.Int(1)}},
	}.Marshal()
	got, hits, _ = r.Value(object, Prose)
	assert.Equal(t, object, got, "names of properties are code")
	assert.Zero(t, hits)
}

func TestNestedTooDeeplyIsReported(t *testing.T) {
	r := rw(t, live+" "+dest)
	v := live
	for range maxNesting + 3 {
		v = serial(v)
	}
	got, hits, issue := r.Value([]byte(v), Prose)
	assert.Equal(t, v, string(got))
	assert.Zero(t, hits)
	assert.Equal(t, TooDeep, issue)
	for i := Clean; i <= TooDeep; i++ {
		assert.NotEmpty(t, i.String())
	}
}

func TestSubDomainsOfANetwork(t *testing.T) {
	r := rw(t, "https://islands.example http://w.localhost:7700",
		"https://north.islands.example http://north.w.localhost:7700")
	for in, want := range map[string]string{
		"https://north.islands.example/a": "http://north.w.localhost:7700/a",
		"https://islands.example/a":       "http://w.localhost:7700/a",
		"https://south.islands.example/a": "https://south.islands.example/a",
		"//NORTH.Islands.example":         "//north.w.localhost:7700",
		"north.islands.example":           "north.w.localhost:7700",
	} {
		got, _, _ := r.Value([]byte(in), Prose)
		assert.Equal(t, want, string(got), in)
	}
}

func TestPathsInEveryWriting(t *testing.T) {
	r := rw(t, "/srv/skerry /home/eng/c", "/srv/skerry/public /home/eng/c/p")
	for in, want := range map[string]string{
		"/srv/skerry/public/x":               "/home/eng/c/p/x",
		"/srv/skerry/other":                  "/home/eng/c/other",
		"%2Fsrv%2Fskerry%2Fpublic":           "%2Fhome%2Feng%2Fc%2Fp",
		`\\\/srv\\\/skerry`:                  `\\\/home\\\/eng\\\/c`,
		"&#x2F;srv&#x2F;skerry":              "&#x2F;home&#x2F;eng&#x2F;c",
		"a=/srv/skerry;b=/srv/skerry":        "a=/home/eng/c;b=/home/eng/c",
		"/srv/skerry.":                       "/home/eng/c.",
		"/srv/skerry.bak":                    "/srv/skerry.bak",
		"/srv/skerryline":                    "/srv/skerryline",
		"https://other.example/srv/skerry/x": "https://other.example/srv/skerry/x",
	} {
		got, _, _ := r.Value([]byte(in), Settings)
		assert.Equal(t, want, string(got), in)
	}
	in := serial("/srv/skerry/public/f")
	got, hits, _ := r.Value([]byte(in), Settings)
	assert.Equal(t, serial("/home/eng/c/p/f"), string(got))
	assert.Equal(t, 1, hits)
}

// TestPHPReadsEveryEncoding has the real PHP take apart what was rewritten.
func TestPHPReadsEveryEncoding(t *testing.T) {
	r := rw(t, live+" "+dest)
	enc := func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) }
	values := map[string]string{
		`unserialize($v)["u"]`:                                    string(phpval.Map("u", live).Marshal()),
		`json_decode($v, true)["u"]`:                              `{"u":"https:\/\/skerryline.example"}`,
		`unserialize(json_decode($v, true)["u"])`:                 `{"u":` + quoteJSON(serial(live)) + `}`,
		`json_decode(unserialize($v), true)["u"]`:                 serial(`{"u":"` + live + `"}`),
		`base64_decode($v)`:                                       enc(live),
		`unserialize(base64_decode($v))`:                          enc(serial(live)),
		`urldecode($v)`:                                           "https%3A%2F%2Fskerryline.example",
		`unserialize(urldecode($v))`:                              "s%3A26%3A%22https%3A%2F%2Fskerryline.example%22%3B",
		`html_entity_decode($v)`:                                  "https:&#x2F;&#x2F;skerryline.example",
		`unserialize($v)->getArrayCopy()["url"]`:                  customSerialized(live),
		`unserialize(unserialize($v))`:                            serial(serial(live)),
		`unserialize(htmlspecialchars_decode($v, ENT_QUOTES))[0]`: `a:1:{i:0;s:26:&quot;https://skerryline.example&quot;;}`,
	}
	for expr, in := range values {
		got, hits, issue := r.Value([]byte(in), Prose)
		require.Equal(t, 1, hits, expr)
		require.Equal(t, Clean, issue, expr)
		cmd := exec.Command("php", "-r", "$v = stream_get_contents(STDIN); echo "+expr+";")
		cmd.Stdin = bytes.NewReader(got)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s of %s: %s", expr, got, out)
		assert.Equal(t, dest, string(out), expr)
	}
}

// TestWhatIsChangedHoldsANeedle is what a server that searches for the needles
// relies on: a value without one is never changed.
func TestWhatIsChangedHoldsANeedle(t *testing.T) {
	r, err := New([]Pair{{From: addr(t, live), To: addr(t, dest)}}, []PathPair{{From: "/srv/skerry", To: "/home/copy"}})
	require.NoError(t, err)
	fold, exact := r.Needles()
	pieces := []string{
		live,
		strings.ToUpper(live),
		"//skerryline.example/x",
		"skerryline.example",
		"/srv/skerry/wp",
		`\/srv\/skerry\/x`,
		"%2Fsrv%2Fskerry",
		"mail@skerryline.example",
		" and ",
		"text",
		`"`,
		`{"a":"`,
		`"}`,
	}
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom(pieces), 0, 6).Draw(t, "text"), "")
		switch rapid.IntRange(0, 3).Draw(t, "coded") {
		case 1:
			text = base64.StdEncoding.EncodeToString([]byte(text))
		case 2:
			text = fmt.Sprintf(`a:1:{s:1:"k";s:%d:"%s";}`, len(text), text)
		case 3:
			b, _ := json.Marshal(map[string]string{"k": text})
			text = string(b)
		}
		_, n, _ := r.Value([]byte(text), Settings)
		held := false
		for _, f := range fold {
			held = held || strings.Contains(strings.ToLower(text), f)
		}
		for _, e := range exact {
			held = held || strings.Contains(text, e)
		}
		assert.True(t, n == 0 || held, "%q is changed in %d places and holds no needle", text, n)
	})
}

// TestPlainTextsAreWhatTheyBecome wants the exchange that a server may do to be
// right for the addresses that it is meant for.
func TestPlainTextsAreWhatTheyBecome(t *testing.T) {
	r, err := New([]Pair{{From: addr(t, live), To: addr(t, dest)}}, nil)
	require.NoError(t, err)
	text := `<a href="` + live + `/boats/">boats</a> <img src="http://skerryline.example/b.jpg">`
	exchanged := text
	for _, p := range r.Plain() {
		exchanged = strings.ReplaceAll(exchanged, p[0], p[1])
	}
	want, n, issue := r.Value([]byte(text), Prose)
	assert.Equal(t, 2, n)
	assert.Equal(t, Clean, issue)
	assert.Equal(t, string(want), exchanged)
}
