package preview

import (
	"context"
	"database/sql"
	"net/url"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/phpval"
	"alibi/internal/site"
)

const schema = `
CREATE TABLE p_options (option_id INTEGER PRIMARY KEY, option_name TEXT UNIQUE, option_value TEXT);
CREATE TABLE p_posts (ID INTEGER PRIMARY KEY, post_author INTEGER, post_date TEXT, post_content TEXT,
	post_title TEXT, post_status TEXT, post_name TEXT, post_type TEXT, menu_order INTEGER DEFAULT 0);
CREATE TABLE p_postmeta (meta_id INTEGER PRIMARY KEY, post_id INTEGER, meta_key TEXT, meta_value TEXT);
CREATE TABLE p_comments (comment_ID INTEGER PRIMARY KEY, comment_post_ID INTEGER, comment_author TEXT,
	comment_content TEXT, comment_approved TEXT);
CREATE TABLE p_users (ID INTEGER PRIMARY KEY, user_login TEXT, display_name TEXT);
CREATE TABLE p_usermeta (umeta_id INTEGER PRIMARY KEY, user_id INTEGER, meta_key TEXT, meta_value TEXT);
INSERT INTO p_options (option_name, option_value) VALUES ('blogname', 'Boats'), ('blogdescription', 'on time'),
	('posts_per_page', '2'), ('stylesheet', 'harbour');
INSERT INTO p_users VALUES (1, 'edda', 'Edda Quill'), (2, 'runa', 'Runa Tarrow');
INSERT INTO p_posts (ID, post_author, post_date, post_content, post_title, post_status, post_name, post_type) VALUES
 (1, 1, '2026-11-01 08:00:00', 'First line.' || char(10) || char(10) || 'Second line.', 'One', 'publish', 'one',
	'post'),
 (2, 1, '2026-11-02 08:00:00', '<!-- wp:paragraph --><p>Marked up.</p><!-- /wp:paragraph -->', 'Two', 'publish',
	'two', 'post'),
 (3, 2, '2026-11-03 08:00:00', 'x', 'Three', 'publish', 'three', 'post'),
 (4, 1, '2026-11-04 08:00:00', 'hush', 'Secret', 'draft', 'secret', 'post'),
 (5, 1, '2026-11-05 08:00:00', 'about us', 'About', 'publish', 'about', 'page'),
 (6, 1, '2026-11-05 08:00:00', 'an older two', 'Two, older', 'inherit', 'two', 'revision');
INSERT INTO p_comments VALUES (1, 2, 'Ada', 'Well said.', '1'), (2, 2, 'Spam', 'Buy.', 'spam');`

