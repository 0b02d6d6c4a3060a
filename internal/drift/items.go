package drift

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"alibi/internal/stack"
	"alibi/internal/tables"
)

// Item is what people would call one thing, of which the sides do not have the same.
type Item struct {
	Name  string `json:"item"` // "post:12"; of two that were given one number, with the side: "post:12@copy"
	Kind  string `json:"kind"` // "page", "category", "setting"
	Title string `json:"title"`
	Live  State  `json:"live,omitempty"`
	Copy  State  `json:"copy,omitempty"`
	// LiveAt and CopyAt are when it was changed last on either side, where the CMS says that.
	LiveAt time.Time `json:"live_at,omitzero"`
	CopyAt time.Time `json:"copy_at,omitzero"`
	// Status is what it is on either side, such as a draft, where these differ.
	Status string   `json:"status,omitempty"`
	Fields []string `json:"fields,omitempty"` // what of it differs
	Noise  bool     `json:"noise,omitempty"`  // the sites write it by themselves
	Marks  bool     `json:"marks,omitempty"`  // it makes the copy the one that it is
	Merges bool     `json:"merges,omitempty"` // both sides changed it, in different places
	// KeepsBoth says that of one that both sides changed the copy's version can be kept as a draft beside the live site's.
	KeepsBoth bool `json:"keeps_both,omitempty"`
	// Decided is whose version was to stand, "copy" or "live", when people last decided of just these two, and DecidedAt
	// when that was.
	Decided   string    `json:"decided,omitempty"`
	DecidedAt time.Time `json:"decided_at,omitzero"`
	// Versions are what either side has where they differ.
	Versions []Version `json:"versions,omitempty"`
	Rows     []*Row    `json:"-"`
	Files    []*File   `json:"-"`
	Root     *Row      `json:"-"` // of the rows the one without which it is not there; nil: that did not change
	// Owns are items that the other side has of it, such as comments, while it went on one.
	Owns []*Item `json:"-"`
}

// FirstSubSite is the number of a network's first sub-site, which accounts and what is of all are told with.
const FirstSubSite = "1"

// SubSite is the number of the sub-site of a network that an item of rows is a part of; "": it is one of files.
func (it Item) SubSite() string {
	if len(it.Rows) == 0 {
		return ""
	}
	_, id, _ := strings.Cut(it.Name, ":")
	sub, _, in := strings.Cut(id, "/")
	if _, err := strconv.Atoi(sub); !in || err != nil {
		return FirstSubSite
	}
	return sub
}

// Version is a place in which an item differs, as either side has it; nil: it is not there.
type Version struct {
	Field string  `json:"field"`
	Live  *string `json:"live"` // with the copy's addresses
	Copy  *string `json:"copy"`
	Was   *string `json:"was,omitempty"` // as both had it, where both changed it and that is known
}

// Has tells whether an item has a text in its name, or in what people call it.
func (it Item) Has(text string) bool {
	return strings.Contains(strings.ToLower(it.Name+"\n"+it.Kind+" "+it.Title), strings.ToLower(text))
}

// Clashes tells whether both sides changed it.
func (it Item) Clashes() bool { return it.Live != Same && it.Copy != Same }

// HalfGone tells whether it is gone on one side.
func (it Item) HalfGone() bool {
	return it.Root != nil && (it.Root.Live == Gone || it.Root.Copy == Gone)
}

// PairedAlike tells whether a row and the one that it is paired with differ in nothing but their number.
func (r *Row) PairedAlike() bool {
	a, b := r, r.Paired
	if a.CopyRow == nil {
		a, b = b, a
	}
	number := r.Table.Column(r.Table.Key[0])
	for i, v := range a.CopyRow.Values {
		if i != number && !v.Equal(b.Became.Values[i]) {
			return false
		}
	}
	return true
}

// twin marks the names of two items that were given one number.
const twin = "@"

// TwinOf is the name of an item of one side, "live" or "copy", where the other has another one of its number.
func TwinOf(name, side string) string { return strings.Split(name, twin)[0] + twin + side }

