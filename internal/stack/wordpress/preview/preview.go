// Package preview draws a copy's pages where there is no PHP to run it: posts,
// pages, navigation and media, from the copy's own tables and files. It is a
// true picture of the contents, not of the theme or the plugins.
package preview

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"os"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver, in Go

	"alibi/internal/site"
)

// Viewer is who looks: a stranger, or somebody who signed in as an account of
// the copy and sees drafts and private posts too.
type Viewer struct{ Account string }

// Page is what was found for a request.
type Page struct {
	Status   int
	Site     string // the copy's own title
	Tagline  string
	Title    string
	Menu     []Link
	Posts    []Post // one, or a list
	Single   bool
	Newer    string
	Older    string
	Inside   *Inside
	Style    string // the theme's style sheet, if the file is there
	Comments []Comment
}

// Link is one entry of the navigation.
type Link struct{ Text, URL string }

// Post is a post, page or attachment.
type Post struct {
	ID     int64
	Title  string
	URL    string
	Date   time.Time
	Author string
	Status string
	Body   template.HTML
}

// Comment under a post.
type Comment struct {
	Author string
	Text   template.HTML
}

// Inside is what only somebody who signed in sees.
type Inside struct {
	Account string
	Counts  []site.Count
	Users   []string
	Drafts  []Post
}

// Inner tells whether an address is of what only an account sees.
func Inner(path string) bool {
	return strings.HasPrefix(path, "/wp-admin") || path == "/wp-login.php"
}

// ErrNotFound is given for an address that the copy has no page for.
var ErrNotFound = errors.New("the copy has no such page")

// source is one installation's tables, opened for reading.
type source struct {
	db      *sql.DB
	s       site.Site
	prefix  string
	base    string // the path that this (sub-)site begins at, "" or "/north"
	options map[string]string
	viewer  Viewer
}

// Find gives the page for a request's path and query.
func Find(ctx context.Context, s site.Site, host string, u *url.URL, viewer Viewer) (*Page, error) {
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: s.Database.Path}).EscapedPath()+
		"?mode=ro&_pragma=busy_timeout(2000)")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	src := &source{db: db, s: s, prefix: s.Database.Prefix, viewer: viewer}
	src.subSite(ctx, host, u.Path)
	if err := src.load(ctx); err != nil {
		return nil, fmt.Errorf("reading the copy's settings: %w", err)
	}
	p, err := src.page(ctx, u)
	if err != nil {
		return nil, err
	}
	p.Site, p.Tagline = src.options["blogname"], src.options["blogdescription"]
	if p.Menu, err = src.menu(ctx); err != nil {
		return nil, err
	}
	style := path.Join("wp-content/themes", path.Base("/"+src.options["stylesheet"]), "style.css")
	if _, err := os.Stat(path.Join(s.Root, style)); err == nil {
		p.Style = "/" + style
	}
	return p, nil
}

// subSite finds the site of a network that an address belongs to.
func (s *source) subSite(ctx context.Context, host, p string) {
	rows, err := s.db.QueryContext(ctx, "SELECT blog_id, domain, path FROM "+s.table("blogs"))
	if err != nil {
		return // a single site
	}
	defer rows.Close()
	best := -1
	prefix := s.prefix
	for rows.Next() {
		var id int64
		var domain, at string
		if rows.Scan(&id, &domain, &at) != nil || domain != host || !strings.HasPrefix(p+"/", at) || len(at) <= best {
			continue
		}
		best = len(at)
		s.base = strings.TrimRight(at, "/")
		s.prefix = prefix
		if id > 1 {
			s.prefix = fmt.Sprintf("%s%d_", prefix, id)
		}
	}
}

func (s *source) table(name string) string {
	return `"` + strings.ReplaceAll(s.prefix+name, `"`, `""`) + `"`
}

func (s *source) load(ctx context.Context) error {
	s.options = map[string]string{}
	rows, err := s.db.QueryContext(
		ctx,
		"SELECT option_name, option_value FROM "+s.table("options")+` WHERE option_name IN
		('blogname', 'blogdescription', 'show_on_front', 'page_on_front', 'posts_per_page', 'stylesheet', 'template',
			'nav_menu_locations', 'theme_mods')`,
	)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var k, v string
		if err := rows.Scan(&k, &v); err != nil {
			return err
		}
		s.options[k] = v
	}
	return rows.Err()
}