func copied(t *testing.T, more ...string) site.Site {
	t.Helper()
	root := t.TempDir()
	path := filepath.Join(root, "data.sqlite")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	for _, s := range append([]string{schema}, more...) {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
	for id, role := range map[int]string{1: "editor", 2: "administrator"} {
		_, err := db.Exec("INSERT INTO p_usermeta (user_id, meta_key, meta_value) VALUES (?, 'p_capabilities', ?)", id,
			string(phpval.Map(role, true).Marshal()))
		require.NoError(t, err)
	}
	return site.Site{Name: "boats", Root: root, Database: site.Database{Engine: "sqlite", Path: path, Prefix: "p_"}}
}

func find(t *testing.T, s site.Site, address string, v Viewer) (*Page, error) {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	return Find(context.Background(), s, "boats.localhost:7700", u, v)
}

func titles(p *Page) []string {
	var out []string
	for _, x := range p.Posts {
		out = append(out, x.Title)
	}
	return out
}

func TestTheFrontPageListsWhatIsPublic(t *testing.T) {
	s := copied(t)
	p, err := find(t, s, "/", Viewer{})
	require.NoError(t, err)
	assert.Equal(t, "Boats", p.Site)
	assert.Equal(t, "on time", p.Tagline)
	assert.Equal(t, []string{"Three", "Two"}, titles(p), "newest first, as many as the site says")
	assert.Equal(t, "/?paged=2", p.Older)
	assert.Empty(t, p.Newer)
	assert.Equal(t, []Link{{"About", "/about/"}}, p.Menu, "pages, where there is no menu")
	p, err = find(t, s, "/?paged=2", Viewer{})
	require.NoError(t, err)
	assert.Equal(t, []string{"One"}, titles(p))
	assert.Equal(t, "/?paged=1", p.Newer)
	assert.Empty(t, p.Older)
}

func TestAStaticFrontPage(t *testing.T) {
	s := copied(t, "INSERT INTO p_options (option_name, option_value) VALUES ('show_on_front', 'page'), "+
		"('page_on_front', '5')")
	p, err := find(t, s, "/", Viewer{})
	require.NoError(t, err)
	assert.True(t, p.Single)
	assert.Equal(t, []string{"About"}, titles(p))
}

func TestSinglePages(t *testing.T) {
	s := copied(t)
	for address, want := range map[string]string{"/two/": "Two", "/2026/11/two": "Two", "/?p=1": "One",
		"/?page_id=5": "About", "/about": "About"} {
		p, err := find(t, s, address, Viewer{})
		require.NoError(t, err, address)
		assert.Equal(t, want, p.Title, address)
	}
	p, err := find(t, s, "/two/", Viewer{})
	require.NoError(t, err)
	assert.Equal(t, "Edda Quill", p.Posts[0].Author)
	assert.NotContains(t, string(p.Posts[0].Body), "wp:paragraph")
	require.Len(t, p.Comments, 1, "only what was approved")
	assert.Equal(t, "Ada", p.Comments[0].Author)
	for _, address := range []string{"/none/", "/?p=99", "/secret/", "/?p=4", "/?p=6", "/-/inside"} {
		_, err := find(t, s, address, Viewer{})
		assert.ErrorIs(t, err, ErrNotFound, address)
	}
}

func TestFromInside(t *testing.T) {
	s := copied(t)
	p, err := find(t, s, "/secret/", Viewer{Account: "runa"})
	require.NoError(t, err)
	assert.Equal(t, "draft", p.Posts[0].Status)
	p, err = find(t, s, "/-/inside", Viewer{Account: "runa"})
	require.NoError(t, err)
	assert.Equal(t, "runa", p.Inside.Account)
	assert.Equal(t, []string{"edda", "runa"}, p.Inside.Users)
	require.Len(t, p.Inside.Drafts, 1)
	assert.Contains(t, p.Inside.Counts, site.Count{Kind: "post, publish", N: 3})
}

func TestAMenuOfTheSites(t *testing.T) {
	s := copied(
		t,
		`INSERT INTO p_posts (ID, post_title, post_status, post_name, post_type, menu_order) VALUES (20, 'Tickets',
			'publish', 'm1', 'nav_menu_item', 2), (21, 'About us', 'publish', 'm2', 'nav_menu_item', 1);
		INSERT INTO p_postmeta (post_id, meta_key, meta_value) VALUES (20, '_menu_item_url',
			'http://boats.localhost:7700/tickets/'), (21, '_menu_item_url', ''), (21, '_menu_item_object_id', '5')`,
	)
	p, err := find(t, s, "/", Viewer{})
	require.NoError(t, err)
	assert.Equal(t, []Link{{"About us", "/?p=5"}, {"Tickets", "http://boats.localhost:7700/tickets/"}}, p.Menu)
}

func TestBody(t *testing.T) {
	for in, want := range map[string]string{
		"one\n\ntwo":                     "<p>one</p>\n<p>two</p>\n",
		"one\r\n\r\ntwo":                 "<p>one</p>\n<p>two</p>\n",
		"<p>done</p>":                    "<p>done</p>\n",
		"<!-- a\nb --><h2>head</h2>":     "<h2>head</h2>\n",
		"<ul>\n<li>x</li>\n</ul>\n\nend": "<ul>\n<li>x</li>\n</ul>\n<p>end</p>\n",
		"":                               "",
	} {
		assert.Equal(t, want, string(body(in)), "%q", in)
	}
}

func TestFilesThatAreShown(t *testing.T) {
	s := copied(t)
	for name, text := range map[string]string{"index.html": "home", "docs/index.html": "docs", "a.css": "css",
		"code.php": "<?php", ".env": "x", "up/.hidden": "x", "error.log": "x", "old.bak": "x", "data.sqlite-wal": "x"} {
		p := filepath.Join(s.Root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
	}
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(s.Root, "host.txt")))
	for name, ok := range map[string]bool{"/": true, "/docs": true, "/docs/": true, "/a.css": true, "/code.php": false,
		"/.env": false, "/up/.hidden": false, "/error.log": false, "/old.bak": false,
		"/data.sqlite": false, "/data.sqlite-wal": false, "/host.txt": false, "/none": false,
		"/../../etc/passwd": false} {
		f, _, err := File(s, name)
		if ok {
			require.NoError(t, err, name)
			f.Close()
		} else {
			assert.ErrorIs(t, err, ErrNotFound, name)
		}
	}
}

func TestATableThatIsMissing(t *testing.T) {
	_, err := find(t, copied(t, "DROP TABLE p_options"), "/", Viewer{})
	assert.ErrorContains(t, err, "reading the copy's settings")
	p, err := find(t, copied(t, "DROP TABLE p_comments", "DROP TABLE p_postmeta"), "/two/", Viewer{})
	require.NoError(t, err, "a site without comments and menus has pages all the same")
	assert.Empty(t, p.Comments)
}
