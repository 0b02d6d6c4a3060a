package evidence_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"alibi/internal/site"
)

// injury is a way in which a copy can be unlike what it should be. Each has a table, a row or a file of
// its own, so that all of them are planted into one copy.
type injury struct {
	kind  string
	mysql []string // statements on the copy; @T is the table that is this injury's own, @LIVE the origin's database
	lite  []string // the same for SQLite
	file  func(t *testing.T, root string)
	check string // which must see it
	says  string // what it must say; @T as above
	plain string // what it is called where work is no damage: "changed" unless said
	first string // of one value: what it is on both sides first
}

// Columns of the tables that injuries have of their own: see own.
const (
	ownTable = `CREATE TABLE @T (
		id INT UNSIGNED NOT NULL AUTO_INCREMENT, slug VARCHAR(40) NOT NULL DEFAULT 'quay', n INT NOT NULL DEFAULT 7,
		txt TEXT DEFAULT NULL, at TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP,
		two INT GENERATED ALWAYS AS (n * 2) STORED, of INT UNSIGNED DEFAULT NULL,
		PRIMARY KEY (id), UNIQUE KEY slug (slug), KEY n (n), KEY txt (txt(20)), FULLTEXT KEY words (txt),
		CONSTRAINT @T_of FOREIGN KEY (of) REFERENCES @Pparent (id) ON DELETE CASCADE, CONSTRAINT some CHECK (n >= 0)
	) ENGINE=InnoDB AUTO_INCREMENT=500 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci COMMENT='a table'`
	ownLite = `CREATE TABLE @T (id INTEGER PRIMARY KEY AUTOINCREMENT, slug TEXT NOT NULL DEFAULT 'quay' UNIQUE,
		n INTEGER NOT NULL DEFAULT 7 CHECK (n >= 0), txt TEXT)`
)

func schema(kind, says string, statements ...string) injury {
	return injury{kind: kind, mysql: statements, check: "schema", says: "table @T " + says}
}

func (i injury) sqlite(statements ...string) injury {
	i.lite = statements
	return i
}

