package demo

import (
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver, in Go

	"alibi/internal/phpval"
)

// blogSpec is one site, or one sub-site of a network.
type blogSpec struct {
	id             int // 1 for a single site
	title, tagline string
	path           string // below the installation's address: "", "/north"
	posts, pages   int
	pictures       int
	products       int
}

// spec is one installation.
type spec struct {
	host, root string // root is absolute on the host
	address    string
	core       string
	theme      string
	plugins    []pluginSpec
	blogs      []blogSpec
	seed       uint64
	broken     bool // one option is already broken
	memory     string
	clutter    bool // cache, logs and an old archive
}

type pluginSpec struct {
	slug, name, version, update string
	active, missing             bool
	options                     map[string]string
}

// tablesSQL makes one site's tables; %[1]s is the prefix.
const tablesSQL = `
CREATE TABLE %[1]sposts (ID INTEGER PRIMARY KEY AUTOINCREMENT, post_author BIGINT DEFAULT 0, post_date DATETIME,
	post_date_gmt DATETIME, post_content LONGTEXT NOT NULL DEFAULT '', post_title TEXT NOT NULL DEFAULT '',
	post_excerpt TEXT NOT NULL DEFAULT '', post_status VARCHAR(20) DEFAULT 'publish',
	comment_status VARCHAR(20) DEFAULT 'open', post_name VARCHAR(200) DEFAULT '', post_modified DATETIME,
	post_parent BIGINT DEFAULT 0, guid VARCHAR(255) DEFAULT '', menu_order INT DEFAULT 0,
	post_type VARCHAR(20) DEFAULT 'post', post_mime_type VARCHAR(100) DEFAULT '', comment_count BIGINT DEFAULT 0);
CREATE INDEX %[1]sposts_type ON %[1]sposts (post_type, post_status, post_date, ID);
CREATE INDEX %[1]sposts_name ON %[1]sposts (post_name);
CREATE TABLE %[1]spostmeta (meta_id INTEGER PRIMARY KEY AUTOINCREMENT, post_id BIGINT DEFAULT 0,
	meta_key VARCHAR(255), meta_value LONGTEXT);
CREATE INDEX %[1]spostmeta_post ON %[1]spostmeta (post_id);
CREATE TABLE %[1]soptions (option_id INTEGER PRIMARY KEY AUTOINCREMENT, option_name VARCHAR(191) UNIQUE,
	option_value LONGTEXT NOT NULL, autoload VARCHAR(20) DEFAULT 'yes');
CREATE TABLE %[1]scomments (comment_ID INTEGER PRIMARY KEY AUTOINCREMENT, comment_post_ID BIGINT,
	comment_author TEXT, comment_author_email VARCHAR(100), comment_author_url VARCHAR(200), comment_date DATETIME,
	comment_content TEXT, comment_approved VARCHAR(20) DEFAULT '1');
CREATE INDEX %[1]scomments_post ON %[1]scomments (comment_post_ID);
CREATE TABLE %[1]sterms (term_id INTEGER PRIMARY KEY AUTOINCREMENT, name VARCHAR(200), slug VARCHAR(200));
CREATE TABLE %[1]sterm_relationships (object_id BIGINT, term_taxonomy_id BIGINT, term_order INT DEFAULT 0,
	PRIMARY KEY (object_id, term_taxonomy_id)) WITHOUT ROWID;`

const sharedSQL = `
CREATE TABLE %[1]susers (ID INTEGER PRIMARY KEY AUTOINCREMENT, user_login VARCHAR(60), user_pass VARCHAR(255),
	user_email VARCHAR(100), display_name VARCHAR(250), user_registered DATETIME);
CREATE TABLE %[1]susermeta (umeta_id INTEGER PRIMARY KEY AUTOINCREMENT, user_id BIGINT, meta_key VARCHAR(255),
	meta_value LONGTEXT);`

// writer writes one installation under dir.
type writer struct {
	spec spec
	dir  string
	r    *rand.Rand
	tx   *sql.Tx
	now  time.Time
	err  error
}

const prefix = "sk_"

func (w *writer) file(name, text string) {
	if w.err != nil {
		return
	}
	p := filepath.Join(w.dir, name)
	if w.err = os.MkdirAll(filepath.Dir(p), 0o755); w.err == nil {
		w.err = os.WriteFile(p, []byte(text), 0o644)
	}
	at := w.now.Add(-time.Duration(200+len(name)) * time.Hour).Truncate(time.Second)
	if w.err == nil {
		w.err = os.Chtimes(p, at, at)
	}
}

