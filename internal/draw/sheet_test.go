package draw

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestASheetIsWritten(t *testing.T) {
	long := strings.Repeat("deck two ", 30)
	s := Sheet{Title: "tickets-to-drydock", Lines: [][2]string{{"from", "/srv/tickets on <pier>"}, {"", long}, {}}}
	svg, err := s.As("svg")
	require.NoError(t, err)
	text := wellFormed(t, svg)
	assert.Contains(t, text, "/srv/tickets on <pier>")
	assert.Equal(t, 30, strings.Count(text, "deck"), "nothing of a long text is lost")
	assert.Len(t, s.folded(), 5)
	pdf, err := s.As("pdf")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(pdf), "%PDF-"))
}
