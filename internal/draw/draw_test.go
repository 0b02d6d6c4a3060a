package draw

import (
	"encoding/xml"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// wellFormed reads an SVG to its end and gives its text.
func wellFormed(t *testing.T, svg []byte) string {
	t.Helper()
	dec := xml.NewDecoder(strings.NewReader(string(svg)))
	var text strings.Builder
	for {
		tok, err := dec.Token()
		if err == io.EOF {
			return text.String()
		}
		require.NoError(t, err)
		if c, ok := tok.(xml.CharData); ok {
			text.Write(c)
		}
	}
}

func TestTheDepotsSizeIsDrawn(t *testing.T) {
	day := 24 * time.Hour
	list := []Series{
		{Name: "skerryline.example", At: []time.Time{now.Add(-9 * day), now.Add(-3 * day)},
			Value: []float64{60 << 20, 64 << 20}},
		{Name: "<tickets>", At: []time.Time{now.Add(-2*day + 300*time.Millisecond)}, Value: []float64{30 << 20}},
	}
	d := Depot(list, now)
	svg, err := d.As("svg")
	require.NoError(t, err)
	text := wellFormed(t, svg)
	for _, want := range []string{"Size of the depot", "skerryline.example, 64 MiB", "<tickets>, 30 MiB", "0 B",
		"64 MiB"} {
		assert.Contains(t, text, want)
	}
	pdf, err := d.As("pdf")
	require.NoError(t, err)
	assert.Equal(t, "%PDF-", string(pdf[:5]))
	_, err = d.As("png")
	assert.ErrorContains(t, err, ".svg or .pdf")
	assert.Equal(t, 0.0, list[1].at(now.Add(-2*day)), "a size changes at its moment, not before")
	assert.Equal(t, float64(30<<20), list[1].at(now.Add(-2*day+time.Second)))
	times := moments(list, now)
	assert.True(t, times[len(times)-1].Equal(now))
	d = Depot(nil, now)
	_, err = d.As("svg")
	assert.NoError(t, err, "an empty depot is drawn too")
}

// How much differed goes in steps: to nothing where both sides had the same again.
func TestADriftIsDrawn(t *testing.T) {
	hour := time.Hour
	list := []Series{
		{Name: "on the copy", At: []time.Time{now.Add(-30 * hour), now.Add(-20 * hour), now.Add(-2 * hour)},
			Value: []float64{0, 40, 3}},
		{Name: "on live", At: []time.Time{now.Add(-30 * hour), now.Add(-20 * hour), now.Add(-2 * hour)},
			Value: []float64{0, 12, 1}}}
	svg, err := Drift("What differs", list, now).As("svg")
	require.NoError(t, err)
	text := wellFormed(t, svg)
	for _, want := range []string{"What differs", "on the copy, 3", "on live, 1", "60"} {
		assert.Contains(t, text, want)
	}
	for to, want := range map[float64][]string{3: {"0", "1", "2", "3"}, 65: {"0", "20", "40", "60"},
		400: {"0", "100", "200", "300", "400"}} {
		var got []string
		for _, x := range counts(to) {
			got = append(got, x.label)
		}
		assert.Equal(t, want, got)
	}
}

func TestLeasesAreDrawn(t *testing.T) {
	d := Leases([]Bar{{Name: "near", From: now.Add(-48 * time.Hour), To: now.Add(24 * time.Hour),
		Grace: now.Add(72 * time.Hour)}, {Name: "far", From: now.Add(-time.Hour), To: now, Grace: now.Add(time.Hour)}},
		now)
	svg, err := d.As("svg")
	require.NoError(t, err)
	text := wellFormed(t, svg)
	for _, want := range []string{"near", "far", "Leases, 23 November 2026", "can be brought back"} {
		assert.Contains(t, text, want)
	}
	d = Leases(nil, now)
	_, err = d.As("pdf")
	assert.NoError(t, err)
}

func TestTicksAreFewAndTelling(t *testing.T) {
	for _, span := range []time.Duration{time.Hour, 30 * time.Hour, 10 * 24 * time.Hour, 400 * 24 * time.Hour} {
		list := days(float64(now.Add(-span).Unix()), float64(now.Unix()))
		assert.LessOrEqual(t, len(list), 14, span)
		seen := map[string]bool{}
		for _, x := range list {
			assert.False(t, seen[x.label], "%s twice in %s", x.label, span)
			seen[x.label] = true
		}
	}
	for _, top := range []float64{0, 1, 1000, 5 << 30} {
		assert.LessOrEqual(t, len(sizes(top)), 14)
	}
}
