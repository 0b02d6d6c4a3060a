package tables

// Shard is a part of a table's rows, by what they are found by. What has to be held
// in memory of each row is held for one shard after the other, so that it does not
// grow with the table; each shard costs one more reading of the table.
type Shard struct{ n, of uint64 }

// shardRows is how many rows a shard has, about.
var shardRows int64 = 1_000_000

// InShardsOf sets how many rows a shard has, for tests, and gives the function that
// sets it back.
func InShardsOf(rows int64) func() {
	was := shardRows
	shardRows = rows
	return func() { shardRows = was }
}

// Shards are the parts of a table with so many rows.
func Shards(rows int64) []Shard {
	of := max(1, (rows+shardRows-1)/shardRows)
	out := make([]Shard, of)
	for i := range out {
		out[i] = Shard{uint64(i), uint64(of)}
	}
	return out
}

// Has tells whether the row that is found by key belongs to the shard.
func (s Shard) Has(key uint64) bool { return s.of <= 1 || key%s.of == s.n }

// First tells whether it is the first of a table's shards.
func (s Shard) First() bool { return s.n == 0 }
