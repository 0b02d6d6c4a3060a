package plan

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/site"
)

func TestBlockedAndSort(t *testing.T) {
	p := Plan{Findings: []site.Finding{
		{Severity: site.Note, Code: "a"},
		{Severity: site.Warn, Code: "b"},
		{Severity: site.Note, Code: "c"},
	}}
	assert.False(t, p.Blocked())
	p.Findings = append(p.Findings, site.Finding{Severity: site.Block, Code: "d"})
	assert.True(t, p.Blocked())
	p.Sort()
	order := ""
	for _, f := range p.Findings {
		order += f.Code
	}
	assert.Equal(t, "dbac", order, "worst first, else as they were")
}

func TestProgress(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	p := Progress{Done: 500}
	assert.Zero(t, p.Took(now))
	assert.Zero(t, p.Rate(now))
	p.Began = now.Add(-100 * time.Millisecond)
	assert.Zero(t, p.Rate(now), "too early to tell a rate")
	p.Began = now.Add(-5 * time.Second)
	assert.InDelta(t, 100, p.Rate(now), 0.01)
	p.Ended = now.Add(-4 * time.Second)
	assert.Equal(t, time.Second, p.Took(now))
	assert.InDelta(t, 500, p.Rate(now), 0.01)
	r := Run{Began: now.Add(-time.Minute)}
	assert.Equal(t, time.Minute, r.Took(now))
}

func TestRunStates(t *testing.T) {
	over := map[RunState]bool{Waiting: false, Running: false, Done: true, Stopped: true, Cancelled: true}
	for s, want := range over {
		assert.Equal(t, want, s.Over(), s)
	}
}

func TestAPlanSurvivesJSON(t *testing.T) {
	a, err := site.ParseAddress("https://skerryline.example")
	require.NoError(t, err)
	p := Plan{
		Kind: Copy, At: time.Now().UTC().Round(0), Detail: json.RawMessage(`{"choices":{}}`),
		Origin:   site.Site{ID: "o", Addresses: []site.Address{a}},
		Steps:    []Step{{Name: "files", Title: "bring the files", Work: 5, Unit: Bytes}},
		Findings: []site.Finding{{Severity: site.Warn, Code: "x", Text: "t"}},
		Estimate: Estimate{Low: time.Second, High: time.Minute, Basis: "b"},
	}
	b, err := json.Marshal(p)
	require.NoError(t, err)
	var back Plan
	require.NoError(t, json.Unmarshal(b, &back))
	assert.Equal(t, p, back)
	assert.Contains(t, string(b), `"severity":"warning"`)
	assert.Contains(t, string(b), `"https://skerryline.example"`)
}
