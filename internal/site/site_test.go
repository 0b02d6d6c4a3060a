package site

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestParseAddress(t *testing.T) {
	for in, want := range map[string]string{
		"skerryline.example":                "https://skerryline.example",
		"  https://Skerryline.Example/ ":    "https://skerryline.example",
		"http://skerryline.example:80/":     "http://skerryline.example",
		"https://skerryline.example:443":    "https://skerryline.example",
		"http://skerryline.example:8080/a/": "http://skerryline.example:8080/a",
		"//skerryline.example/islands":      "https://skerryline.example/islands",
		"https://skerryline.example./x/y//": "https://skerryline.example/x/y",
		"http://127.0.0.1:7700":             "http://127.0.0.1:7700",
		"http://[::1]:7700/":                "http://[::1]:7700",
		"https://fähre.example":             "https://xn--fhre-loa.example",
		"winter-timetable.localhost:7700":   "https://winter-timetable.localhost:7700",
	} {
		a, err := ParseAddress(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, a.String(), in)
	}
}

func TestParseAddressSaysWhatIsWrong(t *testing.T) {
	for in, want := range map[string]string{
		"":                                  "it is empty",
		"skerry line.example":               "it has a blank in it; try skerryline.example",
		"ftp://skerryline.example":          "http or https, not ftp; try https://skerryline.example",
		"https://ada:pw@skerryline.example": "it holds a user name; try https://skerryline.example",
		"https://skerryline.example/?p=1":   "it goes on after the path",
		"https://skerryline.example:99999":  "the port must be a number from 1 to 65535",
		"https://":                          "the host name is missing",
		"https://a..example":                "empty or too long part",
		"https://skerryline.example/a//b":   "empty or .. part",
		"https://skerryline.example:port":   "it can't be read",
	} {
		_, err := ParseAddress(in)
		require.Error(t, err, in)
		assert.ErrorContains(t, err, want, in)
		assert.NotContains(t, err.Error(), "pw@skerryline.example; try", "no secret is proposed")
	}
}

func TestAddressAsText(t *testing.T) {
	a, err := ParseAddress("https://www.skerryline.example/x")
	require.NoError(t, err)
	b, err := json.Marshal(a)
	require.NoError(t, err)
	var back Address
	require.NoError(t, json.Unmarshal(b, &back))
	assert.Equal(t, a, back)
	assert.Equal(t, "skerryline.example", a.Sibling().Host)
	assert.Equal(t, a.Host, a.Sibling().Sibling().Host)
	assert.Equal(t, "www.skerryline.example/x", a.Short())
	var none Address
	require.NoError(t, json.Unmarshal([]byte(`""`), &none))
	assert.True(t, none.IsZero())
}

func TestCheckName(t *testing.T) {
	taken := func(n string) bool { return n == "winter" }
	assert.NoError(t, CheckName("winter-2028", taken))
	for name, want := range map[string]string{
		"":                      "needs a name",
		"Winter Timetable":      "try \"winter-timetable\"",
		"winter":                "is in use; try \"winter-2\"",
		strings.Repeat("a", 51): "has 51 characters",
		"-x":                    "try \"x\"",
		"ä":                     "try \"site\"",
		"a.b":                   "try \"a-b\"",
	} {
		assert.ErrorContains(t, CheckName(name, taken), want, name)
	}
}

func TestSlugIsAlwaysAName(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := Slug(rapid.String().Draw(t, "text"))
		assert.NoError(t, CheckName(s, nil))
		n := 0
		free := FreeName(s, func(string) bool { n++; return n < 12 })
		assert.NoError(t, CheckName(free, nil))
	})
}

func TestDeriveName(t *testing.T) {
	live := Site{
		Role:      Live,
		Name:      "skerryline.example",
		Addresses: []Address{{Scheme: "https", Host: "www.skerryline.example"}},
	}
	free := func(string) bool { return false }
	assert.Equal(t, "skerryline-copy", DeriveName(live, "", free))
	assert.Equal(t, "winter-timetable-layout", DeriveName(live, "Winter timetable layout for 2028", free))
	assert.Equal(t, "skerryline-copy-2", DeriveName(live, "", func(n string) bool { return n == "skerryline-copy" }))
	assert.Equal(t, "trial-copy", DeriveName(Site{Role: Copy, Name: "trial-copy"}, "", free))
}

