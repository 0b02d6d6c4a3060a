package mysql

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"alibi/internal/tables"
)

func known(names ...string) map[string]bool {
	out := map[string]bool{}
	for _, n := range names {
		out[n] = true
	}
	return out
}

func TestTheNearestCollation(t *testing.T) {
	old := known("utf8_general_ci", "utf8_bin", "utf8mb4_general_ci", "utf8mb4_unicode_ci", "utf8mb4_unicode_520_ci",
		"utf8mb4_swedish_ci", "utf8mb4_bin", "latin1_swedish_ci")
	maria := known("utf8mb3_general_ci", "utf8mb4_uca1400_ai_ci", "utf8mb4_uca1400_as_cs", "utf8mb4_uca1400_as_ci",
		"utf8mb4_uca1400_swedish_ai_ci", "utf8mb4_unicode_520_ci", "utf8mb4_bin")
	mysql8 := known("utf8mb3_general_ci", "utf8mb4_0900_ai_ci", "utf8mb4_0900_as_cs", "utf8mb4_sv_0900_ai_ci",
		"utf8mb4_unicode_520_ci", "utf8mb4_bin", "utf8mb4_0900_bin")
	for _, c := range []struct {
		from  string
		knows map[string]bool
		to    string
		same  bool
	}{
		{"utf8mb4_0900_ai_ci", old, "utf8mb4_unicode_520_ci", false},
		{"utf8mb4_0900_ai_ci", maria, "utf8mb4_uca1400_ai_ci", false},
		{"utf8mb4_uca1400_ai_ci", mysql8, "utf8mb4_0900_ai_ci", false},
		{"utf8mb4_0900_as_cs", old, "utf8mb4_bin", false},
		{"utf8mb4_0900_as_cs", maria, "utf8mb4_uca1400_as_cs", false},
		{"utf8mb4_0900_as_ci", maria, "utf8mb4_uca1400_as_ci", false},
		{"utf8mb4_0900_bin", old, "utf8mb4_bin", false},
		{"utf8mb4_sv_0900_ai_ci", maria, "utf8mb4_uca1400_swedish_ai_ci", false},
		{"utf8mb4_sv_0900_ai_ci", old, "utf8mb4_swedish_ci", false},
		{"utf8mb4_uca1400_swedish_ai_ci", mysql8, "utf8mb4_sv_0900_ai_ci", false},
		{"utf8mb3_general_ci", old, "utf8_general_ci", true},
		{"utf8_general_ci", maria, "utf8mb3_general_ci", true},
		{"gb18030_unicode_520_ci", old, "", false},
		{"latin1_german2_ci", maria, "", false},
	} {
		to, same := Nearest(c.from, c.knows)
		assert.Equal(t, c.to, to, c.from)
		assert.Equal(t, c.same, same, c.from)
	}
}

const thread = "CREATE TABLE `sk_tides` (\n" +
	"  `a` varchar(9) CHARACTER SET utf8mb4 COLLATE utf8mb4_0900_ai_ci DEFAULT 'collate utf8mb4_0900_ai_ci',\n" +
	"  `b` text COMMENT 'x',\n" +
	"  `g` varchar(9) GENERATED ALWAYS AS (`a` collate utf8mb4_0900_as_cs) VIRTUAL,\n" +
	"  KEY `collate` (`a`)\n" +
	") ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci"

func TestASchemaWithOtherCollations(t *testing.T) {
	cols := []tables.Column{{Name: "a", Type: "varchar(9)", Charset: "utf8mb4", Collation: "utf8mb4_0900_ai_ci"},
		{Name: "b", Type: "text", Charset: "utf8mb4", Collation: "utf8mb4_0900_ai_ci"}}
	view := tables.Object{Kind: "view", Name: "v", SQL: "CREATE VIEW `v` AS select `a` collate utf8mb4_0900_as_cs AS `a`"}
	s := tables.Schema{Tables: []tables.Table{{Name: "sk_tides", Create: thread, Columns: cols,
		Definition: define(thread, "utf8mb4_0900_ai_ci", []column{newColumn(cols[0]), newColumn(cols[1])})}},
		After: []tables.Object{view}, Settings: map[string]string{"collation": "utf8mb4_0900_ai_ci"}}
	assert.Equal(t, map[string]string{"utf8mb4_0900_ai_ci": "sk_tides.a", "utf8mb4_0900_as_cs": "table sk_tides"},
		Collations(s))
	r := Recollate(s, map[string]string{"utf8mb4_0900_ai_ci": "utf8mb4_unicode_520_ci",
		"utf8mb4_0900_as_cs": "utf8mb4_bin"})
	assert.Equal(t, map[string]string{"utf8mb4_unicode_520_ci": "sk_tides.a", "utf8mb4_bin": "table sk_tides"},
		Collations(r))
	assert.Contains(t, r.Tables[0].Create, "DEFAULT 'collate utf8mb4_0900_ai_ci'", "what is a text stays")
	assert.Contains(t, r.Tables[0].Definition["column b"], "utf8mb4_unicode_520_ci")
	assert.Equal(t, "utf8mb4_unicode_520_ci", r.Tables[0].Definition["collation"])
	assert.Contains(t, r.After[0].SQL, "collate utf8mb4_bin")
	assert.Equal(t, thread, s.Tables[0].Create, "it is another one")
	assert.Equal(t, s, Recollate(s, nil))
}

func TestNoCollationIsLeftToTheServer(t *testing.T) {
	create := "CREATE TABLE `t` (\n  `a` varchar(9) CHARACTER SET utf8mb4 NOT NULL COMMENT 'CHARACTER SET utf8mb4',\n" +
		"  `b` text CHARACTER SET utf8mb4 COLLATE utf8mb4_bin\n) ENGINE=InnoDB DEFAULT CHARSET=latin1 COMMENT='CHARSET=utf8'"
	is := explicit(tables.Table{Create: create, Columns: []tables.Column{
		{Name: "a", Collation: "utf8mb4_general_ci"}, {Name: "b", Collation: "utf8mb4_bin"}},
		Definition: tables.Definition{"collation": "latin1_swedish_ci"}})
	assert.Equal(t, "CREATE TABLE `t` (\n  `a` varchar(9) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci NOT NULL "+
		"COMMENT 'CHARACTER SET utf8mb4',\n  `b` text CHARACTER SET utf8mb4 COLLATE utf8mb4_bin\n) ENGINE=InnoDB "+
		"DEFAULT CHARSET=latin1 COLLATE latin1_swedish_ci COMMENT='CHARSET=utf8'", is)
	assert.Equal(t, thread, explicit(tables.Table{Create: thread}))
}
