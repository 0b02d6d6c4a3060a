package needles

import (
	"bytes"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestNeedlesAreFoundWhereTheyStand(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[abc]{1,9}`)
		list := rapid.SliceOfN(word, 0, 6).Draw(t, "needles")
		text := []byte(rapid.StringMatching(`[abc]{0,60}`).Draw(t, "text"))
		want := slices.ContainsFunc(list, func(s string) bool { return bytes.Contains(text, []byte(s)) })
		assert.Equal(t, want, New(list).In(text), "%q in %q", list, text)
	})
	assert.False(t, New([]string{""}).In([]byte("text")), "nothing is looked for")
}

func BenchmarkNeedles(b *testing.B) {
	var list []string
	for i := range 9 {
		list = append(list, string(bytes.Repeat([]byte{byte('a' + i), '7', '!', 'x'}, 16)))
	}
	n := New(list)
	text := bytes.Repeat([]byte("<?php add_action( 'init', function () { return get_option( 'siteurl' ); } );\n"), 20_000)
	b.SetBytes(int64(len(text)))
	b.Run("together", func(b *testing.B) {
		b.SetBytes(int64(len(text)))
		for b.Loop() {
			n.In(text)
		}
	})
	b.Run("one after the other", func(b *testing.B) {
		b.SetBytes(int64(len(text)))
		for b.Loop() {
			_ = slices.ContainsFunc(n.list, func(s []byte) bool { return bytes.Contains(text, s) })
		}
	})
}
