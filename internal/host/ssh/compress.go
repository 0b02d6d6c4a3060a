package ssh

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/pkg/sftp"
)

// When bytes to and from a host are compressed.
const (
	CompressFar    = "far" // where the host is far away or its bandwidth is bounded; the default
	CompressAlways = "always"
	CompressNever  = "never"
)

// farFrom is how long the shortest question and its answer take from where a
// host is far: within a building it is well below a millisecond, and there the
// work of compressing takes longer than the bytes do.
const farFrom = 5 * time.Millisecond

// distance is the shortest time of a few questions and their answers; one that is near
// need not be asked again.
func distance(c *sftp.Client) time.Duration {
	least := time.Hour
	for i := 0; i < 5 && least >= farFrom; i++ {
		from := time.Now()
		if _, err := c.RealPath("."); err != nil {
			return 0
		}
		least = min(least, time.Since(from))
	}
	return least
}

// Compresses tells whether streams to and from the host are to be compressed.
func (h *Host) Compresses(ctx context.Context) bool {
	switch h.opt.Limits.Compress {
	case CompressAlways:
		return true
	case CompressNever:
		return false
	}
	if h.opt.Limits.Bandwidth > 0 {
		return true
	}
	if _, _, err := h.connect(ctx); err != nil {
		return false // whoever asked will see that it does not answer
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.far >= farFrom
}

// inflate gives a writer for a compressed stream, whose bytes go to w. Closing
// it waits for them and tells what was wrong with them.
func inflate(w io.Writer) io.WriteCloser {
	pr, pw := io.Pipe()
	f := &inflating{PipeWriter: pw, done: make(chan error, 1)}
	go func() {
		z, err := gzip.NewReader(pr)
		if err == nil {
			_, err = io.Copy(w, z)
		}
		pr.CloseWithError(err)
		f.done <- err
	}()
	return f
}

type inflating struct {
	*io.PipeWriter
	done chan error
}

func (f *inflating) Close() error {
	f.PipeWriter.Close()
	if err := <-f.done; err != nil {
		return fmt.Errorf("unpacking the stream: %w", err)
	}
	return nil
}

// deflate gives what r gives, compressed as fast as can be.
func deflate(r io.Reader) io.ReadCloser {
	pr, pw := io.Pipe()
	go func() {
		z, err := gzip.NewWriterLevel(pw, gzip.BestSpeed)
		if err == nil {
			_, err = io.Copy(z, r)
		}
		if err == nil {
			err = z.Close()
		}
		pw.CloseWithError(err)
	}()
	return pr
}
