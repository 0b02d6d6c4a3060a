package rewrite

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/phpval"
	"alibi/internal/site"
)

func addr(t testing.TB, s string) site.Address {
	t.Helper()
	a, err := site.ParseAddress(s)
	require.NoError(t, err)
	return a
}

// rw makes a Rewriter from pairs written "from to".
func rw(t testing.TB, pairs ...string) *Rewriter {
	t.Helper()
	var ps []Pair
	var paths []PathPair
	for _, p := range pairs {
		from, to, _ := strings.Cut(p, " ")
		if strings.HasPrefix(from, "/") {
			paths = append(paths, PathPair{from, to})
			continue
		}
		ps = append(ps, Pair{addr(t, from), addr(t, to)})
	}
	r, err := New(ps, paths)
	require.NoError(t, err)
	return r
}

const (
	live = "https://skerryline.example"
	dest = "http://winter.localhost:7700"
)

func serial(s string) string { return string(phpval.String(s).Marshal()) }
func quoteJSON(s string) string {
	b, _ := json.Marshal(s)
	return string(b)
}

func TestValue(t *testing.T) {
	r := rw(t, live+" "+dest, "https://www.skerryline.example "+dest, "/srv/skerry/public /home/eng/copies/winter")
	enc := base64.StdEncoding.EncodeToString
	cases := []struct{ name, in, want string }{
		{"plain", "see https://skerryline.example/fares now", "see http://winter.localhost:7700/fares now"},
		{"http too, and upper case", "HTTP://SkerryLine.EXAMPLE/", "http://winter.localhost:7700/"},
		{"www", "https://www.skerryline.example", dest},
		{"without scheme", `src="//skerryline.example/a.png"`, `src="//winter.localhost:7700/a.png"`},
		{"bare, end of sentence", "Visit skerryline.example. Soon.", "Visit winter.localhost:7700. Soon."},
		{"cookie domain", `".skerryline.example"`, `".winter.localhost"`},
		{"JSON-escaped", `https:\/\/skerryline.example\/a`, `http:\/\/winter.localhost:7700\/a`},
		{"twice JSON-escaped", `https:\\\/\\\/skerryline.example\\\/a`, `http:\\\/\\\/winter.localhost:7700\\\/a`},
		{
			"JSON unicode escapes",
			`https:\u002f\u002fskerryline.example\u002fa`,
			`http:\u002f\u002fwinter.localhost:7700\u002fa`,
		},
		{"behind a JSON newline", `"a\nskerryline.example"`, `"a\nwinter.localhost:7700"`},
		{"percent-encoded", "u=https%3A%2F%2Fskerryline.example%2Fa", "u=http%3A%2F%2Fwinter.localhost%3A7700%2Fa"},
		{
			"percent-encoded twice",
			"https%253A%252F%252Fskerryline.example",
			"http%253A%252F%252Fwinter.localhost%253A7700",
		},
		{"percent-encoded, no scheme", "u=skerryline.example%2Fa", "u=winter.localhost%3A7700%2Fa"},
		{
			"HTML-escaped",
			"https:&#x2F;&#x2F;skerryline.example&#x2F;a",
			"http:&#x2F;&#x2F;winter.localhost:7700&#x2F;a",
		},
		{"web socket", "wss://skerryline.example/s", "ws://winter.localhost:7700/s"},
		{"default port written out", "https://skerryline.example:443/a", dest + "/a"},
		{"user in the URL", "https://ada:pw@skerryline.example/a", "http://ada:pw@winter.localhost:7700/a"},
		{"serialized", serial(live), serial(dest)},
		{
			"serialized with escapes",
			`S:32:"\00\00\00\0a\0d\00https://skerryline.example";`,
			`S:34:"\00\00\00\0a\0d\00http://winter.localhost:7700";`,
		},
		{"serialized in serialized", serial(serial(live)), serial(serial(dest))},
		{
			"JSON in serialized",
			serial(`{"u":"https:\/\/skerryline.example"}`),
			serial(`{"u":"http:\/\/winter.localhost:7700"}`),
		},
		{"serialized in JSON", `{"v":` + quoteJSON(serial(live)) + `}`, `{"v":` + quoteJSON(serial(dest)) + `}`},
		{
			"serialized in JSON, slashes escaped",
			`{"v":"s:26:\"https:\/\/skerryline.example\";"}`,
			`{"v":"s:28:\"http:\/\/winter.localhost:7700\";"}`,
		},
		{"JSON in JSON", `{"v":` + quoteJSON(`{"u":"`+live+`"}`) + `}`, `{"v":` + quoteJSON(`{"u":"`+dest+`"}`) + `}`},
		{"base64", "data " + enc([]byte("x "+live)) + " end", "data " + enc([]byte("x "+dest)) + " end"},
		{"base64 of serialized", enc([]byte(serial(live))), enc([]byte(serial(dest)))},
		{"base64 in serialized", serial(enc([]byte("ab" + live))), serial(enc([]byte("ab" + dest)))},
		{"percent-encoded serialized", url.QueryEscape(serial(live)), url.QueryEscape(serial(dest))},
		{
			"HTML-escaped serialized",
			"s:26:&quot;https://skerryline.example&quot;;",
			"s:28:&quot;http://winter.localhost:7700&quot;;",
		},
		{
			"HTML-escaped array",
			"a:1:{s:1:&quot;u&quot;;s:26:&quot;https://skerryline.example&quot;;}",
			"a:1:{s:1:&quot;u&quot;;s:28:&quot;http://winter.localhost:7700&quot;;}",
		},
		{"session form", "cart|" + serial(live) + "n|i:1;", "cart|" + serial(dest) + "n|i:1;"},
		{"custom-serialized", customSerialized(live), customSerialized(dest)},
		{"path", "/srv/skerry/public/wp-content", "/home/eng/copies/winter/wp-content"},
		{"path, JSON", `"\/srv\/skerry\/public\/x"`, `"\/home\/eng\/copies\/winter\/x"`},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got, hits, issue := r.Value([]byte(c.in), Settings)
			assert.Equal(t, c.want, string(got))
			assert.Equal(t, 1, hits)
			assert.Equal(t, Clean, issue)
		})
	}
}

