package wordpress

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const conf = `#!/usr/bin/php
not php <?php
/** define('DB_NAME', 'commented'); */
// define('DB_NAME', 'also commented');
# define("DB_NAME", "and this"); ?> html define('DB_NAME', 'html') <?php
define('DB_NAME', 'har\'bour');
define( "DB_USER" , "cap\"tain\n" );
DEFINE('DB_HOST', 'localhost' . ':' . '/run/db.sock');
define('DB_NAME', 'too late');
const WP_HOME = 'https://skerryline.example';
define('WP_SITEURL', WP_HOME . '/wp');
define('ABSPATH', dirname(__FILE__) . '/');
define('WP_CONTENT_DIR', __DIR__ . "/content");
define('DB_PASSWORD', getenv('DB_PASSWORD'));
define('WP_CACHE_KEY_SALT', getenv('SALT') ?: 'fallback');
define('FROM_ENV', $_ENV['THING'] ?? 'other');
define('INTERPOLATED', "x{$table_prefix}");
define('FLAG', true); define('OFF', false); define('NUM', 42);
define('CALL', strtoupper('x'));
$table_prefix  = 'wp_';
$table_prefix = "sk_";
$other = <<<'TXT'
define('DB_NAME', 'heredoc');
TXT;
if ( ! defined('WP_DEBUG') ) { define( 'WP_DEBUG', false ); }
`

func TestReadConfig(t *testing.T) {
	c := readConfig(conf, "/srv/site/wp-config.php")
	for name, want := range map[string]string{
		"DB_NAME": "har'bour", "DB_USER": "cap\"tain\n", "DB_HOST": "localhost:/run/db.sock",
		"WP_HOME": "https://skerryline.example", "WP_SITEURL": "https://skerryline.example/wp",
		"ABSPATH": "/srv/site/", "WP_CONTENT_DIR": "/srv/site/content", "FLAG": "1", "OFF": "", "NUM": "42",
		"WP_CACHE_KEY_SALT": "fallback", "FROM_ENV": "other",
	} {
		s, ok := c.constants[name]
		require.True(t, ok, name)
		assert.True(t, s.known, name)
		assert.Equal(t, want, s.value, name)
	}
	assert.Equal(t, "DB_PASSWORD", c.constants["DB_PASSWORD"].env)
	assert.False(t, c.constants["DB_PASSWORD"].known)
	assert.Equal(t, "SALT", c.constants["WP_CACHE_KEY_SALT"].env)
	assert.False(t, c.constants["INTERPOLATED"].known)
	assert.False(t, c.constants["CALL"].known)
	assert.Equal(t, "sk_", c.variables["table_prefix"].value, "the last assignment counts")
	assert.Contains(t, c.constants, "WP_DEBUG")
}

func TestConfigWith(t *testing.T) {
	c := readConfig("<?php\ndefine( 'A', 'one' . 'x' ); // keep\n", "/f")
	assert.Equal(t, "<?php\ndefine( 'A', 'two' ); // keep\n", c.with("A", "'two'"))
	assert.Equal(t, "<?php\ndefine( 'B', true );\ndefine( 'A', 'one' . 'x' ); // keep\n", c.with("B", "true"))
	assert.Equal(t, "<?php\ndefine( 'B', 1 );\n?>plain", readConfig("plain", "/f").with("B", "1"))
}

func TestPHPAgreesWithWhatIsWritten(t *testing.T) {
	c := readConfig("<?php\ndefine('OLD', 'x');\n", "/f")
	for _, v := range []string{`plain`, `it's`, `back\slash`, `dollar $x {$y}`, "new\nline", `\'`} {
		src := readConfig(c.with("OLD", phpLiteral(v)), "/f").with("OTHER", phpLiteral(v))
		cmd := exec.Command("php", "-r", strings.TrimPrefix(src, "<?php")+"\necho OLD === OTHER ? OLD : 'differ';")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", src, out)
		assert.Equal(t, v, string(out))
		assert.Equal(t, v, readConfig(src, "/f").constants["OTHER"].value, "and we read what PHP reads")
	}
}

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

func FuzzReadConfig(f *testing.F) {
	f.Add(conf)
	for _, s := range []string{"<?php define('A', (('x')", "<?php $a = <<<X\nX", "<?php define('A', dirname(", "<?= 'x",
		"<?php $x['a'", "<? ?> <?"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, src string) {
		c := readConfig(src, "/srv/wp-config.php")
		out := c.with("ALIBI_TEST", "'x'")
		for name, s := range c.constants {
			if s.lo > s.hi || s.hi > len(src) {
				t.Fatalf("%s stands at %d to %d of %d", name, s.lo, s.hi, len(src))
			}
		}
		if len(out) < len("'x'") {
			t.Fatal("setting a constant lost the file")
		}
	})
}
