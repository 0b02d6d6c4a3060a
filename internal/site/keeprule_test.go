package site

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestKeepRule(t *testing.T) {
	r, err := ParseKeepRule("3 hourly,  2 daily, 2 monthly")
	require.NoError(t, err)
	assert.Equal(t, "3 hourly, 2 daily, 2 monthly", r.String())
	for _, bad := range []string{"", "often", "3", "3 yearly", "-1 daily", "0 daily", "daily 3", "99999999 daily"} {
		_, err := ParseKeepRule(bad)
		assert.Error(t, err, bad)
	}
	at := func(s string) time.Time {
		x, err := time.Parse("2006-01-02 15:04", s)
		require.NoError(t, err)
		return x
	}
	list := []string{
		"2026-11-20 12:40",
		"2026-11-20 12:10",
		"2026-11-20 11:50",
		"2026-11-20 10:50",
		"2026-11-20 09:00",
		"2026-11-19 23:00",
		"2026-11-19 22:00",
		"2026-11-18 23:00",
		"2026-10-31 12:00",
		"2026-10-01 12:00",
		"2026-09-01 12:00",
	}
	want := map[string]bool{
		"2026-11-20 12:40": true,
		"2026-11-20 11:50": true,
		"2026-11-20 10:50": true,
		"2026-11-19 23:00": true,
		"2026-10-31 12:00": true,
	}
	var times []time.Time
	for _, s := range list {
		times = append(times, at(s))
	}
	for i, keep := range r.Keeps(times) {
		assert.Equal(t, want[list[i]], keep, list[i])
	}
	assert.Equal(t, []bool{true, false}, KeepRule{}.Keeps(times[:2]), "the newest stays")
	assert.True(t, r.Due(time.Time{}, at("2026-11-20 12:00")))
	assert.False(t, r.Due(at("2026-11-20 12:01"), at("2026-11-20 12:59")))
	assert.True(t, r.Due(at("2026-11-20 12:59"), at("2026-11-20 13:00")))
	assert.False(t, r.Due(at("2026-11-20 13:00"), at("2026-11-20 12:00")), "the clock went back")
	assert.True(t, KeepRule{Weekly: 1}.Due(at("2026-11-15 12:00"), at("2026-11-16 00:00")))
	assert.False(t, KeepRule{}.Due(time.Time{}, at("2026-11-20 12:00")))
}
