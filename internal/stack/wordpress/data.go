package wordpress

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"alibi/internal/phpval"
	"alibi/internal/site"
	"alibi/internal/tables"
)

// data is what the tables of an installation told.
type data struct {
	ctx      context.Context
	snap     tables.Snapshot
	prefix   string
	options  map[string]string
	contents map[string]int
	types    map[string]int // of content, by the CMS's names
	roles    map[string]int
	blogs    []blog
	wide     map[string]bool // plugins that are on in a whole network, by slug
	broken   []string        // where a value looks serialized and is not well formed
}

type blog struct {
	id           int64
	domain, path string
	title        string
	state        string // see site.SubSite
}

// kinds are the content types that every site has, in words.
var kinds = map[string]string{
	"post":          "posts",
	"page":          "pages",
	"attachment":    "media",
	"nav_menu_item": "menu items",
	"revision":      "revisions",
	"product":       "products",
	"shop_order":    "orders",
}

// unpublished are the states of posts that visitors do not see.
var unpublished = []string{"draft", "auto-draft", "pending", "future", "private", "trash"}

func (d *data) read() error {
	d.options, d.contents, d.types, d.roles = map[string]string{}, map[string]int{}, map[string]int{}, map[string]int{}
	reads := []struct {
		table string
		give  func(row)
	}{
		{"options", func(r row) {
			d.options[r.text("option_name")] = r.text("option_value")
			d.judge(r.text("option_value"), "setting "+r.text("option_name"))
		}},
		{"postmeta", func(r row) { d.judge(r.text("meta_value"), "post "+r.text("post_id")+", "+r.text("meta_key")) }},
		{"posts", func(r row) {
			kind := r.text("post_type")
			d.types[kind]++
			if word, ok := kinds[kind]; ok {
				kind = word
			}
			if s := r.text("post_status"); slices.Contains(unpublished, s) {
				kind += ", " + s
			}
			d.contents[kind]++
		}},
		{"comments", func(row) { d.contents["comments"]++ }},
		{"terms", func(row) { d.contents["terms"]++ }},
		{"usermeta", d.role},
		{"sitemeta", d.sitewide},
		{"blogs", func(r row) {
			id, _ := strconv.ParseInt(r.text("blog_id"), 10, 64)
			d.blogs = append(d.blogs, blog{id: id, domain: r.text("domain"), path: r.text("path"), state: stateOf(r)})
		}},
	}
	for _, rd := range reads {
		if err := d.each(rd.table, rd.give); err != nil {
			return err
		}
	}
	return d.titles()
}

// role counts a user under the roles that the row gives.
func (d *data) role(r row) {
	if r.text("meta_key") != d.prefix+"capabilities" {
		return
	}
	v, err := phpval.Parse([]byte(r.text("meta_value")))
	if err != nil {
		d.roles["unreadable"]++
		return
	}
	for _, it := range v.Items {
		if it.Val.Text() == "1" {
			d.roles[it.Key.Text()]++
		}
	}
}

// sitewide reads which plugins are on in the whole network.
func (d *data) sitewide(r row) {
	if r.text("meta_key") != "active_sitewide_plugins" {
		return
	}
	v, err := phpval.Parse([]byte(r.text("meta_value")))
	if err != nil {
		return // to the CMS it is an empty list
	}
	d.wide = map[string]bool{}
	for _, it := range v.Items {
		d.wide[slugOf(it.Key.Text())] = true
	}
}

