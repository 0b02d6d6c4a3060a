package ballast_test

import (
	"bytes"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/ballast"
)

func TestCountsAreRead(t *testing.T) {
	got, err := ballast.Parse([]string{"posts=10", "media=0", "terms=3"})
	require.NoError(t, err)
	assert.Equal(t, map[string]int{"posts": 10, "media": 0, "terms": 3}, got)
	for text, want := range map[string]string{"posts": "write a kind and a number",
		"posts=x": "write a kind and a number", "posts=-1": "write a kind and a number",
		"boats=1": "is no kind of ballast", "posts=5001": "at most 5000"} {
		_, err := ballast.Parse([]string{text})
		assert.ErrorContains(t, err, want, text)
	}
}

func TestBallastIsSaidInWords(t *testing.T) {
	assert.Equal(t, "3 terms, 1 user, 2 media, 10 posts of ballast",
		ballast.Load{Counts: map[string]int{"posts": 10, "terms": 3, "users": 1, "media": 2, "pages": 0}}.Words())
	assert.Equal(t, "no ballast", ballast.Load{Remove: true, Counts: map[string]int{"posts": 1}}.Words())
}

// The same seed makes the same up, another one something else; and no two items of
// one load are called the same.
func TestSeedsDecide(t *testing.T) {
	make := func(l ballast.Load, kind string, n int) string {
		r := l.Rand(kind, n)
		return ballast.Title(r) + ballast.Text(r, 3) + ballast.Person(r)
	}
	rapid.Check(t, func(t *rapid.T) {
		l := ballast.Load{Seed: rapid.Uint64Range(0, 1<<40).Draw(t, "seed")}
		kind := rapid.SampledFrom(ballast.Kinds).Draw(t, "kind")
		n := rapid.IntRange(0, ballast.Most).Draw(t, "n")
		assert.Equal(t, make(l, kind, n), make(l, kind, n))
		assert.NotEqual(t, make(l, kind, n), make(ballast.Load{Seed: l.Seed + 1}, kind, n))
		assert.True(t, strings.HasPrefix(l.ID(kind, n), ballast.Mark))
		assert.True(t, strings.HasPrefix(l.Slug(kind, n), ballast.Prefix))
		assert.LessOrEqual(t, len(l.Slug(kind, n)), 60, "an account's name holds it")
	})
	seen := map[string]bool{}
	for _, seed := range []uint64{1, 2, 11} {
		for _, kind := range ballast.Kinds {
			for n := range 12 {
				l := ballast.Load{Seed: seed}
				for _, name := range []string{l.ID(kind, n), l.Slug(kind, n)} {
					assert.False(t, seen[name], name)
					seen[name] = true
				}
			}
		}
	}
}

func TestPicturesArePictures(t *testing.T) {
	l := ballast.Load{Seed: 3}
	first := ballast.Picture(l.Rand("media", 0))
	m, err := png.Decode(bytes.NewReader(first))
	require.NoError(t, err)
	assert.Equal(t, 320, m.Bounds().Dx())
	assert.Less(t, len(first), 20_000)
	assert.Equal(t, first, ballast.Picture(l.Rand("media", 0)))
	assert.NotEqual(t, first, ballast.Picture(l.Rand("media", 1)))
}

func TestTextIsHTML(t *testing.T) {
	text := ballast.Text(ballast.Load{Seed: 1}.Rand("posts", 0), 4)
	assert.Equal(t, 4, strings.Count(text, "<p>"))
	assert.Equal(t, 4, strings.Count(text, "</p>"))
	assert.NotContains(t, text, "<p></p>")
}
