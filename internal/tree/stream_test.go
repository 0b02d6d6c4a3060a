package tree

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/local"
)

// piped is a root of a host that sends and takes streams. After half bytes, if
// that is not 0, its line breaks.
type piped struct {
	host.Root
	dir   string
	half  int64
	calls atomic.Int64
}

var errLine = errors.New("the line broke")

func (p *piped) Streams() bool { return true }

func (p *piped) SendTar(_ context.Context, names []string, w io.Writer) error {
	p.calls.Add(1)
	tw := tar.NewWriter(w)
	left := p.half
	for _, n := range names {
		text, err := os.ReadFile(filepath.Join(p.dir, n))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		fi, err := os.Stat(filepath.Join(p.dir, n))
		if err != nil {
			return err
		}
		if err := tw.WriteHeader(&tar.Header{Name: n, Size: int64(len(text)), ModTime: fi.ModTime(),
			Mode: int64(fi.Mode().Perm()), Typeflag: tar.TypeReg, Format: tar.FormatGNU}); err != nil {
			return err
		}
		if p.half > 0 && left < int64(len(text)) {
			_, _ = tw.Write(text[:left])
			return errLine
		}
		left -= int64(len(text))
		if _, err := tw.Write(text); err != nil {
			return err
		}
	}
	return tw.Close()
}

func (p *piped) TakeTar(_ context.Context, r io.Reader) error {
	p.calls.Add(1)
	if p.half > 0 {
		_, _ = io.CopyN(io.Discard, r, p.half)
		return errLine
	}
	tr := tar.NewReader(r)
	for {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			_, err = io.Copy(io.Discard, r)
			return err
		}
		if err != nil {
			return err
		}
		if _, err := host.Put(p.Root, path.Clean(h.Name), h.FileInfo().Mode().Perm(), h.ModTime, tr); err != nil {
			return err
		}
	}
}

// far is a folder on a host that streams, with some files if n is not 0.
func far(t *testing.T, n int) *piped {
	t.Helper()
	dir := t.TempDir()
	for i := range n {
		put(t, dir, fmt.Sprintf("d%d/file %02d", i%3, i), string(make([]byte, i*997)))
		require.NoError(t, os.Chtimes(filepath.Join(dir, fmt.Sprintf("d%d/file %02d", i%3, i)),
			time.Unix(1_700_000_000, 0), time.Unix(1_700_000_000, 0)))
	}
	r, err := local.New("far").Write(context.Background(), dir)
	require.NoError(t, err)
	return &piped{Root: r, dir: dir}
}

func TestManyFilesGoAsAStream(t *testing.T) {
	ctx := context.Background()
	for name, ends := range map[string]func() (host.Root, host.Root){
		"sent":           func() (host.Root, host.Root) { f := far(t, 60); return f, far(t, 0).Root },
		"taken":          func() (host.Root, host.Root) { return far(t, 60).Root, far(t, 0) },
		"sent and taken": func() (host.Root, host.Root) { return far(t, 60), far(t, 0) },
	} {
		t.Run(name, func(t *testing.T) {
			from, to := ends()
			list, err := Scan(ctx, from, Filter{})
			require.NoError(t, err)
			var bytes, files atomic.Int64
			got, problems, err := Copy(ctx, from, to, list.Entries,
				func(b int64, n int) { bytes.Add(b); files.Add(int64(n)) })
			require.NoError(t, err)
			assert.Empty(t, problems)
			n, size := list.Totals()
			assert.Equal(t, int64(n), files.Load())
			assert.Equal(t, size, bytes.Load())
			there, err := Scan(ctx, to, Filter{})
			require.NoError(t, err)
			require.NoError(t, Digest(ctx, to, there.Entries, nil, none))
			assert.Empty(t, Compare(got, there.Entries), "what came over is what was sent, with its times")
			for _, r := range []host.Root{from, to} {
				if p, ok := r.(*piped); ok {
					assert.Positive(t, p.calls.Load(), "the stream was used")
				}
			}
		})
	}
}

func TestAStreamThatBreaksIsAnError(t *testing.T) {
	ctx := context.Background()
	for name, half := range map[string]int64{"at once": 1, "half-way": 400_000} {
		for _, side := range []string{"sent", "taken"} {
			t.Run(side+" "+name, func(t *testing.T) {
				from, to := far(t, 60), far(t, 0)
				list, err := Scan(ctx, from.Root, Filter{})
				require.NoError(t, err)
				if side == "sent" {
					from.half = half
				} else {
					to.half = half
				}
				_, _, err = Copy(ctx, from, to, list.Entries, none)
				require.ErrorIs(t, err, errLine)
				// The next try goes on where this one ended.
				from.half, to.half = 0, 0
				got, problems, err := Copy(ctx, from, to, list.Entries, none)
				require.NoError(t, err)
				assert.Empty(t, problems)
				there, err := Scan(ctx, to.Root, Filter{})
				require.NoError(t, err)
				require.NoError(t, Digest(ctx, to.Root, there.Entries, nil, none))
				assert.Empty(t, Compare(got, there.Entries))
			})
		}
	}
}

func TestAFileThatGoesMeanwhileIsReported(t *testing.T) {
	ctx := context.Background()
	from, to := far(t, 40), far(t, 0)
	list, err := Scan(ctx, from.Root, Filter{})
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(from.dir, "d0/file 03")))
	got, problems, err := Copy(ctx, from, to, list.Entries, none)
	require.NoError(t, err)
	require.Len(t, problems, 1)
	assert.Equal(t, "d0/file 03", problems[0].Path)
	assert.Len(t, OnlyFiles(got), 39)
}

func TestManyFilesAreReadAsAStream(t *testing.T) {
	ctx := context.Background()
	from := far(t, 50)
	list, err := Scan(ctx, from.Root, Filter{})
	require.NoError(t, err)
	byStream, byOne := list.Entries, append([]Entry{}, list.Entries...)
	require.NoError(t, Digest(ctx, from, byStream, nil, none))
	require.NoError(t, Digest(ctx, from.Root, byOne, nil, none))
	for i := range byOne {
		byOne[i].Changed = time.Time{} // a stream does not tell
	}
	for i := range byStream {
		byStream[i].Changed = time.Time{} // of folders and links it is known
	}
	assert.Equal(t, byOne, byStream)
	assert.Positive(t, from.calls.Load())
	text, err := byOne[len(byOne)-1].Hash.MarshalText()
	require.NoError(t, err)
	var back Hash
	require.NoError(t, back.UnmarshalText(text))
	assert.Equal(t, byOne[len(byOne)-1].Hash, back)
	for _, bad := range []string{"", "xyz", string(text[:10])} {
		assert.Error(t, back.UnmarshalText([]byte(bad)), bad)
	}
	from.half = 100_000
	assert.ErrorIs(t, Digest(ctx, from, byStream, nil, none), errLine)
}

func TestFilesAreDealtOutEvenly(t *testing.T) {
	var list []Entry
	for i := range 100 {
		list = append(list, Entry{Path: fmt.Sprint(i), Size: int64(i) << 12})
	}
	lanes := split(list, 4)
	require.Len(t, lanes, 4)
	n := 0
	var sizes []int64
	for _, l := range lanes {
		n += len(l)
		var size int64
		for _, e := range l {
			size += e.Size
		}
		sizes = append(sizes, size)
	}
	assert.Equal(t, 100, n, "each once")
	for _, s := range sizes {
		assert.InDelta(t, float64(sizes[0]), float64(s), 400<<10)
	}
	assert.Len(t, split(list[:2], 8), 2, "no lane without a file")
}