// Items gathers rows and files into items, clashes first, then by kind and title. has says where items of files are.
func (p Pair) Items(ctx context.Context, rows []*Row, files []*File, has map[string]Has) ([]*Item, error) {
	of := p.Transform.Items()
	prefix := p.Transform.Change.Origin.Prefix
	g := &gathering{p: p, of: of, prefix: prefix, by: map[string]*Item{}, twins: map[string]bool{}, kinds: kindsOf(of,
		prefix, rows), apart: map[number]bool{}, claims: map[string][]claim{}}
	for _, r := range rows {
		if name, root := g.root(r); root && r.bothMade() && r.unlike() && r.numbered() && !g.oneThing(r) {
			g.twins[name] = true
		}
	}
	for _, r := range rows {
		if r.bothMade() && r.numbered() && (g.twins[g.item(r.Table, *r.CopyRow)] || r.unlike() && !g.oneThing(r)) {
			g.apart[number{r.Table.Name, r.Key[0].Int}] = true
		}
	}
	rows = g.split(rows)
	g.pair(rows)
	for _, r := range rows {
		g.add(r)
	}
	if err := g.titles(ctx); err != nil {
		return nil, err
	}
	for _, f := range files {
		g.addFile(f)
	}
	out := []*Item{}
	for _, it := range g.by {
		g.finish(it)
		g.finishFiles(it, has[it.Name])
		out = append(out, it)
	}
	g.owners(out)
	slices.SortFunc(out, func(a, b *Item) int {
		return cmp.Or(rank(a)-rank(b), strings.Compare(a.Kind, b.Kind), strings.Compare(a.Title, b.Title),
			strings.Compare(a.Name, b.Name))
	})
	return out, nil
}

func rank(it *Item) int {
	switch {
	case it.Noise:
		return 2
	case it.Clashes():
		return 0
	}
	return 1
}

// numbered tells whether a row is known by one number.
func (r *Row) numbered() bool { return len(r.Key) == 1 && r.Key[0].Kind == tables.Int }

// split makes two of a row that both sides made under one number, where these are two things: they differ, or they are
// of two things. What both sides made alike is no difference.
func (g *gathering) split(rows []*Row) (out []*Row) {
	for _, r := range rows {
		if !r.bothMade() {
			out = append(out, r)
			continue
		}
		a, b := g.item(r.Table, *r.LiveRow), g.item(r.Table, *r.CopyRow)
		apart := g.twins[a] || g.twins[b] || !r.numbered() && g.crosses(r)
		switch {
		case !apart && !r.unlike():
			continue
		case !apart && (!r.numbered() || g.oneThing(r)):
			out = append(out, r) // one thing, known by its name
			continue
		}
		live, copied := *r, *r
		live.Copy, live.CopyRow = Same, nil
		copied.Live, copied.LiveRow, copied.Became = Same, nil, nil
		live.Collides, copied.Collides = r.numbered(), r.numbered()
		out = append(out, &live, &copied)
	}
	return out
}

// gathering gathers rows into items.
type gathering struct {
	p      Pair
	of     stack.Items
	prefix string
	by     map[string]*Item
	twins  map[string]bool // names of items of which each side made one
	kinds  map[kindKey]string
	apart  map[number]bool    // numbers under which each side has another thing
	claims map[string][]claim // items that name a file, by its path
}

// number is that of a row in a table.
type number struct {
	table string
	n     int64
}

// kindKey is an item on one side.
type kindKey struct {
	item string
	live bool
}

// kindsOf gives the kinds of items whose first row does not tell: groups, whose short names are one in each kind only.
func kindsOf(of stack.Items, prefix string, rows []*Row) map[kindKey]string {
	out := map[kindKey]string{}
	for _, r := range rows {
		for _, is := range []struct {
			row  *tables.Row
			live bool
		}{{r.LiveRow, true}, {r.CopyRow, false}} {
			if is.row == nil {
				continue
			}
			if d := of.Describe(prefix, r.Table, *is.row); !d.Root && d.Kind != "" {
				out[kindKey{of.ItemOf(prefix, r.Table, *is.row), is.live}] = d.Kind
			}
		}
	}
	return out
}

// known gives what a row is known by beside its number, with the kind of its item; "": nothing.
func (g *gathering) known(t tables.Table, r *tables.Row, live bool) string {
	n := g.of.Natural(g.prefix, t, *r)
	if n == "" {
		return ""
	}
	return t.Name + "\n" + g.kinds[kindKey{g.item(t, *r), live}] + "\n" + n
}

