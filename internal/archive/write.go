package archive

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"time"

	"github.com/klauspost/compress/zstd"

	"alibi/internal/stack"
	"alibi/internal/tables/engines"
	"alibi/internal/tree"
)

// xattrRecord begins the names of records of extended attributes, as common tar
// programs write them (pax(1), with the prefix that star brought).
const xattrRecord = "SCHILY.xattr."

// sqlPart is how long a part of the SQL gets: a tar says how long an entry is
// before it begins.
const sqlPart = 8 << 20

// writer writes the entries of an archive.
type writer struct {
	ctx  context.Context
	tar  *tar.Writer
	at   time.Time
	sums bytes.Buffer
	sql  bytes.Buffer
	n    int // parts of the SQL
	tell func(int64)
}

// Write writes an archive. tell is told of bytes of the site as they are written.
func Write(ctx context.Context, to io.Writer, src Source, tell func(bytes int64)) error {
	z, err := zstd.NewWriter(to, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithWindowSize(8<<20))
	if err != nil {
		return err
	}
	w := &writer{ctx: ctx, tar: tar.NewWriter(z), at: src.Manifest.Taken.Truncate(time.Second), tell: tell}
	err = w.all(src)
	if err == nil {
		err = w.tar.Close()
	}
	if cerr := z.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return fmt.Errorf("writing the archive: %w", err)
	}
	return nil
}

func (w *writer) all(src Source) error {
	m := src.Manifest
	m.Format, m.Version, m.Secrets = "alibi-archive", Version, src.Redact == nil
	text, err := json.MarshalIndent(m, "", " ")
	if err != nil {
		return err
	}
	if err := w.entry(tree.Entry{Path: manifestName, Mode: 0o644, Size: int64(len(text)), MTime: w.at},
		bytes.NewReader(text)); err != nil {
		return err
	}
	for _, e := range src.Entries {
		if err := w.file(e, src); err != nil {
			return fmt.Errorf("%s: %w", e.Path, err)
		}
	}
	if src.Snapshot != nil {
		if err := w.database(src); err != nil {
			return err
		}
	}
	sums := w.sums.Bytes()
	return w.entry(tree.Entry{Path: sumsName, Mode: 0o644, Size: int64(len(sums)), MTime: w.at}, bytes.NewReader(sums))
}

// entry writes one, and notes its digest.
func (w *writer) entry(e tree.Entry, r io.Reader) error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	h := &tar.Header{
		Name:     e.Path,
		Mode:     int64(e.Mode.Perm()),
		ModTime:  e.MTime.Truncate(time.Second),
		Size:     e.Size,
		Typeflag: tar.TypeReg,
	}
	for bit, mode := range map[fs.FileMode]int64{fs.ModeSetgid: 0o2000, fs.ModeSticky: 0o1000} {
		if e.Mode&bit != 0 {
			h.Mode |= mode
		}
	}
	if e.Owner != nil {
		h.Uid, h.Gid = e.Owner.User, e.Owner.Group
	}
	for k, v := range e.Attrs {
		if h.PAXRecords == nil {
			h.PAXRecords = map[string]string{}
		}
		h.PAXRecords[xattrRecord+k] = string(v)
	}
	switch {
	case e.Mode.IsDir():
		h.Typeflag, h.Name, h.Size = tar.TypeDir, e.Path+"/", 0
	case e.Link != "":
		h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, e.Link, 0
	}
	if err := w.tar.WriteHeader(h); err != nil {
		return err
	}
	if h.Typeflag != tar.TypeReg {
		return nil
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(w.tar, sum), r)
	if err == nil && n != e.Size {
		err = fmt.Errorf("it has %d bytes, and %d were told", n, e.Size)
	}
	w.sums.WriteString(sumLine(sum.Sum(nil), e.Path) + "\n")
	return err
}

func (w *writer) file(e tree.Entry, src Source) error {
	in := e
	e.Path = filesDir + e.Path
	if !in.Regular() {
		return w.entry(e, nil)
	}
	r, err := src.Open(in.Path)
	if err != nil {
		return err
	}
	defer r.Close()
	if src.Redact != nil && src.Redact.Has(in.Path) {
		text, err := io.ReadAll(io.LimitReader(r, 16<<20))
		if err != nil {
			return err
		}
		text = src.Redact.File(in.Path, text)
		e.Size = int64(len(text))
		return w.entry(e, bytes.NewReader(text))
	}
	w.tell(e.Size)
	return w.entry(e, r)
}

// database writes the rows as SQL, in parts that are one text together.
func (w *writer) database(src Source) error {
	snap := src.Snapshot
	if src.Redact != nil {
		snap = stack.Redacted(snap, *src.Redact)
	}
	if err := engines.Dump(w.ctx, snap, (*sqlParts)(w)); err != nil {
		return err
	}
	return w.part()
}

// sqlParts takes the SQL and writes a part whenever one is full.
type sqlParts writer

func (p *sqlParts) Write(b []byte) (int, error) {
	w := (*writer)(p)
	w.tell(int64(len(b)))
	w.sql.Write(b)
	if w.sql.Len() < sqlPart {
		return len(b), nil
	}
	return len(b), w.part()
}

func (w *writer) part() error {
	if w.sql.Len() == 0 {
		return nil
	}
	w.n++
	e := tree.Entry{Path: fmt.Sprintf("%s%06d.sql", sqlDir, w.n), Mode: 0o600, Size: int64(w.sql.Len()), MTime: w.at}
	err := w.entry(e, bytes.NewReader(w.sql.Bytes()))
	w.sql.Reset()
	return err
}