func customSerialized(u string) string {
	inner := "x:i:0;" + string(phpval.Map("url", u).Marshal()) + ";m:a:0:{}"
	return string(phpval.Value{Kind: 'C', Class: "ArrayObject", Str: inner}.Marshal())
}

func TestLeftAlone(t *testing.T) {
	r := rw(t, live+" "+dest, "/srv/skerry/public /home/eng/copies/winter")
	for name, in := range map[string]string{
		"e-mail":            "write to desk@skerryline.example today",
		"e-mail, encoded":   "mailto:desk%40skerryline.example",
		"e-mail, entity":    "desk&#64;skerryline.example",
		"longer name left":  "https://not-skerryline.example/",
		"sub-domain":        "https://tickets.skerryline.example/",
		"longer name right": "https://skerryline.example.org/",
		"hyphen right":      "https://skerryline.example-old/",
		"other port":        "https://skerryline.example:8443/",
		"other protocol":    "sftp://skerryline.example/srv",
		"other path":        "/srv/skerry/public-old/x",
		"inside a path":     "/mnt/srv/skerry/public",
	} {
		t.Run(name, func(t *testing.T) {
			got, hits, issue := r.Value([]byte(in), Settings)
			assert.Equal(t, in, string(got))
			assert.Zero(t, hits)
			assert.Equal(t, Clean, issue)
		})
	}
	got, hits, _ := r.Value([]byte("kept in /srv/skerry/public"), Prose)
	assert.Zero(t, hits, "a path in prose is prose: %s", got)
}

