package site

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestTargetsAreReadOrRefused(t *testing.T) {
	for text, want := range map[string][]string{
		"api.example":          {"api.example:443", "api.example:80"},
		"API.Example:8443":     {"api.example:8443"},
		" *.pay.example:443 ":  {"*.pay.example:443"},
		"192.0.2.7:25":         {"192.0.2.7:25"},
		"[2001:db8::7]:443":    {"[2001:db8::7]:443"},
		"2001:db8::7":          {"[2001:db8::7]:443", "[2001:db8::7]:80"},
		"hooks_1.example:1":    {"hooks_1.example:1"},
		"api.example:65535":    {"api.example:65535"},
		"xn--bcher-kva.ex:443": {"xn--bcher-kva.ex:443"},
	} {
		got, err := Targets(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "*", "*:443", "a b:443", "api.example:0", "api.example:70000", "api.example:x",
		"https://api.example", "api.example/path", "-x:443", "a'b:443", "*.*.example:443"} {
		_, err := Targets(text)
		assert.ErrorIs(t, err, ErrNoTarget, text)
	}
}

func TestWhatACopyMayReach(t *testing.T) {
	hour := time.Now().Add(time.Hour)
	s := Site{Allow: []string{"hooks.example", "an old one/"}, Passes: []Pass{{To: "*.pay.example:8443", Until: hour}}}
	assert.Equal(t, []Pass{{To: "hooks.example:443"}, {To: "hooks.example:80"},
		{To: "*.pay.example:8443", Until: hour}},
		s.Allowed())
	assert.Equal(t, []string{"hooks.example", "pay.example"}, s.AllowedHosts())
}
