package baseline

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"strings"

	"alibi/internal/tree"
)

// filesTable makes the table of files, links and folders. A side is in the form of tree.Entry.AppendBinary, and null
// where the file was not there.
const filesTable = `CREATE TABLE entries (path BLOB PRIMARY KEY, origin BLOB, copy BLOB, own INTEGER NOT NULL)
	WITHOUT ROWID`

// File is one file, link or folder on either side. A zero side was not there.
type File struct {
	Origin tree.Entry `json:"origin"`
	Copy   tree.Entry `json:"copy"`
	Own    bool       `json:"own,omitempty"` // written for the copy, unlike the origin's
}

// PutFiles notes all files, in place of those noted before.
func (b *Baseline) PutFiles(ctx context.Context, files []File) error {
	return b.putFiles(ctx, files, "DELETE FROM entries")
}

// ChangeFiles notes some files anew.
func (b *Baseline) ChangeFiles(ctx context.Context, files []File) error {
	return b.putFiles(ctx, files, "")
}

// ForgetFiles forgets files.
func (b *Baseline) ForgetFiles(ctx context.Context, paths []string) error {
	for _, p := range paths {
		if _, err := b.db.ExecContext(ctx, "DELETE FROM entries WHERE path = ?", []byte(p)); err != nil {
			return fmt.Errorf("writing the baseline: %w", err)
		}
	}
	return nil
}

func (b *Baseline) putFiles(ctx context.Context, files []File, first string) error {
	tx, err := b.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("writing the baseline: %w", err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	if _, err := tx.ExecContext(ctx, first); err != nil {
		return fmt.Errorf("writing the baseline: %w", err)
	}
	if err := writeFiles(ctx, tx, files); err != nil {
		return fmt.Errorf("writing the baseline: %w", err)
	}
	return tx.Commit()
}

func writeFiles(ctx context.Context, tx *sql.Tx, files []File) error {
	st, err := tx.PrepareContext(ctx, "REPLACE INTO entries VALUES (?, ?, ?, ?)")
	if err != nil {
		return err
	}
	for _, f := range files {
		origin, err := side(f.Origin)
		if err != nil {
			return err
		}
		copied, err := side(f.Copy)
		if err != nil {
			return err
		}
		if _, err := st.ExecContext(ctx, []byte(cmp.Or(f.Origin.Path, f.Copy.Path)), origin, copied, f.Own); err != nil {
			return err
		}
	}
	return nil
}

// Files gives files and links by path: those with the names, or all if none is given.
func (b *Baseline) Files(ctx context.Context, names ...string) (map[string]File, error) {
	all, err := b.entries(ctx, names)
	maps.DeleteFunc(all, func(_ string, f File) bool { return f.folder() })
	return all, err
}

// Brought gives the paths of the files that came from the origin.
func (b *Baseline) Brought(ctx context.Context, want func(path string) bool) (out []string, err error) {
	rows, err := b.db.QueryContext(ctx, "SELECT path FROM entries WHERE origin IS NOT NULL ORDER BY path")
	if err != nil {
		return nil, fmt.Errorf("reading the baseline: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var p []byte
		if err := rows.Scan(&p); err != nil {
			return nil, fmt.Errorf("reading the baseline: %w", err)
		}
		if want(string(p)) {
			out = append(out, string(p))
		}
	}
	return out, rows.Err()
}

// Folders gives the folders by path.
func (b *Baseline) Folders(ctx context.Context) (map[string]File, error) {
	all, err := b.entries(ctx, nil)
	maps.DeleteFunc(all, func(_ string, f File) bool { return !f.folder() })
	return all, err
}

func (f File) folder() bool { return f.Origin.Mode.IsDir() || f.Copy.Mode.IsDir() }

func (b *Baseline) entries(ctx context.Context, names []string) (map[string]File, error) {
	q, args := "SELECT path, origin, copy, own FROM entries", []any{}
	if len(names) > 0 {
		q += " WHERE path IN (?" + strings.Repeat(", ?", len(names)-1) + ")"
		for _, n := range names {
			args = append(args, []byte(n))
		}
	}
	rows, err := b.db.QueryContext(ctx, q, args...)
	if err != nil {
		return nil, fmt.Errorf("reading the baseline: %w", err)
	}
	defer rows.Close()
	out := map[string]File{}
	var name, origin, copied sql.RawBytes
	for rows.Next() {
		var f File
		if err := rows.Scan(&name, &origin, &copied, &f.Own); err != nil {
			return nil, fmt.Errorf("reading the baseline: %w", err)
		}
		p := string(name)
		if err := errors.Join(read(&f.Origin, p, origin), read(&f.Copy, p, copied)); err != nil {
			return nil, fmt.Errorf("reading the baseline: %s: %w", p, err)
		}
		out[p] = f
	}
	return out, rows.Err()
}

// side is how one side of a file is kept: nil where it was not there.
func side(e tree.Entry) ([]byte, error) {
	if e.Path == "" {
		return nil, nil
	}
	return e.AppendBinary(nil)
}

// read reads what side gave.
func read(e *tree.Entry, path string, b []byte) error {
	if b == nil {
		return nil
	}
	e.Path = path
	return e.UnmarshalBinary(b)
}

// convert takes over the files of a baseline that was made when they were kept as JSON.
func (b *Baseline) convert() error {
	const old = "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = 'files'"
	var n int
	if err := b.db.QueryRow(old).Scan(&n); err != nil || n == 0 {
		return err
	}
	ctx := context.Background()
	tx, err := b.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	if err := tx.QueryRow(old).Scan(&n); err != nil || n == 0 {
		return err // another process did it meanwhile
	}
	files, err := documents(ctx, tx)
	if err != nil {
		return err
	}
	if _, err := tx.Exec(filesTable); err != nil {
		return err
	}
	if err := writeFiles(ctx, tx, files); err != nil {
		return err
	}
	// Marks had no changes then, and were in a table of their own.
	if _, err := tx.Exec("DROP TABLE files; DROP TABLE IF EXISTS seen"); err != nil {
		return err
	}
	return tx.Commit()
}

// documents reads files that were kept as JSON.
func documents(ctx context.Context, tx *sql.Tx) (out []File, err error) {
	rows, err := tx.QueryContext(ctx, "SELECT path, doc FROM files")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var p, d []byte
		if err := rows.Scan(&p, &d); err != nil {
			return nil, err
		}
		var f File
		if err := json.Unmarshal(d, &f); err != nil {
			return nil, err
		}
		for _, e := range []*tree.Entry{&f.Origin, &f.Copy} {
			if e.Path != "" {
				e.Path = string(p) // names need not be UTF-8, and JSON changed them
			}
		}
		out = append(out, f)
	}
	return out, rows.Err()
}
