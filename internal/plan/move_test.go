package plan

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"alibi/internal/site"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// states are those of the gates, in order.
func states(m Move) (out string) {
	for _, l := range m.Legs(noon) {
		out += string(l.State[0])
	}
	return out
}

func TestGatesOpenOneAfterTheOther(t *testing.T) {
	m := Move{Name: "tickets-to-drydock", From: Stand{Host: "pier", Root: "/srv"},
		To:    Stand{Host: "drydock", Root: "/var"},
		Names: &Names{Short: time.Minute, Old: []site.RecordSet{{Name: "tickets", Type: "A", TTL: time.Hour}}}}
	assert.Equal(t, "ossssss", states(m))
	m.Names.Old = nil
	assert.Equal(t, "osspsss", states(m), "a gate that nothing has to be done for opens no other one")
	m.Names.Old = []site.RecordSet{{Name: "tickets", Type: "A", TTL: time.Hour}}
	m.Survey = &Survey{Findings: []site.Finding{{Severity: site.Block, Text: "no room"}}}
	assert.Equal(t, "ossssss", states(m), "an obstacle keeps it shut")
	m.Survey = &Survey{}
	assert.Equal(t, "posssss", states(m))
	m.Passes = []Carried{{Took: 3 * time.Second}}
	assert.Equal(t, "ppossss", states(m))
	m.Check = &Check{Findings: []site.Finding{{Severity: site.Block, Text: "a page fails"}}}
	l, more := m.Next(noon)
	assert.True(t, more)
	assert.Equal(t, LegCheck, l.Name)
	assert.Contains(t, l.Why, "a page fails")
	m.Check = &Check{Holds: true}
	assert.Equal(t, "ppposss", states(m))
	m.Names.Lowered, m.Names.Until = noon, noon.Add(m.Names.Longest())
	l, _ = m.Next(noon)
	assert.Equal(t, Shut, l.State)
	assert.Contains(t, l.Why, "60 min", "until others have forgotten former answers")
	m.Names.Until = noon
	assert.Equal(t, "pppposs", states(m))
	assert.Equal(t, 5*time.Second, m.WillHold())
	m.Moved, m.Switches = true, []Switched{{At: noon, Held: 2 * time.Second}}
	assert.Equal(t, "pppppos", states(m))
	assert.Equal(t, "drydock", m.Here().Host)
	assert.Contains(t, m.WayBack(), "names back to pier")
	m.Watch = &Watch{Answers: []Answer{{New: false}}}
	assert.Equal(t, "pppppos", states(m))
	m.Watch = &Watch{Done: true, Answers: []Answer{{New: true}}}
	assert.Equal(t, "ppppppo", states(m))
	m.Watch.Answers = nil
	assert.Contains(t, m.Legs(noon)[5].Why, "see yourself", "nobody was asked")
	m.Cleared = noon
	assert.Equal(t, "ppppppp", states(m))
	assert.Contains(t, m.WayBack(), "there is none")
	assert.NotEmpty(t, m.Report(site.Site{Name: "tickets"}, noon))
}

func TestNamesThereAndBack(t *testing.T) {
	n := Names{Short: time.Minute,
		Old: []site.RecordSet{{Name: "t", Type: "A", TTL: time.Hour, Values: []string{"192.0.2.1"}},
			{Name: "t", Type: "AAAA", TTL: time.Hour, Values: []string{"2001:db8::1"}}},
		New: []site.RecordSet{{Name: "t", Type: "A", TTL: time.Hour, Values: []string{"192.0.2.2"}}}}
	was, want := n.To(true)
	assert.Len(t, was, 2)
	assert.Equal(t, []string{"192.0.2.2"}, want[0].Values)
	assert.Equal(t, time.Minute, want[0].TTL)
	assert.Equal(t, site.RecordSet{Name: "t", Type: "AAAA"}, want[1], "the new place has none of that kind")
	back, old := n.To(false)
	assert.Equal(t, want, back)
	assert.Equal(t, was, old)
	_, after := n.Lengthened()
	assert.Equal(t, time.Hour, after[0].TTL)
	_, lower := n.Lowering()
	assert.Equal(t, time.Minute, lower[1].TTL)
}