// page finds what an address asks for: ?p=ID, a name, or the front page.
func (s *source) page(ctx context.Context, u *url.URL) (*Page, error) {
	q := u.Query()
	for _, k := range []string{"p", "page_id", "attachment_id"} {
		if id, err := strconv.ParseInt(q.Get(k), 10, 64); err == nil {
			return s.single(ctx, "ID = ?", id)
		}
	}
	rest := strings.Trim(strings.TrimPrefix(u.Path, s.base), "/")
	if rest == "" || rest == "index.php" {
		if s.options["show_on_front"] == "page" && q.Get("paged") == "" {
			if id, err := strconv.ParseInt(s.options["page_on_front"], 10, 64); err == nil && id > 0 {
				return s.single(ctx, "ID = ?", id)
			}
		}
		n, _ := strconv.Atoi(q.Get("paged"))
		return s.list(ctx, max(1, n))
	}
	if rest == "-/inside" && s.viewer.Account != "" {
		return s.inside(ctx)
	}
	return s.single(ctx, "post_name = ?", path.Base(rest))
}

// visible is the condition for the posts that this viewer may see.
func (s *source) visible() string {
	if s.viewer.Account != "" {
		return "post_status IN ('publish', 'inherit', 'private', 'draft', 'pending', 'future')"
	}
	return "post_status IN ('publish', 'inherit')"
}

const columns = "ID, post_title, post_name, post_content, post_date, post_status, post_type"

func (s *source) posts(ctx context.Context, where string, args ...any) ([]Post, error) {
	rows, err := s.db.QueryContext(
		ctx,
		"SELECT "+columns+", coalesce((SELECT display_name FROM "+s.users()+" u WHERE u.ID = post_author), '') FROM "+
			s.table("posts")+" WHERE "+where,
		args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Post
	for rows.Next() {
		var p Post
		var name, content, date, kind string
		if err := rows.Scan(&p.ID, &p.Title, &name, &content, &date, &p.Status, &kind, &p.Author); err != nil {
			return nil, err
		}
		p.Date, _ = time.Parse(time.DateTime, date)
		if p.URL = fmt.Sprintf("%s/%s/", s.base, name); name == "" {
			p.URL = fmt.Sprintf("%s/?p=%d", s.base, p.ID)
		}
		p.Body = body(content)
		out = append(out, p)
	}
	return out, rows.Err()
}

// users is the table of accounts, which a network's sites share.
func (s *source) users() string {
	return `"` + strings.ReplaceAll(s.s.Database.Prefix+"users", `"`, `""`) + `"`
}

func (s *source) single(ctx context.Context, where string, arg any) (*Page, error) {
	list, err := s.posts(
		ctx,
		where+" AND "+s.visible()+" AND post_type NOT IN ('revision', 'nav_menu_item') ORDER BY post_type = "+
			"'attachment', ID LIMIT 1",
		arg,
	)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, ErrNotFound
	}
	p := &Page{Status: http.StatusOK, Single: true, Posts: list, Title: list[0].Title}
	rows, err := s.db.QueryContext(
		ctx,
		"SELECT comment_author, comment_content FROM "+s.table("comments")+
			" WHERE comment_post_ID = ? AND comment_approved = '1' ORDER BY comment_ID LIMIT 100",
		list[0].ID,
	)
	if err != nil {
		return p, nil // a site without comments
	}
	defer rows.Close()
	for rows.Next() {
		var c Comment
		var text string
		if err := rows.Scan(&c.Author, &text); err != nil {
			return nil, err
		}
		c.Text = body(text)
		p.Comments = append(p.Comments, c)
	}
	return p, rows.Err()
}

func (s *source) list(ctx context.Context, n int) (*Page, error) {
	per, _ := strconv.Atoi(s.options["posts_per_page"])
	if per < 1 || per > 100 {
		per = 10
	}
	list, err := s.posts(ctx, "post_type = 'post' AND "+s.visible()+
		" ORDER BY post_date DESC, ID DESC LIMIT ? OFFSET ?", per+1, (n-1)*per)
	if err != nil {
		return nil, err
	}
	p := &Page{Status: http.StatusOK}
	if len(list) > per {
		list = list[:per]
		p.Older = fmt.Sprintf("%s/?paged=%d", s.base, n+1)
	}
	if n > 1 {
		p.Newer = fmt.Sprintf("%s/?paged=%d", s.base, n-1)
	}
	p.Posts = list
	return p, nil
}

