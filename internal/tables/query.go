package tables

import (
	"context"
	"database/sql"
	"fmt"
	"time"
)

// Querier is a database in which a person runs statements.
type Querier interface {
	// Query runs one statement: give gets the names of the result's columns and each
	// row; it tells how many rows were changed. Without write it is run where nothing
	// can be written.
	Query(
		ctx context.Context,
		statement string,
		write bool,
		give func(columns []string, row []Value) error,
	) (changed int64, err error)
}

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
