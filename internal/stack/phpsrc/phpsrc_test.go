package phpsrc

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

func TestRead(t *testing.T) {
	c := Read(conf, "/srv/site/wp-config.php")
	for name, want := range map[string]string{
		"DB_NAME": "har'bour", "DB_USER": "cap\"tain\n", "DB_HOST": "localhost:/run/db.sock",
		"WP_HOME": "https://skerryline.example", "WP_SITEURL": "https://skerryline.example/wp",
		"ABSPATH": "/srv/site/", "WP_CONTENT_DIR": "/srv/site/content", "FLAG": "1", "OFF": "", "NUM": "42",
		"WP_CACHE_KEY_SALT": "fallback", "FROM_ENV": "other",
	} {
		s, ok := c.Constants[name]
		require.True(t, ok, name)
		assert.True(t, s.Known, name)
		assert.Equal(t, want, s.Value, name)
	}
	assert.Equal(t, "DB_PASSWORD", c.Constants["DB_PASSWORD"].Env)
	assert.False(t, c.Constants["DB_PASSWORD"].Known)
	assert.Equal(t, "SALT", c.Constants["WP_CACHE_KEY_SALT"].Env)
	assert.False(t, c.Constants["INTERPOLATED"].Known)
	assert.False(t, c.Constants["CALL"].Known)
	assert.Equal(t, "sk_", c.Variables["table_prefix"].Value, "the last assignment counts")
	assert.Contains(t, c.Constants, "WP_DEBUG")
}

func TestWith(t *testing.T) {
	c := Read("<?php\ndefine( 'A', 'one' . 'x' ); // keep\n", "/f")
	assert.Equal(t, "<?php\ndefine( 'A', 'two' ); // keep\n", c.With("A", "'two'"))
	assert.Equal(t, "<?php\ndefine( 'B', true );\ndefine( 'A', 'one' . 'x' ); // keep\n", c.With("B", "true"))
	assert.Equal(t, "<?php\ndefine( 'B', 1 );\n?>plain", Read("plain", "/f").With("B", "1"))
}

func TestPHPAgreesWithWhatIsWritten(t *testing.T) {
	c := Read("<?php\ndefine('OLD', 'x');\n", "/f")
	for _, v := range []string{`plain`, `it's`, `back\slash`, `dollar $x {$y}`, "new\nline", `\'`} {
		src := Read(c.With("OLD", Literal(v)), "/f").With("OTHER", Literal(v))
		cmd := exec.Command("php", "-r", strings.TrimPrefix(src, "<?php")+"\necho OLD === OTHER ? OLD : 'differ';")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", src, out)
		assert.Equal(t, v, string(out))
		assert.Equal(t, v, Read(src, "/f").Constants["OTHER"].Value, "and we read what PHP reads")
	}
}

func FuzzRead(f *testing.F) {
	f.Add(conf)
	for _, s := range []string{"<?php define('A', (('x')", "<?php $a = <<<X\nX", "<?php define('A', dirname(", "<?= 'x",
		"<?php $x['a'", "<? ?> <?"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, src string) {
		c := Read(src, "/srv/wp-config.php")
		out := c.With("ALIBI_TEST", "'x'")
		for name, s := range c.Constants {
			if s.Lo > s.Hi || s.Hi > len(src) {
				t.Fatalf("%s stands at %d to %d of %d", name, s.Lo, s.Hi, len(src))
			}
		}
		if len(out) < len("'x'") {
			t.Fatal("setting a constant lost the file")
		}
	})
}
