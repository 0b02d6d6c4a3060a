package drift

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/stack"
	"alibi/internal/tables"
)

// sampled is how many rows of a table are looked at for a proposal.
const sampled = 5000

var errEnough = errors.New("enough rows were seen")

// Propose writes a declaration of the tables and fields of a site of which nothing is known, from what they hold: a
// column is taken to refer to a table if its numbers are those of rows there.
func Propose(ctx context.Context, snap tables.Snapshot, tr *stack.Transform) (string, error) {
	p := &proposing{ctx: ctx, snap: snap, of: tr.Items(), prefix: tr.Change.Origin.Prefix}
	owns := tr.Stack.Owns(snap.Schema(), p.prefix)
	out := ""
	for _, t := range snap.Schema().Tables {
		if !owns(t.Name) || t.Counters || !strings.HasPrefix(t.Name, p.prefix) {
			continue
		}
		text, err := p.table(t, tr)
		if err != nil {
			return "", err
		}
		out += text
	}
	if out == "" {
		return "", nil
	}
	return "component = \"say which one\"\n" + out, nil
}

type proposing struct {
	ctx    context.Context
	snap   tables.Snapshot
	of     stack.Items
	prefix string
}

// numbersOf are the numbers that a column, or a field, was seen to hold.
type numbersOf struct {
	rows, others int // with numbers, and with something else
	seen         map[int64]bool
}

func (n *numbersOf) add(v tables.Value) {
	text := v.String()
	if v.Kind == tables.Null || text == "" || text == "0" {
		return
	}
	if n.seen == nil {
		n.seen = map[int64]bool{}
	}
	for part := range strings.SplitSeq(text, ",") {
		x, err := strconv.ParseInt(strings.TrimSpace(part), 10, 64)
		if err != nil || x <= 0 {
			n.others++
			return
		}
		n.seen[x] = true
	}
	n.rows++
}

// table proposes what a table means, or the fields in it.
func (p *proposing) table(t tables.Table, tr *stack.Transform) (string, error) {
	_, passes := tr.About(t, tables.Row{Values: make([]tables.Value, len(t.Columns))})
	own := !p.of.Numbered(p.prefix, t.Name)
	columns, fields := make([]numbersOf, len(t.Columns)), map[[2]string]*numbersOf{}
	rows := 0
	err := p.snap.Read(p.ctx, t.Name, tables.Range{}, func(r tables.Row) error {
		if rows++; rows > sampled {
			return errEnough
		}
		for i, v := range r.Values {
			columns[i].add(v)
		}
		of, key, column := p.of.Field(p.prefix, t, r)
		if key != "" && len(p.of.Looks(stack.Around{Prefix: p.prefix}, t, r)) > 0 {
			name := [2]string{of, key}
			if fields[name] == nil {
				fields[name] = &numbersOf{}
			}
			fields[name].add(r.Values[t.Column(column)])
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return "", err
	}
	switch {
	case !own:
		return p.fields(fields)
	case passes || rows == 0:
		return "", nil
	case !exactKeys(t) || len(t.Key) != 1:
		return fmt.Sprintf("\n# Table %s: its rows are not known by one value: they are carried as they are.\n"+
			"# If the component writes them by itself: [[table]] with name = %q and passing = true.\n", t.Name,
			strings.TrimPrefix(t.Name, p.prefix)), nil
	}
	return p.columns(t, columns)
}

func (p *proposing) columns(t tables.Table, columns []numbersOf) (string, error) {
	name := strings.TrimPrefix(t.Name, p.prefix)
	kind := strings.ReplaceAll(strings.TrimSuffix(strings.ToLower(name), "s"), "_", "-")
	out := fmt.Sprintf("\n[[table]]\nname = %q\nkind = %q\n", name, kind)
	for _, c := range t.Columns {
		if strings.Contains(c.Type, "char") || strings.Contains(strings.ToLower(c.Type), "text") {
			out += fmt.Sprintf("title = %q\n", c.Name)
			break
		}
	}
	refers := ""
	for i, c := range t.Columns {
		if slices.Contains(t.Key, c.Name) {
			continue
		}
		to, err := p.target(t.Name, c.Name, columns[i])
		if err != nil {
			return "", err
		}
		if to != "" {
			refers += fmt.Sprintf("%s = %q\n", c.Name, to)
		}
	}
	if refers != "" {
		out += "[table.refers]\n" + refers
	}
	return out, nil
}

func (p *proposing) fields(fields map[[2]string]*numbersOf) (out string, err error) {
	var names [][2]string
	for n := range fields {
		names = append(names, n)
	}
	slices.SortFunc(names, func(a, b [2]string) int { return strings.Compare(a[0]+" "+a[1], b[0]+" "+b[1]) })
	for _, n := range names {
		to, err := p.target("", n[1], *fields[n])
		switch {
		case err != nil:
			return "", err
		case to == "":
		case n[0] == stack.OfSettings:
			out += fmt.Sprintf("\n[[setting]]\nname = %q\nrefers = %q\n", n[1], to)
		default:
			out += fmt.Sprintf("\n[[field]]\nof = %q\nkey = %q\nrefers = %q\n", n[0], n[1], to)
		}
	}
	return out, nil
}

// hints are words in names that tell to which table numbers refer.
var hints = [][2]string{{"user", "users"}, {"author", "users"}, {"customer", "users"}, {"member", "users"},
	{"term", "terms"}, {"cat", "terms"}, {"tag", "terms"}, {"comment", "comments"}, {"post", "posts"}, {"page", "posts"},
	{"product", "posts"}, {"order", "posts"}, {"image", "posts"}, {"attachment", "posts"}, {"form", "posts"}}

// target gives the table to which numbers refer, by the name of what holds them and by what is there; "": none.
func (p *proposing) target(table, name string, n numbersOf) (string, error) {
	if n.rows < 2 || n.others > 0 || len(n.seen) < 2 {
		return "", nil
	}
	lower := strings.ToLower(name)
	for _, h := range hints {
		if !strings.Contains(lower, h[0]) {
			continue
		}
		there, err := p.share(p.prefix+h[1], n)
		if err != nil || there > 0.9 {
			return h[1], err
		}
	}
	if table != "" && (strings.Contains(lower, "parent") || strings.HasSuffix(lower, "_id")) {
		there, err := p.share(table, n)
		if err != nil || there > 0.9 {
			return strings.TrimPrefix(table, p.prefix), err
		}
	}
	return "", nil
}

// share is which part of some numbers a table has.
func (p *proposing) share(table string, n numbersOf) (float64, error) {
	t, ok := p.snap.Schema().Table(table)
	if !ok || len(t.Key) != 1 {
		return 0, nil
	}
	var keys [][]tables.Value
	for x := range n.seen {
		if keys = append(keys, []tables.Value{{Kind: tables.Int, Int: x}}); len(keys) == 500 {
			break
		}
	}
	found := 0
	err := tables.Fetch(p.ctx, p.snap, t, keys, func(tables.Row) error { found++; return nil })
	return float64(found) / float64(len(keys)), err
}
