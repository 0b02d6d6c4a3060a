package mysql

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"alibi/internal/tables"
)

const ofMariaDB = "CREATE TABLE `sk_berths` (\n" +
	"  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,\n" +
	"  `slug` varchar(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL DEFAULT '',\n" +
	"  `n` int(11) NOT NULL DEFAULT 0,\n" +
	"  `odd,``name` text DEFAULT NULL COMMENT 'a, b',\n" +
	"  `at` timestamp NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(),\n" +
	"  PRIMARY KEY (`id`),\n" +
	"  UNIQUE KEY `slug` (`slug`(191)),\n" +
	"  KEY `n` (`n`),\n" +
	"  CONSTRAINT `of` FOREIGN KEY (`n`) REFERENCES `sk_piers` (`id`) ON DELETE CASCADE,\n" +
	"  CONSTRAINT `some` CHECK (`n` >= 0)\n" +
	") ENGINE=InnoDB AUTO_INCREMENT=42 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci COMMENT='it''s here'"

const ofMySQL = "CREATE TABLE `sk_berths` (\n" +
	"  `id` bigint unsigned NOT NULL AUTO_INCREMENT,\n" +
	"  `slug` varchar(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL DEFAULT '',\n" +
	"  `n` int NOT NULL DEFAULT '0',\n" +
	"  `odd,``name` text COMMENT 'a, b',\n" +
	"  `at` timestamp NOT NULL DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP,\n" +
	"  PRIMARY KEY (`id`),\n" +
	"  UNIQUE KEY `slug` (`slug`(191)),\n" +
	"  KEY `n` (`n`),\n" +
	"  CONSTRAINT `of` FOREIGN KEY (`n`) REFERENCES `sk_piers` (`id`) ON DELETE CASCADE,\n" +
	"  CONSTRAINT `some` CHECK (`n` >= 0)\n" +
	") ENGINE=InnoDB AUTO_INCREMENT=57 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci COMMENT='it''s here'"

func TestADefinitionIsTheSameOnEveryServer(t *testing.T) {
	columns := []column{
		newColumn(tables.Column{Name: "slug", Type: "varchar(200)", Charset: "utf8mb4", Collation: "utf8mb4_bin"}),
		newColumn(tables.Column{Name: "odd,`name", Type: "text", Charset: "utf8mb4", Collation: "utf8mb4_unicode_ci"}),
	}
	a := define(ofMariaDB, "utf8mb4_unicode_ci", columns)
	b := define(ofMySQL, "utf8mb4_unicode_ci", columns)
	assert.Empty(t, b.Unlike(a))
	assert.Equal(t, "42", a[tables.Next])
	assert.Equal(t, "bigint unsigned NOT NULL AUTO_INCREMENT", a["column id"])
	assert.Equal(t, "varchar(200) NOT NULL DEFAULT '' collate utf8mb4_bin", a["column slug"])
	assert.Equal(t, "text COMMENT 'a, b' collate utf8mb4_unicode_ci", a["column odd,`name"])
	assert.Equal(t, "UNIQUE (slug(191))", a["index slug"])
	assert.Equal(t, "(id)", a["primary key"])
	assert.Equal(t, "FOREIGN KEY (`n`) REFERENCES `sk_piers` (`id`) ON DELETE CASCADE", a["foreign key of"])
	assert.Equal(t, "CHECK (`n` >= 0)", a["check some"])
	assert.Equal(t, "InnoDB", a["engine"])
	assert.Equal(t, "'it''s here'", a["comment"])
	delete(b, "index n")
	b["column n"] = "bigint NOT NULL DEFAULT 0"
	b["column more"] = "int"
	assert.Equal(t, []string{
		"column more is extra: int",
		"column n is bigint NOT NULL DEFAULT 0, not int NOT NULL DEFAULT 0",
		"index n is missing",
	}, b.Unlike(a))
}

func TestWhatNamesAnotherDatabase(t *testing.T) {
	for sql, want := range map[string][]string{
		"CREATE TRIGGER x AFTER INSERT ON posts FOR EACH ROW INSERT INTO `live`.posts VALUES (NEW.id)": {"live"},
		"CREATE VIEW v AS SELECT live.posts.id FROM live . posts":                                      {"live"},
		"CREATE VIEW v AS SELECT live.id FROM posts live":                                              nil,
		"CREATE VIEW v AS SELECT `p`.`id`, 'live.posts' FROM `posts` `p`":                              nil,
		"CREATE TABLE a (\n KEY x (y), CONSTRAINT z FOREIGN KEY (y) REFERENCES `live`.`posts` (`id`))": {"live"},
	} {
		assert.Equal(t, want, namedIn(sql, []string{"live", "other"}), sql)
	}
}
