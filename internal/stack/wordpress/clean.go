package wordpress

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/phpval"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// LeftFolders are where plugins, themes and uploads are.
func (Stack) LeftFolders() []stack.LeftFolder {
	return []stack.LeftFolder{
		{Name: "plugins", Path: "wp-content/plugins", Stays: []string{"index.php"}},
		{Name: "themes", Path: "wp-content/themes", Stays: []string{"index.php"}},
		{Name: "uploads", Path: "wp-content/uploads"},
	}
}

// BareTheme is the newest of the core's own themes that a site has, or the one
// that is on.
func (Stack) BareTheme(f site.Facts) string {
	years := []string{
		"twentyten",
		"twentyeleven",
		"twentytwelve",
		"twentythirteen",
		"twentyfourteen",
		"twentyfifteen",
		"twentysixteen",
		"twentyseventeen",
		"twentynineteen",
		"twentytwenty",
		"twentytwentyone",
		"twentytwentytwo",
		"twentytwentythree",
		"twentytwentyfour",
		"twentytwentyfive",
		"twentytwentysix",
	}
	best, on := -1, ""
	for _, t := range f.Themes {
		if t.State != "missing" {
			best = max(best, slices.Index(years, t.Slug))
		}
		if t.State == "active" {
			on = t.Slug
		}
	}
	if best < 0 {
		return on
	}
	return years[best]
}

// content are the tables of content. What the core keeps is in these and in
// those of settings, accounts and groups; all others are plugins'.
var content = []string{"posts", "postmeta", "comments", "commentmeta", "links", "term_relationships", "termmeta"}

// Clean says what becomes of each table for a site to be clean.
func (s Stack) Clean(
	ctx context.Context,
	snap tables.Snapshot,
	prefix string,
	w stack.Wish,
) (func(tables.Table) stack.Cleanup, error) {
	switch {
	case w.All:
		return s.cleanAll(ctx, snap, prefix, w)
	case w.Plugin != "":
		return cleanPlugin(prefix, w.Plugin), nil
	case len(w.Kinds) > 0:
		return cleanKinds(ctx, snap, prefix, w.Kinds)
	case len(w.Trim) > 0:
		return s.cleanTrim(ctx, snap, prefix, w)
	}
	return func(tables.Table) stack.Cleanup { return stack.Cleanup{} }, nil
}

func (Stack) cleanAll(
	ctx context.Context,
	snap tables.Snapshot,
	prefix string,
	w stack.Wish,
) (func(tables.Table) stack.Cleanup, error) {
	if _, many := snap.Schema().Table(prefix + "blogs"); many {
		return nil, fmt.Errorf("this is a network: each of its sites is cleaned by kinds of content, not all at once")
	}
	d := &data{ctx: ctx, snap: snap, prefix: prefix}
	if err := d.read(); err != nil {
		return nil, err
	}
	a, err := d.account(w)
	if err != nil {
		return nil, err
	}
	category, _ := strconv.ParseInt(d.options["default_category"], 10, 64)
	group := int64(-1)
	if err := d.each("term_taxonomy", func(r row) {
		if r.number("term_id") == category && r.text("taxonomy") == "category" {
			group = r.number("term_taxonomy_id")
		}
	}); err != nil {
		return nil, err
	}
	return func(t tables.Table) stack.Cleanup {
		name, ours := strings.CutPrefix(t.Name, prefix)
		switch {
		case strings.HasPrefix(t.Name, "sqlite_"):
			return stack.Cleanup{}
		case !ours:
			return stack.Cleanup{Goes: true}
		case slices.Contains(content, name):
			return stack.Cleanup{Empty: true}
		case name == "terms":
			return only(t, "term_id", category, "", "")
		case name == "term_taxonomy":
			return only(t, "term_taxonomy_id", group, "count", "0")
		case name == "options":
			return stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) { return option(t, r, prefix, w) }}
		case name == "users":
			return a.users(t)
		case name == "usermeta":
			return a.meta(t, prefix)
		}
		return stack.Cleanup{Goes: true}
	}, nil
}

// only leaves one row, with a column set.
func only(t tables.Table, column string, id int64, set, to string) stack.Cleanup {
	return stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
		if (row{t, r}).number(column) != id {
			return r, false
		}
		return with(t, r, set, to), true
	}}
}

// with gives a row with a column set to a text; a number stays a number.
func with(t tables.Table, r tables.Row, column, to string) tables.Row {
	i := t.Column(column)
	if i < 0 {
		return r
	}
	r.Values = slices.Clone(r.Values)
	r.Values[i] = valueLike(r.Values[i], to)
	return r
}

