package wordpress_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/op"
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/stack/wordpress"
	"alibi/internal/tables"
)

func TestInspect(t *testing.T) {
	w := demotest.New(t)
	f := w.Site("tickets.skerryline.example").Facts
	assert.Equal(t, "6.1.1", f.Core)
	assert.Equal(t, "8.2.7", f.PHP, "as the host's own php says")
	assert.Equal(t, "sk_", f.Prefix)
	assert.Equal(t, "Skerry Tickets", f.Title)
	assert.EqualValues(t, 64<<20, f.Memory)
	assert.Equal(t, "https://tickets.skerryline.example", f.Addresses[0].String())
	assert.Nil(t, f.Network)
	states := map[string]string{}
	for _, p := range f.Plugins {
		states[p.Slug] = p.State
	}
	assert.Equal(
		t,
		map[string]string{
			"tide-table":   "active",
			"quay-visits":  "active",
			"bell-mailer":  "active",
			"gangway-shop": "active",
			"coin-slot":    "active",
			"seat-map":     "missing",
		},
		states,
	)
	for _, p := range f.Plugins {
		if p.Slug == "gangway-shop" {
			assert.Equal(t, "5.3.1", p.Update)
			assert.Equal(t, "7.4", p.RequiresPHP)
		}
	}
	rules := map[site.Rule]string{}
	for _, o := range f.Outward {
		rules[o.Rule] = o.Host
	}
	assert.Equal(t, "pay.coinslot.example", rules[site.QuietPayments])
	assert.Equal(t, "relay.bellpost.example", rules[site.QuietMail])
	assert.Equal(t, "count.wavelog.example", rules[site.QuietStatistics])
	assert.NotEmpty(t, rules[site.QuietWebhooks])
	counts := map[string]int{}
	for _, c := range f.Contents {
		counts[c.Kind] = c.N
	}
	assert.Equal(t, 4, counts["products"])
	assert.Equal(t, 4, counts["orders"])
	assert.Equal(
		t,
		[]site.Count{
			{Kind: "author", N: 2},
			{Kind: "editor", N: 2},
			{Kind: "administrator", N: 1},
			{Kind: "subscriber", N: 1},
		},
		f.Users,
	)
	require.Len(t, f.Tasks, 2)
	assert.Equal(t, "skerry_fetch_tides", f.Tasks[0].Hook)
	assert.Equal(t, "hourly", f.Tasks[0].Every)
	codes := map[string]bool{}
	for _, x := range f.Findings {
		codes[x.Code] = true
	}
	assert.True(t, codes["missing"])
	assert.True(t, codes["memory"])
}

func TestInspectNetworkAndBrokenValue(t *testing.T) {
	w := demotest.New(t)
	n := w.Site("islands.skerryline.example").Facts.Network
	require.NotNil(t, n)
	require.Len(t, n.Sites, 4)
	assert.False(t, n.SubDomains)
	assert.Equal(t, "https://islands.skerryline.example/north", n.Sites[1].Address.String())
	assert.Equal(t, "North Island", n.Sites[1].Title)
	rows := int64(0)
	for i, s := range n.Sites {
		assert.Equal(t, int64(i+1), s.ID)
		assert.Positive(t, s.Tables, s.Title)
		assert.Positive(t, s.Rows, s.Title)
		rows += s.Rows
	}
	assert.Less(t, rows, w.Site("islands.skerryline.example").Facts.Rows, "accounts are the network's")
	found := ""
	for _, f := range w.Site("crew.skerryline.example").Facts.Findings {
		if f.Code == "broken-value" {
			found = f.Text
		}
	}
	assert.Contains(t, found, "skerry_old_slider")
}

func TestWhatIsSpare(t *testing.T) {
	w := demotest.New(t)
	spare := map[string]string{}
	for _, f := range w.Site("https://skerryline.example").Facts.Folders {
		if f.Spare != "" {
			spare[f.Path] = f.Spare
		}
	}
	assert.Equal(
		t,
		map[string]string{
			"wp-content/cache":                          "cache",
			"wp-content/debug.log":                      "log",
			"wp-content/uploads/before-the-move.tar.gz": "archive",
		},
		spare,
	)
}

// broken changes the site's files and inspects it again.
func broken(t *testing.T, w *demotest.World, change func(root string)) error {
	t.Helper()
	root := w.Dir("pier", "/srv/skerryline/public")
	change(root)
	_, err := w.Desk.Workings().Env.Inspect(context.Background(), "pier", "/srv/skerryline/public", "")
	return err
}

func TestInspectSaysWhatIsWrong(t *testing.T) {
	conf := func(root string) string { return filepath.Join(root, "wp-config.php") }
	rewriteConf := func(from, to string) func(string) {
		return func(root string) {
			b, err := os.ReadFile(conf(root))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(conf(root), []byte(strings.ReplaceAll(string(b), from, to)), 0o600))
		}
	}
	for name, c := range map[string]struct {
		change func(string)
		want   string
	}{
		"no configuration": {func(root string) { require.NoError(t, os.Remove(conf(root))) },
			"the site was never set up, or this is not its folder"},
		"wrong prefix": {rewriteConf("'sk_'", "'zz_'"), "the prefix in wp-config.php does not fit it"},
		"no database": {
			func(root string) { require.NoError(t, os.RemoveAll(filepath.Join(root, "wp-content/database"))) },
			"opening the database",
		},
		"not a database": {func(root string) {
			require.NoError(t, os.WriteFile(filepath.Join(root, "wp-content/database/.ht.sqlite"), make([]byte, 9000),
				0o600))
		}, "is not an SQLite database"},
		"no site at all": {func(root string) {
			require.NoError(t, os.RemoveAll(filepath.Join(root, "wp-includes")))
			require.NoError(t, os.Remove(filepath.Join(root, "index.php")))
		}, "there is no site in this folder"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.ErrorContains(t, broken(t, demotest.New(t), c.change), c.want)
		})
	}
}

