package stack

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/tables"
)

// declared is what a stack knows of its items, with what is declared of others.
type declared struct {
	Items
	list []Declaration
}

// Items is what is known of the items of the sites that are transformed: by their stack, and by what is declared.
func (x *Transform) Items() Items {
	if len(x.Declared) == 0 {
		return ItemsOf(x.Stack)
	}
	return declared{ItemsOf(x.Stack), x.Declared}
}

// bareName takes the prefix of a site, and the number of a network's site, from a table's name.
func bareName(prefix, table string) (part, name string) {
	rest, ok := strings.CutPrefix(table, prefix)
	if !ok {
		return "", ""
	}
	if n := strings.TrimLeft(rest, "0123456789"); len(n) < len(rest) && strings.HasPrefix(n, "_") {
		rest = n[1:]
	}
	return strings.TrimSuffix(table, rest), rest
}

// table finds what is declared of a table, and the prefix of its site.
func (d declared) table(prefix, table string) (t DeclaredTable, part string, ok bool) {
	part, name := bareName(prefix, table)
	for _, l := range d.list {
		if i := slices.IndexFunc(l.Tables, func(t DeclaredTable) bool { return t.Name == name }); i >= 0 {
			return l.Tables[i], part, true
		}
	}
	return t, "", false
}

func (d declared) ItemOf(prefix string, t tables.Table, r tables.Row) string {
	is, part, ok := d.table(prefix, t.Name)
	if !ok || is.Kind == "" {
		return d.Items.ItemOf(prefix, t, r)
	}
	name := is.Kind + ":"
	if site := strings.Trim(strings.TrimPrefix(part, prefix), "_"); site != "" {
		name += site + "/"
	}
	return name + r.Address()
}

func (d declared) Describe(prefix string, t tables.Table, r tables.Row) Described {
	is, _, ok := d.table(prefix, t.Name)
	if !ok || is.Kind == "" {
		return d.Items.Describe(prefix, t, r)
	}
	out := Described{Root: true, Kind: is.Kind}
	if i := t.Column(is.Title); i >= 0 {
		out.Called = Short(r.Values[i].String())
	}
	return out
}

func (d declared) References(of Around, t tables.Table, r tables.Row, visit func(string, int64) int64) {
	d.Items.References(of, t, r, visit)
	prefix := of.Prefix
	part, _ := bareName(prefix, t.Name)
	in := func(table string) string {
		if table == "users" {
			return prefix + table // a network has them once
		}
		return part + table
	}
	if is, _, ok := d.table(prefix, t.Name); ok {
		if len(t.Key) == 1 {
			refer(t, r, t.Key[0], func(n int64) int64 { return visit(t.Name, n) })
		}
		for column, to := range is.Refers {
			column, path, _ := strings.Cut(column, ".")
			referIn(t, r, column, path, func(n int64) int64 { return visit(in(to), n) })
		}
		return
	}
	list, column := d.values(prefix, t, r)
	for _, is := range list {
		referIn(t, r, column, is.At, func(n int64) int64 { return visit(in(is.Refers), n) })
	}
}

// referIn visits the numbers of a column, or of a place in it; "": in all of it.
func referIn(t tables.Table, r tables.Row, column, path string, visit func(int64) int64) {
	if path != "" {
		referAt(t, r, column, path, visit)
		return
	}
	refer(t, r, column, visit)
}

// values tells whether a row is a field or a setting that is declared: what it refers to, and the column that has the
// value.
func (d declared) values(prefix string, t tables.Table, r tables.Row) (list []DeclaredSetting, column string) {
	of, key, column := d.Field(prefix, t, r)
	for _, l := range d.list {
		for _, f := range l.Fields {
			if f.Of == of && f.Key == key {
				list = append(list, DeclaredSetting{Name: key, Refers: f.Refers, At: f.At})
			}
		}
		for _, s := range l.Settings {
			if of == OfSettings && s.Name == key {
				list = append(list, s)
			}
		}
	}
	return list, column
}

var (
	numberList = regexp.MustCompile(`^\s*\d+(\s*,\s*\d+)*\s*$`)
	oneNumber  = regexp.MustCompile(`\d+`)
)

// refer visits the numbers of a column that holds one, or several with commas between them.
func refer(t tables.Table, r tables.Row, column string, visit func(int64) int64) {
	i := t.Column(column)
	if i < 0 {
		return
	}
	v := &r.Values[i]
	if v.Kind == tables.Int {
		if v.Int > 0 {
			*v = v.WithInt(visit(v.Int))
		}
		return
	}
	if text := v.String(); numberList.MatchString(text) {
		v.Bytes = []byte(referText(text, visit))
	}
}

// referText visits the numbers of a text that is one, or several with commas between them.
func referText(text string, visit func(int64) int64) string {
	if !numberList.MatchString(text) {
		return text
	}
	return oneNumber.ReplaceAllStringFunc(text, func(s string) string {
		n, err := strconv.ParseInt(s, 10, 64)
		if err != nil || n <= 0 {
			return s
		}
		if to := visit(n); to != n {
			return strconv.FormatInt(to, 10)
		}
		return s
	})
}

func (d declared) Numbered(prefix, table string) bool {
	_, _, ok := d.table(prefix, table)
	return ok || d.Items.Numbered(prefix, table)
}

func (d declared) Looks(of Around, t tables.Table, r tables.Row) []int64 {
	if _, _, ok := d.table(of.Prefix, t.Name); ok {
		return nil
	}
	if list, _ := d.values(of.Prefix, t, r); len(list) > 0 {
		return nil
	}
	return d.Items.Looks(of, t, r)
}

func (d declared) Cached(prefix string, t tables.Table, column string) bool {
	is, _, _ := d.table(prefix, t.Name)
	return slices.Contains(is.Counted, column) || d.Items.Cached(prefix, t, column)
}

// passes tells whether a component writes a table by itself.
func (d declared) passes(prefix, table string) bool {
	is, _, _ := d.table(prefix, table)
	return is.Passing
}
