package tables

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"
	"unicode"
)

// Querier is a database in which a person runs statements.
type Querier interface {
	// Query runs one statement: give gets the names of the result's columns and each
	// row; it tells how many rows were changed. Without write it is run where nothing
	// can be written.
	Query(ctx context.Context, statement string, write bool, give func(columns []string, row []Value) error) (changed int64, err error)
}

// ErrReadOnly is given for a statement that may write, where nothing is to be
// written.
var ErrReadOnly = errors.New("only reading is allowed here")

// reading are the first words of statements that only read.
var reading = map[string]bool{"select": true, "show": true, "describe": true, "desc": true, "explain": true, "with": true, "values": true, "table": true}

// OnlyReads refuses a statement that does not begin as one that reads does. It is
// the first of two bars: the second is the server's own.
func OnlyReads(statement string) error {
	s := strings.TrimLeft(statement, " \t\r\n(")
	word := strings.ToLower(s[:len(s)-len(strings.TrimLeftFunc(s, unicode.IsLetter))])
	if !reading[word] {
		return fmt.Errorf("%w: %q writes, or is no statement", ErrReadOnly, word)
	}
	if into := intoFile.FindString(quotes.ReplaceAllString(s, "''")); into != "" {
		return fmt.Errorf("%w: %q writes a file on the server", ErrReadOnly, strings.ToLower(into))
	}
	return nil
}

// A transaction that only reads does not keep a server from writing a file.
var (
	quotes   = regexp.MustCompile("(?s)'(?:[^'\\\\]|\\\\.)*'|\"(?:[^\"\\\\]|\\\\.)*\"|`[^`]*`")
	intoFile = regexp.MustCompile(`(?i)\b(outfile|dumpfile)\b`)
)

// Results gives the rows of a result.
func Results(rows *sql.Rows, give func(columns []string, row []Value) error) error {
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	cells := make([]any, len(columns))
	to := make([]any, len(columns))
	for i := range cells {
		to[i] = &cells[i]
	}
	row := make([]Value, len(columns))
	for rows.Next() {
		if err := rows.Scan(to...); err != nil {
			return err
		}
		for i, c := range cells {
			row[i] = valueOf(c)
		}
		if err := give(columns, row); err != nil {
			return err
		}
	}
	return rows.Err()
}

func valueOf(c any) Value {
	switch c := c.(type) {
	case nil:
		return Value{}
	case int64:
		return Value{Kind: Int, Int: c}
	case float64:
		return Value{Kind: Float, Float: c}
	case []byte:
		return Value{Kind: Text, Bytes: c}
	case time.Time:
		return Value{Kind: Text, Bytes: []byte(c.Format("2006-01-02 15:04:05"))}
	}
	return Value{Kind: Text, Bytes: fmt.Append(nil, c)}
}