func (w *writer) exec(q string, args ...any) int64 {
	if w.err != nil {
		return 0
	}
	res, err := w.tx.Exec(q, args...)
	if err != nil {
		w.err = fmt.Errorf("%w in %.80s", err, q)
		return 0
	}
	id, _ := res.LastInsertId()
	return id
}

// build writes the files and tables of an installation.
func build(s spec, hostDir string, now time.Time) error {
	w := &writer{spec: s, dir: filepath.Join(hostDir, s.root), r: rand.New(rand.NewPCG(s.seed, 7)), now: now}
	w.code()
	db := filepath.Join(w.dir, "wp-content/database/.ht.sqlite")
	if w.err == nil {
		w.err = os.MkdirAll(filepath.Dir(db), 0o755)
	}
	if w.err != nil {
		return w.err
	}
	conn, err := sql.Open("sqlite", "file:"+db+"?_pragma=synchronous(OFF)&_pragma=journal_mode(MEMORY)")
	if err != nil {
		return err
	}
	defer conn.Close()
	conn.SetMaxOpenConns(1)
	if w.tx, err = conn.Begin(); err != nil {
		return err
	}
	w.exec(fmt.Sprintf(sharedSQL, prefix))
	w.users()
	for _, b := range s.blogs {
		w.blog(b)
	}
	if len(s.blogs) > 1 {
		w.network()
	}
	if w.err != nil {
		_ = w.tx.Rollback()
		return fmt.Errorf("building %s: %w", s.address, w.err)
	}
	return w.tx.Commit()
}

// code writes what is not contents: configuration, version, plugins, themes.
// None of it is anybody's code: headers and a line that does nothing.
func (w *writer) code() {
	s := w.spec
	root := s.root
	conf := "<?php\n// Settings of the company's site\ndefine( 'DB_ENGINE', 'sqlite' );\ndefine( 'DB_DIR', '" + root +
		"/wp-content/database' ); # beside the uploads\n" +
		"define( 'DB_FILE', '.ht.sqlite' );\n$table_prefix = '" + prefix + "';\ndefine( 'WP_MEMORY_LIMIT', '" +
		s.memory + "' );\n" +
		"if ( ! defined( 'SKERRY_FARE_KEY' ) ) {\n\tdefine( 'SKERRY_FARE_KEY', getenv( 'SKERRY_FARE_KEY' ) ?: " +
		"'not-set' );\n}\n/* define( 'WP_HOME', 'https://wrong.example' ); */\n"
	if len(s.blogs) > 1 {
		conf += "define( 'MULTISITE', true );\ndefine( 'SUBDOMAIN_INSTALL', false );\ndefine( " +
			"'DOMAIN_CURRENT_SITE', '" + s.address + "' );\ndefine( 'PATH_CURRENT_SITE', '/' );\n"
	} else {
		conf += "define( 'WP_HOME', 'https://" + s.address + "' );\n"
	}
	w.file("wp-config.php", conf+"define( 'ABSPATH', __DIR__ . '/' );\n")
	w.file("wp-includes/version.php", "<?php\n$wp_version = '"+s.core+"';\n")
	w.file("index.php", "<?php\n// The contents of this site are made up.\n")
	for _, p := range s.plugins {
		if !p.missing {
			w.file("wp-content/plugins/"+p.slug+"/"+p.slug+".php",
				"<?php\n/*\nPlugin Name: "+p.name+"\nVersion: "+p.version+
					"\nRequires at least: 5.5\nRequires PHP: 7.4\n*/\n")
			w.file("wp-content/plugins/"+p.slug+"/readme.txt", "A made-up plugin of a made-up company.\n")
		}
	}
	w.file("wp-content/themes/"+s.theme+"/style.css", "/*\nTheme Name: "+strings.ToUpper(s.theme[:1])+s.theme[1:]+
		"\nVersion: 3.1\n*/\nh1 a{color:#0b5c76}\n")
	w.file("wp-content/themes/plainsail/style.css", "/*\nTheme Name: Plain Sail\nVersion: 1.4\n*/\n")
	if s.clutter {
		for i := range 8 {
			w.file(fmt.Sprintf("wp-content/cache/page-%02d.html", i), strings.Repeat(paragraph(w.r)+"\n", 60))
		}
		w.file("wp-content/debug.log", strings.Repeat("[10-Nov-2026 03:12:09 UTC] notice: the tide table is older "+
			"than a day\n", 900))
		w.file("wp-content/uploads/before-the-move.tar.gz", strings.Repeat("not really an archive ", 20000))
	}
}

