package wordpress

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host/local"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// winding are configurations that are read by their first definitions in vain.
var winding = map[string]string{
	"branch by host": `<?php
if ( $_SERVER['HTTP_HOST'] == 'staging.skerryline.example' ) {
	define( 'DB_NAME', 'staging' );
	define( 'WP_HOME', 'https://staging.skerryline.example' );
} else {
	define( 'DB_NAME', 'live' );
	define( 'WP_HOME', 'https://skerryline.example' );
}
$table_prefix = 'sk_';
require_once ABSPATH . 'wp-settings.php';
`,
	"environment": `<?php
$env = getenv( 'STAGE' );
switch ( $env ) {
	case 'test': define( 'DB_NAME', 'test' ); break;
	default: define( 'DB_NAME', 'live' );
}
$table_prefix = $env ? 'tt_' : 'sk_';
require ABSPATH . 'wp-settings.php';
`,
	"a second define": "\ufeff" + `<?php
define( 'DB_NAME', 'live' );
define( 'DB_NAME', 'other' );
const DB_NAME = 'third';
$table_prefix = 'xx_';
$table_prefix = 'sk_';
require_once( ABSPATH . 'wp-settings.php' );
`,
	"another file": `<?php
require __DIR__ . '/conf/db.php';
$table_prefix = 'sk_';
require_once ABSPATH . 'wp-settings.php';
`,
	"a file of another folder": `<?php
require dirname( __DIR__, 2 ) . '/secrets/db.php';
$table_prefix = 'sk_';
require_once ABSPATH . 'wp-settings.php';
`,
	"a file by its whole path": `<?php
require_once 'SECRETS/db.php';
$table_prefix = 'sk_';
require_once ABSPATH . 'wp-settings.php';
`,
	"strict": `<?php
declare( strict_types = 1 );
namespace Harbour;
if ( true ) \define( 'DB_NAME', \implode( '', array( 'li', 've' ) ) );
$table_prefix = 'sk_';
require_once \ABSPATH . 'wp-settings.php';
`,
	"short if": `<?php
defined( 'DB_NAME' ) || define( 'DB_NAME', 'live' );
if ( ! defined( 'WP_HOME' ) ) define( 'WP_HOME', 'https://' . $_SERVER['HTTP_HOST'] );
$table_prefix = 'sk_';
require_once ABSPATH . 'wp-settings.php';
`,
}

// reached is a file outside of a site, which its configuration must not write.
func reached(root string) string { return filepath.Join(filepath.Dir(root), "reached") }

