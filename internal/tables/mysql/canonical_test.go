package mysql

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/tables"
)

func TestCanonical(t *testing.T) {
	for name, c := range map[string][2]string{
		"a view": {
			"CREATE ALGORITHM=UNDEFINED DEFINER=`root`@`localhost` SQL SECURITY DEFINER VIEW `ferry`.`v` AS select " +
				"`ferry`.`t`.`a` AS `a` from `ferry`.`t`",
			"CREATE ALGORITHM=UNDEFINED SQL SECURITY DEFINER VIEW `v` AS select `t`.`a` AS `a` from `t`"},
		"another database's tables stay": {
			"CREATE VIEW `v` AS select `other`.`t`.`a` AS `a` from `other`.`t` join ferry.t2",
			"CREATE VIEW `v` AS select `other`.`t`.`a` AS `a` from `other`.`t` join t2"},
		"strings and comments stay": {
			"CREATE DEFINER='o''brien'@'%' TRIGGER x BEFORE INSERT ON t FOR EACH ROW SET @a = 'DEFINER=`x`@`y` " +
				"`ferry`.', @b = \"it's\" /* `ferry`.t */",
			"CREATE TRIGGER x BEFORE INSERT ON t FOR EACH ROW SET @a = 'DEFINER=`x`@`y` `ferry`.', @b = \"it's\" /* " +
				"`ferry`.t */"},
		"current user": {"CREATE DEFINER=CURRENT_USER() PROCEDURE p() BEGIN END", "CREATE PROCEDURE p() BEGIN END"},
		"a column called like the database": {
			"CREATE VIEW v AS select `t`.`ferry` AS `ferry` from t",
			"CREATE VIEW v AS select `t`.`ferry` AS `ferry` from t"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c[1], canonical(c[0], "ferry"))
			assert.Equal(t, c[1], canonical(c[1], "ferry"), "nothing is left to do")
		})
	}
}

func TestSplitLosesNothing(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		sql := rapid.StringMatching("([a-z `'\"\\\\.;()=@-]|/\\*|\\*/|--|\n)*").Draw(r, "sql")
		out := ""
		for _, w := range split(sql) {
			out += w.text + w.tail
		}
		assert.Equal(r, strings.TrimLeft(sql, " \n"), strings.TrimLeft(out, " \n"))
	})
}

func TestAsleep(t *testing.T) {
	assert.Equal(t, "CREATE EVENT e ON SCHEDULE EVERY 1 DAY DISABLE DO UPDATE t SET a = 'ENABLE'",
		asleep("CREATE EVENT e ON SCHEDULE EVERY 1 DAY ENABLE DO UPDATE t SET a = 'ENABLE'"))
	assert.Equal(t, "CREATE EVENT e ON SCHEDULE EVERY 1 DAY DISABLE DO CALL enable()",
		asleep("CREATE EVENT e ON SCHEDULE EVERY 1 DAY DISABLE DO CALL enable()"))
}

func TestParseServer(t *testing.T) {
	for in, want := range map[string][2]string{
		"":                      {"unix", "/run/s"},
		"localhost":             {"unix", "/run/s"},
		"localhost:/tmp/x.sock": {"unix", "/tmp/x.sock"},
		"/tmp/x.sock":           {"unix", "/tmp/x.sock"},
		"127.0.0.1":             {"tcp", "127.0.0.1:3306"},
		"db.example:3307":       {"tcp", "db.example:3307"},
		"db.example:":           {"tcp", "db.example:3306"},
		"[::1]:3309":            {"tcp", "[::1]:3309"},
		"::1":                   {"tcp", "[::1]:3306"},
	} {
		network, addr := ParseServer(in, "/run/s")
		assert.Equal(t, want, [2]string{network, addr}, in)
	}
}

func TestQuote(t *testing.T) {
	assert.Equal(t, `'a\0\n\r\Z\'\"\\é`+"\xff"+`'`, string(quote(nil, []byte("a\x00\n\r\x1a'\"\\é\xff"))))
	assert.Equal(t, "`a``b`", name("a`b"))
	assert.Equal(t, "`alibi\\_a\\%`", pattern("alibi_a%"))
}

func TestRangesAreWrittenForAnIndex(t *testing.T) {
	num := newColumn(tables.Column{Name: "a", Type: "int(11)"})
	text := newColumn(tables.Column{Name: "b", Type: "varchar(20)", Charset: "latin1", Collation: "latin1_swedish_ci"})
	one := func(n int64) tables.Value { return tables.Value{Kind: tables.Int, Int: n} }
	str := func(s string) tables.Value { return tables.Value{Kind: tables.Text, Bytes: []byte(s)} }
	assert.Empty(t, where([]column{num}, tables.Range{}))
	assert.Equal(t, " WHERE (`a` > 3) AND NOT (`a` > 9) AND `a` <= 9",
		where([]column{num}, tables.Range{After: []tables.Value{one(3)}, To: []tables.Value{one(9)}}))
	assert.Equal(t, " WHERE (`a` >= 3 AND (`a` > 3 OR `a` = 3 AND (`b` > _latin1'x' COLLATE latin1_swedish_ci)))",
		where([]column{num, text}, tables.Range{After: []tables.Value{one(3), str("x")}}))
	assert.Equal(t, "`a` IN (1,2)", oneOf([]column{num}, [][]tables.Value{{one(1)}, {one(2)}}))
	assert.Equal(t, "(`a` = 1 AND `b` = _latin1'q' COLLATE latin1_swedish_ci)",
		oneOf([]column{num, text}, [][]tables.Value{{one(1), str("q")}}))
}