// oneThing tells whether what both sides made under one number is one thing: it has one name on both.
func (g *gathering) oneThing(r *Row) bool {
	name := g.known(r.Table, r.Became, true)
	return name != "" && name == g.known(r.Table, r.CopyRow, false)
}

// pair finds what is one thing under two numbers: a row of each side that the other does not have, and both are known
// by one name, which no third one has.
func (g *gathering) pair(rows []*Row) {
	live, copied := map[string][]*Row{}, map[string][]*Row{}
	for _, r := range rows {
		item, root := g.root(r)
		switch {
		case !r.numbered() || g.twins[item] && !root: // what has it is two things, and so is it
		case r.CopyRow == nil:
			n := g.known(r.Table, r.Became, true)
			live[n] = append(live[n], r)
		case r.LiveRow == nil:
			n := g.known(r.Table, r.CopyRow, false)
			copied[n] = append(copied[n], r)
		}
	}
	for name, list := range live {
		if others := copied[name]; name != "" && len(list) == 1 && len(others) == 1 {
			list[0].Paired, others[0].Paired = others[0], list[0]
		}
	}
}

// item names the item that a row is a part of.
func (g *gathering) item(t tables.Table, r tables.Row) string { return g.of.ItemOf(g.prefix, t, r) }

// crosses tells whether a row refers to a number under which each side has another thing.
func (g *gathering) crosses(r *Row) (yes bool) {
	row := tables.Row{Key: r.CopyRow.Key, Values: tables.Keep(r.CopyRow.Values)}
	g.of.References(stack.Around{Prefix: g.prefix}, r.Table, row, func(table string, n int64) int64 {
		yes = yes || g.apart[number{table, n}]
		return n
	})
	return yes
}

// any is the row as one of the sides has it.
func (r *Row) any() tables.Row {
	if r.CopyRow != nil {
		return *r.CopyRow
	}
	return *r.LiveRow
}

func (g *gathering) root(r *Row) (name string, is bool) {
	return g.item(r.Table, r.any()), g.of.Describe(g.prefix, r.Table, r.any()).Root
}

// add puts a row to its item.
func (g *gathering) add(r *Row) {
	name := g.item(r.Table, r.any())
	if g.twins[name] {
		side := "copy"
		if r.CopyRow == nil {
			side = "live"
		}
		name = TwinOf(name, side)
	}
	_, r.Passing = g.p.Transform.About(r.Table, r.any())
	it := g.by[name]
	if it == nil {
		it = &Item{Name: name}
		g.by[name] = it
	}
	it.Rows = append(it.Rows, r)
	g.claim(it.Name, r)
}

