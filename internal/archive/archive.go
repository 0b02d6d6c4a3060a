// Package archive writes a site into one file, and reads it back: a tar,
// compressed with zstd, with a manifest, the files, the rows as SQL, and the
// SHA-256 of each, all of which standard tools read too (docs/formats/archive.md).
package archive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// The entries of an archive, in this order.
const (
	manifestName = "manifest.json"
	filesDir     = "files/"
	sqlDir       = "database/"
	sumsName     = "SHA256SUMS" // of all others, as sha256sum writes and checks it
)

// Version is that of the format.
const Version = 1

// Errors that callers decide on.
var (
	ErrDamaged = errors.New("the archive is damaged")
	ErrMissing = errors.New("there is no archive")
	ErrForeign = errors.New("this is no archive of Alibi's")
	ErrHostile = errors.New("the archive is refused")
	ErrLocked  = errors.New("the archive is encrypted, and none of the keys given opens it")
)

// Manifest is the first entry: what the archive is of.
type Manifest struct {
	Format  string         `json:"format"` // "alibi-archive"
	Version int            `json:"version"`
	Site    site.Site      `json:"site"`
	Taken   time.Time      `json:"taken"` // when its files and rows were read
	Point   string         `json:"point"` // the restore point that it was made of
	By      string         `json:"by,omitempty"`
	Files   int64          `json:"files"`
	Rows    int64          `json:"rows"`
	Bytes   int64          `json:"bytes"` // of files and rows, as they are
	Schema  *tables.Schema `json:"schema,omitempty"`
	Secrets bool           `json:"secrets"` // passwords, their digests and keys are in it
	Missing []string       `json:"missing,omitempty"`
	Owners  bool           `json:"owners,omitempty"` // its entries tell to whom they belong
}

// Source is what an archive is made of.
type Source struct {
	Manifest Manifest
	Entries  []tree.Entry
	Open     func(path string) (io.ReadCloser, error)
	Snapshot tables.Snapshot // nil: no database
	// Redact gives a file's bytes, or a row, without what is secret; nil: as it is.
	Redact *stack.Redaction
}

// Content is what a reader is told of; each part is checked before End is called.
type Content interface {
	Begin(Manifest) error
	File(e tree.Entry, r io.Reader) error
	// Rows gives the rows of a table, in the schema's order of tables.
	Rows(t tables.Table, next func(give func(tables.Row) error) error) error
	End() error
}

// Discard checks an archive and keeps nothing.
type Discard struct{}

func (Discard) Begin(Manifest) error { return nil }
func (Discard) File(_ tree.Entry, r io.Reader) error {
	if r == nil {
		return nil // a folder or a link
	}
	_, err := io.Copy(io.Discard, r)
	return err
}
func (Discard) Rows(_ tables.Table, next func(func(tables.Row) error) error) error {
	return next(func(tables.Row) error { return nil })
}
func (Discard) End() error { return nil }

// check refuses what an honest manifest can't hold.
func (m Manifest) check() error {
	switch {
	case m.Format != "alibi-archive":
		return fmt.Errorf("%w: its manifest says %q", ErrForeign, m.Format)
	case m.Version != Version:
		return fmt.Errorf("it is of version %d of the format, and this Alibi reads %d: use a newer one", m.Version,
			Version)
	case m.Files < 0 || m.Rows < 0 || m.Bytes < 0 || m.Site.Name == "" || m.Site.ID == "":
		return fmt.Errorf("%w: its manifest is not whole", ErrDamaged)
	}
	if err := site.CheckName(site.Slug(m.Site.Name), func(string) bool { return false }); err != nil {
		return fmt.Errorf("%w: its site's name is %q", ErrHostile, m.Site.Name)
	}
	if m.Schema == nil {
		return nil
	}
	for _, t := range m.Schema.Tables {
		if err := checkCreate(m.Schema.Engine, t); err != nil {
			return err
		}
	}
	for _, o := range m.Schema.After {
		if !strings.HasPrefix(strings.ToUpper(strings.TrimSpace(o.SQL)), "CREATE") {
			return fmt.Errorf("%w: %s %s is made by something else than a CREATE statement", ErrHostile, o.Kind, o.Name)
		}
	}
	return nil
}

// harmless are the storage engines that keep what they are given, where they are.
var harmless = []string{"innodb", "myisam", "aria", "memory"}

// checkCreate refuses a definition that does more than making a table: reading
// others, or leaving the database.
func checkCreate(engine string, t tables.Table) error {
	refuse := func(why string) error {
		return fmt.Errorf("%w: the definition of table %s %s", ErrHostile, t.Name, why)
	}
	if t.Create == "" && t.Name == "sqlite_sequence" {
		return nil
	}
	bare, served := strings.ToLower(withoutQuoted(t.Create)), site.Database{Engine: engine}.Served()
	words := strings.Fields(strings.Map(func(r rune) rune {
		if r == '(' || r == ')' || r == ',' || r == '=' {
			return ' '
		}
		return r
	}, bare))
	if len(words) < 2 || words[0] != "create" || words[1] != "table" && words[1] != "virtual" {
		return refuse("is no CREATE TABLE")
	}
	if strings.Contains(bare, ";") {
		return refuse("holds further statements")
	}
	for i, w := range words {
		switch {
		case w == "select" || w == "like" && served:
			return refuse("reads other tables")
		case w == "directory" || w == "connection":
			return refuse("leads out of the database")
		case served && w == "engine" && (i+1 == len(words) || !slices.Contains(harmless, words[i+1])):
			return refuse("asks for an engine that is not allowed")
		}
	}
	return nil
}

// withoutQuoted leaves out what stands between quotation marks, and comments.
func withoutQuoted(sql string) string {
	var b strings.Builder
	for i := 0; i < len(sql); i++ {
		c := sql[i]
		switch {
		case c == '\'' || c == '"' || c == '`':
			for i++; i < len(sql) && sql[i] != c; i++ {
				if sql[i] == '\\' && c != '`' {
					i++
				}
			}
			b.WriteByte('x')
		case strings.HasPrefix(sql[i:], "/*"):
			b.WriteString(" directory ") // a comment may hold code: no definition of ours has one
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// Check reads an archive and checks every byte of it.
func Check(ctx context.Context, r io.Reader, tell func(bytes int64)) (Manifest, error) {
	return Read(ctx, r, Discard{}, Limits{}, tell)
}
