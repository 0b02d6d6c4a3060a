package site

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestKindsOfContentAreRead(t *testing.T) {
	got, err := ParseKinds([]string{" Posts", "media", "posts"})
	require.NoError(t, err)
	assert.Equal(t, []Kind{Posts, Media}, got)
	_, err = ParseKinds([]string{"boats"})
	assert.ErrorContains(t, err, `"boats" is no kind of content: posts, pages, media`)
	for _, k := range Kinds {
		assert.NotEmpty(t, k.Explain(), k)
	}
	f := &Facts{Kinds: []Count{{Kind: "posts", N: 3}, {Kind: "posts", N: 4}, {Kind: "pages", N: 1}}}
	assert.Equal(t, 7, f.Has(Posts))
	assert.Zero(t, f.Has(Orders))
}

func TestWhereTablesAre(t *testing.T) {
	origin := Database{Engine: "mysql", Server: "localhost", Name: "ferry", Prefix: "sk_"}
	beside := origin
	beside.Prefix, beside.As = "cp_", "sk_"
	assert.True(t, beside.Beside())
	assert.False(t, origin.Beside())
	assert.Equal(t, "sk_", origin.From(beside).As, "of a database that both share only what is the origin's is seen")
	assert.Empty(t, origin.From(origin).As)
	assert.Equal(t, "ferry on localhost", origin.Text())
	assert.Equal(t, "/srv/x.sqlite", Database{Engine: "sqlite", Path: "/srv/x.sqlite"}.Text())
	assert.Equal(t, "no database", Database{}.Text())
}

func TestHowALeaseStandsInWords(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	running := Lease{Ends: now.Add(72 * time.Hour), Length: 72 * time.Hour, Grace: 48 * time.Hour}
	over := Lease{Ends: now.Add(-time.Hour), Noticed: now.Add(-time.Hour), Grace: 48 * time.Hour}
	for want, s := range map[string]Site{
		"being made":            {State: Making, Lease: running},
		"not whole":             {State: Failed, Lease: running},
		"expired, gone in 47 h": {State: Expired, Lease: over},
		"over":                  {State: Ready, Lease: over},
		"ends in 3 d":           {State: Ready, Lease: running},
		"held: for the course":  {State: Ready, Lease: Lease{Held: true, Reason: "for the course"}},
		"":                      {State: Ready},
	} {
		assert.Equal(t, want, s.LeaseText(now))
	}
	held, err := BeginOrHold(now, 0, time.Hour, "for the course", "runa")
	require.NoError(t, err)
	assert.Equal(t, Held, held.Phase(now))
	_, err = BeginOrHold(now, 0, time.Hour, " ", "runa")
	assert.ErrorIs(t, err, ErrNoReason)
	began, err := BeginOrHold(now, time.Hour, time.Hour, "", "runa")
	require.NoError(t, err)
	assert.Equal(t, now.Add(time.Hour), began.Ends)
	longer := over.Extend(now, 6*time.Hour)
	assert.Equal(t, now.Add(6*time.Hour), longer.Ends, "what is over already goes on from now")
	assert.Equal(t, running.Ends.Add(6*time.Hour), running.Extend(now, 6*time.Hour).Ends)
}

func TestWhoseAccountsACopyHas(t *testing.T) {
	assert.Equal(t, "the origin's, with their passwords", Site{Origin: "o"}.AccountsText())
	assert.Equal(t, "its own", Site{}.AccountsText(), "a blank site's")
	assert.Equal(t, "the origin's administrators and authors, with their passwords",
		Site{Origin: "o", Only: []Kind{Posts}}.AccountsText())
	assert.Contains(t, Site{Scrubbed: true}.AccountsText(), "no password signs in")
}

func TestWhatIsToBeDoneFirst(t *testing.T) {
	for state, want := range map[State][2]string{
		Making:  {"winter is being made", "alibi runs cancel r1"},
		Failed:  {"run r1, which makes winter, failed", "alibi runs r1 says why"},
		Parked:  {"winter is parked", "alibi lift winter"},
		Expired: {"winter is expired", "alibi bring-back winter"},
		Gone:    {"winter is gone", "alibi points winter"},
	} {
		why, first := Site{Name: "winter", State: state, Run: "r1"}.Unready()
		assert.Equal(t, want[0], why)
		assert.Contains(t, first, want[1])
	}
	why, first := Site{Name: "winter", State: Ready}.Unready()
	assert.Empty(t, why+first)
}

func TestWhatVisitorsRead(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range []FrontKind{FrontParked, FrontHidden, FrontMaintenance} {
		f := Front{Kind: k}
		assert.False(t, seen[f.Heading()+f.Sentence()], k)
		seen[f.Heading()+f.Sentence()] = true
		assert.Equal(t, "back at noon", Front{Kind: k, Text: "back at noon"}.Sentence())
	}
}

func TestWhatASiteWeighsAndIsKnownBy(t *testing.T) {
	assert.Zero(t, Site{}.Bytes())
	assert.Equal(t, int64(7), Site{Facts: &Facts{Bytes: 4, TableBytes: 3}}.Bytes())
	a, b := Site{Name: "winter"}, Site{Name: "winter", ID: "other"}
	assert.Equal(t, a.Mark(), b.Mark(), "the mark is its name's")
	ids := map[ID]bool{}
	for range 1000 {
		id := NewID()
		assert.False(t, ids[id])
		ids[id] = true
	}
}
