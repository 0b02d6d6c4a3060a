package depot

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sync"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"
)

var errName = errors.New("not the name of a chunk")

// Chunks are put together in blocks, which are compressed as a whole, and
// blocks in packs, which are files.
const (
	blockSize = 4 << 20
	packSize  = 16 << 20
	packs     = "packs/"
)

// block is one in a pack's index.
type block struct {
	At     int64   `json:"at"`   // where its frame begins in the pack
	Size   int64   `json:"size"` // of the frame
	Chunks []piece `json:"chunks"`
}

// piece is a chunk in a block, behind the one before it.
type piece struct {
	ID   ID  `json:"id"`
	Size int `json:"size"`
}

// tailSize is the length of a pack's end: a skippable frame of Zstandard
// (RFC 8878, 3.1.2) with the place of the index frame.
const (
	tailSize  = 16
	tailMagic = 0x184D2A5A
)

func tail(indexAt int64) []byte {
	b := binary.LittleEndian.AppendUint32(nil, tailMagic)
	b = binary.LittleEndian.AppendUint32(b, 8)
	return binary.LittleEndian.AppendUint64(b, uint64(indexAt))
}

func readTail(b []byte) (indexAt int64, err error) {
	if len(b) != tailSize || binary.LittleEndian.Uint32(b) != tailMagic || binary.LittleEndian.Uint32(b[4:]) != 8 {
		return 0, errors.New("it does not end as a pack does")
	}
	return int64(binary.LittleEndian.Uint64(b[8:])), nil
}

func packName(data []byte) string {
	sum := blake3.Sum256(data)
	n := hex.EncodeToString(sum[:])
	return packs + n[:2] + "/" + n + ".zst"
}

// packer fills packs.
type packer struct {
	store Store
	enc   *zstd.Encoder
	g     *errgroup.Group
	ctx   context.Context // ends when a pack can't be stored
	all   context.Context
	done  func(name string, size int64, blocks []block) // of each pack that is stored

	mu  sync.Mutex
	raw []byte // the block that is being filled
	in  []piece
	out []byte // the pack that is being filled
	has []block
}

// compressors is how many blocks are compressed at once.
const compressors = 2

func newPacker(ctx context.Context, store Store, done func(string, int64, []block)) (*packer, error) {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(compressors), zstd.WithWindowSize(blockSize))
	if err != nil {
		return nil, err
	}
	p := &packer{store: store, enc: enc, all: ctx, done: done, out: make([]byte, 0, packSize+blockSize)}
	p.g, p.ctx = errgroup.WithContext(ctx)
	p.g.SetLimit(compressors)
	return p, nil
}

// add puts a chunk that the depot does not have into a block.
func (p *packer) add(id ID, chunk []byte) error {
	if err := p.ctx.Err(); err != nil {
		return context.Cause(p.ctx)
	}
	p.mu.Lock()
	for len(p.raw) > 0 && len(p.raw)+len(chunk) > blockSize {
		p.close()
	}
	p.raw = append(p.raw, chunk...)
	p.in = append(p.in, piece{id, len(chunk)})
	p.mu.Unlock()
	return nil
}

// close has the block compressed. p.mu is held.
func (p *packer) close() {
	raw, in := p.raw, p.in
	p.raw, p.in = make([]byte, 0, blockSize), nil
	p.mu.Unlock() // whoever compresses needs it, and all of them may be waited for
	p.g.Go(func() error {
		frame := p.enc.EncodeAll(raw, make([]byte, 0, len(raw)/2))
		p.mu.Lock()
		defer p.mu.Unlock()
		p.has = append(p.has, block{At: int64(len(p.out)), Size: int64(len(frame)), Chunks: in})
		p.out = append(p.out, frame...)
		if len(p.out) < packSize {
			return nil
		}
		return p.flush()
	})
	p.mu.Lock()
}

// flush stores the pack. p.mu is held.
func (p *packer) flush() error {
	if len(p.has) == 0 {
		return nil
	}
	index, err := json.Marshal(p.has)
	if err != nil {
		return err
	}
	at := int64(len(p.out))
	p.out = append(p.enc.EncodeAll(index, p.out), tail(at)...)
	name := packName(p.out)
	if err := p.store.Put(p.all, name, p.out); err != nil {
		return err
	}
	p.done(name, int64(len(p.out)), p.has)
	p.out, p.has = p.out[:0], nil
	return nil
}

// finish stores what is left.
func (p *packer) finish() error {
	p.mu.Lock()
	if len(p.raw) > 0 {
		p.close()
	}
	p.mu.Unlock()
	if err := p.g.Wait(); err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.flush()
}

// readIndex reads what is in a pack.
func readIndex(ctx context.Context, store Store, dec *zstd.Decoder, s Stored) ([]block, error) {
	wrong := func(err error) error { return fmt.Errorf("%s: %w: %w", s.Name, ErrDamaged, err) }
	if s.Size < tailSize {
		return nil, wrong(errors.New("it is too short"))
	}
	end, err := store.Get(ctx, s.Name, s.Size-tailSize, tailSize)
	if err != nil {
		return nil, err
	}
	at, err := readTail(end)
	if err != nil || at < 0 || at > s.Size-tailSize {
		return nil, wrong(errors.New("it does not end as a pack does"))
	}
	frame, err := store.Get(ctx, s.Name, at, s.Size-tailSize-at)
	if err != nil {
		return nil, err
	}
	index, err := dec.DecodeAll(frame, nil)
	if err != nil {
		return nil, wrong(err)
	}
	var list []block
	if err := json.NewDecoder(bytes.NewReader(index)).Decode(&list); err != nil {
		return nil, wrong(err)
	}
	return list, nil
}
