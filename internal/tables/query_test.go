package tables

import (
	"database/sql"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

func TestOnlyReadingIsLetThrough(t *testing.T) {
	for _, s := range []string{
		"SELECT 1", " \n\t select * from sk_posts", "(SELECT 1) UNION (SELECT 2)", "SHOW TABLES", "describe sk_posts",
		"EXPLAIN SELECT 1",
		"WITH a AS (SELECT 1) SELECT * FROM a", "VALUES (1)",
		"SELECT * FROM sk_options WHERE option_value LIKE '%into outfile%'", "SELECT 'it''s \\' outfile'",
		"SELECT replace(a, 'x', 'y'), INSERT ('Quadratic', 3, 4, 'What') FROM b", "SELECT 1 -- into outfile",
		"SELECT /* ; into outfile */ 1", "SELECT 5--2", "SELECT \"dumpfile\" AS `outfile`",
	} {
		assert.NoError(t, OnlyReads(s), s)
	}
	for s, want := range map[string]string{
		"DELETE FROM sk_posts": "delete", "update sk_posts set a=1": "update", "": "is no statement",
		"   ": "is no statement", "-- SELECT\nDELETE FROM x": "is no statement",
		"selection": "selection", "1 SELECT": "is no statement", "SET autocommit=1": "set", "BEGIN": "begin",
		"/* SELECT */ DROP TABLE x":                      "is no statement",
		"SELECT * FROM sk_users INTO OUTFILE '/srv/x'":   "writes a file",
		"select 'a' into/**/dumpfile '/srv/x'":           "writes a file",
		"SELECT 'x' /*! INTO OUTFILE '/srv/x' */":        "the server runs",
		"SELECT 'x' /*M!100100 INTO OUTFILE '/srv/x' */": "the server runs",
		"SELECT 'x' /* ' */ INTO OUTFILE '/f' -- '":      "writes a file",
		"SELECT 'x' -- it's\nINTO OUTFILE '/f'":          "writes a file",
		"SELECT 'x' # it's\n INTO OUTFILE '/f'":          "writes a file",
		"SELECT `a``' ` INTO DUMPFILE '/f'":              "writes a file",
		"SELECT \"a\\\" ' \" INTO OUTFILE '/f'":          "writes a file",
		"SELECT 'x' /* no end":                           "has no end", "SELECT 'no end": "no second one",
		"SELECT * FROM a FOR UPDATE": "locks", "SELECT * FROM a LOCK IN SHARE MODE": "locks",
		"SELECT sleep(100)":                  "waits",
		"WITH a AS (SELECT 1) DELETE FROM b": "writes", "SELECT 1 INTO @x": "puts what it reads",
	} {
		err := OnlyReads(s)
		require.ErrorIs(t, err, ErrReadOnly, s)
		assert.ErrorContains(t, err, want, s)
	}
}

func TestResultsAreGivenRowByRow(t *testing.T) {
	db, err := sql.Open("sqlite", ":memory:")
	require.NoError(t, err)
	defer db.Close()
	ask := func(statement string, give func([]string, []Value) error) error {
		rows, err := db.Query(statement)
		require.NoError(t, err)
		return Results(rows, give)
	}
	var got []string
	err = ask(
		"SELECT 1 AS n, 2.5 AS f, 'a boat' AS t, NULL AS empty, x'00ff' AS b UNION ALL SELECT 2, 0, '', 'x', ''",
		func(columns []string, row []Value) error {
			assert.Equal(t, []string{"n", "f", "t", "empty", "b"}, columns)
			for _, v := range row {
				got = append(got, v.String())
			}
			if len(got) == 5 {
				assert.Equal(t, []Kind{Int, Float, Text, Null, Text},
					[]Kind{row[0].Kind, row[1].Kind, row[2].Kind, row[3].Kind, row[4].Kind})
			}
			return nil
		},
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"1", "2.5", "a boat"}, got[:3])
	assert.Equal(t, "\x00\xff", got[4])
	assert.Equal(t, "2", got[5])
	enough := errors.New("enough")
	n := 0
	err = ask(
		"WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x+1 FROM c) SELECT x FROM c",
		func([]string, []Value) error {
			if n++; n == 3 {
				return enough
			}
			return nil
		},
	)
	assert.ErrorIs(t, err, enough, "an endless result is stopped")
	err = ask("SELECT 1 WHERE 0", func([]string, []Value) error { return enough })
	assert.NoError(t, err, "no rows are no error")
	assert.Equal(t, "2026-11-23 12:00:00", valueOf(time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)).String())
	assert.Equal(t, "true", valueOf(true).String())
}
