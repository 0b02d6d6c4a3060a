package depot

import (
	"encoding/hex"
	"io"

	"github.com/zeebo/blake3"
)

// ID names a chunk: the BLAKE3 of its bytes.
type ID [32]byte

// Sum gives the name of a chunk.
func Sum(chunk []byte) ID { return blake3.Sum256(chunk) }

func (id ID) String() string { return hex.EncodeToString(id[:]) }

// MarshalText writes the name in hexadecimal.
func (id ID) MarshalText() ([]byte, error) { return []byte(id.String()), nil }

// UnmarshalText reads what MarshalText wrote.
func (id *ID) UnmarshalText(b []byte) error {
	if len(b) != 2*len(id) {
		return errName
	}
	_, err := hex.Decode(id[:], b)
	return err
}

// Files are cut where their bytes say so, so that what is put into one moves no
// cut behind it: where the top bits of a rolling hash are zero, but not before
// minChunk and at the latest at maxChunk.
const (
	minChunk = 256 << 10
	maxChunk = 4 << 20
	cutBits  = 19 // a cut in half a MiB, past the least
)

// Whole is how long a file may be that is always one chunk, of the same name as
// the file's own digest.
const Whole = minChunk

// gear is what a byte adds to the rolling hash: the first eight bytes of the
// BLAKE3 of the byte, little-endian.
var gear = func() (g [256]uint64) {
	for i := range g {
		sum := blake3.Sum256([]byte{byte(i)})
		for k := range 8 {
			g[i] |= uint64(sum[k]) << (8 * k)
		}
	}
	return g
}()

// cut gives the length of the first chunk of b, which is all there is or at
// least maxChunk long.
func cut(b []byte) int {
	if len(b) <= minChunk {
		return len(b)
	}
	end := min(len(b), maxChunk)
	h := uint64(0)
	for i := minChunk - 64; i < end; i++ {
		h = h<<1 + gear[b[i]]
		if i >= minChunk && h>>(64-cutBits) == 0 {
			return i + 1
		}
	}
	return end
}

// Cut reads r to its end and gives its chunks, one after another; a chunk is
// valid until give returns. room is scratch room that grows to what is needed.
func Cut(r io.Reader, room *[]byte, give func(chunk []byte) error) error {
	if cap(*room) == 0 {
		*room = make([]byte, minChunk)
	}
	b := (*room)[:cap(*room)]
	have := 0
	for ended := false; ; {
		for !ended && have < maxChunk {
			if have == len(b) {
				b = append(make([]byte, 0, min(2*len(b), maxChunk+minChunk)), b...)
				b = b[:cap(b)]
				*room = b
			}
			n, err := r.Read(b[have:])
			have += n
			if err == io.EOF {
				ended = true
			} else if err != nil {
				return err
			}
		}
		done := 0
		for have-done >= maxChunk || ended && done < have {
			n := cut(b[done:have])
			if err := give(b[done : done+n]); err != nil {
				return err
			}
			done += n
		}
		if ended {
			return nil
		}
		have = copy(b, b[done:have])
	}
}