// titles reads what the sites of a network call themselves.
func (d *data) titles() error {
	for i := range d.blogs {
		b := &d.blogs[i]
		table := "options"
		if b.id > 1 {
			table = fmt.Sprintf("%d_options", b.id)
		}
		err := d.each(table, func(r row) {
			if r.text("option_name") == "blogname" {
				b.title = r.text("option_value")
			}
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// judge remembers a value that looks serialized and is broken.
func (d *data) judge(value, where string) {
	if v := []byte(value); phpval.Looks(v) && !phpval.Valid(v) {
		d.broken = append(d.broken, where)
	}
}

func counts(m map[string]int) []site.Count {
	var out []site.Count
	for k, n := range m {
		out = append(out, site.Count{Kind: k, N: n})
	}
	slices.SortFunc(out, func(a, b site.Count) int { return cmp.Or(b.N-a.N, strings.Compare(a.Kind, b.Kind)) })
	return out
}

// list reads an option that holds a list of strings, as values or as keys.
func (d *data) list(option string) []string {
	v, err := phpval.Parse([]byte(d.options[option]))
	if err != nil {
		return nil
	}
	var out []string
	for _, it := range v.Items {
		if it.Val.Kind == 's' {
			out = append(out, it.Val.Str)
		}
	}
	return out
}

// states tells which components are switched on, and what waits to be updated.
func (d *data) states(f *site.Facts) {
	active := map[string]bool{}
	for _, p := range d.list("active_plugins") {
		active[slugOf(p)] = true
	}
	updates := d.updates("_site_transient_update_plugins")
	for i := range f.Plugins {
		p := &f.Plugins[i]
		if p.State == "" {
			p.State = "off"
			if active[p.Slug] {
				p.State = "active"
			}
			if d.wide[p.Slug] {
				p.State = "network"
			}
		}
		delete(active, p.Slug)
		p.Update = newer(updates[p.Slug], p.Version)
	}
	for slug := range active {
		f.Plugins = append(f.Plugins, site.Component{Slug: slug, Name: slug, State: "missing"})
	}
	child, parent := d.options["stylesheet"], d.options["template"]
	updates = d.updates("_site_transient_update_themes")
	found := false
	for i := range f.Themes {
		t := &f.Themes[i]
		t.State = "off"
		switch t.Slug {
		case child:
			t.State, found = "active", true
		case parent:
			t.State = "parent"
		}
		t.Update = newer(updates[t.Slug], t.Version)
	}
	if !found && child != "" {
		f.Themes = append(f.Themes, site.Component{Slug: child, Name: child, State: "missing"})
	}
}

// slugOf is the folder, or the file's name, of a plugin's main file.
func slugOf(file string) string {
	dir, _, ok := strings.Cut(file, "/")
	if !ok {
		return strings.TrimSuffix(file, ".php")
	}
	return dir
}

// updates reads which versions wait, by slug.
func (d *data) updates(option string) map[string]string {
	out := map[string]string{}
	v, err := phpval.Parse([]byte(d.options[option]))
	if err != nil {
		return out
	}
	response, _ := v.Get("response")
	for _, it := range response.Items {
		if version, ok := it.Val.Get("new_version"); ok {
			out[slugOf(it.Key.Text())] = version.Text()
		}
	}
	return out
}

// tasks reads the schedule: moments, then hooks, then calls.
func (d *data) tasks() []site.Task {
	v, err := phpval.Parse([]byte(d.options["cron"]))
	if err != nil {
		return nil
	}
	var out []site.Task
	for _, at := range v.Items {
		if at.Key.Kind != 'i' {
			continue
		}
		for _, hook := range at.Val.Items {
			t := site.Task{Hook: hook.Key.Text(), Next: time.Unix(at.Key.Int, 0).UTC()}
			if len(hook.Val.Items) > 0 {
				every, _ := hook.Val.Items[0].Val.Get("schedule")
				t.Every = every.Text()
			}
			out = append(out, t)
		}
	}
	slices.SortFunc(out, func(a, b site.Task) int { return a.Next.Compare(b.Next) })
	return out
}

// reaching are the words by which settings that reach outside are known.
var reaching = []struct {
	rule  site.Rule
	words *regexp.Regexp
}{
	{site.QuietMail, regexp.MustCompile(`(?i)smtp|mail`)},
	{site.QuietPayments, regexp.MustCompile(`(?i)pay|checkout|merchant|gateway`)},
	{site.QuietStatistics, regexp.MustCompile(`(?i)stat|analytic|counter|pixel|track|visits`)},
	{site.QuietWebhooks, regexp.MustCompile(`(?i)hook|notify|ping|callback|push`)},
}

var urls = regexp.MustCompile(`(?i)(?:https?|smtps?|tls)://[a-z0-9.-]+\.[a-z]{2,}`)

// outward lists the settings that hold an address of somebody else's and whose
// name says what they are for.
func (d *data) outward(f *site.Facts) []site.Outward {
	own := map[string]bool{}
	for _, a := range f.Addresses {
		own[a.Host], own[a.Sibling().Host] = true, true
	}
	var out []site.Outward
	for name, value := range d.options {
		if strings.HasPrefix(name, "_transient") || strings.HasPrefix(name, "_site_transient") {
			continue
		}
		for _, m := range urls.FindAllString(value, -1) {
			u, err := url.Parse(m)
			if err != nil || own[strings.ToLower(u.Hostname())] {
				continue
			}
			for _, r := range reaching {
				if o := (site.Outward{Rule: r.rule, Host: strings.ToLower(u.Hostname()),
					Where: "setting " + name}); r.words.MatchString(name) {
					if !slices.Contains(out, o) {
						out = append(out, o)
					}
					break
				}
			}
		}
	}
	slices.SortFunc(out, func(a, b site.Outward) int {
		return cmp.Or(strings.Compare(string(a.Rule), string(b.Rule)), strings.Compare(a.Where, b.Where),
			strings.Compare(a.Host, b.Host))
	})
	return out
}

// newer drops what the CMS once noted as waiting and is there by now.
func newer(waits, is string) string {
	if waits == "" || site.CompareVersions(waits, is) <= 0 {
		return ""
	}
	return waits
}
