package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAmountsInWords(t *testing.T) {
	for want, p := range map[string]Part{
		"": {}, "1 file": {Files: 1}, "2 files, 3 rows": {Files: 2, Rows: 3}, "1 row, 1.0 KiB": {Rows: 1, Bytes: 1024},
		"12,000 files": {Files: 12000},
	} {
		assert.Equal(t, want, p.Amount())
	}
}

func TestOperationsAreCalledWhatTheyAre(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range []Kind{Copy, Refresh, Keep, Rehearse, Restore, Reset, Change, Trial, Blank, Archive, Import} {
		assert.NotEmpty(t, k.Title())
		assert.False(t, seen[k.Title()], k)
		seen[k.Title()] = true
	}
	assert.True(t, Copy.Brings())
	assert.False(t, Trial.Brings())
}