func (w *writer) users() {
	for i, name := range people {
		login := strings.ToLower(strings.Fields(name)[0])
		id := w.exec("INSERT INTO "+prefix+"users (user_login, user_pass, user_email, display_name, user_registered) "+
			"VALUES (?, ?, ?, ?, ?)", login, "$P$Bmadeuphashmadeuphashmadeup000"+fmt.Sprint(i),
			login+"@skerryline.example", name, stamp(w.now, 900-i*100))
		role := []string{"administrator", "editor", "editor", "author", "author", "subscriber"}[i]
		w.exec("INSERT INTO "+prefix+"usermeta (user_id, meta_key, meta_value) VALUES (?, ?, ?)", id,
			prefix+"capabilities", string(phpval.Map(role, true).Marshal()))
		w.exec("INSERT INTO "+prefix+"usermeta (user_id, meta_key, meta_value) VALUES (?, 'session_tokens', ?)", id,
			string(phpval.Map("k"+fmt.Sprint(i), phpval.Map("ua", "browser", "login", 1)).Marshal()))
	}
}

func stamp(now time.Time, days int) string {
	return now.Add(-time.Duration(days) * 24 * time.Hour).UTC().Format(time.DateTime)
}

func (w *writer) network() {
	w.exec("CREATE TABLE " + prefix + "blogs (blog_id INTEGER PRIMARY KEY, site_id BIGINT, domain VARCHAR(200), path " +
		"VARCHAR(100), registered DATETIME)")
	w.exec("CREATE TABLE " + prefix + "site (id INTEGER PRIMARY KEY, domain VARCHAR(200), path VARCHAR(100))")
	w.exec("INSERT INTO "+prefix+"site VALUES (1, ?, '/')", w.spec.address)
	for _, b := range w.spec.blogs {
		w.exec("INSERT INTO "+prefix+"blogs VALUES (?, 1, ?, ?, ?)", b.id, w.spec.address, b.path+"/",
			stamp(w.now, 800))
	}
}

func (w *writer) blog(b blogSpec) {
	p := prefix
	if b.id > 1 {
		p = fmt.Sprintf("%s%d_", prefix, b.id)
	}
	w.exec(fmt.Sprintf(tablesSQL, p))
	home := "https://" + w.spec.address + b.path
	for i, topic := range topics {
		w.exec("INSERT INTO "+p+"terms (name, slug) VALUES (?, ?)", topic,
			strings.ToLower(strings.ReplaceAll(topic, " ", "-"))+fmt.Sprint(i))
	}
	media := w.media(b, p, home)
	for i := range b.pages {
		title := topics[i%len(topics)]
		w.post(p, home, "page", title, fmt.Sprintf("page-%d", i+1), i, media)
	}
	for i := range b.posts {
		w.post(p, home, "post", headline(w.r), fmt.Sprintf("note-%03d", i+1), b.posts-i, media)
	}
	for i := range b.products {
		w.post(p, home, "product", "Ticket: "+pick(w.r, objects), fmt.Sprintf("ticket-%02d", i+1), i, media)
		w.post(p, home, "shop_order", fmt.Sprintf("Order %d", 4000+i), fmt.Sprintf("order-%d", 4000+i), i, nil)
	}
	for i := range min(4, b.pages) {
		id := w.exec("INSERT INTO "+p+"posts (post_title, post_status, post_type, menu_order, post_date, post_name) "+
			"VALUES (?, 'publish', 'nav_menu_item', ?, ?, ?)", topics[i], i+1, stamp(w.now, 300),
			fmt.Sprintf("menu-%d", i))
		w.exec("INSERT INTO "+p+"postmeta (post_id, meta_key, meta_value) VALUES (?, '_menu_item_url', ?)", id,
			fmt.Sprintf("%s/page-%d/", home, i+1))
	}
	w.options(b, p, home)
}

