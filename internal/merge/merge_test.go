package merge

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestTwoVersionsOfATextAreMerged(t *testing.T) {
	base := "one\ntwo\nthree\nfour\nfive\n"
	for name, c := range map[string]struct {
		a, b, want string
		whole      bool
	}{
		"neither changed it": {base, base, base, true},
		"one did":            {base, "one\n2\nthree\nfour\nfive\n", "one\n2\nthree\nfour\nfive\n", true},
		"both, elsewhere": {"ONE\ntwo\nthree\nfour\nfive\n", "one\ntwo\nthree\nfour\nFIVE\nsix\n",
			"ONE\ntwo\nthree\nfour\nFIVE\nsix\n", true},
		"both, alike": {"one\n2\nthree\nfour\nfive\n", "one\n2\nthree\nfour\nfive\n", "one\n2\nthree\nfour\nfive\n",
			true},
		"one line goes": {"one\nthree\nfour\nfive\n", "one\ntwo\nthree\nfour\n5\n", "one\nthree\nfour\n5\n", true},
		"both, the same line": {"one\n2\nthree\nfour\nfive\n", "one\nzwei\nthree\nfour\nfive\n",
			"one\n2\nthree\nfour\nfive\n",
			false},
		"both add at one place": {base + "six\n", base + "seven\n", base + "six\n", false},
		"all of it goes":        {"", "one\ntwo\nthree\nfour\nfive\nsix\n", "", false},
	} {
		got, whole := Text(base, c.a, c.b)
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, c.whole, whole, name)
	}
}

// What one side alone changed is taken whole, changes of both that are apart come together, and the order of the
// sides does not matter.
func TestMergingLosesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		line := rapid.SampledFrom([]string{"a\n", "b\n", "c\n", "d\n", "e\n"})
		base := rapid.SliceOfN(line, 0, 12).Draw(t, "base")
		other := rapid.SliceOfN(line, 0, 12).Draw(t, "other")
		was, is := strings.Join(base, ""), strings.Join(other, "")
		for _, sides := range [][2]string{{was, is}, {is, was}, {is, is}} {
			got, whole := Text(was, sides[0], sides[1])
			assert.Equal(t, is, got)
			assert.True(t, whole)
		}
		head, tail := rapid.SampledFrom([]string{"", "X\n"}).Draw(t, "head"), rapid.SampledFrom([]string{"", "Y\n"}).Draw(t,
			"tail")
		body := "1\n" + was + "2\n"
		got, whole := Text(body, head+body, body+tail)
		assert.Equal(t, head+body+tail, got)
		assert.True(t, whole)
		third := strings.Join(rapid.SliceOfN(line, 0, 12).Draw(t, "third"), "")
		x, wx := Text(was, is, third)
		y, wy := Text(was, third, is)
		assert.Equal(t, wx, wy)
		if wx {
			assert.Equal(t, x, y)
		}
	})
}

// The longest common sequence is one: as long as the one that a table of all prefixes gives.
func TestTheCommonSequenceIsALongestOne(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		line := rapid.SampledFrom([]string{"a", "b", "c"})
		a, b := rapid.SliceOfN(line, 0, 15).Draw(t, "a"), rapid.SliceOfN(line, 0, 15).Draw(t, "b")
		table := make([][]int, len(a)+1)
		for i := range table {
			table[i] = make([]int, len(b)+1)
		}
		for i := range a {
			for j := range b {
				table[i+1][j+1] = max(table[i][j+1], table[i+1][j])
				if a[i] == b[j] {
					table[i+1][j+1] = table[i][j] + 1
				}
			}
		}
		n, last := 0, -1
		for i, j := range matches(a, b) {
			if j < 0 {
				continue
			}
			assert.Equal(t, a[i], b[j])
			assert.Greater(t, j, last, "in order")
			n, last = n+1, j
		}
		assert.Equal(t, table[len(a)][len(b)], n)
	})
}

func TestWhatNobodyChangedComesBackAsItWas(t *testing.T) {
	was := "a http://www.live/ 1\nb http://live/ 2\nc\n"
	base := strings.NewReplacer("http://www.live/", "http://copy/", "http://live/", "http://copy/").Replace(was)
	home := func(l string) string { return strings.ReplaceAll(l, "http://copy/", "http://live/") }
	assert.Equal(t, was, Carry(was, base, base, home))
	assert.Equal(t, "a http://www.live/ 1\nnew http://live/x\nc\nd\n",
		Carry(was, base, "a http://copy/ 1\nnew http://copy/x\nc\nd\n", home))
	assert.Equal(t, "", Carry(was, base, "", home))
	assert.Equal(t, "http://www.live/\nx", Carry("http://www.live/", "http://copy/", "http://copy/\nx", home))
	assert.Equal(t, "x http://live/", Carry("", "", "x http://copy/", home))
}

func TestWhereBothChangedTheSameLinesAllVersionsAreMarked(t *testing.T) {
	got := Marked("one\ntwo\nthree\nx", "ONE\n2\nthree\nx", "one\nzwei\nthree\ny", [3]string{"live", "before", "copy"})
	assert.Equal(t, "<<<<<<< live\nONE\n2\n||||||| before\none\ntwo\n=======\none\nzwei\n>>>>>>> copy\n"+
		"three\ny", got)
	assert.True(t, HasMarks(got))
	assert.False(t, HasMarks("a heading\n=======\n"))
	assert.Equal(t, "a\nB\n", Marked("a\nb\n", "a\nB\n", "a\nb\n", [3]string{}))
}