// definitionInjuries change what the copy's database defines.
var definitionInjuries = []injury{
	schema("a column's collation", "column slug is",
		"ALTER TABLE @T MODIFY slug VARCHAR(40) COLLATE utf8mb4_bin NOT NULL DEFAULT 'quay'"),
	schema("a column's character set", "column slug is",
		"ALTER TABLE @T MODIFY slug VARCHAR(40) CHARACTER SET latin1 NOT NULL DEFAULT 'quay'"),
	schema("the table's collation", "collation is utf8mb4_bin, not utf8mb4_unicode_ci",
		"ALTER TABLE @T DEFAULT COLLATE utf8mb4_bin"),
	schema("a type made wider", "column n is bigint", "ALTER TABLE @T MODIFY n BIGINT NOT NULL DEFAULT 7"),
	schema("a type without its sign", "column n is int unsigned",
		"ALTER TABLE @T MODIFY n INT UNSIGNED NOT NULL DEFAULT 7"),
	schema("a text made longer", "column slug is varchar(80)",
		"ALTER TABLE @T MODIFY slug VARCHAR(80) NOT NULL DEFAULT 'quay'"),
	schema("a text column made a larger one", "column txt is longtext",
		"ALTER TABLE @T MODIFY txt LONGTEXT DEFAULT NULL"),
	schema("another default", "column n is int NOT NULL DEFAULT 8", "ALTER TABLE @T ALTER n SET DEFAULT 8"),
	schema("a default that is gone", "column n is int NOT NULL, not", "ALTER TABLE @T ALTER n DROP DEFAULT"),
	schema("a column that may be NULL", "column slug is varchar(40) DEFAULT 'quay'",
		"ALTER TABLE @T MODIFY slug VARCHAR(40) DEFAULT 'quay'"),
	schema("a time that is not kept", "column at is",
		"ALTER TABLE @T MODIFY at TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP"),
	schema("an added column", "column more is extra", "ALTER TABLE @T ADD more INT").sqlite(
		"ALTER TABLE @T ADD COLUMN more INT",
	),
	schema("a dropped column", "column txt is missing",
		"ALTER TABLE @T DROP INDEX words, DROP INDEX txt, DROP COLUMN txt").sqlite("ALTER TABLE @T DROP COLUMN txt"),
	schema("a renamed column", "column label is extra",
		"ALTER TABLE @T CHANGE slug label VARCHAR(40) NOT NULL DEFAULT 'quay'").sqlite(
		"ALTER TABLE @T RENAME COLUMN slug TO label",
	),
	schema("columns in another order", "place of column n is",
		"ALTER TABLE @T MODIFY n INT NOT NULL DEFAULT 7 AFTER txt"),
	schema("a computed column computed otherwise", "column two is",
		"ALTER TABLE @T MODIFY two INT GENERATED ALWAYS AS (n * 3) STORED"),
	schema("a dropped index", "index n is missing", "ALTER TABLE @T DROP INDEX n"),
	schema("an added index", "index more is extra", "ALTER TABLE @T ADD INDEX more (n, slug)"),
	schema("an index over other columns", "index n is (n,slug), not (n)",
		"ALTER TABLE @T DROP INDEX n, ADD INDEX n (n, slug)"),
	schema("an index over more of a text", "index txt is (txt(30)), not (txt(20))",
		"ALTER TABLE @T DROP INDEX txt, ADD INDEX txt (txt(30))"),
	schema("a UNIQUE index made an ordinary one", "index slug is (slug), not UNIQUE (slug)",
		"ALTER TABLE @T DROP INDEX slug, ADD INDEX slug (slug)"),
	schema("a dropped UNIQUE", "index slug is missing", "ALTER TABLE @T DROP INDEX slug"),
	schema("a dropped FULLTEXT index", "index words is missing", "ALTER TABLE @T DROP INDEX words"),
	schema("a dropped primary key", "primary key is missing",
		"ALTER TABLE @T MODIFY id INT UNSIGNED NOT NULL, DROP PRIMARY KEY"),
	schema("AUTO_INCREMENT that is gone", "column id is int unsigned NOT NULL, not",
		"ALTER TABLE @T MODIFY id INT UNSIGNED NOT NULL"),
	schema("a next number that fell", "gives the number 100 to its next row, not 500",
		"ALTER TABLE @T AUTO_INCREMENT = 100"),
	schema("a next number far off", "gives the number 90000", "ALTER TABLE @T AUTO_INCREMENT = 900000").sqlite(
		"UPDATE sqlite_sequence SET seq = 900000 WHERE name = '@T'",
	),
	schema("another engine", "engine is MyISAM, not InnoDB", "ALTER TABLE @T DROP FOREIGN KEY @T_of",
		"ALTER TABLE @T ENGINE=MyISAM"),
	schema("a dropped foreign key", "foreign key @T_of is missing", "ALTER TABLE @T DROP FOREIGN KEY @T_of"),
	schema("an added foreign key", "foreign key more is extra",
		"ALTER TABLE @T ADD CONSTRAINT more FOREIGN KEY (of) REFERENCES @Pparent (id)"),
	schema("a foreign key with another rule", "foreign key @T_of is", "ALTER TABLE @T DROP FOREIGN KEY @T_of",
		"ALTER TABLE @T ADD CONSTRAINT @T_of FOREIGN KEY (of) REFERENCES @Pparent (id) ON DELETE SET NULL"),
	schema("a dropped CHECK", "check some is missing", "ALTER TABLE @T DROP CONSTRAINT some"),
	schema("an added CHECK", "check more is extra", "ALTER TABLE @T ADD CONSTRAINT more CHECK (n < 1000)"),
	schema("a column's comment", "column slug is",
		"ALTER TABLE @T MODIFY slug VARCHAR(40) NOT NULL DEFAULT 'quay' COMMENT 'mine'"),
	schema("the table's comment", "comment is 'mine', not 'a table'", "ALTER TABLE @T COMMENT 'mine'"),
	schema("another row format", "row_format is", "ALTER TABLE @T ROW_FORMAT=REDUNDANT"),
	schema("partitions", "partitions is extra", "ALTER TABLE @T DROP FOREIGN KEY @T_of, DROP INDEX slug, DROP "+
		"INDEX words", "ALTER TABLE @T PARTITION BY HASH (id) PARTITIONS 2"),
	schema("a missing table", "is missing", "DROP TABLE @T").sqlite("DROP TABLE @T"),
	schema("a renamed table", "is missing", "RENAME TABLE @T TO @T_other").sqlite("ALTER TABLE @T RENAME TO @T_other"),
	{
		kind: "an extra table", mysql: []string{"CREATE TABLE @Pmine (id INT PRIMARY KEY)"},
		lite: []string{"CREATE TABLE @Pmine (id INT PRIMARY KEY)"}, check: "schema", says: "table @Pmine is extra",
	},
	{
		kind: "a missing view", mysql: []string{"DROP VIEW @Pv_gone"}, lite: []string{"DROP VIEW @Pv_gone"},
		check: "schema", says: "view @Pv_gone is missing",
	},
	{
		kind:  "a view defined otherwise",
		mysql: []string{"CREATE OR REPLACE VIEW @Pv_other AS SELECT id FROM @Pparent WHERE id > 1"},
		lite:  []string{"DROP VIEW @Pv_other", "CREATE VIEW @Pv_other AS SELECT 2 AS two"}, check: "schema",
		says: "view @Pv_other is defined otherwise",
	},
	{
		kind: "an extra view", mysql: []string{"CREATE VIEW @Pv_mine AS SELECT 1 AS one"},
		lite: []string{"CREATE VIEW @Pv_mine AS SELECT 1 AS one"}, check: "schema", says: "view @Pv_mine is extra",
	},
	{
		kind: "a missing trigger", mysql: []string{"DROP TRIGGER @Pt_gone"},
		lite: []string{"DROP TRIGGER @Pt_gone"}, check: "schema", says: "trigger @Pt_gone is missing",
	},
	{
		kind: "a trigger defined otherwise",
		mysql: []string{
			"DROP TRIGGER @Pt_other",
			"CREATE TRIGGER @Pt_other BEFORE UPDATE ON @Pparent FOR EACH ROW SET NEW.n = 2",
		},
		lite: []string{
			"DROP TRIGGER @Pt_other",
			"CREATE TRIGGER @Pt_other AFTER INSERT ON @Pparent BEGIN DELETE FROM @Pparent WHERE id = 8; END",
		},
		check: "schema", says: "trigger @Pt_other is defined otherwise",
	},
	{
		kind:  "an extra trigger",
		mysql: []string{"CREATE TRIGGER @Pt_mine BEFORE INSERT ON @Pparent FOR EACH ROW SET NEW.n = 3"},
		lite: []string{
			"CREATE TRIGGER @Pt_mine AFTER INSERT ON @Pparent BEGIN DELETE FROM @Pparent WHERE id = 9; END",
		},
		check: "schema", says: "trigger @Pt_mine is extra",
	},
	{
		kind:  "an extra function",
		mysql: []string{"CREATE FUNCTION @Pf_mine (a INT) RETURNS INT DETERMINISTIC RETURN a"}, check: "schema",
		says: "function @Pf_mine is extra",
	},
	{
		kind: "an extra procedure", mysql: []string{"CREATE PROCEDURE @Pp_mine () SELECT 1"}, check: "schema",
		says: "procedure @Pp_mine is extra",
	},
	{
		kind:  "an extra event",
		mysql: []string{"CREATE EVENT @Pe_mine ON SCHEDULE EVERY 1 DAY DISABLE DO SELECT 1"}, check: "schema",
		says: "event @Pe_mine is extra",
	},
	{
		kind: "an index of its own", lite: []string{"CREATE INDEX @Pi_mine ON @Pparent (n)"}, check: "schema",
		says: "index @Pi_mine is extra",
	},
	{
		kind: "an index that is gone", lite: []string{"DROP INDEX @Pi_gone"}, check: "schema",
		says: "index @Pi_gone is missing",
	},
	{
		kind: "a trigger that writes to the live database",
		mysql: []string{
			"CREATE TRIGGER @Pt_live AFTER INSERT ON @Pparent FOR EACH ROW INSERT INTO @LIVE.@Pparent (n) VALUES (1)",
		},
		check: "reach", says: "trigger @Pt_live works with the database", plain: "broken",
	},
	{
		kind:  "a view of the live database",
		mysql: []string{"CREATE VIEW @Pv_live AS SELECT * FROM @LIVE.@Pparent"}, check: "reach",
		says: "view @Pv_live works with the database", plain: "broken",
	},
	{
		kind:  "a table that is the live one",
		mysql: []string{"CREATE TABLE @Pm_live (n INT) ENGINE=MRG_MyISAM UNION=(@LIVE.@Pmerged)"}, check: "reach",
		says: "table @Pm_live", plain: "broken",
	},
	{
		kind: "a right on the live database", mysql: []string{"GRANT SELECT ON @LIVE.* TO @ACCOUNT"},
		check: "reach", says: "the account may do SELECT on `@LIVE`.*", plain: "broken",
	},
	{
		kind: "an address in a table that only the copy has",
		mysql: []string{
			"CREATE TABLE @Pmine2 (id INT PRIMARY KEY, a TEXT)",
			"INSERT INTO @Pmine2 VALUES (1, 'see @URL/tides')",
		},
		lite: []string{
			"CREATE TABLE @Pmine2 (id INTEGER PRIMARY KEY, a TEXT)",
			"INSERT INTO @Pmine2 VALUES (1, 'see @URL/tides')",
		},
		check: "addresses in tables", says: "@Pmine2, row 1, a", plain: "broken",
	},
	{
		kind:  "an address in a column's default",
		mysql: []string{"ALTER TABLE @T ADD home VARCHAR(90) DEFAULT '@URL/'"},
		lite:  []string{"ALTER TABLE @T ADD COLUMN home TEXT DEFAULT '@URL/'"}, check: "addresses in definitions",
		says: "table @T, column home", plain: "broken",
	},
	{
		kind: "an address in a view", mysql: []string{"CREATE VIEW @Pv_url AS SELECT '@URL/' AS home"},
		lite: []string{"CREATE VIEW @Pv_url AS SELECT '@URL/' AS home"}, check: "addresses in definitions",
		says: "view @Pv_url", plain: "broken",
	},
}

