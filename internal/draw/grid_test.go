package draw

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAGridIsDrawn(t *testing.T) {
	g := Grid{
		Title: "What sites run", Columns: []string{"skerryline.example",
			"a-copy-with-a-name-that-is-longer-than-its-column"},
		Rows: []Row{
			{Name: "plugin <tide-table>", Cells: []Cell{{"2.4.1", Good}, {"3.0.0 & later", Bad}}},
			{Name: "theme harbour", Cells: []Cell{{"1.2", Mild}, {"never drawn", None}}},
		},
		Legend: []Cell{{"as its pin sheet says", Good}, {"not met", Bad}},
		Notes:  []string{"tide-table asks for PHP 8.2", strings.Repeat("a long note ", 40)},
	}
	svg, err := g.As("svg")
	require.NoError(t, err)
	text := wellFormed(t, svg)
	for _, want := range []string{"What sites run", "skerryline.example", "plugin <tide-table>", "3.0.0 & later",
		"as its pin sheet says", "tide-table asks for PHP 8.2"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "never drawn")
	assert.NotContains(t, text, "longer-than-its-column", "a long name is clipped")
	assert.NotContains(t, text, strings.Repeat("a long note ", 20))
	pdf, err := g.As("pdf")
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(pdf, []byte("%PDF-")))
	assert.True(t, bytes.Contains(pdf[len(pdf)-64:], []byte("%%EOF")), "the file is whole")
	_, err = g.As("png")
	assert.ErrorContains(t, err, ".svg or .pdf")
	empty, err := Grid{Title: "nothing"}.As("svg")
	require.NoError(t, err)
	assert.Contains(t, wellFormed(t, empty), "nothing")

	same, err := g.As("svg")
	require.NoError(t, err)
	assert.Equal(t, svg, same, "a grid is drawn the same each time")
	g.Rows = append(g.Rows, make([]Row, 60)...)
	tall, err := g.As("svg")
	require.NoError(t, err)
	assert.NotEqual(t, height(t, svg), height(t, tall), "further rows make it taller")
}

func height(t *testing.T, svg []byte) string {
	t.Helper()
	_, rest, ok := bytes.Cut(svg, []byte(`height="`))
	require.True(t, ok)
	h, _, _ := bytes.Cut(rest, []byte(`"`))
	return string(h)
}

func TestTextsAreClippedByLetters(t *testing.T) {
	assert.Equal(t, "Fähre", clip("Fähre", 5))
	assert.Equal(t, "Fäh…", clip("Fährplan", 4))
	assert.Equal(t, "", clip("", 3))
}
