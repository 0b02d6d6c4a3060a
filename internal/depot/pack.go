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
	rooms sync.Pool                                     // of *[]byte
	puts  *errgroup.Group                               // packs are stored while others are filled

	mu   sync.Mutex
	fill [2]filling  // by kind
	out  []byte      // the pack that is being filled
	free chan []byte // the room of the one before
	has  []block
}

// filling is a block that is being filled.
type filling struct {
	raw *[]byte
	in  []piece
}

// Kinds of chunks: those that compress, and those that hardly do, pictures and
// archives, which are put into blocks of their own: on these little time is spent.
const (
	loose = iota
	dense
)

// compressors is how many blocks are compressed at once.
const compressors = 2

func newPacker(ctx context.Context, store Store, done func(string, int64, []block)) (*packer, error) {
	p := &packer{
		store: store,
		all:   ctx,
		done:  done,
		out:   make([]byte, 0, packSize+blockSize),
		free:  make(chan []byte, 1),
	}
	p.free <- make([]byte, 0, packSize+blockSize)
	p.rooms.New = func() any { b := make([]byte, 0, blockSize+blockSize/8); return &b }
	var err error
	// The next level takes a fifth more of a point's time, and a site's files become no smaller by it.
	if p.enc, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest),
		zstd.WithEncoderConcurrency(compressors), zstd.WithWindowSize(blockSize)); err != nil {
		return nil, err
	}
	p.g, p.ctx = errgroup.WithContext(ctx)
	p.g.SetLimit(compressors)
	p.puts = new(errgroup.Group)
	return p, nil
}

// kindOf looks at a few places of a chunk: what compresses has bytes that are
// more frequent than others.
func kindOf(chunk []byte) int {
	const sample, places = 1024, 4
	if len(chunk) < 2*sample*places {
		return loose
	}
	var n [256]int
	for i := range places {
		at := i * (len(chunk) - sample) / (places - 1)
		for _, c := range chunk[at : at+sample] {
			n[c]++
		}
	}
	squares := 0 // of evenly spread bytes: 256 times (4096/256)^2, and a little for chance
	for _, c := range n {
		squares += c * c
	}
	if squares < sample*places*sample*places/256*5/4 {
		return dense
	}
	return loose
}

// add puts a chunk that the depot does not have into a block.
func (p *packer) add(id ID, chunk []byte) error {
	if err := p.ctx.Err(); err != nil {
		return context.Cause(p.ctx)
	}
	kind := kindOf(chunk)
	p.mu.Lock()
	defer p.mu.Unlock()
	f := &p.fill[kind]
	for len(f.in) > 0 && len(*f.raw)+len(chunk) > blockSize {
		p.close(kind)
	}
	if f.raw == nil {
		f.raw = p.room()
	}
	*f.raw = append(*f.raw, chunk...)
	f.in = append(f.in, piece{id, len(chunk)})
	return nil
}

// room is an empty buffer for a block.
func (p *packer) room() *[]byte {
	b := p.rooms.Get().(*[]byte)
	*b = (*b)[:0]
	return b
}

// close has a block compressed. p.mu is held, and given up meanwhile: whoever
// compresses needs it, and may have to be waited for.
func (p *packer) close(kind int) {
	f := p.fill[kind]
	p.fill[kind] = filling{}
	p.mu.Unlock()
	p.g.Go(func() error {
		frame := p.room()
		*frame = p.enc.EncodeAll(*f.raw, *frame)
		p.rooms.Put(f.raw)
		defer p.rooms.Put(frame)
		p.mu.Lock()
		defer p.mu.Unlock()
		p.has = append(p.has, block{At: int64(len(p.out)), Size: int64(len(*frame)), Chunks: f.in})
		p.out = append(p.out, *frame...)
		if len(p.out) < packSize {
			return nil
		}
		return p.flush()
	})
	p.mu.Lock()
}

// flush has the pack stored, once the one before is. p.mu is held.
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
	data, has := p.out, p.has
	p.out, p.has = (<-p.free)[:0], nil
	p.puts.Go(func() error {
		defer func() { p.free <- data }()
		name := packName(data)
		err := p.store.Put(p.all, name, data)
		if err == nil {
			p.done(name, int64(len(data)), has)
		}
		return err
	})
	return nil
}

// finish stores what is left.
func (p *packer) finish() error {
	p.mu.Lock()
	for kind := range p.fill {
		if len(p.fill[kind].in) > 0 {
			p.close(kind)
		}
	}
	p.mu.Unlock()
	if err := p.g.Wait(); err != nil {
		return err
	}
	p.mu.Lock()
	err := p.flush()
	p.mu.Unlock()
	return errors.Join(err, p.puts.Wait())
}

// stop waits for what is under way.
func (p *packer) stop() {
	_ = p.g.Wait()
	_ = p.puts.Wait()
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
