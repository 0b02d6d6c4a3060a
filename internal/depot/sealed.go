package depot

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"filippo.io/age"
)

// ErrLocked is given for an encrypted depot without its key.
var ErrLocked = errors.New("the depot is encrypted, and the key does not open it")

// Key opens an encrypted depot, and is what new files in it are encrypted for.
type Key = age.X25519Identity

// sealed is a store whose files are encrypted with age
// (https://age-encryption.org/v1), each by itself. A pack's length as it was is
// part of its name: the end of it has to be found.
type sealed struct {
	Store
	keys []*Key
}

const sealedEnd = ".age"

// stored is what a file is called in the store below.
func stored(name string, size int) string {
	if strings.HasPrefix(name, packs) {
		return name + "." + strconv.Itoa(size) + sealedEnd
	}
	return name + sealedEnd
}

// find gives what a pack is called in the store below, and its length there.
func (s *sealed) find(ctx context.Context, name string) (Stored, error) {
	if !strings.HasPrefix(name, packs) {
		return Stored{Name: name + sealedEnd}, nil
	}
	list, err := s.Store.List(ctx, name+".")
	if err != nil {
		return Stored{}, err
	}
	if len(list) == 0 {
		_, err := s.Store.Get(ctx, name+sealedEnd, 0, 1) // its error says that it is not there
		return Stored{}, err
	}
	return list[0], nil
}

// Put encrypts a file for all keys.
func (s *sealed) Put(ctx context.Context, name string, data []byte) error {
	var all []age.Recipient
	for _, k := range s.keys {
		all = append(all, k.Recipient())
	}
	var b bytes.Buffer
	w, err := age.Encrypt(&b, all...)
	if err == nil {
		_, err = w.Write(data)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return fmt.Errorf("encrypting for the depot: %w", err)
	}
	return s.Store.Put(ctx, stored(name, len(data)), b.Bytes())
}

func (s *sealed) identities() (out []age.Identity) {
	for _, k := range s.keys {
		out = append(out, k)
	}
	return out
}

// Get decrypts a file, or the part of a pack that is asked for.
func (s *sealed) Get(ctx context.Context, name string, at, n int64) ([]byte, error) {
	in, err := s.find(ctx, name)
	if err != nil {
		return nil, err
	}
	if n < 0 || !strings.HasPrefix(name, packs) {
		return s.whole(ctx, in.Name, at, n)
	}
	r, _, err := age.DecryptReaderAt(&window{ctx: ctx, store: s.Store, name: in.Name, size: in.Size, at: at, n: n},
		in.Size, s.identities()...)
	if err != nil {
		return nil, unsealed(in.Name, err)
	}
	out := make([]byte, n)
	if _, err := io.ReadFull(io.NewSectionReader(r, at, n), out); err != nil {
		return nil, unsealed(in.Name, err)
	}
	return out, nil
}

func (s *sealed) whole(ctx context.Context, name string, at, n int64) ([]byte, error) {
	data, err := s.Store.Get(ctx, name, 0, -1)
	if err != nil {
		return nil, err
	}
	r, err := age.Decrypt(bytes.NewReader(data), s.identities()...)
	var out []byte
	if err == nil {
		out, err = io.ReadAll(r)
	}
	if err != nil {
		return nil, unsealed(name, err)
	}
	if at > int64(len(out)) || n > int64(len(out))-at {
		return nil, unsealed(name, io.ErrUnexpectedEOF)
	}
	if out = out[at:]; n >= 0 {
		out = out[:n]
	}
	return out, nil
}

// unsealed says why a file can't be decrypted.
func unsealed(name string, err error) error {
	var no *age.NoIdentityMatchError
	if errors.As(err, &no) {
		return fmt.Errorf("%s: %w", name, ErrLocked)
	}
	return fmt.Errorf("%w: %s: %w", ErrDamaged, name, err)
}

// List gives the files by the names and, of packs, the lengths that they have
// when they are decrypted.
func (s *sealed) List(ctx context.Context, prefix string) ([]Stored, error) {
	list, err := s.Store.List(ctx, prefix)
	out := list[:0]
	for _, f := range list {
		name, ok := strings.CutSuffix(f.Name, sealedEnd)
		if !ok {
			continue
		}
		if strings.HasPrefix(name, packs) {
			dot := strings.LastIndexByte(name, '.')
			size, err := strconv.ParseInt(name[dot+1:], 10, 64)
			if err != nil {
				continue
			}
			name, f.Size = name[:dot], size
		}
		out = append(out, Stored{name, f.Size})
	}
	return out, err
}

// Remove removes a file.
func (s *sealed) Remove(ctx context.Context, name string) error {
	if !strings.HasPrefix(name, packs) {
		return s.Store.Remove(ctx, name+sealedEnd)
	}
	list, err := s.Store.List(ctx, name+".")
	for _, f := range list {
		if err == nil {
			err = s.Store.Remove(ctx, f.Name)
		}
	}
	return err
}

// window reads an encrypted file of a store in few pieces: its head, its end, and
// what holds the part that is wanted.
type window struct {
	ctx   context.Context
	store Store
	name  string
	size  int64
	at, n int64 // the part, decrypted
	have  []struct {
		at int64
		b  []byte
	}
}

// An encrypted file is a head and pieces of 64 KiB, each 16 bytes longer.
const (
	sealHead  = 4 << 10
	sealPiece = 64<<10 + 16
)

func (w *window) ReadAt(p []byte, off int64) (int, error) {
	for _, h := range w.have {
		if off >= h.at && off+int64(len(p)) <= h.at+int64(len(h.b)) {
			return copy(p, h.b[off-h.at:]), nil
		}
	}
	from, to := off, off+int64(len(p))
	first := w.at / (64 << 10) * sealPiece
	last := ((w.at+w.n)/(64<<10)+1)*sealPiece + sealHead
	switch {
	case to <= sealHead:
		from, to = 0, sealHead
	case from >= first && to <= last:
		from, to = first, last
	}
	to = min(to, w.size)
	b, err := w.store.Get(w.ctx, w.name, from, to-from)
	if err != nil {
		return 0, err
	}
	w.have = append(w.have, struct {
		at int64
		b  []byte
	}{from, b})
	n := copy(p, b[off-from:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