func valueLike(v tables.Value, to string) tables.Value {
	if n, err := strconv.ParseInt(to, 10, 64); err == nil && v.Kind == tables.Int {
		return tables.Value{Kind: tables.Int, Int: n, Bytes: []byte(to)}
	}
	return tables.Value{Kind: tables.Text, Bytes: []byte(to)}
}

// settings are those of the core that stay what they are.
var settings = []string{
	"siteurl", "home", "blogname", "blogdescription", "admin_email", "db_version", "initial_db_version", "WPLANG",
	"timezone_string", "gmt_offset", "date_format", "time_format", "start_of_week",
	"permalink_structure", "category_base", "tag_base", "blog_charset", "blog_public", "upload_path", "upload_url_path",
	"uploads_use_yearmonth_folders", "default_category", "default_post_format", "default_link_category", "html_type",
	"https_detection_errors",
	"thumbnail_size_w", "thumbnail_size_h", "thumbnail_crop", "medium_size_w", "medium_size_h", "medium_large_size_w",
	"medium_large_size_h", "large_size_w", "large_size_h", "image_default_link_type", "image_default_size",
	"image_default_align",
	"avatar_default", "avatar_rating", "show_avatars", "use_smilies", "use_balanceTags", "hack_file", "use_trackback",
	"links_updated_date_format", "rss_use_excerpt", "posts_per_rss", "mailserver_url", "mailserver_login",
	"mailserver_pass", "mailserver_port",
	"ping_sites", "default_ping_status", "default_comment_status", "default_pingback_flag", "comment_moderation",
	"require_name_email", "comments_notify", "moderation_notify", "comment_max_links", "moderation_keys",
	"disallowed_keys", "comment_registration",
	"close_comments_for_old_posts", "close_comments_days_old", "thread_comments", "thread_comments_depth",
	"page_comments", "comments_per_page", "default_comments_page", "comment_order", "comment_previously_approved",
	"show_comments_cookies_opt_in",
	"finished_splitting_shared_terms", "link_manager_enabled", "admin_email_lifespan",
	"auto_plugin_theme_update_emails", "auto_update_core_dev", "auto_update_core_minor", "auto_update_core_major",
	"wp_force_deactivated_plugins", "wp_attachment_pages_enabled", "db_upgraded",
}

// renewed are settings of the core that get the value of a new site.
var renewed = map[string]string{
	"active_plugins": "a:0:{}", "show_on_front": "posts", "page_on_front": "0", "page_for_posts": "0",
	"wp_page_for_privacy_policy": "0", "site_icon": "0", "sticky_posts": "a:0:{}", "users_can_register": "0",
	"default_role":   "subscriber",
	"posts_per_page": "10", "fresh_site": "1", "recently_edited": "", "uninstall_plugins": "a:0:{}",
	"rewrite_rules": "", "cron": "a:0:{}", "nav_menu_options": "a:0:{}",
}

// option cleans a setting.
func option(t tables.Table, r tables.Row, prefix string, w stack.Wish) (tables.Row, bool) {
	name := row{t, r}.text("option_name")
	to, again := renewed[name]
	switch {
	case name == prefix+"user_roles":
		return with(t, r, "option_value", coreRoles(row{t, r}.text("option_value"))), true
	case (name == "template" || name == "stylesheet") && w.Theme != "":
		return with(t, r, "option_value", w.Theme), true
	case name == "template" || name == "stylesheet":
		return r, true
	case name == "admin_email" && w.Admin.Mail != "":
		return with(t, r, "option_value", w.Admin.Mail), true
	case again:
		return with(t, r, "option_value", to), true
	}
	return r, slices.Contains(settings, name)
}

// coreRoles leaves out the roles that plugins made.
func coreRoles(value string) string {
	v, err := phpval.Parse([]byte(value))
	if err != nil {
		return value
	}
	v.Items = slices.DeleteFunc(v.Items, func(it phpval.Item) bool {
		return !slices.Contains([]string{"administrator", "editor", "author", "contributor", "subscriber"},
			it.Key.Text())
	})
	return string(v.Marshal())
}

// account is the administrator of a cleaned site.
type account struct {
	w     stack.Wish
	id    int64
	found bool       // it is there already
	like  tables.Row // a row of the table of accounts; a new one is made like it
	meta1 tables.Row // a row of what is kept of accounts
}