// menu is the first navigation menu, or the pages where there is none.
func (s *source) menu(ctx context.Context) ([]Link, error) {
	rows, err := s.db.QueryContext(
		ctx,
		"SELECT i.ID, i.post_title, m.meta_key, m.meta_value FROM "+s.table("posts")+" i JOIN "+s.table("postmeta")+
			` m ON m.post_id = i.ID
		WHERE i.post_type = 'nav_menu_item' AND i.post_status = 'publish'
			AND m.meta_key IN ('_menu_item_url', '_menu_item_object_id') ORDER BY i.menu_order, i.ID LIMIT 60`,
	)
	if err != nil {
		return nil, nil // nothing to navigate by
	}
	defer rows.Close()
	var out []Link
	at := map[int64]int{}
	object := map[int]string{}
	for rows.Next() {
		var id int64
		var title, key, value string
		if err := rows.Scan(&id, &title, &key, &value); err != nil {
			return nil, err
		}
		i, known := at[id]
		if !known {
			i = len(out)
			at[id] = i
			out = append(out, Link{Text: title})
		}
		if key == "_menu_item_url" {
			out[i].URL = value
		} else {
			object[i] = value
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	for i := range out {
		if out[i].URL == "" {
			out[i].URL = s.base + "/?p=" + object[i]
		}
	}
	if len(out) > 0 {
		return out, nil
	}
	pages, err := s.posts(ctx, "post_type = 'page' AND post_status = 'publish' ORDER BY menu_order, "+
		"post_title LIMIT 12")
	for _, p := range pages {
		out = append(out, Link{p.Title, p.URL})
	}
	return out, err
}

func (s *source) inside(ctx context.Context) (*Page, error) {
	in := &Inside{Account: s.viewer.Account}
	rows, err := s.db.QueryContext(ctx, "SELECT post_type || ', ' || post_status, count(*) FROM "+s.table("posts")+
		" GROUP BY 1 ORDER BY 2 DESC")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var c site.Count
		if err := rows.Scan(&c.Kind, &c.N); err != nil {
			return nil, err
		}
		in.Counts = append(in.Counts, c)
	}
	if in.Users, err = s.accounts(ctx); err != nil {
		return nil, err
	}
	if in.Drafts, err = s.posts(ctx, "post_status IN ('draft', 'private', 'pending') ORDER BY post_date "+
		"DESC LIMIT 50"); err != nil {
		return nil, err
	}
	return &Page{Status: http.StatusOK, Title: "Inside", Inside: in}, nil
}

// accounts lists the names of the copy's accounts.
func (s *source) accounts(ctx context.Context) ([]string, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT user_login FROM "+s.users()+" ORDER BY ID")
	if err != nil {
		return nil, fmt.Errorf("reading the copy's accounts: %w", err)
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var login string
		if err := rows.Scan(&login); err != nil {
			return nil, err
		}
		out = append(out, login)
	}
	return out, rows.Err()
}

var (
	blockComment = regexp.MustCompile(`(?s)<!--.*?-->`)
	blockTag     = regexp.MustCompile(`(?i)^\s*</?(p|h[1-6]|ul|ol|li|div|figure|blockquote|table|section|pre|hr)\b`)
)

// body makes paragraphs of blank lines, as the CMS does for plain text.
func body(s string) template.HTML {
	s = blockComment.ReplaceAllString(s, "")
	var b strings.Builder
	for _, part := range strings.Split(strings.ReplaceAll(s, "\r\n", "\n"), "\n\n") {
		part = strings.TrimSpace(part)
		switch {
		case part == "":
		case blockTag.MatchString(part):
			b.WriteString(part + "\n")
		default:
			b.WriteString("<p>" + part + "</p>\n")
		}
	}
	return template.HTML(b.String()) //nolint:gosec // the copy's own content, under a policy that lets no script run
}

// hidden are the files that are never shown, whatever asks for them.
var hidden = regexp.MustCompile(`(?i)(^|/)\.|\.(php\d?|phtml|inc|sqlite3?|db|sql|log|bak|env|ini)(-\w+)?$`)

// File opens a file of the copy for a visitor: media, styles, pages. What is
// code, configuration or data is not found.
func File(s site.Site, name string) (*os.File, os.FileInfo, error) {
	name = strings.TrimPrefix(path.Clean("/"+name), "/")
	if name == "" {
		name = "index.html"
	}
	if hidden.MatchString(name) {
		return nil, nil, ErrNotFound
	}
	root, err := os.OpenRoot(s.Root)
	if err != nil {
		return nil, nil, err
	}
	defer root.Close()
	f, err := root.Open(name)
	if err != nil {
		return nil, nil, ErrNotFound
	}
	fi, err := f.Stat()
	if err == nil && fi.IsDir() {
		f.Close()
		return File(s, path.Join(name, "index.html"))
	}
	if err != nil || !fi.Mode().IsRegular() {
		f.Close()
		return nil, nil, ErrNotFound
	}
	return f, fi, nil
}