func TestLeasePhases(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	l := Begin(now, 72*time.Hour, 48*time.Hour)
	assert.Equal(t, Running, l.Phase(now))
	assert.Equal(t, Ending, l.Phase(now.Add(61*time.Hour)))
	assert.Equal(t, Over, l.Phase(now.Add(72*time.Hour)))
	assert.Equal(t, Over, l.Phase(now.Add(1000*time.Hour)), "the grace begins when the end is noticed, not before")
	l.Noticed = now.Add(1000 * time.Hour)
	assert.Equal(t, Over, l.Phase(now.Add(1047*time.Hour)))
	assert.Equal(t, Done, l.Phase(now.Add(1048*time.Hour)))
	assert.Equal(t, Over, l.Phase(now.Add(80*time.Hour)), "a clock set back ends no grace")
	assert.Equal(t, NoLease, Lease{}.Phase(now))
	held, err := l.Hold("sign-off", "runa")
	require.NoError(t, err)
	assert.Equal(t, Held, held.Phase(now.Add(9000*time.Hour)))
	_, err = l.Hold("  ", "runa")
	assert.ErrorIs(t, err, ErrNoReason)
	assert.Equal(t, []string{"none", "held", "running", "ending", "over", "done"},
		[]string{NoLease.String(), Held.String(), Running.String(), Ending.String(), Over.String(), Done.String()})
}

func TestExtend(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	l := Begin(now, 72*time.Hour, time.Hour)
	assert.Equal(t, now.Add(96*time.Hour), l.Extend(now, 24*time.Hour).Ends)
	late := now.Add(100 * time.Hour)
	e := l.Extend(late, 24*time.Hour)
	assert.Equal(t, late.Add(24*time.Hour), e.Ends, "from now, if it was over")
	held, _ := l.Hold("x", "y")
	assert.False(t, held.Extend(now, time.Hour).Held, "more time gives a held copy an end again")
}

func TestParseSpan(t *testing.T) {
	for in, want := range map[string]time.Duration{"90m": 90 * time.Minute, "6h": 6 * time.Hour, "3d": 72 * time.Hour,
		"2w": 336 * time.Hour, "3 days": 72 * time.Hour, " 1D ": 24 * time.Hour} {
		d, err := ParseSpan(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, d, in)
	}
	for _, in := range []string{"", "3", "d", "-3d", "3y", "0h", "99999999999999d", "500d", "3d4h"} {
		_, err := ParseSpan(in)
		assert.Error(t, err, in)
	}
}

func TestQuotaNamesTheTightest(t *testing.T) {
	q := Quota{Copies: 4, Bytes: 1 << 30, PerSite: 2}
	assert.Nil(t, q.Check(Use{Copies: 3, Bytes: 100, OfOrigin: 1}, "slipway", 1000))
	assert.Contains(t, q.Check(Use{Copies: 4, OfOrigin: 2}, "slipway", 0).Text, "this site has 2 of 2")
	assert.Contains(t, q.Check(Use{Copies: 4}, "slipway", 0).Text, "4 of 4 copies")
	f := q.Check(Use{Bytes: 1 << 29}, "slipway", 1<<30)
	assert.Contains(t, f.Text, "1.5 GiB of 1.0 GiB")
	assert.Equal(t, Block, f.Severity)
	assert.Nil(t, Quota{}.Check(Use{Copies: 1 << 20, Bytes: 1 << 60}, "slipway", 1<<60), "0 is no bound")
}

func TestQuotasOfHostsAndOfTheDepot(t *testing.T) {
	q := Quota{
		Copies:        9,
		Hosts:         map[string]Bound{"pier": {Copies: 1, Bytes: 1 << 20}},
		Points:        5,
		PointsPerSite: 2,
		Depot:         1 << 30,
	}
	u := Use{Copies: 2, Hosts: map[string]Bound{"pier": {Copies: 1, Bytes: 100}}}
	assert.Contains(t, q.Check(u, "pier", 0).Text, "1 of 1 copies allowed on pier")
	assert.Nil(t, q.Check(u, "slipway", 0))
	u.Hosts["pier"] = Bound{}
	assert.Contains(t, q.Check(u, "pier", 2<<20).Text, "on pier would take 2.0 MiB of 1.0 MiB")
	assert.Nil(t, q.CheckPoint(DepotUse{Points: 4, OfSite: 1, Bytes: 5}))
	assert.Contains(t, q.CheckPoint(DepotUse{Points: 5, OfSite: 2, Bytes: 1 << 40}).Text, "this site has 2 of 2")
	assert.Contains(t, q.CheckPoint(DepotUse{Points: 5, Bytes: 1 << 40}).Text, "5 of 5 restore points")
	assert.Contains(t, q.CheckPoint(DepotUse{Bytes: 1 << 30}).Text, "the depot has 1.0 GiB of 1.0 GiB")
	assert.Nil(t, Quota{}.CheckPoint(DepotUse{Points: 1 << 20}))
}