// titles describes items, those too of which the row that says what they are called does not differ.
func (g *gathering) titles(ctx context.Context) error {
	missing := map[string][][]tables.Value{}
	for name, it := range g.by {
		known := false
		for _, r := range it.Rows {
			known = g.describe(it, r.Table, r.CopyRow, r.Became) || known
		}
		table, n := g.of.RootOf(g.prefix, strings.Split(name, twin)[0])
		if !known && table != "" {
			missing[table] = append(missing[table], []tables.Value{{Kind: tables.Int, Int: n}})
		}
	}
	for table, keys := range missing {
		t, ok := g.p.Copy.Schema().Table(table)
		if !ok {
			continue
		}
		if err := tables.Fetch(ctx, g.p.Copy, t, keys, func(r tables.Row) error {
			if it := g.by[g.item(t, r)]; it != nil {
				g.describe(it, t, &r, nil)
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// describe adds what a row tells of its item, and tells whether it is the one that says most.
func (g *gathering) describe(it *Item, t tables.Table, copied, live *tables.Row) (root bool) {
	var status [2]string
	for i, r := range []*tables.Row{copied, live} {
		if r == nil {
			continue
		}
		d := g.of.Describe(g.prefix, t, *r)
		it.Kind, it.Title = cmp.Or(it.Kind, d.Kind), cmp.Or(it.Title, d.Called)
		root, status[i] = root || d.Root, d.State
		if !d.At.IsZero() {
			*[]*time.Time{&it.CopyAt, &it.LiveAt}[i] = d.At
		}
	}
	if status[0] != status[1] && copied != nil && live != nil {
		it.Status = status[1] + " on live, " + status[0] + " on the copy"
	}
	return root
}

// finish says what became of an item on either side.
func (g *gathering) finish(it *Item) {
	it.Kind = cmp.Or(it.Kind, strings.SplitN(it.Name, ":", 2)[0])
	if len(it.Rows) == 0 {
		return
	}
	noise, marks := true, true
	for _, r := range it.Rows {
		passing, mark := r.Passing, g.marks(r)
		noise, marks = noise && passing, marks && mark
		if passing {
			continue
		}
		root := g.of.Describe(g.prefix, r.Table, r.any()).Root
		if root {
			it.Root = r
			if r.Copy == Same && r.Live == Changed && r.Became != nil { // what it is called now
				it.Title = cmp.Or(g.of.Describe(g.prefix, r.Table, *r.Became).Called, it.Title)
			}
		}
		it.Live, it.Copy = worse(it.Live, r.Live, root), worse(it.Copy, r.Copy, root)
		for _, v := range g.versions(r, root) {
			if it.Versions = append(it.Versions, v); (v.Live != nil && v.Copy != nil || !root) &&
				!slices.Contains(it.Fields, v.Field) {
				it.Fields = append(it.Fields, v.Field)
			}
		}
	}
	it.Noise, it.Marks = noise, marks && !noise
	slices.Sort(it.Fields)
}

// owners finds what one side has of an item that went on the other, such as comments: it goes with it. If that side
// made or changed some of it, it changed the item, too.
func (g *gathering) owners(items []*Item) {
	gone := map[number]*Item{}
	for _, it := range items {
		if r := it.Root; r != nil && r.numbered() && (r.Live == Gone || r.Copy == Gone) {
			gone[number{r.Table.Name, r.Key[0].Int}] = it
		}
	}
	if len(gone) == 0 {
		return
	}
	for _, it := range items {
		r := it.Root
		if r == nil {
			continue
		}
		table, n := g.of.Owner(g.prefix, r.Table, r.any())
		of := gone[number{table, n}]
		if of == nil {
			continue
		}
		has, became, is := r.CopyRow, r.Copy, &of.Copy
		if of.Root.Copy == Gone {
			has, became, is = r.LiveRow, r.Live, &of.Live
		}
		if has != nil {
			of.Owns = append(of.Owns, it)
		}
		if has != nil && became != Same && *is == Same {
			*is = Changed
		}
	}
}

// worse adds up what became of the rows of an item: it was made or is gone if its root was or is.
func worse(so, row State, root bool) State {
	switch {
	case row == Same:
		return so
	case root:
		return row
	case so == Same:
		return Changed
	}
	return so
}

// marks tells whether a row makes the copy the one that it is.
func (g *gathering) marks(r *Row) bool {
	column, values := stack.SettingsOf(g.p.Transform.Stack).Touches(g.prefix, r.Table.Name)
	i := r.Table.Column(column)
	return column != "" && i >= 0 && slices.Contains(values, r.any().Values[i].String())
}

// versions gives what either side has of a row where they differ. A row beside the root is one field.
func (g *gathering) versions(r *Row, root bool) (out []Version) {
	text := func(row *tables.Row, i int) *string {
		if row == nil {
			return nil
		}
		s := row.Values[i].String()
		return &s
	}
	was := func(i int) *string {
		if r.Was == nil {
			return nil
		}
		return text(&tables.Row{Values: r.Was}, i)
	}
	if root {
		told := g.p.told(r.Table)
		for i, c := range r.Table.Columns {
			if !told[i] {
				continue
			}
			v := Version{c.Name, text(r.Became, i), text(r.CopyRow, i), was(i)}
			if v.Live == nil || v.Copy == nil || *v.Live != *v.Copy {
				out = append(out, v)
			}
		}
		return out
	}
	called, _ := g.p.Transform.About(r.Table, r.any())
	if g.of.Fixed(g.prefix, r.Table, r.any()) {
		v := Version{Field: "earlier version"}
		if r.LiveRow != nil {
			v.Live = &called
		}
		if r.CopyRow != nil {
			v.Copy = &called
		}
		return []Version{v}
	}
	field, _, _ := strings.Cut(called, " of ")
	last := len(r.Table.Columns) - 1 // tables of fields have the value last
	return []Version{{cmp.Or(field, r.Table.Name), text(r.Became, last), text(r.CopyRow, last), was(last)}}
}
