package wordpress

import (
	"strings"

	"alibi/internal/stack"
	"alibi/internal/tables"
)

// EmptyCaches takes out what the CMS and plugins keep for a while.
func (Stack) EmptyCaches(prefix string, t tables.Table) stack.Cleanup {
	column := ""
	switch {
	case isTable(t.Name, prefix, "options"):
		column = "option_name"
	case isTable(t.Name, prefix, "sitemeta"):
		column = "meta_key"
	default:
		return stack.Cleanup{}
	}
	return stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
		name := row{t, r}.text(column)
		return r, !strings.HasPrefix(name, "_transient_") && !strings.HasPrefix(name, "_site_transient_")
	}}
}

// ObjectCache is the drop-in of that name.
func (Stack) ObjectCache() (on, off string) {
	return "wp-content/object-cache.php", "wp-content/object-cache.php.off"
}
