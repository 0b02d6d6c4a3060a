package tree

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"alibi/internal/host"
)

// lanes is how many streams are open at once.
const lanes = 2

// worthwhile is from how many files on a stream beats asking for each.
const worthwhile = 24

// streams tells whether a tree's files can be sent or taken as one stream.
func streams[S host.Streamer](t host.Tree) (S, bool) {
	s, ok := t.(S)
	return s, ok && s.Streams()
}

// oneByOne tells whether files of a tree come one by one over a line.
func oneByOne(t host.Tree) bool {
	_, far := t.(host.Bounded)
	_, streams := streams[host.Sender](t)
	return far && !streams
}

// sample is how many files tell how long one takes.
const sample = 12

// PerFile measures how long each file takes where files come one by one, by reading some small ones; elsewhere it is
// none.
func PerFile(ctx context.Context, src host.Tree, entries []Entry) (time.Duration, error) {
	if !oneByOne(src) {
		return 0, nil
	}
	var some []Entry
	for _, e := range entries {
		if e.Regular() && e.Size < 64<<10 && len(some) < sample {
			some = append(some, e)
		}
	}
	began := time.Now()
	if err := Digest(ctx, src, some, nil, func(int64, int) {}); err != nil || len(some) == 0 {
		return 0, err
	}
	return time.Since(began) / time.Duration(len(some)), nil
}

// PerNewFile is about how long each file takes to be written where files come one by one: twice as long as a folder
// takes to be listed, several at once; elsewhere it is none.
func PerNewFile(dst host.Tree) (time.Duration, error) {
	if !oneByOne(dst) {
		return 0, nil
	}
	began := time.Now()
	_, err := dst.ReadDir(".")
	return 2 * time.Since(began) / time.Duration(host.AtOnce(readers, dst)), err
}

// give is called with a file and its bytes. The entry has the size and the time
// that the file had when it was opened.
type give func(e Entry, r io.Reader) error

// each reads files in the order of the list: as one stream where the root can
// do that, else one by one. Files that are gone are left out.
func each(ctx context.Context, src host.Tree, list []Entry, do give) error {
	s, ok := streams[host.Sender](src)
	if !ok {
		for _, e := range list {
			if err := single(src, e, do); err != nil {
				return err
			}
		}
		return nil
	}
	byName := make(map[string]Entry, len(list))
	names := make([]string, len(list))
	for i, e := range list {
		byName[e.Path], names[i] = e, e.Path
	}
	pr, pw := io.Pipe()
	done := make(chan error, 1)
	go func() {
		err := s.SendTar(ctx, names, pw)
		pw.CloseWithError(err)
		done <- err
	}()
	err := unpack(tar.NewReader(pr), byName, do)
	if err == nil {
		_, err = io.Copy(io.Discard, pr) // the padding at the end
	}
	pr.CloseWithError(errors.Join(err, io.ErrClosedPipe))
	if serr := <-done; err == nil || errors.Is(err, io.ErrUnexpectedEOF) && serr != nil {
		err = serr
	}
	return err
}

func unpack(tr *tar.Reader, byName map[string]Entry, do give) error {
	for {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		e, known := byName[h.Name]
		if !known || h.Typeflag != tar.TypeReg {
			continue // it became something else since it was listed
		}
		e.Size, e.MTime, e.Changed = h.Size, h.ModTime, time.Time{}
		if err := do(e, tr); err != nil {
			return err
		}
	}
}

func single(src host.Tree, e Entry, do give) error {
	f, err := src.Open(e.Path)
	if err != nil {
		return nil // what is missing at the end is asked for once more, and then judged
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil || !fi.Mode().IsRegular() {
		return nil
	}
	e = e.Seen(fi)
	return do(e, f)
}

// sink takes files, as one stream where the root can do that.
type sink struct {
	dst  host.Root
	tw   *tar.Writer
	pw   *io.PipeWriter
	done chan error
}

func newSink(ctx context.Context, dst host.Root) *sink {
	k := &sink{dst: dst}
	s, ok := streams[host.Taker](dst)
	if !ok {
		return k
	}
	var pr *io.PipeReader
	pr, k.pw = io.Pipe()
	k.tw = tar.NewWriter(k.pw)
	k.done = make(chan error, 1)
	go func() {
		err := s.TakeTar(ctx, pr)
		pr.CloseWithError(errors.Join(err, io.ErrClosedPipe))
		k.done <- err
	}()
	return k
}

// put writes a file and tells whether it was as long as it was said to be.
func (k *sink) put(e Entry, r io.Reader) (whole bool, err error) {
	if k.tw == nil {
		n, err := write(k.dst, e, r)
		return n == e.Size, err
	}
	if err := k.tw.WriteHeader(&tar.Header{Name: e.Path, Size: e.Size, Mode: int64(e.Mode.Perm()), ModTime: e.MTime,
		Typeflag: tar.TypeReg, Format: tar.FormatGNU}); err != nil {
		return false, err
	}
	n, err := io.Copy(k.tw, io.LimitReader(r, e.Size))
	if err != nil {
		return false, err
	}
	if n < e.Size {
		_, err = io.CopyN(k.tw, zeros{}, e.Size-n)
		return false, err
	}
	return true, nil
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

func (k *sink) close(err error) error {
	if k.tw == nil {
		return err
	}
	if err == nil {
		err = k.tw.Close()
	}
	k.pw.CloseWithError(err) // nil is a regular end
	serr := <-k.done
	if err != nil && !errors.Is(err, io.ErrClosedPipe) || serr == nil {
		return err // what the other end makes of half a stream tells nothing
	}
	return serr
}

// stream copies files by streams and gives those that came over whole, by path.
// What is not among them is to be copied one by one.
func stream(ctx context.Context, src host.Tree, dst host.Root, list []Entry, progress Progress) (map[string]Entry,
	error) {
	out := make(map[string]Entry, len(list))
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	n := lanes
	if oneByOne(src) {
		n = readers
	}
	for _, lane := range split(list, host.AtOnce(n, src, dst)) {
		g.Go(func() error {
			k := newSink(ctx, dst)
			got := map[string]Entry{}
			err := each(ctx, src, lane, func(e Entry, r io.Reader) error {
				if err := host.Patience(ctx, src, dst); err != nil {
					return err
				}
				h := blake3.New()
				whole, err := k.put(e, io.TeeReader(&meter{ctx: ctx, r: r, tell: progress}, h))
				if err != nil {
					return fmt.Errorf("copying %s: %w", e.Path, err)
				}
				if whole {
					h.Sum(e.Hash[:0])
					got[e.Path] = e
					progress(0, 1)
				} else {
					progress(-e.Size, 0)
				}
				return nil
			})
			if err = k.close(err); err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			for p, e := range got {
				out[p] = e
			}
			return nil
		})
	}
	return out, g.Wait()
}

// split deals files out to n lanes, by bytes.
func split(list []Entry, n int) [][]Entry {
	out := make([][]Entry, min(n, len(list)))
	size := make([]int64, len(out))
	for _, e := range list {
		least := 0
		for i := range size {
			if size[i] < size[least] {
				least = i
			}
		}
		out[least] = append(out[least], e)
		size[least] += e.Size + 4096
	}
	return out
}
