package wordpress

import (
	"context"
	"path"
	"slices"
	"strings"

	"alibi/internal/host"
	"alibi/internal/phpval"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// Identify reads the headers of files.
func (Stack) Identify(root host.Tree, folder string) (site.ComponentKind, site.Component, bool) {
	if v := coreVersion(root); v != "" {
		return site.Core, site.Component{Slug: "wordpress", Name: "WordPress", Version: v}, true
	}
	if c := header(root, "style.css", "Theme Name", folder); c != nil {
		c.File = path.Join(folder, "style.css")
		return site.Theme, *c, true
	}
	if c := pluginIn(root, ".", folder); c != nil {
		c.File = path.Join(folder, path.Base(c.File))
		return site.Plugin, *c, true
	}
	return "", site.Component{}, false
}

// Stands is below the folder of contents.
func (Stack) Stands(kind site.ComponentKind, slug string) string {
	switch kind {
	case site.Plugin:
		return path.Join("wp-content/plugins", slug)
	case site.Theme:
		return path.Join("wp-content/themes", slug)
	}
	return ""
}

// CoreFile takes the core's two folders and its files beside them, but for the
// configuration.
func (Stack) CoreFile(p string) bool {
	top, _, below := strings.Cut(p, "/")
	if below || top == "wp-admin" || top == "wp-includes" {
		return top == "wp-admin" || top == "wp-includes"
	}
	return p != "wp-config.php" &&
		(p == "index.php" || p == "xmlrpc.php" || p == "license.txt" || p == "readme.html" ||
			strings.HasPrefix(p, "wp-") && strings.HasSuffix(p, ".php"))
}

// Switch rewrites the settings in which the CMS lists what is on. In a network
// a plugin is activated for all of its sites, and deactivated wherever it is active.
func (Stack) Switch(
	_ context.Context,
	snap tables.Snapshot,
	prefix string,
	w stack.Switches,
) (func(tables.Table) stack.Cleanup, error) {
	_, network := snap.Schema().Table(prefix + "blogs")
	goes := func(file string) bool {
		slug := slugOf(file)
		if slices.Contains(w.On, file) {
			return false
		}
		return slices.Contains(w.Off, slug) || w.AllOff && !slices.Contains(w.Except, slug)
	}
	list := func(text string) string {
		v, _ := phpval.Parse([]byte(text)) // one that can't be read is empty to the CMS too
		var on []string
		for _, it := range v.Items {
			if it.Val.Kind == 's' && !goes(it.Val.Str) {
				on = append(on, it.Val.Str)
			}
		}
		was := slices.Clone(on)
		if !network {
			for _, f := range w.On {
				if !slices.Contains(on, f) {
					on = append(on, f)
				}
			}
		}
		if len(was) == len(v.Items) && len(on) == len(was) {
			return text
		}
		slices.Sort(on) // as the CMS does
		vals := make([]phpval.Value, len(on))
		for i, f := range on {
			vals[i] = phpval.String(f)
		}
		return string(phpval.List(vals...).Marshal())
	}
	return func(t tables.Table) stack.Cleanup {
		switch {
		case isTable(t.Name, prefix, "options"):
			main := t.Name == prefix+"options"
			return stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
				switch name := (row{t, r}).text("option_name"); {
				case name == "active_plugins":
					return changed(t, r, "option_value", list(row{t, r}.text("option_value"))), true
				case name == "stylesheet" && main && w.Theme != "":
					return changed(t, r, "option_value", w.Theme), true
				case name == "template" && main && w.Theme != "":
					return changed(t, r, "option_value", templateOf(w)), true
				}
				return r, true
			}}
		case network && t.Name == prefix+"sitemeta":
			return stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
				if (row{t, r}).text("meta_key") != "active_sitewide_plugins" {
					return r, true
				}
				return changed(t, r, "meta_value", sitewide(row{t, r}.text("meta_value"), w.On, goes)), true
			}}
		}
		return stack.Cleanup{}
	}, nil
}

func templateOf(w stack.Switches) string {
	if w.Parent != "" {
		return w.Parent
	}
	return w.Theme
}

// changed gives a row with another text, or the row itself if it has that.
func changed(t tables.Table, r tables.Row, column, to string) tables.Row {
	if (row{t, r}).text(column) == to {
		return r
	}
	return with(t, r, column, to)
}

// sitewide changes the list of plugins that are on in a whole network: by main
// file, with the time at which each was activated.
func sitewide(text string, on []string, goes func(string) bool) string {
	v, _ := phpval.Parse([]byte(text))
	out := phpval.Value{Kind: 'a'}
	for _, it := range v.Items {
		if !goes(it.Key.Text()) {
			out.Items = append(out.Items, it)
		}
	}
	for _, f := range on {
		if _, has := out.Get(f); !has {
			out.Items = append(out.Items, phpval.Item{Key: phpval.String(f), Val: phpval.Int(1)})
		}
	}
	if len(out.Items) == len(v.Items) &&
		slices.EqualFunc(out.Items, v.Items, func(a, b phpval.Item) bool { return a.Key.Text() == b.Key.Text() }) {
		return text
	}
	return string(out.Marshal())
}
