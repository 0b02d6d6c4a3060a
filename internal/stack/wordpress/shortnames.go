package wordpress

import (
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// ShortName is by which addresses lead to an item: pages and media are beside those of one parent, other types alone.
// A draft may have one that another item has, until it is published.
func (Stack) ShortName(prefix string, t tables.Table, r tables.Row) stack.ShortName {
	part, name := partOf(prefix, t.Name)
	x := row{t, r}
	out := stack.ShortName{Column: "post_name", Name: x.text("post_name")}
	if name != "posts" || out.Name == "" {
		return stack.ShortName{}
	}
	switch status := x.text("post_status"); {
	case status != "publish" && status != "private" && status != "future" && status != "inherit":
		return stack.ShortName{}
	}
	switch kind := x.text("post_type"); kind {
	case "revision", "nav_menu_item":
		return stack.ShortName{}
	case "page", "attachment":
		out.Among = part + " below " + x.text("post_parent")
	default:
		out.Among = part + " " + kind
	}
	return out
}
