package wordpress

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host/local"
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
)

func TestFilesBesideTheConfigurationAreTheCopysOwn(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	for name, text := range map[string]string{
		"wp-config.php": "<?php define('DB_NAME','live'); define('DB_PASSWORD','correct-horse'); " +
			"define('AUTH_KEY','a-key-of-the-live-site'); $table_prefix='sk_'; require 'wp-settings.php';",
		"wp-config-old.php": "<?php define('DB_PASSWORD','correct-horse');",
		".env": "WP_HOME=https://skerryline.example\nDB_PASSWORD=correct-horse\n" +
			"AUTH_KEY='a-key-of-the-live-site'\n",
		".user.ini": "auto_prepend_file = " + dir +
			"/waf.php\nerror_log = /var/log/php.log\nmemory_limit = 128M\n",
		".htaccess": "RewriteRule ^ https://skerryline.example/new [R]\nphp_value auto_prepend_file " +
			"\"/opt/waf/first.php\"\n",
		"readme.html": "correct-horse",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	root, err := local.New("here").Open(ctx, dir)
	require.NoError(t, err)
	defer root.Close()
	place := stack.Place{Root: root}
	to := site.Address{Scheme: "http", Host: "copy.test"}
	rw, err := rewrite.New([]rewrite.Pair{{From: site.Address{Scheme: "https", Host: "skerryline.example"}, To: to}},
		nil)
	require.NoError(t, err)
	c := stack.Change{
		Copy:     site.Site{ID: "c1", Root: "/copies/c/now/site", Addresses: []site.Address{to}},
		Rewriter: rw,
	}
	secrets, err := Stack{}.Secrets(ctx, place)
	require.NoError(t, err)
	assert.Equal(t, []string{"correct-horse", "a-key-of-the-live-site"}, secrets)
	own, err := surroundings(ctx, place, c, secrets)
	require.NoError(t, err)
	text := func(name string) string { return string(own[name]) }
	assert.Len(t, own, 4)
	assert.Equal(t, "<?php define('DB_PASSWORD','taken-out-on-the-copy');", text("wp-config-old.php"))
	assert.Equal(t, "WP_HOME=http://copy.test\nDB_PASSWORD=taken-out-on-the-copy\nAUTH_KEY='taken-out-on-the-copy'\n",
		text(".env"))
	assert.Contains(t, text(".user.ini"), "auto_prepend_file = /copies/c/now/site/waf.php\n; left out on this copy")
	assert.Contains(t, text(".user.ini"), "memory_limit = 128M")
	assert.Contains(t, text(".htaccess"), "http://copy.test/new")
	assert.Contains(t, text(".htaccess"), "# left out on this copy, since it leads out of the site: php_value")
	config, err := Stack{}.Configure(ctx, place, c)
	require.NoError(t, err)
	assert.Contains(t, string(config["wp-config.php"]), "define( 'WP_CACHE_KEY_SALT', 'alibi-c1:' );",
		"a cache that both reach keeps them apart")
}