func TestBrokenIsReportedAndKept(t *testing.T) {
	r := rw(t, live+" "+dest)
	for _, in := range []string{`a:1:{s:3:"url";s:99:"https://skerryline.example";}`,
		`s:5:"https://skerryline.example";`, `a:2:{i:0;s:26:"https://skerryline.example";`} {
		got, hits, issue := r.Value([]byte(in), Prose)
		assert.Equal(t, in, string(got))
		assert.Zero(t, hits)
		assert.Equal(t, Broken, issue)
	}
	nested := string(phpval.Map("good", live, "bad", `s:5:"`+live+`";x`).Marshal())
	got, hits, issue := r.Value([]byte(nested), Prose)
	assert.Equal(t, string(phpval.Map("good", dest, "bad", `s:5:"`+live+`";x`).Marshal()), string(got))
	assert.Equal(t, 1, hits)
	assert.Equal(t, Broken, issue)
}

func TestSubFoldersLongestFirst(t *testing.T) {
	r := rw(t, live+" http://a.localhost", live+"/islands http://b.localhost:81/x",
		"http://old.example:8080 http://c.localhost")
	for in, want := range map[string]string{
		live + "/islands/north":                         "http://b.localhost:81/x/north",
		live + "/islands":                               "http://b.localhost:81/x",
		live + "/islandsman":                            "http://a.localhost/islandsman",
		`https:\/\/skerryline.example\/islands\/x`:      `http:\/\/b.localhost:81\/x\/x`,
		"https%3A%2F%2Fskerryline.example%2Fislands%2F": "http%3A%2F%2Fb.localhost%3A81%2Fx%2F",
		"http://old.example:8080/x":                     "http://c.localhost/x",
		"http://old.example/x":                          "http://old.example/x",
	} {
		got, _, _ := r.Value([]byte(in), Prose)
		assert.Equal(t, want, string(got), in)
	}
}

func TestPairsThatKeep(t *testing.T) {
	r := rw(t, live+" "+live+"/copy", live+"/copy "+live+"/copy")
	got, hits, _ := r.Value([]byte(live+"/a "+live+"/copy/b"), Prose)
	assert.Equal(t, live+"/copy/a "+live+"/copy/b", string(got))
	assert.Equal(t, 1, hits)
}

func TestKey(t *testing.T) {
	k, ok := Key("wp_user_roles", "wp_", "x7_")
	assert.True(t, ok)
	assert.Equal(t, "x7_user_roles", k)
	k, ok = Key("xwp_user_roles", "wp_", "x7_")
	assert.False(t, ok)
	assert.Equal(t, "xwp_user_roles", k)
}

// genText draws text with addresses in all of the encodings; host stands for
// the address, which has a scheme, a port and no path. base64 occurs once only:
// inside itself it is not looked for.
func genText(depth int, wraps ...string) *rapid.Generator[func(site.Address) string] {
	return rapid.Custom(func(t *rapid.T) func(site.Address) string {
		if depth > 0 && rapid.IntRange(0, 3).Draw(t, "leaf") > 0 {
			wrap := rapid.SampledFrom(wraps).Draw(t, "wrap")
			within := wraps
			if wrap == "base64" {
				within = []string{"serial", "array", "json", "percent"}
			}
			inner := genText(depth-1, within...).Draw(t, "inner")
			switch wrap {
			case "serial":
				return func(a site.Address) string { return serial(inner(a)) }
			case "array":
				other := genText(0).Draw(t, "other")
				return func(a site.Address) string {
					return string(phpval.Map("k", inner(a), other(a), phpval.List(phpval.String(other(a)))).Marshal())
				}
			case "json":
				return func(a site.Address) string { return `{"v": ` + quoteJSON(inner(a)) + `}` }
			case "base64":
				return func(a site.Address) string { return base64.StdEncoding.EncodeToString([]byte(inner(a))) }
			case "percent":
				return func(a site.Address) string { return url.QueryEscape(serial(inner(a))) }
			}
		}
		forms := []func(site.Address) string{
			func(a site.Address) string { return a.String() },
			func(a site.Address) string { return "//" + a.HostPort() },
			func(a site.Address) string { return strings.ReplaceAll(a.String(), "/", `\/`) },
			func(a site.Address) string { return url.QueryEscape(a.String()) },
			func(a site.Address) string { return "desk@" + "skerryline.example" },
			func(a site.Address) string { return "not-" + "skerryline.example" },
			func(a site.Address) string { return "" },
		}
		var parts []func(site.Address) string
		for range rapid.IntRange(0, 4).Draw(t, "parts") {
			lit := rapid.StringMatching(`[ ,(=\n][ a-z<>é€.,!?'"\n]{0,12}[ ,(=\n]`).Draw(t, "lit")
			parts = append(parts, func(site.Address) string { return lit }, rapid.SampledFrom(forms).Draw(t, "form"))
		}
		return func(a site.Address) string {
			var b strings.Builder
			for _, p := range parts {
				b.WriteString(p(a))
			}
			b.WriteString(" ")
			return b.String()
		}
	})
}