// post writes one item with a few others that hang on it.
func (w *writer) post(p, home, kind, title, name string, days int, media []string) {
	body := "<!-- wp:paragraph -->\n<p>" + paragraph(w.r) + ` See <a href="` + home +
		`/page-1/">the timetable</a> or write to desk@skerryline.example.</p>` + "\n<!-- /wp:paragraph -->\n\n"
	if len(media) > 0 {
		m := media[w.r.IntN(len(media))]
		attr, _ := json.Marshal(map[string]string{"url": m}) // the block's own JSON
		body += "<!-- wp:image " + strings.ReplaceAll(string(attr), "/", `\/`) + " -->\n" + `<figure><img src="` + m +
			`" alt="the sea"></figure>` + "\n<!-- /wp:image -->\n\n"
	}
	body += paragraph(w.r)
	status := "publish"
	if w.r.IntN(12) == 0 && kind == "post" {
		status = "draft"
	}
	id := w.exec("INSERT INTO "+p+"posts (post_author, post_date, post_date_gmt, post_modified, post_content, "+
		"post_title, post_status, post_name, guid, post_type) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		1+w.r.IntN(5), stamp(w.now, days*3), stamp(w.now, days*3), stamp(w.now, days*3), body, title, status, name,
		fmt.Sprintf("%s/?p=%s", home, name), kind)
	share := home + "/" + name + "/"
	w.exec("INSERT INTO "+p+"postmeta (post_id, meta_key, meta_value) VALUES (?, '_share', ?)", id,
		"https://share.example/?u="+url.QueryEscape(share))
	layout := phpval.Map("blocks", phpval.List(phpval.Map("type", "hero", "link", share),
		phpval.Map("type", "raw", "json", `{"href":"`+strings.ReplaceAll(share, "/", `\/`)+`"}`)), "cached",
		base64.StdEncoding.EncodeToString([]byte(share)))
	w.exec("INSERT INTO "+p+"postmeta (post_id, meta_key, meta_value) VALUES (?, '_layout', ?)", id,
		string(layout.Marshal()))
	w.exec("INSERT INTO "+p+"term_relationships VALUES (?, ?, 0)", id, 1+w.r.IntN(len(topics)))
	if kind == "post" && w.r.IntN(2) == 0 {
		w.exec("INSERT INTO "+p+"comments (comment_post_ID, comment_author, comment_author_email, "+
			"comment_author_url, comment_date, comment_content) VALUES (?, ?, ?, ?, ?, ?)", id, pick(w.r, people),
			"reader@inbox.example", home, stamp(w.now, days), sentence(w.r))
		w.exec("UPDATE "+p+"posts SET comment_count = 1 WHERE ID = ?", id)
	}
	if kind == "shop_order" {
		w.exec("INSERT INTO "+p+"postmeta (post_id, meta_key, meta_value) VALUES (?, '_buyer', ?)", id,
			string(phpval.Map("mail", "buyer@inbox.example", "return", share).Marshal()))
	}
}

// media paints pictures and enters them as attachments.
func (w *writer) media(b blogSpec, p, home string) []string {
	var out []string
	for i := range b.pictures {
		size := []int{240, 320, 480, 640, 960}[i%5]
		ext := []string{"jpg", "jpg", "png"}[i%3]
		rel := fmt.Sprintf("2026/%02d/%s-%02d.%s", 1+i%11, strings.ToLower(strings.Fields(topics[i%len(topics)])[0]),
			i+1, ext)
		dir := "wp-content/uploads/"
		if b.id > 1 {
			dir += fmt.Sprintf("sites/%d/", b.id)
		}
		w.file(dir+rel, string(picture(w.r, size, size*5/8, ext == "png")))
		u := "https://" + w.spec.address + "/" + dir + rel
		out = append(out, u)
		id := w.exec("INSERT INTO "+p+"posts (post_author, post_date, post_title, post_status, post_name, guid, "+
			"post_type, post_mime_type) VALUES (1, ?, ?, 'inherit', ?, ?, 'attachment', ?)", stamp(w.now, i*5),
			fmt.Sprintf("Picture %d", i+1), fmt.Sprintf("picture-%d", i+1), u,
			"image/"+strings.Replace(ext, "jpg", "jpeg", 1))
		w.exec("INSERT INTO "+p+"postmeta (post_id, meta_key, meta_value) VALUES (?, '_wp_attached_file', ?)", id, rel)
		w.exec("INSERT INTO "+p+"postmeta (post_id, meta_key, meta_value) VALUES (?, '_wp_attachment_metadata', ?)", id,
			string(phpval.Map("width", size, "height", size*5/8, "file", rel, "sizes",
				phpval.Map("thumb", phpval.Map("file", filepath.Base(rel), "url", u))).Marshal()))
	}
	return out
}

