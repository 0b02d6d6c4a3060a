package demo

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"alibi/internal/tables/engines"
)

// php stands in for PHP on the stand-in machines, of which it knows one program: the one that changes rows of a
// database file where that is.
func (w *World) php(machine string, words []string, in io.Reader, out io.Writer) (known bool) {
	if len(words) != 5 || words[0] != "php" || words[1] != "-r" || words[2] != engines.Program {
		return false
	}
	db, err := sql.Open("sqlite", "file:"+w.Dir(machine, words[4])+"?mode=rw&_pragma=busy_timeout(5000)")
	if err != nil {
		return false
	}
	defer db.Close()
	c, err := db.Conn(context.Background())
	if err != nil {
		return false
	}
	defer c.Close()
	say := func(rows [][]string, err error) {
		var answer any = rows
		if err != nil {
			answer = map[string]string{"error": err.Error()}
		}
		line, _ := json.Marshal(answer) // texts always can be
		fmt.Fprintf(out, "%s\n", line)
	}
	begun, err := answer(c, "BEGIN IMMEDIATE")
	if say(begun, err); err != nil {
		return true
	}
	lines := bufio.NewReader(in)
	for {
		line, err := lines.ReadBytes('\n')
		if err != nil {
			return true
		}
		var statement string
		if err = json.Unmarshal(line, &statement); err != nil {
			return true
		}
		say(answer(c, statement))
	}
}

func answer(c *sql.Conn, statement string) (out [][]string, err error) {
	out = [][]string{}
	if !strings.HasPrefix(statement, "SELECT") {
		_, err = c.ExecContext(context.Background(), statement)
		return out, err
	}
	rows, err := c.QueryContext(context.Background(), statement)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		row := make([]string, len(columns))
		to := make([]any, len(columns))
		for i := range row {
			to[i] = &row[i]
		}
		if err := rows.Scan(to...); err != nil {
			return nil, err
		}
		out = append(out, row)
	}
	return out, rows.Err()
}