// account finds the one that was named, or the first administrator.
func (d *data) account(w stack.Wish) (*account, error) {
	a := &account{w: w, id: 1}
	admins := ids{}
	keep := func(to *tables.Row, r row) {
		if to.Values == nil {
			*to = tables.Row{Key: tables.Keep(r.r.Key), Values: tables.Keep(r.r.Values)}
		}
	}
	if err := d.each("usermeta", func(r row) {
		keep(&a.meta1, r)
		if r.text("meta_key") == d.prefix+"capabilities" && strings.Contains(r.text("meta_value"), `"administrator"`) {
			admins[r.number("user_id")] = true
		}
	}); err != nil {
		return nil, err
	}
	err := d.each("users", func(r row) {
		keep(&a.like, r)
		id := r.number("ID")
		if named := w.Admin.Name != "" && r.text("user_login") == w.Admin.Name; named ||
			w.Admin.Name == "" && admins[id] && !a.found {
			a.id, a.found = id, true
		}
	})
	switch {
	case err != nil:
		return nil, err
	case !a.found && w.Admin.Name == "":
		return nil, fmt.Errorf("the site has no administrator: name one")
	case !a.found && w.Admin.Hash == "":
		return nil, fmt.Errorf("the site has no account %q: a new one needs a password", w.Admin.Name)
	case a.like.Values == nil || a.meta1.Values == nil:
		return nil, fmt.Errorf("the site has no accounts: its tables are not whole")
	}
	return a, nil
}

// users leaves the one account, or makes it.
func (a *account) users(t tables.Table) stack.Cleanup {
	set := func(r tables.Row) tables.Row {
		if a.w.Admin.Hash != "" {
			r = with(t, with(t, r, "user_pass", a.w.Admin.Hash), "user_activation_key", "")
		}
		if a.w.Admin.Mail != "" {
			r = with(t, r, "user_email", a.w.Admin.Mail)
		}
		return r
	}
	c := stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
		return set(r), a.found && row{t, r}.number("ID") == a.id
	}}
	if !a.found {
		r := a.like
		for column, to := range map[string]string{"ID": strconv.FormatInt(a.id, 10), "user_login": a.w.Admin.Name,
			"user_nicename": site.Slug(a.w.Admin.Name), "display_name": a.w.Admin.Name, "user_email": a.w.Admin.Mail,
			"user_url": "", "user_registered": a.w.At.UTC().Format("2006-01-02 15:04:05"), "user_status": "0"} {
			r = with(t, r, column, to)
		}
		c.Add = []tables.Row{keyed(t, set(r))}
	}
	return c
}

// keyed sets the key of a row to what its columns say.
func keyed(t tables.Table, r tables.Row) tables.Row {
	r.Key = nil
	for _, k := range t.Key {
		if i := t.Column(k); i >= 0 {
			r.Key = append(r.Key, r.Values[i])
		}
	}
	return r
}

// own are what the core keeps of an account.
var own = []string{
	"nickname",
	"first_name",
	"last_name",
	"description",
	"rich_editing",
	"syntax_highlighting",
	"comment_shortcuts",
	"admin_color",
	"use_ssl",
	"show_admin_bar_front",
	"locale",
}

// meta leaves what the core keeps of the one account, and makes it an
// administrator.
func (a *account) meta(t tables.Table, prefix string) stack.Cleanup {
	rights := map[string]string{prefix + "capabilities": `a:1:{s:13:"administrator";b:1;}`, prefix + "user_level": "10"}
	c := stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
		x := row{t, r}
		if !a.found || x.number("user_id") != a.id {
			return r, false
		}
		if to, is := rights[x.text("meta_key")]; is {
			return with(t, r, "meta_value", to), true
		}
		return r, slices.Contains(own, x.text("meta_key"))
	}}
	if !a.found {
		rights["nickname"] = a.w.Admin.Name
		for i, key := range []string{"nickname", prefix + "capabilities", prefix + "user_level"} {
			r := with(t, with(t, with(t, with(t, a.meta1, "umeta_id", strconv.Itoa(i+1)), "user_id",
				strconv.FormatInt(a.id, 10)), "meta_key", key), "meta_value", rights[key])
			c.Add = append(c.Add, keyed(t, r))
		}
	}
	return c
}

