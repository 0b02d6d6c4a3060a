package wordpress

import (
	"slices"
	"strings"

	"alibi/internal/phpval"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// passingFolders hold what the CMS and its plugins write by themselves.
var passingFolders = []string{"wp-content/cache", "wp-content/upgrade", "wp-content/upgrade-temp-backup"}

// componentFolders are where plugins and themes are.
var componentFolders = []struct{ kind, dir string }{{"plugin", "wp-content/plugins/"}, {"theme", "wp-content/themes/"}}

// FileItem takes plugins, themes and the core together.
func (s Stack) FileItem(name string) stack.FileItem {
	if s.CoreFile(name) {
		return stack.FileItem{Name: "core", Kind: stack.CoreKind, Called: "WordPress"}
	}
	for _, c := range componentFolders {
		if rest, in := strings.CutPrefix(name, c.dir); in && rest != "index.php" {
			slug := slugOf(rest)
			of := stack.FileItem{Name: c.kind + ":" + slug, Kind: c.kind, Called: slug}
			if strings.Contains(rest, "/") {
				of.Folder = c.dir + slug
			}
			return of
		}
	}
	of := stack.OneFile(name)
	of.Passing = of.Passing || slices.ContainsFunc(passingFolders, func(dir string) bool {
		return strings.HasPrefix(name, dir+"/")
	})
	return of
}

// Runs reads the settings that say which plugins are on, and which theme.
func (s Stack) Runs(prefix string, t tables.Table, r tables.Row) (out []string) {
	_, name := partOf(prefix, t.Name)
	x := row{t, r}
	switch key := x.text("option_name") + x.text("meta_key"); {
	case name == "options" && key == "active_plugins":
		return plugins(x.text("option_value"))
	case name == "sitemeta" && key == "active_sitewide_plugins":
		return plugins(x.text("meta_value"))
	case name == "options" && (key == "template" || key == "stylesheet"):
		return []string{"theme:" + x.text("option_value")}
	}
	return nil
}

// plugins names those of a packed list of their main files, which are its values, or its keys with times.
func plugins(packed string) (out []string) {
	v, err := phpval.Parse([]byte(packed))
	if err != nil {
		return nil
	}
	for _, it := range v.Items {
		file := it.Val
		if it.Key.Kind == 's' {
			file = it.Key
		}
		out = append(out, "plugin:"+slugOf(file.Text()))
	}
	return out
}