func TestConfigurationAboveTheRoot(t *testing.T) {
	w := demotest.New(t)
	root := w.Dir("pier", "/srv/skerryline/public")
	require.NoError(t, os.Rename(filepath.Join(root, "wp-config.php"),
		filepath.Join(filepath.Dir(root), "wp-config.php")))
	s, err := w.Desk.Fleet.Inspect(context.Background(), w.Site("https://skerryline.example").ID)
	require.NoError(t, err)
	codes := ""
	for _, f := range s.Facts.Findings {
		codes += f.Code + " "
	}
	assert.Contains(t, codes, "config-above")
	w.Keep()
	c := w.Copy("https://skerryline.example", "above")
	assert.FileExists(t, filepath.Join(c.Root, "wp-config.php"), "the copy has one of its own inside its folder")
}

func change(t *testing.T, w *demotest.World, quiet []site.Rule) (stack.Place, stack.Change) {
	t.Helper()
	o := w.Site("https://skerryline.example")
	c := site.Site{
		Root:      "/home/eng/copies/winter",
		Addresses: []site.Address{{Scheme: "http", Host: "winter.localhost", Port: "7700"}},
		Quiet:     quiet,
		Database:  o.Database,
	}
	c.Database.Path = "/home/eng/copies/winter/wp-content/database/.ht.sqlite"
	rw, err := rewrite.New(op.Pairs(o.Addresses, c.Address()), []rewrite.PathPair{{From: o.Root, To: c.Root}})
	require.NoError(t, err)
	p, err := w.Desk.Workings().Env.Place(context.Background(), o.Host, o.Root)
	require.NoError(t, err)
	return p, stack.Change{Origin: *o.Facts, Copy: c, Rewriter: rw, Title: true}
}

func TestConfigure(t *testing.T) {
	w := demotest.New(t)
	p, c := change(t, w, site.QuietRules)
	files, err := wordpress.Stack{}.Configure(context.Background(), p, c)
	require.NoError(t, err)
	conf := string(files["wp-config.php"])
	assert.Contains(t, conf, "'http://winter.localhost:7700'")
	assert.Contains(t, conf, "/home/eng/copies/winter/wp-content/database")
	assert.Contains(t, conf, "define( 'DISABLE_WP_CRON', true );")
	assert.Contains(t, conf, "/* define( 'WP_HOME', 'https://wrong.example' ); */", "comments are left alone")
	plugin := string(files[wordpress.QuietFile])
	assert.Contains(t, plugin, "'mail', 'tasks', 'statistics', 'robots', 'payments', 'webhooks'")
	assert.Contains(t, plugin, "'winter.localhost'", "its own address may be called")
	accounts, err := stack.ReadAccounts(context.Background(), wordpress.Stack{}, p, c.Origin.Database)
	require.NoError(t, err)
	assert.Equal(t, "runa", accounts[0].Login, "administrators first")
	p, c = change(t, w, nil)
	files, err = wordpress.Stack{}.Configure(context.Background(), p, c)
	require.NoError(t, err)
	assert.NotContains(t, string(files["wp-config.php"]), "DISABLE_WP_CRON")
	assert.Contains(t, string(files[wordpress.QuietFile]), "'rules'  => array(  )",
		"it keeps no rule, and still lets one in by a latchkey")
}

func TestAdjust(t *testing.T) {
	w := demotest.New(t)
	_, c := change(t, w, site.QuietRules)
	text := func(s string) tables.Value { return tables.Value{Kind: tables.Text, Bytes: []byte(s)} }
	table := tables.Table{Name: "sk_options", Columns: []tables.Column{{Name: "option_name"}, {Name: "option_value"}}}
	for _, x := range []struct {
		table, name, in, want string
		n                     int
	}{
		{"sk_options", "blogname", "Skerry Line", "[copy] Skerry Line", 1},
		{"sk_options", "blogname", "[copy] Skerry Line", "[copy] Skerry Line", 0},
		{"sk_3_options", "blogname", "Mid Island", "[copy] Mid Island", 1},
		{"sk_options", "blog_public", "1", "0", 1},
		{"sk_options", "ping_sites", "https://ping.example", "", 1},
		{"sk_options", "siteurl", "x", "x", 0},
		{"other_options", "blogname", "Other", "Other", 0},
		{"sk_posts", "blogname", "Post", "Post", 0},
	} {
		table.Name = x.table
		row := tables.Row{Values: []tables.Value{text(x.name), text(x.in)}}
		assert.Equal(t, x.n, wordpress.Stack{}.Adjust(c, table, row), "%s %s", x.table, x.name)
		assert.Equal(t, x.want, row.Values[1].String())
	}
	assert.Equal(t, rewrite.Settings, wordpress.Stack{}.Scope("sk_options", "option_value"))
	assert.Equal(t, rewrite.Prose, wordpress.Stack{}.Scope("sk_posts", "post_content"))
}