func TestConditionLeavesOutWhatCannotHoldAnAddress(t *testing.T) {
	tab := tables.Table{
		Columns: []tables.Column{
			{Name: "id", Type: "int(11)"},
			{Name: "short", Type: "varchar(5)", Charset: "utf8mb4"},
			{Name: "kind", Type: "enum('a','b')"},
			{Name: "body", Type: "longtext", Charset: "utf8mb4"},
			{Name: "at", Type: "datetime"},
			{Name: "place", Type: "point"},
		},
	}
	got := condition(
		tab,
		tables.Search{
			Fold:   []string{"skerry.example"},
			Exact:  []string{"/srv/a.b"},
			Values: map[string][]string{"short": {"it's"}},
		},
	)
	assert.Equal(t, 1, strings.Count(got, "REGEXP"))
	assert.Contains(t, got, "CAST(`body` AS BINARY) REGEXP _binary'(?i:skerry\\\\.example)|/srv/a\\\\.b'")
	assert.Contains(t, got, "BINARY `short` IN ('it\\'s')")
	assert.Equal(t, "0", condition(tab, tables.Search{}))
	assert.Equal(t, "`body`", newColumn(tab.Columns[3]).exchanged(nil))
	body := newColumn(tab.Columns[3])
	assert.Equal(t, "IF(OCTET_LENGTH(`body`) <= 16384 AND INSTR(CAST(`body` AS BINARY), _binary'://a'), "+
		"REPLACE(REPLACE(CAST(`body` AS BINARY), 'https://a', 'http://b'), 'http://a', 'http://b'), `body`)",
		body.exchanged([][2]string{{"https://a", "http://b"}, {"http://a", "http://b"}}), "only what holds one pays")
	assert.Equal(t, "IF(OCTET_LENGTH(`body`) <= 16384, REPLACE(REPLACE(CAST(`body` AS BINARY), 'x', 'z'), 'y', 'z'), "+
		"`body`)", body.exchanged([][2]string{{"x", "z"}, {"y", "z"}}), "what has nothing in common is looked for one by one")
	assert.Equal(t, "`short`", newColumn(tab.Columns[1]).exchanged([][2]string{{"https://a", "http://b"}}),
		"it is too short to hold one")
}

func TestValuesOfEachClass(t *testing.T) {
	col := func(kind string) column { return newColumn(tables.Column{Name: "c", Type: kind, Charset: "utf8mb4"}) }
	assert.Equal(t, tables.Null, col("text").value(nil).Kind)
	assert.Equal(t, tables.Int, col("bigint(20)").value([]byte("-7")).Kind)
	large := col("bigint(20) unsigned").value([]byte("18446744073709551615"))
	assert.Equal(t, tables.Text, large.Kind, "more than 63 bits are digits")
	assert.Equal(t, "18446744073709551615", string(col("bigint(20) unsigned").literal(nil, large)))
	assert.InDelta(t, 0.5, col("double").value([]byte("0.5")).Float, 0)
	assert.Equal(t, "_binary'x'", string(col("varchar(9)").literal(nil,
		tables.Value{Kind: tables.Text, Bytes: []byte("x")})))
	assert.Equal(t, "'2026-02-30'", string(col("date").literal(nil,
		tables.Value{Kind: tables.Text, Bytes: []byte("2026-02-30")})))
	assert.Equal(t, "NULL", string(col("date").literal(nil, tables.Value{})))
	wide := newColumn(tables.Column{Name: "w", Type: "varchar(9)", Charset: "utf16", Collation: "utf16_bin"})
	assert.Equal(t, "_utf8mb4'x'", string(wide.literal(nil, tables.Value{Kind: tables.Text, Bytes: []byte("x")})))
	for _, kind := range []string{"enum('a')", "set('a')", "float", "text", "bit(3)"} {
		assert.False(t, col(kind).ordered(), kind)
	}
	_, err := decodeSum([]byte("no digest"))
	assert.ErrorContains(t, err, "too large for the server")
	n, err := lowBits("36893488147419103233") // 2^65 + 1
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
	_, err = lowBits("many")
	assert.Error(t, err)
}

func TestEveryAlternativeIsAPattern(t *testing.T) {
	tab := tables.Table{Columns: []tables.Column{{Name: "c", Type: "text"}}}
	got := condition(tab, tables.Search{Fold: []string{"a+b.example"}, Exact: []string{`\/srv\/x`, "%2Fsrv"}})
	m := regexp.MustCompile(`_binary'(.*)'`).FindStringSubmatch(got)
	require.Len(t, m, 2)
	re := regexp.MustCompile(strings.ReplaceAll(m[1], `\\`, `\`))
	for _, hit := range []string{"https://A+B.EXAMPLE/", `{"p":"\/srv\/x\/y"}`, "x%2Fsrv%2F"} {
		assert.True(t, re.MatchString(hit), hit)
	}
	assert.False(t, re.MatchString("aab.example"))
}
