package stack

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Declaration says what tables, fields and settings of a component mean, of which the stack knows nothing. Its format
// is in docs/formats/declaration.md.
type Declaration struct {
	Component string            `toml:"component"`
	Tables    []DeclaredTable   `toml:"table"`
	Fields    []DeclaredField   `toml:"field"`
	Settings  []DeclaredSetting `toml:"setting"`
}

// DeclaredTable is a table each row of which is one thing.
type DeclaredTable struct {
	Name    string            `toml:"name"`    // without the site's prefix
	Kind    string            `toml:"kind"`    // what people call one of it
	Title   string            `toml:"title"`   // the column that says which one it is
	Refers  map[string]string `toml:"refers"`  // columns with numbers of rows of other tables
	Counted []string          `toml:"counted"` // columns that the component works out from others
	Passing bool              `toml:"passing"` // the component writes it by itself
}

// DeclaredField is a field that holds the number of a row, or several with commas between them. What it holds may be in
// a value that PHP or JSON packs: At is the path to it, "slides.*.image", of keys and numbers of elements, * for each.
type DeclaredField struct {
	Of     string `toml:"of"` // what has it: posts, terms, comments, users
	Key    string `toml:"key"`
	Refers string `toml:"refers"`
	At     string `toml:"at"` // "": it is no packed value
}

// DeclaredSetting is a setting of that kind.
type DeclaredSetting struct {
	Name   string `toml:"name"`
	Refers string `toml:"refers"`
	At     string `toml:"at"`
}

var (
	declaredName = regexp.MustCompile(`^[A-Za-z0-9_$-]+$`)
	declaredKind = regexp.MustCompile(`^[a-z][a-z0-9-]*$`)
	// fieldsOf are what can have fields, and takenKinds what items of the stack itself are called.
	fieldsOf   = []string{"posts", "terms", "comments", "users"}
	takenKinds = []string{"post", "term", "comment", "user", "setting", "row", "plugin", "theme",
		"core", "file"}
)

// DecodeTOML reads a document of people into a structure that has all that may stand in it. name is what its errors
// call it, and what the kind of document; they say the line.
func DecodeTOML(name, what string, src []byte, to any) error {
	err := toml.NewDecoder(bytes.NewReader(src)).DisallowUnknownFields().Decode(to)
	var at *toml.DecodeError
	var strict *toml.StrictMissingError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		line, _ := strict.Errors[0].Position()
		return fmt.Errorf("%s, line %d: there is nothing called %q in %s", name, line,
			strings.Join(strict.Errors[0].Key(), "."), what)
	case errors.As(err, &at):
		line, _ := at.Position()
		return fmt.Errorf("%s, line %d: %s", name, line, strings.TrimPrefix(at.Error(), "toml: "))
	}
	return fmt.Errorf("%s: %w", name, err)
}

// ParseDeclaration reads a declaration; name is what its errors call it. They say the line.
func ParseDeclaration(name string, src []byte) (d Declaration, err error) {
	if err := DecodeTOML(name, "a declaration", src, &d); err != nil {
		return d, err
	}
	var all []error
	for _, p := range d.problems() {
		all = append(all, fmt.Errorf("%s, line %d: %s", name, lineOf(src, p.table, p.n), p.text))
	}
	return d, errors.Join(all...)
}

// problem is what is wrong with the n-th of some kind.
type problem struct {
	table string
	n     int
	text  string
}

// lineOf gives the line on which the n-th array table of a name begins.
func lineOf(src []byte, table string, n int) int {
	for i, line := range strings.Split(string(src), "\n") {
		if strings.HasPrefix(strings.TrimSpace(line), "[["+table+"]]") {
			if n--; n < 0 {
				return i + 1
			}
		}
	}
	return 1
}

func (d Declaration) problems() (out []problem) {
	wrong := func(table string, n int, format string, a ...any) {
		out = append(out, problem{table, n, fmt.Sprintf(format, a...)})
	}
	if d.Component == "" {
		wrong("", 0, "component says what it is about")
	}
	kinds := map[string]bool{}
	for i, t := range d.Tables {
		switch {
		case !declaredName.MatchString(t.Name):
			wrong("table", i, "name is that of a table, without the site's prefix")
		case slices.Contains(fieldsOf, t.Name):
			wrong("table", i, "%s is the CMS's own: what it means is known", t.Name)
		case t.Passing:
		case !declaredKind.MatchString(t.Kind):
			wrong("table", i, "kind is what people call a row, in small letters: %q", t.Kind)
		case slices.Contains(takenKinds, t.Kind) || kinds[t.Kind]:
			wrong("table", i, "there are things called %q already", t.Kind)
		}
		kinds[t.Kind] = true
		for column, to := range t.Refers {
			if !isPath(column) {
				wrong("table", i, pathSays, column)
			}
			if !d.knows(to) {
				wrong("table", i, "%s refers to %q: write posts, terms, term_taxonomy, comments, users or a table of this "+
					"declaration", column, to)
			}
		}
	}
	for i, f := range d.Fields {
		switch {
		case !slices.Contains(fieldsOf, f.Of):
			wrong("field", i, "of is what has the field: %s", strings.Join(fieldsOf, ", "))
		case f.Key == "":
			wrong("field", i, "key is the field's name")
		case !isPath(f.At):
			wrong("field", i, pathSays, f.At)
		case !d.knows(f.Refers):
			wrong("field", i, "it refers to %q: write posts, terms, comments, users or a table of this declaration", f.Refers)
		}
	}
	for i, s := range d.Settings {
		switch {
		case s.Name == "":
			wrong("setting", i, "name is the setting's")
		case !isPath(s.At):
			wrong("setting", i, pathSays, s.At)
		case !d.knows(s.Refers):
			wrong("setting", i, "it refers to %q: write posts, terms, comments, users or a table of this declaration",
				s.Refers)
		}
	}
	return out
}

const pathSays = "%q is no path: write keys with a dot between them, * for each: slides.*.image"

// isPath tells whether a text is a path in a packed value, or none.
func isPath(s string) bool { return s == "" || !slices.Contains(strings.Split(s, "."), "") }

// knows tells whether there is a table that can be referred to.
func (d Declaration) knows(table string) bool {
	return slices.Contains(fieldsOf, table) || table == "term_taxonomy" ||
		slices.ContainsFunc(d.Tables, func(t DeclaredTable) bool { return t.Name == table })
}
