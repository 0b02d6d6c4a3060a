package wordpress

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDatabase(t *testing.T) {
	db := database(
		readConfig(
			"<?php define('DB_ENGINE','sqlite'); define('DB_DIR', '/data'); define('DB_FILE', 'x.db'); "+
				"$table_prefix='sk_';",
			"/r/wp-config.php",
		),
		"/r",
	)
	assert.Equal(t, "/data/x.db", db.Path)
	assert.Equal(t, "sk_", db.Prefix)
	db = database(readConfig("<?php define('DB_ENGINE','sqlite');", "/r/wp-config.php"), "/r")
	assert.Equal(t, "/r/wp-content/database/.ht.sqlite", db.Path)
	db = database(readConfig("<?php define('DB_NAME','ferry'); define('DB_HOST','localhost');", "/r/wp-config.php"),
		"/r")
	assert.Equal(t, "mysql", db.Engine)
}

func TestOlderAndBytes(t *testing.T) {
	assert.True(t, older("6.1.1", "6.2"))
	assert.True(t, older("7.4", "8.0.1"))
	assert.False(t, older("6.10", "6.9"))
	assert.False(t, older("6.1", "6.1.0"))
	assert.EqualValues(t, 128<<20, bytesOf("128M"))
	assert.EqualValues(t, 1<<30, bytesOf("1G"))
	assert.EqualValues(t, 4096, bytesOf("4096"))
	assert.EqualValues(t, 0, bytesOf(""))
}