// value is an injury of one value: of a row of the table of values that is this injury's own.
func value(kind, is, becomes string) injury {
	set := "UPDATE @Pvalues SET v = " + becomes + " WHERE id = @ROW"
	return injury{
		kind:  kind,
		mysql: []string{set},
		lite:  []string{set},
		check: "table @Pvalues",
		says:  "row @ROW (" + kind + ") is different on the copy: v",
		first: is,
	}
}

func large(middle string) string {
	return "CONCAT(REPEAT('tide ', 400000), '" + middle + "', REPEAT('tide ', 10))"
}

// valueInjuries change rows. The second text is what the value is on both sides first.
var valueInjuries = []injury{
	value("another text", "'ferry'", "'fairy'"),
	value("a blank behind", "'ferry'", "'ferry '"),
	value("another case", "'ferry'", "'Ferry'"),
	value("an accent that is gone", "'quais à marée'", "'quais a marée'"),
	value("an accent written in two parts", "'marée'", "'mare\u0301e'"),
	value("a text encoded twice", "'marée'", "'marÃ©e'"),
	value("a picture sign that became a question mark", "'⛴'", "'?'"),
	value("a text cut off", "'the harbour at dawn'", "'the harbour at'"),
	value("NULL instead of nothing", "''", "NULL"),
	value("nothing instead of NULL", "NULL", "''"),
	value("a number by one", "'41'", "'42'"),
	value("a zero behind the comma", "'1.50'", "'1.5'"),
	value("a date by a second", "'2027-03-14 05:06:07'", "'2027-03-14 05:06:08'"),
	value("an impossible date", "'2027-03-14'", "'0000-00-00'"),
	value("ends of lines", "'a\nb'", "'a\r\nb'"),
	value("a backslash that is gone", "'a\\\\b'", "'ab'"),
	value("JSON in another order", `'{"a":1,"b":2}'`, `'{"b":2,"a":1}'`),
	{
		kind: "one byte of a large value", first: large("Y"),
		mysql: []string{"UPDATE @Pvalues SET v = " + large("X") + " WHERE id = @ROW"}, check: "table @Pvalues",
		says: "row @ROW (one byte of a large value) is different on the copy: v",
	},
	{
		kind: "a missing row", mysql: []string{"DELETE FROM @Pvalues WHERE id = 901"},
		lite: []string{"DELETE FROM @Pvalues WHERE id = 901"}, check: "table @Pvalues",
		says: "row 901 (gone) is gone on the copy",
	},
	{
		kind: "an extra row", mysql: []string{"INSERT INTO @Pvalues (id, title, v) VALUES (990, 'mine', 'x')"},
		lite: []string{"INSERT INTO @Pvalues (id, title, v) VALUES (990, 'mine', 'x')"}, check: "table @Pvalues",
		says: "row 990 (mine) is new on the copy",
	},
	{
		kind: "another key", mysql: []string{"UPDATE @Pvalues SET id = 991 WHERE id = 902"},
		lite: []string{"UPDATE @Pvalues SET id = 991 WHERE id = 902"}, check: "table @Pvalues",
		says: "row 991 (moved) is new on the copy",
	},
	{
		kind:  "two rows that changed places",
		mysql: []string{"UPDATE @Pvalues SET v = IF(id = 903, 'second', 'first') WHERE id IN (903, 904)"},
		lite: []string{
			"UPDATE @Pvalues SET v = CASE id WHEN 903 THEN 'second' ELSE 'first' END WHERE id IN (903, 904)",
		},
		check: "table @Pvalues", says: "row 904 (places) is different on the copy: v",
	},
	{
		kind:  "a changed row of a table without a key",
		mysql: []string{"UPDATE @Pkeyless SET a = 'six' WHERE a = 'five'"}, check: "table @Pkeyless",
		says: "six, 5",
	},
	{
		kind: "a row more of equal ones", mysql: []string{"INSERT INTO @Pkeyless VALUES ('twin', 2)"},
		check: "table @Pkeyless", says: "twin, 2",
	},
	{
		kind: "a byte of binary data", mysql: []string{"UPDATE @Ptypes SET b = x'00FF02' WHERE id = 1"},
		check: "table @Ptypes", says: "row 1 is different on the copy: b",
	},
	{
		kind:  "the last digit of a float",
		mysql: []string{"UPDATE @Ptypes SET f = 0.30000000000000004 WHERE id = 2"}, check: "table @Ptypes",
		says: "row 2 is different on the copy: f",
	},
	{
		kind: "a bit", mysql: []string{"UPDATE @Ptypes SET bits = b'101' WHERE id = 3"}, check: "table @Ptypes",
		says: "row 3 is different on the copy: bits",
	},
	{
		kind: "one of several words of a set", mysql: []string{"UPDATE @Ptypes SET words = 'a' WHERE id = 4"},
		check: "table @Ptypes", says: "row 4 is different on the copy: words",
	},
	{
		kind: "a decimal", mysql: []string{"UPDATE @Ptypes SET d = 9.991 WHERE id = 5"}, check: "table @Ptypes",
		says: "row 5 is different on the copy: d",
	},
	{
		kind: "half a second", mysql: []string{"UPDATE @Ptypes SET t = '2027-03-14 05:06:07.500' WHERE id = 6"},
		check: "table @Ptypes", says: "row 6 is different on the copy: t",
	},
	{
		kind: "a post's title", mysql: []string{"UPDATE @Pposts SET post_title = 'Mine' WHERE ID = 5"},
		lite: []string{"UPDATE @Pposts SET post_title = 'Mine' WHERE ID = 5"}, check: "table @Pposts",
		says: "row 5 (Mine) is different on the copy: post_title",
	},
	{
		kind:  "a setting",
		mysql: []string{"UPDATE @Poptions SET option_value = '3' WHERE option_name = 'posts_per_page'"},
		lite:  []string{"UPDATE @Poptions SET option_value = '3' WHERE option_name = 'posts_per_page'"},
		check: "table @Poptions", says: "(posts_per_page) is different on the copy: option_value",
	},
	left("plain", "see @URL/tides"), left("without its scheme", "//@HOST/tides"),
	left("in JSON", `{\"u\":\"http:\\\\/\\\\/@HOST\\\\/\"}`),
	left("percent-encoded", "http%3A%2F%2F@HOST%2F"), left("in HTML entities", "http&#58;&#47;&#47;@HOST&#47;"),
	left("in capitals", "HTTP://@HOSTCAP/"), left("serialized", `a:1:{i:0;s:@LEN:\"@URL/\";}`),
	{
		kind:  "a serialized value of a wrong length",
		mysql: []string{"UPDATE @Pvalues SET v = 'a:1:{i:0;s:9:\"ferry\";}' WHERE id = 905"},
		lite:  []string{"UPDATE @Pvalues SET v = 'a:1:{i:0;s:9:\"ferry\";}' WHERE id = 905"}, check: "serialized",
		says: "row 905", plain: "broken",
	},
	{
		kind:  "a serialized value cut off",
		mysql: []string{"UPDATE @Pvalues SET v = 'a:1:{i:0;s:5:\"fer' WHERE id = 906"},
		lite:  []string{"UPDATE @Pvalues SET v = 'a:1:{i:0;s:5:\"fer' WHERE id = 906"}, check: "serialized",
		says: "row 906", plain: "broken",
	},
}

