package tables

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestEachRowBelongsToOneShard(t *testing.T) {
	defer InShardsOf(100)()
	assert.Len(t, Shards(0), 1)
	assert.Len(t, Shards(100), 1)
	assert.Len(t, Shards(101), 2)
	rapid.Check(t, func(t *rapid.T) {
		rows := rapid.Int64Range(0, 5000).Draw(t, "rows")
		key := rapid.Uint64().Draw(t, "key")
		n, first := 0, 0
		for _, s := range Shards(rows) {
			if s.Has(key) {
				n++
			}
			if s.First() {
				first++
			}
		}
		assert.Equal(t, 1, n)
		assert.Equal(t, 1, first)
	})
	assert.True(t, Shard{}.Has(7), "no part is all of it")
}