// place lays a configuration out as a site on this machine.
func place(t *testing.T, text string) stack.Place {
	t.Helper()
	php, err := exec.LookPath("php")
	require.NoError(t, err, "make needs")
	top := t.TempDir()
	root, secrets := filepath.Join(top, "www/site"), filepath.Join(top, "secrets")
	text = strings.ReplaceAll(text, "SECRETS", secrets)
	require.NoError(t, os.MkdirAll(filepath.Join(root, "conf"), 0o755))
	require.NoError(t, os.MkdirAll(secrets, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(secrets, "db.php"), []byte("<?php\ndefine( 'DB_NAME', 'live' );\n"),
		0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "conf/db.php"),
		[]byte("<?php\ndefine( 'DB_NAME', 'live' );\nfile_put_contents( '"+reached(root)+"', 'x' );\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "wp-config.php"), []byte(text), 0o644))
	h := local.New("here")
	r, err := h.Open(context.Background(), root)
	require.NoError(t, err)
	t.Cleanup(func() { r.Close() })
	return stack.Place{
		Host:  h,
		Root:  r,
		Temp:  t.TempDir(),
		PHP:   func() string { return php },
		Known: func(context.Context) stack.Known { return stack.Known{HostPort: "skerryline.example"} },
	}
}

func TestPHPSaysWhatAWindingConfigurationSets(t *testing.T) {
	for name, text := range winding {
		p := place(t, text)
		c, _, err := loadConfig(context.Background(), p)
		require.NoError(t, err, name)
		require.NoError(t, c.why, name)
		require.True(t, c.evaluated, name)
		assert.Equal(t, "live", c.Constants["DB_NAME"].Value, name)
		assert.Equal(t, "sk_", c.Variables["table_prefix"].Value, name)
		if s, there := c.Constants["WP_HOME"]; there {
			assert.Equal(t, "https://skerryline.example", s.Value, name)
		}
		assert.NoFileExists(t, reached(p.Root.Path()), name)
		p.PHP = nil
		c, _, err = loadConfig(context.Background(), p)
		require.NoError(t, err)
		assert.NotEmpty(t, c.ambiguous(), name)
		assert.False(t, c.evaluated)
	}
	p := place(t, winding["branch by host"])
	p.PHP = nil
	_, err := Stack{}.Inspect(context.Background(), p)
	require.ErrorContains(t, err, "say which it is (--database): staging, live", "nothing is guessed")
	for db, home := range map[string]string{"live": "https://skerryline.example",
		"staging": "https://staging.skerryline.example"} {
		p.Known = func(context.Context) stack.Known { return stack.Known{Database: db} }
		c, _, err := loadConfig(context.Background(), p)
		require.NoError(t, err)
		assert.True(t, c.chosen)
		assert.Equal(t, []string{db, home}, []string{c.Constants["DB_NAME"].Value, c.Constants["WP_HOME"].Value})
	}
	p.Known = func(context.Context) stack.Known { return stack.Known{Database: "other"} }
	c, _, err := loadConfig(context.Background(), p)
	require.NoError(t, err)
	assert.False(t, c.chosen, "its configuration does not name it")
	for name, text := range map[string]string{
		"parse error": "<?php\nif ( { define( 'DB_NAME', 'a' );",
		"never ends":  "<?php\nif ( 1 ) define( 'DB_NAME', 'a' );\nwhile ( true ) {}",
		"reaches out": "<?php\nif ( 1 ) define( 'DB_NAME', shell_exec( 'id' ) );",
	} {
		c, _, err := loadConfig(context.Background(), place(t, text))
		require.NoError(t, err, name)
		assert.False(t, c.evaluated, name)
		assert.ErrorContains(t, c.why, "PHP can't work the configuration out", name)
	}
}

func TestNothingChangesWhatACopyWorksWith(t *testing.T) {
	ctx := context.Background()
	a, err := site.ParseAddress("http://near.localhost:7700")
	require.NoError(t, err)
	for name, text := range winding {
		p := place(t, text)
		c := stack.Change{
			Origin:   site.Facts{Prefix: "sk_"},
			Password: "own",
			Copy: site.Site{
				Root:      p.Root.Path(),
				Addresses: []site.Address{a},
				Database: site.Database{
					Engine: "mysql",
					Name:   "alibi_x",
					User:   "alibi_u",
					Server: "localhost:/own.sock",
					Prefix: "sk_",
				},
				Quiet: site.QuietRules,
			},
		}
		files, err := Stack{}.Configure(ctx, p, c)
		require.NoError(t, err, name)
		config := filepath.Join(p.Root.Path(), "wp-config.php")
		require.NoError(t, os.WriteFile(config, files["wp-config.php"], 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(p.Root.Path(), "wp-settings.php"), []byte(`<?php
echo implode( ' ', array( DB_NAME, DB_USER, DB_PASSWORD, DB_HOST, $GLOBALS['table_prefix'],
	defined( 'WP_HOME' ) ? WP_HOME : '-', strlen( AUTH_KEY ) > 20 ? 'salted' : '' ) );
`), 0o644))
		ask := "$_SERVER['HTTP_HOST'] = 'staging.skerryline.example'; putenv( 'STAGE=test' ); define( 'ABSPATH', '" +
			p.Root.Path() + "/' ); require '" + config + "';"
		out, err := exec.Command(p.PHP(), "-d", "display_errors=1", "-d", "error_reporting=-1", "-r", ask).
			CombinedOutput()
		require.NoError(t, err, "%s: %s", name, out)
		home := "-"
		if strings.Contains(text, "WP_HOME") {
			home = a.String()
		}
		assert.Equal(t, "alibi_x alibi_u own localhost:/own.sock sk_ "+home+" salted",
			strings.TrimPrefix(string(out), "\ufeff"), "%s:\n%s", name, files["wp-config.php"])
	}
}