// left is an address of the origin that comes to stand in a value.
func left(how, text string) injury {
	set := "UPDATE @Pvalues SET v = '" + text + "' WHERE id = @ROW"
	lite := strings.ReplaceAll(strings.ReplaceAll(set, `\\\\`, `\`), `\"`, `"`)
	return injury{
		kind:  "an address " + how,
		mysql: []string{set},
		lite:  []string{lite},
		check: "addresses in tables",
		says:  "row @ROW, v",
		plain: "broken",
		first: "'nothing'",
	}
}

// filler puts in what stands for others: the n-th injury's own table and row, the origin's address.
func filler(n int, live site.Site, account string) func(string) string {
	url, prefix := live.Address().String(), live.Database.Prefix
	_, host, _ := strings.Cut(url, "://")
	return strings.NewReplacer("@T", fmt.Sprintf("%sown_%d", prefix, n), "@P", prefix, "@ROW", fmt.Sprint(n), "@URL",
		url, "@HOSTCAP", strings.ToUpper(host), "@HOST", host, "@LEN", fmt.Sprint(len(url)+1), "@LIVE",
		live.Database.Name, "@ACCOUNT", account).Replace
}

// allInjuries are numbered by their place.
var allInjuries = slices.Concat(definitionInjuries, valueInjuries, fileInjuries)