func TestSizesAsPeopleWriteThem(t *testing.T) {
	for in, want := range map[string]int64{"": 0, "500K": 500 << 10, "10M": 10 << 20, "1G": 1 << 30, "500MB": 500e6,
		"2 GiB": 2 << 30, "64k": 64 << 10, "7": 7, "7B": 7} {
		got, err := ParseSize(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got, in)
	}
	for _, in := range []string{"M", "-1M", "0", "1.5G", "10 boats", "99999999999T", "1GG"} {
		_, err := ParseSize(in)
		assert.Error(t, err, in)
	}
}

func TestFrontsSpeakToVisitors(t *testing.T) {
	assert.Equal(t, "This site is off the air", Front{Kind: FrontParked}.Heading())
	assert.Equal(t, "until Friday", Front{Kind: FrontParked, Text: "until Friday"}.Sentence())
	assert.Contains(t, Front{Kind: FrontMaintenance}.Sentence(), "a few minutes")
}

func TestWords(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 10 << 10: "10 KiB",
		999 << 10: "999 KiB", 1000 << 10: "1.0 MiB", 5 << 30: "5.0 GiB", 3 << 50: "3072 TiB"} {
		assert.Equal(t, want, Size(n))
	}
	for d, want := range map[time.Duration]string{30 * time.Second: "30 s", 90 * time.Minute: "90 min",
		9 * time.Hour: "9 h", 5 * 24 * time.Hour: "5 d", -2 * time.Hour: "2 h"} {
		assert.Equal(t, want, Span(d))
	}
	assert.Equal(t, "just now", Ago(3*time.Second))
	assert.Equal(t, "2 h ago", Ago(2*time.Hour))
	assert.Equal(
		t,
		[]string{"40 ms", "1.5 s", "42 s", "10 min"},
		[]string{
			Seconds(40 * time.Millisecond),
			Seconds(1500 * time.Millisecond),
			Seconds(42 * time.Second),
			Seconds(10 * time.Minute),
		},
	)
	assert.Equal(t, []string{"0", "999", "1,000", "31,204", "1,000,000", "-1,234"},
		[]string{Number(0), Number(999), Number(1000), Number(31204), Number(1000000), Number(-1234)})
}

func TestSiteTexts(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	s := Site{Role: Copy, State: Ready, Lease: Begin(now, 72*time.Hour, 48*time.Hour)}
	assert.Equal(t, "not inspected", s.Runs())
	s.Facts = &Facts{Core: "6.1", PHP: "8.2"}
	assert.Equal(t, "core 6.1, php 8.2", s.Runs())
	assert.Equal(t, "files only", Site{Facts: &Facts{}}.Runs())
	assert.Equal(t, "no count", s.ApartText())
	s.Apart = Apart{At: now}
	assert.Equal(t, "same", s.ApartText())
	s.Apart = Apart{At: now, Copy: 3, Origin: 1}
	assert.Equal(t, "+3 -1", s.ApartText())
	s.Apart.Clashes = 1
	assert.Equal(t, "+3 -1 !1", s.ApartText())
	assert.Equal(t, "ends in 3 d", s.LeaseText(now))
	s.State, s.Lease.Noticed = Expired, now
	assert.Equal(t, "expired, gone in 48 h", s.LeaseText(now.Add(time.Minute)))
	assert.Equal(t, "none", s.ProofText())
	s.Proof = Proof{Holds: true, At: now}
	assert.Equal(t, "holds", s.ProofText())
	s.Proof = Proof{At: now, Checks: 9, Broken: 2}
	assert.Equal(t, "2 of 9 broken", s.ProofText())
	for _, r := range QuietRules {
		assert.NotEmpty(t, r.Explain())
	}
}

func TestMarksAreSteadyAndDiffer(t *testing.T) {
	seen := map[Mark]int{}
	for _, n := range strings.Fields("skerryline tickets crew islands status winter-prices timetable-2028 " +
		"harbour-redesign logbook-archive island-menus") {
		m := MarkOf(n)
		assert.Equal(t, m, MarkOf(n))
		seen[m]++
		assert.Len(t, []rune(m.Figure()), 2)
		assert.Len(t, m.ASCII(), 2)
		assert.NotContains(t, m.ASCII(), " ")
	}
	assert.Greater(t, len(seen), 8, "marks of a handful of sites are nearly all different")
}

func TestSeverityAsText(t *testing.T) {
	for _, s := range []Severity{Note, Warn, Block} {
		b, err := json.Marshal(s)
		require.NoError(t, err)
		var back Severity
		require.NoError(t, json.Unmarshal(b, &back))
		assert.Equal(t, s, back)
	}
}
