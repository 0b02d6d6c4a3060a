package carry

import (
	"bytes"
	"context"
	"io/fs"
	"path"
	"time"
	"unicode/utf8"

	"alibi/internal/baseline"
	"alibi/internal/drift"
	"alibi/internal/host"
	"alibi/internal/merge"
	"alibi/internal/tree"
)

// fileVersions are what is in a file on either side, with lines that can be merged.
type fileVersions struct{ live, copied []byte }

// versionsOf reads both; not ok where one is gone, or is no text.
func (s *Sides) versionsOf(f *drift.File) (v fileVersions, ok bool) {
	read := func(side Side, e tree.Entry) []byte {
		if e.Path == "" || !drift.HasLines(e) {
			return nil
		}
		text, err := host.ReadFile(s.roots[side], e.Path, e.Size+1)
		if err != nil || int64(len(text)) != e.Size || !utf8.Valid(text) || bytes.IndexByte(text, 0) >= 0 {
			return nil
		}
		return text
	}
	v = fileVersions{read(Live, f.LiveIs), read(Copy, f.CopyIs)}
	return v, v.live != nil && v.copied != nil
}

// wasFile is what was in a file when the sides parted, or last had it in common.
func (s *Sides) wasFile(ctx context.Context, f *drift.File) (text []byte, ok bool) {
	for _, v := range []*baseline.Values{s.values, s.first} {
		if v == nil || !f.Known {
			continue
		}
		if text, ok = v.Text(ctx, f.Base.Copy.Hash, f.Base.Origin.Hash); ok {
			return text, true
		}
	}
	return nil, false
}

// filePlace names a file in Wish.Hand.
func filePlace(f *drift.File) string { return "file " + f.Path }

// mergedFile brings both versions of a file together, line by line; not whole where both changed the same lines, or it
// is not known what it was. hand has what people wrote for such files.
func (s *Sides) mergedFile(ctx context.Context, f *drift.File, hand map[string]string) (text []byte, whole bool) {
	v, ok := s.versionsOf(f)
	if !ok {
		return nil, false
	}
	if was, known := s.wasFile(ctx, f); known {
		if text, whole := merge.Text(string(was), string(v.live), string(v.copied)); whole {
			return []byte(text), true
		}
	}
	written, by := hand[filePlace(f)]
	return []byte(written), by
}

// fileConflict gives the versions of a file that both sides changed, for people to write what is to stand.
func (s *Sides) fileConflict(ctx context.Context, f *drift.File) (c Conflict, ok bool) {
	v, ok := s.versionsOf(f)
	if !ok {
		return c, false
	}
	was, _ := s.wasFile(ctx, f)
	return Conflict{filePlace(f), path.Base(f.Path), merge.Marked(string(was), string(v.live), string(v.copied),
		s.versions())}, true
}

// entryOf is a file with a text, in place of one that is there.
func (c *carrying) entryOf(text []byte, there tree.Entry) tree.Entry {
	there.Size, there.Hash = int64(len(text)), tree.Sum(text)
	there.MTime = c.env.Now().Truncate(time.Second)
	return there
}

// keepTexts keeps what was in files that were carried, as both sides had them in common then.
func (s *Sides) keepTexts(ctx context.Context, rec Record) error {
	if s.values == nil {
		return nil
	}
	from := rec.To.other()
	for _, f := range undropped(rec) {
		e := f.After
		if f.Text != nil {
			e = f.Other
		}
		if e.Path == "" || !drift.HasLines(e) {
			continue
		}
		text, err := host.ReadFile(s.roots[from], e.Path, e.Size+1)
		if err != nil || tree.Sum(text) != e.Hash {
			continue // somebody changed it already: what it was is not known then
		}
		if err := s.values.AddText(ctx, text); err != nil {
			return err
		}
	}
	return nil
}

// texts shows a tree with other texts in some of its files.
type texts struct {
	host.Tree
	by map[string]File
}

// withTexts shows the side that is read with what is merged in place of what it has.
func withTexts(from host.Tree, list []File) host.Tree {
	by := map[string]File{}
	for _, f := range list {
		if f.Text != nil {
			by[f.Path] = f
		}
	}
	if len(by) == 0 {
		return from
	}
	return texts{from, by}
}

func (x texts) Lstat(name string) (fs.FileInfo, error) {
	if f, is := x.by[path.Clean(name)]; is {
		return textInfo{f.After}, nil
	}
	return x.Tree.Lstat(name)
}

func (x texts) Open(name string) (host.File, error) {
	if f, is := x.by[path.Clean(name)]; is {
		return textFile{bytes.NewReader(f.Text), textInfo{f.After}}, nil
	}
	return x.Tree.Open(name)
}

// textFile is a file of which the text is known.
type textFile struct {
	*bytes.Reader
	info textInfo
}

func (f textFile) Stat() (fs.FileInfo, error) { return f.info, nil }

func (textFile) Close() error { return nil }

// textInfo tells of it.
type textInfo struct{ e tree.Entry }

func (i textInfo) Name() string       { return path.Base(i.e.Path) }
func (i textInfo) Size() int64        { return i.e.Size }
func (i textInfo) Mode() fs.FileMode  { return i.e.Mode }
func (i textInfo) ModTime() time.Time { return i.e.MTime }
func (i textInfo) IsDir() bool        { return false }
func (i textInfo) Sys() any           { return nil }
