package printable

import (
	"bytes"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const nasty = "tide\x1b]0;title\x07\x1b[2J\u009b31m\u202egnp.exe\u2066\u200f\x7f\xff\r\nnext\ttab é 船"

func TestNothingIsObeyed(t *testing.T) {
	assert.Equal(t, "tide?]0;title??[2J?31m?gnp.exe??????next?tab é 船", Line(nasty))
	var b bytes.Buffer
	w := NewWriter(&b)
	for i := range len(nasty) { // cut anywhere
		n, err := w.Write([]byte{nasty[i]})
		require.NoError(t, err)
		require.Equal(t, 1, n)
	}
	assert.Equal(t, "tide?]0;title??[2J?31m?gnp.exe?????\nnext\ttab é 船", b.String())
	assert.Equal(t, "\x1b[1mbold\x1b[0m ?\n", Frame("\x1b[1mbold\x1b[0m \u202e\n"))
}

func TestJSONKeepsItsValue(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.StringOf(rapid.RuneFrom([]rune("a\x1b\u009b\u202e\u2029\n\t\"\\é船\U0001f680"))).Draw(t, "s")
		b, err := json.Marshal(map[string]string{"v": s})
		require.NoError(t, err)
		safe := JSON(b)
		for _, r := range string(safe) {
			assert.False(t, obeyed(r), "%q", safe)
		}
		var back map[string]string
		require.NoError(t, json.Unmarshal(safe, &back))
		assert.Equal(t, s, back["v"])
	})
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, assert.AnError }

func TestAnErrorOfWritingIsTold(t *testing.T) {
	_, err := NewWriter(full{}).Write([]byte("x"))
	assert.ErrorIs(t, err, assert.AnError)
}