func TestThereAndBack(t *testing.T) {
	from, to := addr(t, live), addr(t, "http://winter.localhost:7700")
	there, err := New([]Pair{{from, to}}, nil)
	require.NoError(t, err)
	back, err := New([]Pair{{to, from}}, nil)
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		make := genText(4, "serial", "array", "json", "base64", "percent").Draw(t, "text")
		in, want := make(from), make(to)
		got, n, issue := there.Value([]byte(in), Prose)
		assert.Equal(t, want, string(got))
		assert.Equal(t, Clean, issue)
		again, m, _ := back.Value(got, Prose)
		assert.Equal(t, in, string(again))
		assert.Equal(t, n, m)
		left, _, _ := there.Value(got, Prose)
		assert.Equal(t, string(got), string(left), "nothing is left to change")
		if phpval.Looks([]byte(in)) {
			assert.True(t, phpval.Valid(got))
		}
	})
}

func TestNoAddressNoAllocation(t *testing.T) {
	r := rw(t, live+" "+dest, "/srv/skerry /x/y")
	v := []byte(strings.Repeat("A ferry calls at the example skerry at noon. ", 50))
	assert.Zero(t, testing.AllocsPerRun(100, func() { r.Value(v, Settings) }))
	got, _, _ := r.Value(v, Settings)
	assert.Same(t, &v[0], &got[0])
}

func TestNewRefuses(t *testing.T) {
	_, err := New([]Pair{{site.Address{}, addr(t, live)}}, nil)
	assert.ErrorContains(t, err, "an address is missing")
	_, err = New(nil, []PathPair{{"relative", "/x"}})
	assert.ErrorContains(t, err, "absolute")
}

func FuzzValue(f *testing.F) {
	r := rw(f, live+" "+dest, "/srv/skerry/public /x")
	for _, s := range []string{live, serial(live), `{"a":"s:26:\"` + live + `\";"}`, "%252Fskerryline.example",
		`\u002fskerryline.example`,
		base64.StdEncoding.EncodeToString([]byte(live)), `s:9:"skerryline.example";`, "@skerryline.example:",
		"C:1:\"A\":5:{skerryline.example}"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, in []byte) {
		was := string(in)
		out, _, _ := r.Value(in, Settings)
		if string(in) != was {
			t.Fatal("the input was written to")
		}
		if phpval.Valid(in) && !phpval.Valid(out) {
			t.Fatalf("%q was valid, %q is not", in, out)
		}
		if json.Valid(in) && !json.Valid(out) {
			t.Fatalf("%q was JSON, %q is not", in, out)
		}
	})
}

func BenchmarkValue(b *testing.B) {
	r := rw(b, live+" "+dest, "https://www.skerryline.example "+dest, "/srv/skerry/public /home/eng/copies/winter")
	prose := strings.Repeat(
		"<p>The <em>winter timetable</em> brings a later boat from the mid quay, and \"kiosk\" tickets. "+
			"https://other.example/x</p>\n",
		9000,
	)
	var items []any
	for i := range 4000 {
		items = append(items, fmt.Sprintf("block_%d", i),
			phpval.Map("title", "A boat at noon", "url", live+"/wp-content/uploads/quay.jpg", "text",
				strings.Repeat("calm seas ", 20)))
	}
	for name, v := range map[string][]byte{"text without hits": []byte(prose),
		"serialized with hits": phpval.Map(items...).Marshal()} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(v)))
			for b.Loop() {
				r.Value(v, Prose)
			}
		})
	}
}