// cleanKinds takes content of some kinds away, with all that hangs on it.
func cleanKinds(
	ctx context.Context,
	snap tables.Snapshot,
	prefix string,
	list []site.Kind,
) (func(tables.Table) stack.Cleanup, error) {
	if slices.Contains(list, site.Users) {
		return nil, fmt.Errorf("accounts are not taken away by kind: what they wrote would be nobody's")
	}
	parts := map[string]*putting{}
	for _, t := range snap.Schema().Tables {
		p, ok := strings.CutSuffix(t.Name, "posts")
		if !ok || !isTable(t.Name, prefix, "posts") {
			continue
		}
		x, err := taken(ctx, snap, p, list)
		if err != nil {
			return nil, err
		}
		parts[p] = x
	}
	return func(t tables.Table) stack.Cleanup {
		for p, x := range parts {
			rest, ok := strings.CutPrefix(t.Name, p)
			of, known := x.of(rest)
			links := rest == "term_relationships" && len(x.posts.chosen)+len(x.terms.chosen) > 0
			if !ok || !known || len(of.chosen) == 0 && !links {
				continue
			}
			column := rowsOf[rest].by
			if links {
				return stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
					return r, !x.posts.chosen[row{t, r}.number("object_id")] &&
						!x.terms.chosen[row{t, r}.number(grouped)]
				}}
			}
			return stack.Cleanup{
				Row: func(r tables.Row) (tables.Row, bool) { return r, !of.chosen[row{t, r}.number(column)] },
			}
		}
		return stack.Cleanup{}
	}, nil
}

// taken finds the content of some kinds in one site of an installation.
func taken(ctx context.Context, snap tables.Snapshot, prefix string, list []site.Kind) (*putting, error) {
	p, err := readPart(ctx, snap, prefix)
	if err != nil {
		return nil, err
	}
	x := &putting{
		posts:    things{chosen: ids{}},
		comments: things{chosen: ids{}},
		terms:    things{chosen: ids{}},
		groups:   things{chosen: ids{}},
	}
	for id, c := range p.posts {
		if !c.revision && c.kind != "" && slices.Contains(list, c.kind) {
			for _, same := range append(p.revs[id], id) {
				x.posts.chosen[same] = true
			}
		}
	}
	for id, c := range p.comments {
		if slices.Contains(list, site.Comments) || x.posts.chosen[c.post] {
			x.comments.chosen[id] = true
		}
	}
	category := int64(0)
	if err := p.d.each("options", func(r row) {
		if r.text("option_name") == "default_category" {
			category, _ = strconv.ParseInt(r.text("option_value"), 10, 64)
		}
	}); err != nil {
		return nil, err
	}
	for id, t := range p.terms {
		menu := t.taxonomy == "nav_menu"
		if t.id != category &&
			(slices.Contains(list, site.Terms) && !menu || slices.Contains(list, site.Menus) && menu) {
			x.terms.chosen[id], x.groups.chosen[t.id] = true, true
		}
	}
	for _, t := range p.terms { // a name may stand in several groups
		if x.groups.chosen[t.id] &&
			slices.ContainsFunc(termsOf(p, t.id), func(id int64) bool { return !x.terms.chosen[id] }) {
			delete(x.groups.chosen, t.id)
		}
	}
	return x, nil
}

func termsOf(p *part, group int64) (out []int64) {
	for id, t := range p.terms {
		if t.id == group {
			out = append(out, id)
		}
	}
	return out
}

// keyColumns say by which column settings and fields are named.
var keyColumns = map[string]string{
	"options":     "option_name",
	"postmeta":    "meta_key",
	"usermeta":    "meta_key",
	"termmeta":    "meta_key",
	"commentmeta": "meta_key",
}

// cleanPlugin takes away what a plugin keeps in tables, as far as its name tells:
// settings and fields that begin with it, and tables of its own.
func cleanPlugin(prefix, slug string) func(tables.Table) stack.Cleanup {
	word := strings.ReplaceAll(slug, "-", "_")
	named := func(s string) bool {
		s = strings.ReplaceAll(strings.TrimLeft(strings.ToLower(s), "_"), "-", "_")
		for _, begun := range []string{"transient_", "transient_timeout_", "site_transient_", "site_transient_timeout_",
			"widget_"} {
			s = strings.TrimPrefix(s, begun)
		}
		return s == word || strings.HasPrefix(s, word+"_")
	}
	return func(t tables.Table) stack.Cleanup {
		rest, ours := strings.CutPrefix(t.Name, prefix)
		column := keyColumns[strings.TrimLeft(rest, "0123456789_")]
		switch {
		case ours && column != "":
			return stack.Cleanup{
				Row: func(r tables.Row) (tables.Row, bool) { return r, !named(row{t, r}.text(column)) },
			}
		case ours && named(strings.TrimLeft(rest, "0123456789_")):
			return stack.Cleanup{Empty: true}
		}
		return stack.Cleanup{}
	}
}
