package archive

import (
	"archive/tar"
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path"
	"strings"

	"github.com/klauspost/compress/zstd"

	"alibi/internal/host"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// Limits bound what an archive may unpack to; 0 is no bound but what its
// manifest says.
type Limits struct {
	Bytes int64
}

// reader reads the entries of an archive in their order.
type reader struct {
	ctx   context.Context
	z     io.Reader // the tar's bytes
	tar   *tar.Reader
	m     Manifest
	to    Content
	limit int64
	tell  func(int64)

	sums  []string // the lines that SHA256SUMS should have
	old   []string // the same, as they were before names were escaped as sha256sum does
	seen  map[string]bool
	files int64
	bytes int64
	head  *tar.Header // the next entry, if it was read already
}

// Read reads an archive and gives what is in it. Whatever is wrong with it is
// found before End is called.
func Read(ctx context.Context, from io.Reader, to Content, l Limits, tell func(bytes int64)) (Manifest, error) {
	head := bufio.NewReader(from)
	if first, _ := head.Peek(len(magic)); !strings.HasPrefix(magic, string(first)) {
		return Manifest{}, fmt.Errorf("%w: it is no tar that was compressed with zstd", ErrForeign)
	}
	z, err := zstd.NewReader(head, zstd.WithDecoderMaxWindow(64<<20), zstd.WithDecoderConcurrency(2))
	if err != nil {
		return Manifest{}, err
	}
	defer z.Close()
	r := &reader{ctx: ctx, z: z, tar: tar.NewReader(z), to: to, limit: l.Bytes, tell: tell, seen: map[string]bool{}}
	err = r.all()
	if errors.Is(err, zstd.ErrMagicMismatch) || errors.Is(err, tar.ErrHeader) && r.m.Format == "" {
		err = fmt.Errorf("%w: it is no tar that was compressed with zstd", ErrForeign)
	} else if broken(err) {
		err = fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return r.m, err
}

// magic begins what was compressed with zstd. Source: RFC 8878, 3.1.1.
const magic = "\x28\xb5\x2f\xfd"

// broken tells whether an error is of the stream itself.
func broken(err error) bool {
	for _, is := range []error{io.ErrUnexpectedEOF, io.EOF, tar.ErrHeader, zstd.ErrCRCMismatch,
		zstd.ErrWindowSizeExceeded, zstd.ErrUnknownDictionary} {
		if errors.Is(err, is) {
			return true
		}
	}
	return err != nil && strings.Contains(err.Error(), "corrupt")
}

// next gives the header of the next entry, checked.
func (r *reader) next() (*tar.Header, error) {
	if h := r.head; h != nil {
		r.head = nil
		return h, nil
	}
	if err := r.ctx.Err(); err != nil {
		return nil, err
	}
	h, err := r.tar.Next()
	if err == io.EOF {
		return nil, fmt.Errorf("%w: it ends before its list of digests; a last part may be missing", ErrDamaged)
	}
	if err != nil {
		return nil, err
	}
	refuse := func(why string) (*tar.Header, error) {
		return nil, fmt.Errorf("%w: the entry %.200q %s", ErrHostile, h.Name, why)
	}
	name := strings.TrimSuffix(h.Name, "/")
	clean, cerr := host.Clean(name)
	switch {
	case cerr != nil || clean != name:
		return refuse("leads out of it")
	case r.seen[name]:
		return refuse("is there twice")
	case h.Typeflag != tar.TypeReg && h.Typeflag != tar.TypeDir && h.Typeflag != tar.TypeSymlink:
		return refuse("is neither file, folder nor link")
	case h.Typeflag != tar.TypeReg && !strings.HasPrefix(name, filesDir):
		return refuse("is no file")
	case h.Typeflag == tar.TypeSymlink && !host.LinkInside(r.m.Site.Root, strings.TrimPrefix(name, filesDir),
		h.Linkname):
		return refuse("is a link that leads out of the site")
	}
	r.seen[name] = true
	h.Name = name
	r.bytes += h.Size
	if r.limit > 0 && r.bytes > r.limit {
		return refuse(fmt.Sprintf("would make it more than the %d bytes that there is room for", r.limit))
	}
	if r.m.Format != "" && r.bytes > 4*r.m.Bytes+(256<<20) {
		return refuse("would make it much larger than its manifest says")
	}
	return h, nil
}

// summed gives an entry's bytes and notes their digest once all were read.
type summed struct {
	r    *reader
	name string
	in   io.Reader
	h    hash.Hash
}

func (r *reader) open(h *tar.Header) *summed {
	s := &summed{r: r, name: h.Name, h: sha256.New()}
	s.in = io.TeeReader(r.tar, s.h)
	return s
}

func (s *summed) Read(p []byte) (int, error) {
	n, err := s.in.Read(p)
	s.r.tell(int64(n))
	return n, err
}

func (s *summed) done() error {
	if _, err := io.Copy(io.Discard, s); err != nil {
		return err
	}
	sum := s.h.Sum(nil)
	s.r.sums = append(s.r.sums, sumLine(sum, s.name))
	s.r.old = append(s.r.old, fmt.Sprintf("%x  %s", sum, strings.ReplaceAll(s.name, "\n", `\n`)))
	return nil
}

// sumLine writes a file's digest as sha256sum writes and checks it: a line with a name that holds a
// backslash or the end of a line begins with a backslash. Source: "cksum output modes" of GNU coreutils.
func sumLine(sum []byte, name string) string {
	escaped := strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`).Replace(name)
	mark := ""
	if escaped != name {
		mark = `\`
	}
	return fmt.Sprintf("%s%x  %s", mark, sum, escaped)
}

func (r *reader) all() error {
	if err := r.manifest(); err != nil {
		return err
	}
	if err := r.to.Begin(r.m); err != nil {
		return err
	}
	for {
		h, err := r.next()
		if err != nil {
			return err
		}
		switch {
		case strings.HasPrefix(h.Name, filesDir) && r.files >= 0:
			if err := r.file(h); err != nil {
				return err
			}
		case strings.HasPrefix(h.Name, sqlDir) && r.m.Schema != nil && r.files >= 0:
			r.head = h
			if err := r.rows(); err != nil {
				return err
			}
		case h.Name == sumsName:
			return r.end()
		default:
			return fmt.Errorf("%w: the entry %.200q does not belong there", ErrHostile, h.Name)
		}
	}
}

// largest is what a manifest may be, in bytes.
const largest = 256 << 20

func (r *reader) manifest() error {
	h, err := r.next()
	if err != nil {
		return err
	}
	if h.Name != manifestName || h.Size > largest {
		return fmt.Errorf("%w: it does not begin with a manifest", ErrForeign)
	}
	s := r.open(h)
	text, err := io.ReadAll(s)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(text, &r.m); err != nil {
		return fmt.Errorf("%w: its manifest can't be read: %w", ErrForeign, err)
	}
	if err := s.done(); err != nil {
		return err
	}
	return r.m.check()
}

func (r *reader) file(h *tar.Header) error {
	e := tree.Entry{Path: strings.TrimPrefix(h.Name, filesDir), Mode: fs.FileMode(h.Mode).Perm(), MTime: h.ModTime}
	if r.m.Owners {
		e.Owner = &host.Owner{User: h.Uid, Group: h.Gid}
		for k, v := range h.PAXRecords {
			if name, ok := strings.CutPrefix(k, xattrRecord); ok {
				if e.Attrs == nil {
					e.Attrs = host.Attrs{}
				}
				e.Attrs[name] = []byte(v)
			}
		}
		if h.Typeflag == tar.TypeDir { // bits that give rights to who runs a file are not taken from an archive
			e.Mode |= h.FileInfo().Mode() & (fs.ModeSetgid | fs.ModeSticky)
		}
	}
	switch h.Typeflag {
	case tar.TypeDir:
		e.Mode |= fs.ModeDir
		return r.to.File(e, nil)
	case tar.TypeSymlink:
		e.Mode, e.Link = fs.ModeSymlink|0o777, h.Linkname
		return r.to.File(e, nil)
	}
	if r.files++; r.files > r.m.Files {
		return fmt.Errorf("%w: it has more files than its manifest says", ErrHostile)
	}
	e.Size = h.Size
	s := r.open(h)
	if err := r.to.File(e, s); err != nil {
		return err
	}
	return s.done()
}

// sqlStream is the parts of the SQL as one text.
type sqlStream struct {
	r   *reader
	now *summed
}

func (s *sqlStream) Read(p []byte) (int, error) {
	for {
		if s.now != nil {
			n, err := s.now.Read(p)
			if n > 0 && err == io.EOF {
				err = nil // of this part: another may follow
			}
			if n > 0 || err != io.EOF {
				return n, err
			}
			if err := s.now.done(); err != nil {
				return 0, err
			}
			s.now = nil
		}
		h, err := s.r.next()
		if err != nil {
			return 0, notEOF(err)
		}
		if !strings.HasPrefix(h.Name, sqlDir) || path.Ext(h.Name) != ".sql" {
			s.r.head = h
			return 0, io.EOF
		}
		s.now = s.r.open(h)
	}
}

func notEOF(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// rows gives the rows of all tables.
func (r *reader) rows() error {
	stream := &sqlStream{r: r}
	p := newParser(stream, r.m.Schema.Engine)
	for _, t := range r.m.Schema.Tables {
		err := r.to.Rows(t, func(give func(tables.Row) error) error { return p.table(r.ctx, t, give) })
		if err != nil {
			return fmt.Errorf("table %s: %w", t.Name, err)
		}
	}
	if err := p.end(); err != nil {
		return err
	}
	if p.rows != r.m.Rows {
		return fmt.Errorf("%w: it has %d rows, and its manifest says %d", ErrDamaged, p.rows, r.m.Rows)
	}
	if _, err := io.Copy(io.Discard, stream); err != nil {
		return err
	}
	return nil
}

// end compares the digests.
func (r *reader) end() error {
	said, err := io.ReadAll(io.LimitReader(r.tar, largest))
	if err != nil {
		return err
	}
	lines := strings.Split(strings.TrimSuffix(string(said), "\n"), "\n")
	for i, line := range lines {
		if i >= len(r.sums) || line != r.sums[i] && line != r.old[i] {
			_, name, _ := strings.Cut(line, "  ")
			return fmt.Errorf("%w: %s is not what it was", ErrDamaged, name)
		}
	}
	if len(lines) != len(r.sums) || !strings.HasSuffix(string(said), "\n") {
		return fmt.Errorf("%w: its list of digests is not whole", ErrDamaged)
	}
	if r.files != r.m.Files {
		return fmt.Errorf("%w: it has %d files, and its manifest says %d", ErrDamaged, r.files, r.m.Files)
	}
	if _, err := r.tar.Next(); err != io.EOF {
		return fmt.Errorf("%w: something follows its end", ErrDamaged)
	}
	if _, err := io.Copy(io.Discard, r.z); err != nil { // the checksum of all of it is behind its end
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return r.to.End()
}
