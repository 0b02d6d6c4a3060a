package sqlite

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"alibi/internal/site"
	"alibi/internal/tables"
)

// perInsert is how many rows a statement of a dump has.
const perInsert = 200

// Dump writes tables, their rows, and indexes, views and triggers as statements
// that SQLite's own shell reads into an empty file.
func Dump(ctx context.Context, snap tables.Snapshot, to io.Writer) error {
	s := snap.Schema()
	if s.Engine != "sqlite" {
		return fmt.Errorf("the tables are kept in %s, and can't be written as SQLite's statements", s.Engine)
	}
	w := bufio.NewWriterSize(to, 1<<16)
	fmt.Fprint(w, "PRAGMA foreign_keys = OFF;\nBEGIN;\n")
	for _, t := range s.Tables {
		if t.Name == "sqlite_sequence" {
			fmt.Fprint(w, "DELETE FROM sqlite_sequence;\n")
		} else {
			fmt.Fprintf(w, "%s;\n", t.Create)
		}
		if err := dumpRows(ctx, snap, t, w); err != nil {
			return fmt.Errorf("writing table %s: %w", t.Name, err)
		}
	}
	for _, o := range s.After {
		if o.Kind != "virtual" { // its shadow tables are there, and making it would empty them
			fmt.Fprintf(w, "%s;\n", o.SQL)
		}
	}
	fmt.Fprint(w, "COMMIT;\n")
	return w.Flush()
}

func dumpRows(ctx context.Context, snap tables.Snapshot, t tables.Table, w *bufio.Writer) error {
	var cols []string
	if t.Hidden {
		cols = append(cols, t.Key...)
	}
	for _, c := range t.Columns {
		cols = append(cols, c.Name)
	}
	n := 0
	var b []byte
	err := snap.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		b = b[:0]
		if n%perInsert == 0 {
			if n > 0 {
				b = append(b, ";\n"...)
			}
			b = append(b, "INSERT INTO "+name(t.Name)+" ("+quoted(cols)+") VALUES "...)
		} else {
			b = append(b, ',')
		}
		n++
		values := r.Values
		if t.Hidden {
			values = append(append([]tables.Value{}, r.Key...), values...)
		}
		for i, v := range values {
			b = append(b, "(,"[min(i, 1)])
			b = literal(b, v)
		}
		_, err := w.Write(append(b, ')'))
		return err
	})
	if err == nil && n > 0 {
		_, err = w.WriteString(";\n")
	}
	return err
}

// literal writes a value as SQLite reads it back, to the bit.
func literal(b []byte, v tables.Value) []byte {
	switch v.Kind {
	case tables.Int:
		return strconv.AppendInt(b, v.Int, 10)
	case tables.Float:
		if math.IsInf(v.Float, 0) {
			return append(b, site.Either(v.Float > 0, "9.0e+999", "-9.0e+999")...)
		}
		text := strconv.FormatFloat(v.Float, 'e', 17, 64)
		return append(b, text...)
	case tables.Text:
		if bytes.IndexByte(v.Bytes, 0) >= 0 || !utf8.Valid(v.Bytes) {
			return append(hex.AppendEncode(append(b, "CAST(X'"...), v.Bytes), "' AS TEXT)"...)
		}
		return append(append(append(b, '\''), strings.ReplaceAll(string(v.Bytes), "'", "''")...), '\'')
	case tables.Blob:
		return append(hex.AppendEncode(append(b, "X'"...), v.Bytes), '\'')
	}
	return append(b, "NULL"...)
}