// options writes the settings, with the address in every encoding that
// plugins are known to use.
func (w *writer) options(b blogSpec, p, home string) {
	s := w.spec
	set := map[string]string{
		"siteurl": home, "home": home, "blogname": b.title, "blogdescription": b.tagline, "blog_public": "1",
		"posts_per_page": "8", "permalink_structure": "/%postname%/",
		"admin_email": "desk@skerryline.example", "template": s.theme, "stylesheet": s.theme,
		"ping_sites":  "https://ping.harbourwatch.example/update",
		"upload_path": s.root + "/wp-content/uploads",
		"widget_quay_board": string(
			phpval.Map(2, phpval.Map("title", "Boats today", "text", `<a href="`+home+`/page-2/">all sailings</a>`),
				"_multiwidget", 1).Marshal(),
		),
		"skerry_theme_settings": `{"logo":"` + strings.ReplaceAll(home, "/", `\/`) +
			`\/wp-content\/uploads\/logo.png","nested":` +
			quoted(string(phpval.Map("cta", home+"/page-3/").Marshal())) + `}`,
		"skerry_share_link": "https://share.example/?u=" + url.QueryEscape(home+"/") + "&via=skerry",
		"skerry_cdn":        strings.TrimPrefix(home, "https:") + "/wp-content/",
		"skerry_embed":      strings.NewReplacer("/", "&#x2F;").Replace(home) + "&#x2F;embed",
		"skerry_token": base64.StdEncoding.EncodeToString(
			[]byte(string(phpval.Map("issuer", home, "n", b.id).Marshal())),
		),
		"skerry_object": string(
			phpval.Value{Kind: 'O', Class: "Skerry_Fares",
				Items: []phpval.Item{
					{Key: phpval.String("\x00Skerry_Fares\x00base"), Val: phpval.String(home + "/fares")},
					{Key: phpval.String("zone"), Val: phpval.Int(3)},
				}}.Marshal(),
		),
		"skerry_double": string(phpval.String(string(phpval.Map("inner", home).Marshal())).Marshal()),
		"skerry_collection": string(
			phpval.Value{Kind: 'C', Class: "ArrayObject",
				Str: "x:i:0;" + string(phpval.Map("feed", home+"/feed/").Marshal()) + ";m:a:0:{}"}.Marshal(),
		),
	}
	var active []phpval.Value
	updates := []any{}
	for _, pl := range s.plugins {
		if pl.active {
			active = append(active, phpval.String(pl.slug+"/"+pl.slug+".php"))
		}
		if pl.update != "" {
			updates = append(updates, pl.slug+"/"+pl.slug+".php", phpval.Map("slug", pl.slug, "new_version", pl.update))
		}
		for k, v := range pl.options {
			set[k] = strings.ReplaceAll(v, "{home}", home)
		}
	}
	set["active_plugins"] = string(phpval.List(active...).Marshal())
	set["_site_transient_update_plugins"] = string(phpval.Map("response", phpval.Map(updates...)).Marshal())
	set["cron"] = string(
		phpval.Map(int(w.now.Add(40*time.Minute).Unix()),
			phpval.Map("skerry_fetch_tides", phpval.Map("k1", phpval.Map("schedule", "hourly", "args", phpval.List()))),
			int(w.now.Add(9*time.Hour).Unix()),
			phpval.Map("skerry_send_digest", phpval.Map("k2", phpval.Map("schedule", "daily", "args", phpval.List()))),
			"version", 2).Marshal(),
	)
	if s.broken {
		set["skerry_old_slider"] = `a:2:{s:5:"title";s:4:"Mist";s:4:"link";s:99:"` + home + `/page-1/";}`
	}
	for _, k := range sorted(set) {
		w.exec("INSERT INTO "+p+"options (option_name, option_value) VALUES (?, ?)", k, set[k])
	}
}

func quoted(s string) string {
	b, _ := json.Marshal(s)
	return string(b)
}
