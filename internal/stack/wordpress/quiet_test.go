package wordpress

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host/local"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// stub is as much of the CMS as the plugin's own decisions need.
const stub = `<?php
define('ABSPATH', '/');
define('WP_CONTENT_DIR', dirname($argv[1]) . '/wp-content');
function add_filter() {} function add_action() {} function apply_filters($n, $v) { return $v; }
class WP_Error { public $code; function __construct($c) { $this->code = $c; } }
require $argv[1];
$out = array();
foreach (array('winter.localhost', 'WINTER.localhost', 'north.winter.localhost', 'notwinter.localhost', 'localhost',
	'hooks.ok.example', 'evil.example', 'count.wavelog.example', '') as $h) {
	$out[$h] = Alibi_Quiet::refuses($h);
}
$e = require WP_CONTENT_DIR . '/plugins/bell.php';
$out['code'] = is_object($e) ? $e->code : 'passed';
$out['mail'] = function_exists('wp_mail') ? wp_mail('a@b.example', 'é', "text\n") : 'not ours';
echo json_encode($out);
`

// bell is a plugin that calls the outside in three ways.
const bell = `<?php
@fsockopen('127.0.0.1', 9, $no, $text, 1);
@file_get_contents('http://127.0.0.1:9/x');
@trigger_error('Unable to connect to nothing', E_USER_WARNING);
return Alibi_Quiet::outward(false, array('method' => 'POST'), 'https://evil.example/x');
`

func TestTheQuietPluginDecidesUnderEachPHP(t *testing.T) {
	cache := os.Getenv("ALIBI_REAL")
	if cache == "" {
		dir, err := os.UserCacheDir()
		require.NoError(t, err)
		cache = filepath.Join(dir, "alibi-real")
	}
	versions := php.Find(context.Background(), filepath.Join(cache, "php"))
	require.GreaterOrEqual(t, len(versions), 3, "three PHP versions are needed (make needs)")
	for _, v := range versions {
		for name, c := range map[string]struct {
			quiet  []site.Rule
			others bool // whether a host that nobody knows is refused
		}{"all rules": {site.QuietRules, true}, "statistics only": {[]site.Rule{site.QuietStatistics}, false}} {
			t.Run(v.Series()+" "+name, func(t *testing.T) {
				dir := t.TempDir()
				copied := site.Site{
					Root:      filepath.Join(dir, "now", "site"),
					Quiet:     c.quiet,
					Allow:     []string{"hooks.ok.example"},
					Addresses: []site.Address{{Scheme: "http", Host: "winter.localhost", Port: "7700"}},
				}
				plugin := quietPlugin(
					stack.Change{
						Copy:   copied,
						Secret: "it's secret",
						Origin: site.Facts{
							Outward: []site.Outward{{Rule: site.QuietStatistics, Host: "count.wavelog.example"}},
						},
					},
				)
				require.NoError(t, os.MkdirAll(filepath.Join(dir, "wp-content/plugins"), 0o700))
				for file, text := range map[string]string{"quiet.php": plugin, "stub.php": stub,
					"wp-content/plugins/bell.php": bell} {
					require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600))
				}
				out, err := exec.Command(v.CLI, "-d", "display_errors=stderr", "-d", "error_reporting=-1",
					filepath.Join(dir, "stub.php"), filepath.Join(dir, "quiet.php")).Output()
				require.NoError(t, err, "%s", out)
				var got map[string]any
				require.NoError(t, json.Unmarshal(out, &got), "%s", out)
				for _, own := range []string{"winter.localhost", "WINTER.localhost", "north.winter.localhost",
					"localhost", "hooks.ok.example"} {
					assert.Equal(t, false, got[own], own)
				}
				assert.Equal(t, true, got["count.wavelog.example"], "it is known to count visits")
				for _, other := range []string{"evil.example"} {
					assert.Equal(t, c.others, got[other], other)
				}
				notes, err := filepath.Glob(filepath.Join(Stack{}.Caught(copied), "*.json"))
				require.NoError(t, err)
				if c.others {
					assert.Equal(t, "http_request_not_executed", got["code"])
					assert.Equal(t, true, got["mail"])
					require.Len(t, notes, 3, "who asked for a connection, the mail, the request")
					assert.Contains(t, read(t, notes[2]), `"by":"plugins/bell.php:5"`)
					assert.Equal(t, `{"host":"127.0.0.1","port":9,"by":["plugins/bell.php:2","plugins/bell.php:3"]}`,
						read(t, notes[0]))
				} else {
					assert.Equal(t, "not ours", got["mail"], "a rule that is lifted leaves the CMS its own function")
					assert.Len(t, notes, 1, "who asked for a connection")
				}
			})
		}
	}
}

func TestConfigurationOfACopyOnAServer(t *testing.T) {
	dir := t.TempDir()
	write := func(text string) stack.Place {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "wp-config.php"), []byte(text), 0o600))
		h := local.New("slipway")
		r, err := h.Open(context.Background(), dir)
		require.NoError(t, err)
		t.Cleanup(func() { r.Close() })
		return stack.Place{Host: h, Root: r}
	}
	ctx := context.Background()
	p := write(
		"<?php\ndefine('DB_NAME', 'ferry'); // the database\ndefine( \"DB_PASSWORD\", 'it\\'s' " +
			");\ndefine('DB_HOST','localhost');\ndefine('AUTH_KEY', 'the origin signs with this');\n$table_prefix = " +
			"'sk_';\nrequire 'x';\n",
	)
	secret, err := Stack{}.Password(ctx, p)
	require.NoError(t, err)
	assert.Equal(t, "it's", secret)
	files, err := Stack{}.Configure(
		ctx,
		p,
		stack.Change{
			Copy: site.Site{
				Root:  "/c/now/site",
				Quiet: site.QuietRules,
				Database: site.Database{
					Engine: "mysql",
					Server: "localhost:/run/own.sock",
					Name:   "alibi_c",
					User:   "alibi_u",
				},
				Runtime: site.Runtime{Show: true},
			},
			Password: "p'w",
		},
	)
	require.NoError(t, err)
	conf := readConfig(string(files["wp-config.php"]), "/c/now/site/wp-config.php")
	for name, want := range map[string]string{"DB_NAME": "alibi_c", "DB_USER": "alibi_u", "DB_PASSWORD": "p'w",
		"DB_HOST": "localhost:/run/own.sock", "WP_DEBUG_DISPLAY": "1"} {
		assert.Equal(t, want, conf.Constants[name].Value, name)
	}
	assert.Greater(t, len(conf.Constants["AUTH_KEY"].Value), 40)
	assert.NotContains(t, conf.Src, "the origin signs with this")
	assert.Contains(t, conf.Src, "// the database")
	_, err = Stack{}.Password(ctx, write("<?php\ndefine('DB_PASSWORD', getenv('FERRY_SECRET'));\n"))
	assert.ErrorIs(t, err, tables.ErrRefused)
	assert.True(t, strings.Contains(err.Error(), "runs no code of a live site"))
}

func read(t *testing.T, file string) string {
	t.Helper()
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(b)
}
