package scrub_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/phpval"
	"alibi/internal/scrub"
	"alibi/internal/tables"
)

// people is a table of a shop that nobody knows.
var people = tables.Table{
	Name: "sk_crew",
	Columns: []tables.Column{
		{Name: "id"},
		{Name: "full_name"},
		{Name: "email"},
		{Name: "mobile_no"},
		{Name: "street"},
		{Name: "town"},
		{Name: "ip"},
		{Name: "cabin"},
	},
}

// prose is a table of texts.
var prose = tables.Table{Name: "sk_posts", Columns: []tables.Column{{Name: "id"}, {Name: "body"}}}

func rowOf(texts ...string) tables.Row {
	r := tables.Row{Values: []tables.Value{{Kind: tables.Int, Int: 1}}}
	for _, s := range texts {
		r.Values = append(r.Values, tables.Value{Kind: tables.Text, Bytes: []byte(s)})
	}
	return r
}

func mara() tables.Row {
	return rowOf("Mara Quillon", "Mara.Quillon@islands.example", "+44 555 0172 33", "12 Kelp Lane", "Northwick",
		"203.0.113.9", "7B")
}

func scrubber() *scrub.Scrubber {
	return scrub.New([]byte("a key"), scrub.Columns(map[string]scrub.Kind{"sk_crew.cabin": scrub.Blank}))
}

func TestOnePersonIsTheSameMadeUpPersonEverywhere(t *testing.T) {
	s := scrubber()
	s.Learn(people, mara())
	r := mara()
	assert.Equal(t, 7, s.Row(people, r))
	got := make([]string, len(r.Values))
	for i, v := range r.Values {
		got[i] = v.String()
	}
	assert.Regexp(t, `^[A-Z]\w+ [A-Z]\w+$`, got[1])
	assert.Regexp(t, `^\w+\.[0-9a-f]{8}@scrubbed\.example$`, got[2])
	assert.Regexp(t, `^\+999 `, got[3])
	assert.Regexp(t, `^\d+ \w+ Row$`, got[4])
	assert.Regexp(t, `^198\.1[89]\.`, got[6])
	assert.Empty(t, got[7])

	php := phpval.Map("who", "MARA QUILLON", "mail", "mara.quillon@islands.example").Marshal()
	js, _ := json.Marshal(map[string]string{"to": "Mara Quillon <Mara.Quillon@islands.example>",
		"from": "12 Kelp Lane/1"})
	for name, text := range map[string]string{
		"prose": "Ask Mara Quillon, 12 Kelp Lane (+44 555 0172 33), seen at 203.0.113.9.", "serialized": string(php),
		"json": string(js), "json in serialized": string(phpval.Map("j", string(js)).Marshal()),
		"base64": base64.StdEncoding.EncodeToString([]byte("Write to mara.quillon@islands.example soon")),
	} {
		r := rowOf(text)
		assert.NotEmpty(t, s.Look(prose, r), "%s: it is found before", name)
		assert.Equal(t, 1, s.Row(prose, r), name)
		out := r.Values[1].String()
		assert.Empty(t, s.Look(prose, r), "%s: %s", name, out)
		if strings.HasPrefix(name, "seri") {
			v, err := phpval.Parse([]byte(out))
			require.NoError(t, err)
			mail, _ := v.Get("mail")
			assert.Equal(t, got[2], mail.Str)
		}
		if name == "prose" {
			assert.Equal(t, fmt.Sprintf("Ask %s, %s (%s), seen at %s.", got[1], got[4], got[3], got[6]), out)
		}
		assert.Zero(t, s.Row(prose, r), "%s: what is made up stays", name)
	}
	assert.Zero(t, s.Row(people, r), "what is made up stays")
	assert.Equal(t, map[scrub.Kind]int{scrub.Name: 1, scrub.Email: 1, scrub.Phone: 1, scrub.Street: 1, scrub.IP: 1},
		s.Originals())

	again := scrubber()
	again.Learn(people, r)
	assert.Empty(t, again.Originals(), "made-up people are nobody's")
}

func TestWhatIsNobodysStays(t *testing.T) {
	s := scrubber()
	s.Learn(people, mara())
	for _, text := range []string{"Maranda Quillonsson lives at 112 Kelp Lane", "Quillon Mara", "1203.0.113.91",
		"nobody@ nowhere", "boats@", "a:1:{s:4:\"boat\";s:9:\"Northwick\";}"} {
		r := rowOf(text)
		assert.Zero(t, s.Row(prose, r), text)
		assert.Equal(t, text, r.Values[1].String())
		assert.Empty(t, s.Look(prose, r))
	}
	f := scrub.Faker{Key: []byte("k")}
	assert.Equal(t, "127.0.0.1", f.IP("127.0.0.1"))
	assert.Equal(t, "admin", f.Login("admin"))
	assert.Regexp(t, `^2001:db8::`, f.IP("2a00:1450::1"))
	assert.NotEqual(t, f.Login("runa"), scrub.Faker{Key: []byte("other")}.Login("runa"),
		"nobody can work it out without the key")
}

func TestMakingUpTwiceIsMakingUpOnce(t *testing.T) {
	f := scrub.Faker{Key: []byte("k")}
	rapid.Check(t, func(t *rapid.T) {
		v := rapid.String().Draw(t, "value")
		for name, make := range map[string]func(string) string{"name": f.Name, "mail": f.Email, "login": f.Login,
			"phone": f.Phone, "street": f.Street, "postcode": f.Postcode, "ip": f.IP} {
			once := make(v)
			assert.Equal(t, once, make(once), name)
		}
	})
}

// Whatever is in a serialized value, it is well formed after scrubbing.
func TestScrubbedValuesAreWellFormed(t *testing.T) {
	s := scrubber()
	s.Learn(people, mara())
	rapid.Check(t, func(t *rapid.T) {
		parts := rapid.SliceOfN(rapid.SampledFrom([]string{"Mara Quillon", "é", "mara.quillon@islands.example", " ",
			"x", "12 Kelp Lane", "\x00"}), 0, 8).Draw(t, "parts")
		text := strings.Join(parts, " ")
		inner := phpval.Map("a", text, "b", 3).Marshal()
		r := rowOf(string(phpval.Map("in", string(inner)).Marshal()))
		s.Row(prose, r)
		v, err := phpval.Parse(r.Values[1].Bytes)
		require.NoError(t, err)
		in, _ := v.Get("in")
		_, err = phpval.Parse([]byte(in.Str))
		require.NoError(t, err)
		assert.Empty(t, s.Look(prose, r))
	})
}

func BenchmarkTextWithoutPeople(b *testing.B) {
	s := scrubber()
	s.Learn(people, mara())
	r := rowOf(strings.Repeat("The ferry to Northwick leaves at high water, and the crew waits on the quay. ", 2000))
	b.SetBytes(int64(len(r.Values[1].Bytes)))
	for b.Loop() {
		s.Row(prose, r)
	}
}
