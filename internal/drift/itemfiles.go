package drift

import (
	"slices"
	"strings"

	"alibi/internal/tables"
	"alibi/internal/tree"
)

// claim is an item that names a file, and on which sides it does.
type claim struct {
	item       string
	live, copy bool
}

// claim notes the files that a row's item names.
func (g *gathering) claim(item string, r *Row) {
	for _, is := range []struct {
		row        *tables.Row
		live, copy bool
	}{{r.LiveRow, true, false}, {r.CopyRow, false, true}, {r.wasRow(), false, false}} {
		if is.row == nil {
			continue
		}
		for _, path := range g.of.Files(g.prefix, r.Table, *is.row) {
			list := g.claims[path]
			i := slices.IndexFunc(list, func(c claim) bool { return c.item == item })
			if i < 0 {
				i = len(list)
				list = append(list, claim{item: item})
			}
			list[i].live, list[i].copy = list[i].live || is.live, list[i].copy || is.copy
			g.claims[path] = list
		}
	}
}

// wasRow is the row as both had it; nil: that is not known.
func (r *Row) wasRow() *tables.Row {
	if r.Was == nil {
		return nil
	}
	return &tables.Row{Key: r.Key, Values: r.Was}
}

// addFile puts a file to the item that names it, or to what it is a part of. Where each side made one of that name for
// another thing, each gets its own.
func (g *gathering) addFile(f *File) {
	claims := g.claims[f.Path]
	both := len(claims) == 1 && claims[0].live && claims[0].copy
	if len(claims) == 0 || both || f.Live != Made || f.Copy != Made {
		item := ""
		if len(claims) > 0 {
			item = claims[0].item
		}
		g.putFile(item, f)
		return
	}
	live, copied := *f, *f
	live.Copy, live.CopyIs, copied.Live, copied.LiveIs = Same, tree.Entry{}, Same, tree.Entry{}
	live.Collides, copied.Collides = true, true
	var to [2]string
	for _, c := range claims {
		if c.live {
			to[0] = c.item
		}
		if c.copy {
			to[1] = c.item
		}
	}
	g.putFile(to[0], &live)
	g.putFile(to[1], &copied)
}

// putFile puts a file to an item; "": to what it is a part of.
func (g *gathering) putFile(name string, f *File) {
	if it := g.by[name]; it != nil {
		it.Files = append(it.Files, f)
		return
	}
	of := g.of.FileItem(f.Path)
	it := g.by[of.Name]
	if it == nil {
		it = &Item{Name: of.Name, Kind: of.Kind, Title: of.Called, Noise: true}
		g.by[of.Name] = it
	}
	it.Noise = it.Noise && of.Passing
	it.Files = append(it.Files, f)
}

// finishFiles says what became of the files of an item on either side.
func (g *gathering) finishFiles(it *Item, has Has) {
	own := len(it.Rows) == 0
	for _, f := range it.Files {
		it.Live, it.Copy = worse(it.Live, f.Live, false), worse(it.Copy, f.Copy, false)
		if folder := g.of.FileItem(f.Path).Folder; own && folder != "" {
			it.Fields = append(it.Fields, strings.TrimPrefix(f.Path, folder+"/"))
		} else {
			it.Fields = append(it.Fields, f.Path)
		}
	}
	if own {
		it.Live, it.Copy = whole(it.Live, has.Was, has.Live), whole(it.Copy, has.Was, has.Copy)
	}
}

// whole says what became of an item of files on a side, by where anything of it is.
func whole(so State, was, is bool) State {
	switch {
	case so == Same:
		return Same
	case !was:
		return Made
	case !is:
		return Gone
	}
	return so
}
