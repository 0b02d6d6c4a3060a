package archive

import (
	"bufio"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

// parser reads the rows of a dump as Alibi writes it: INSERT statements with
// literals. Nothing of it is ever run; tables are made from the manifest.
type parser struct {
	r      *bufio.Reader
	engine string
	escape bool // backslashes do
	rows   int64
	name   string   // the table of the statement that is being read; "" between statements
	cols   []string // its columns
	ended  bool
	values []tables.Value
	buf    []byte
}

func newParser(r io.Reader, engine string) *parser {
	return &parser{r: bufio.NewReaderSize(r, 1<<20), engine: engine, escape: engines.Escapes(engine)}
}

func (p *parser) wrong(what string) error {
	return fmt.Errorf("%w: its SQL is not as Alibi writes it: %s", ErrDamaged, what)
}

// table gives the rows of the statements for one table that come next.
func (p *parser) table(ctx context.Context, t tables.Table, give func(tables.Row) error) error {
	var order []int
	for n := 0; ; n++ {
		if n%256 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if p.name == "" && !p.ended {
			if err := p.statement(); err != nil {
				return err
			}
			order = nil
		}
		if p.ended || p.name != t.Name {
			return nil // it is the next table's
		}
		if order == nil {
			var err error
			if order, err = p.order(t); err != nil {
				return err
			}
		}
		if err := p.row(); err != nil {
			return err
		}
		row, err := p.made(t, order)
		if err != nil {
			return err
		}
		p.rows++
		if err := give(row); err != nil {
			return err
		}
	}
}

// order says at which place of a tuple each column of the table is; a hidden
// key's comes first.
func (p *parser) order(t tables.Table) ([]int, error) {
	var out []int
	names := columnsOf(t)
	for _, n := range names {
		i := slices.Index(p.cols, n)
		if i < 0 {
			return nil, p.wrong("column " + n + " of table " + t.Name + " is missing")
		}
		out = append(out, i)
	}
	if len(p.cols) != len(names) {
		return nil, p.wrong("table " + t.Name + " has other columns")
	}
	return out, nil
}

func columnsOf(t tables.Table) (names []string) {
	if t.Hidden {
		names = append(names, t.Key...)
	}
	for _, c := range t.Columns {
		names = append(names, c.Name)
	}
	return names
}

// made makes a row of the tuple that was read.
func (p *parser) made(t tables.Table, order []int) (tables.Row, error) {
	all := make([]tables.Value, len(order))
	for i, at := range order {
		if at >= len(p.values) {
			return tables.Row{}, p.wrong("a row of " + t.Name + " is too short")
		}
		all[i] = p.values[at]
	}
	row := tables.Row{Values: all}
	if t.Hidden {
		row.Key, row.Values = all[:len(t.Key)], all[len(t.Key):]
	}
	engines.Typed(p.engine, t, row.Values)
	if !t.Hidden {
		for _, k := range t.Key {
			if i := t.Column(k); i >= 0 {
				row.Key = append(row.Key, row.Values[i])
			}
		}
	}
	return row, nil
}

// end wants no statement with rows to be left.
func (p *parser) end() error {
	for !p.ended {
		if p.name != "" {
			return p.wrong("rows of a table that the manifest does not name: " + p.name)
		}
		if err := p.statement(); err != nil {
			return err
		}
	}
	_, err := io.Copy(io.Discard, p.r)
	return err
}

// statement goes on to the next INSERT; others are passed by.
func (p *parser) statement() error {
	for {
		c, err := p.blank()
		if err == io.EOF {
			p.ended = true
			return nil
		}
		if err != nil {
			return err
		}
		if c == '-' || c == '#' { // a comment
			if _, err := p.r.ReadString('\n'); err != nil && err != io.EOF {
				return err
			}
			continue
		}
		word, err := p.word()
		if err != nil {
			return err
		}
		switch strings.ToUpper(word) {
		case "INSERT":
			return p.insert()
		case "DELIMITER": // what hangs on the tables; it is in the manifest
			p.ended = true
			return nil
		}
		if err := p.pass(); err != nil {
			return err
		}
	}
}

// blank passes white space by and gives what comes next.
func (p *parser) blank() (byte, error) {
	for {
		c, err := p.r.ReadByte()
		if err != nil {
			return 0, err
		}
		if c != ' ' && c != '\n' && c != '\r' && c != '\t' {
			return c, p.r.UnreadByte()
		}
	}
}

func (p *parser) word() (string, error) {
	var b strings.Builder
	for {
		c, err := p.r.ReadByte()
		if err == io.EOF && b.Len() > 0 {
			return b.String(), nil
		}
		if err != nil {
			return "", notEOF(err)
		}
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c >= '0' && c <= '9') {
			if b.Len() == 0 {
				return "", p.wrong(fmt.Sprintf("%q where a word should be", c))
			}
			return b.String(), p.r.UnreadByte()
		}
		if b.WriteByte(c); b.Len() > 64 {
			return "", p.wrong("a word without an end")
		}
	}
}

// pass goes behind the end of a statement.
func (p *parser) pass() error {
	for {
		c, err := p.r.ReadByte()
		if err != nil {
			return notEOF(err)
		}
		switch c {
		case ';':
			return nil
		case '\'', '"', '`':
			if err := p.quoted(c); err != nil {
				return err
			}
		}
	}
}

// expect wants one of some bytes to come next, behind white space.
func (p *parser) expect(set string) (byte, error) {
	c, err := p.blank()
	if err != nil {
		return 0, notEOF(err)
	}
	if !strings.ContainsRune(set, rune(c)) {
		return 0, p.wrong(fmt.Sprintf("%q where one of %q should be", c, set))
	}
	_, err = p.r.ReadByte()
	return c, err
}

// identifier reads a quoted name.
func (p *parser) identifier() (string, error) {
	q, err := p.expect("`\"")
	if err != nil {
		return "", err
	}
	if err := p.quoted(q); err != nil {
		return "", err
	}
	return string(p.buf), nil
}

// insert reads the head of a statement, up to its first row.
func (p *parser) insert() (err error) {
	if _, err := p.blank(); err != nil {
		return notEOF(err)
	}
	if w, err := p.word(); err != nil || !strings.EqualFold(w, "INTO") {
		return p.wrong("INSERT without INTO")
	}
	if p.name, err = p.identifier(); err != nil {
		return err
	}
	if _, err := p.expect("("); err != nil {
		return err
	}
	p.cols = p.cols[:0]
	for {
		col, err := p.identifier()
		if err != nil {
			return err
		}
		p.cols = append(p.cols, col)
		c, err := p.expect(",)")
		if err != nil {
			return err
		}
		if c == ')' {
			break
		}
	}
	if _, err := p.blank(); err != nil {
		return notEOF(err)
	}
	if w, err := p.word(); err != nil || !strings.EqualFold(w, "VALUES") {
		return p.wrong("INSERT without VALUES")
	}
	return nil
}

// row reads a tuple, and what is behind it: a comma, or the statement's end.
func (p *parser) row() error {
	if _, err := p.expect("("); err != nil {
		return err
	}
	p.values = p.values[:0]
	for {
		v, err := p.literal()
		if err != nil {
			return err
		}
		p.values = append(p.values, v)
		c, err := p.expect(",)")
		if err != nil {
			return err
		}
		if c == ')' {
			break
		}
	}
	c, err := p.expect(",;")
	if err == nil && c == ';' {
		p.name = ""
	}
	return err
}

// literal reads a value.
func (p *parser) literal() (v tables.Value, err error) {
	c, err := p.blank()
	if err != nil {
		return v, notEOF(err)
	}
	if c == '\'' {
		_, _ = p.r.ReadByte()
		err := p.quoted('\'')
		return tables.Value{Kind: tables.Text, Bytes: slices.Clone(p.buf)}, err
	}
	if c == '-' || c >= '0' && c <= '9' {
		return p.number()
	}
	word, err := p.word()
	if err != nil {
		return v, err
	}
	switch strings.ToUpper(word) {
	case "NULL":
		return v, nil
	case "X":
		b, err := p.hex()
		return tables.Value{Kind: tables.Blob, Bytes: b}, err
	case "CAST": // text with bytes that a literal can't hold
		if _, err := p.expect("("); err != nil {
			return v, err
		}
		if _, err := p.expect("X"); err != nil {
			return v, err
		}
		b, err := p.hex()
		if err != nil {
			return v, err
		}
		for _, want := range []string{"AS", "TEXT"} {
			if _, err := p.blank(); err != nil {
				return v, notEOF(err)
			}
			if w, err := p.word(); err != nil || w != want {
				return v, p.wrong("a CAST to something else than text")
			}
		}
		_, err = p.expect(")")
		return tables.Value{Kind: tables.Text, Bytes: b}, err
	case "_BINARY", "_UTF8MB4":
		if _, err := p.expect("'"); err != nil {
			return v, err
		}
		err := p.quoted('\'')
		return tables.Value{Kind: tables.Text, Bytes: slices.Clone(p.buf)}, err
	}
	return v, p.wrong("the literal " + word)
}

func (p *parser) hex() ([]byte, error) {
	if _, err := p.expect("'"); err != nil {
		return nil, err
	}
	if err := p.quoted('\''); err != nil {
		return nil, err
	}
	out := make([]byte, hex.DecodedLen(len(p.buf)))
	if _, err := hex.Decode(out, p.buf); err != nil {
		return nil, p.wrong("a hexadecimal literal")
	}
	return out, nil
}

// number reads a number; what it is written like stays with it.
func (p *parser) number() (tables.Value, error) {
	var b []byte
	for {
		c, err := p.r.ReadByte()
		if err != nil {
			return tables.Value{}, notEOF(err)
		}
		if !strings.ContainsRune("+-.0123456789eEInfa", rune(c)) || len(b) > 400 {
			if err := p.r.UnreadByte(); err != nil {
				return tables.Value{}, err
			}
			break
		}
		b = append(b, c)
	}
	if n, err := strconv.ParseInt(string(b), 10, 64); err == nil {
		return tables.Value{Kind: tables.Int, Int: n, Bytes: b}, nil
	}
	f, err := strconv.ParseFloat(string(b), 64)
	if err != nil && !p.escape {
		return tables.Value{}, p.wrong("the number " + string(b))
	}
	return tables.Value{Kind: tables.Float, Float: f, Bytes: b}, nil
}

// longest is what a single value may be, in bytes.
const longest = 1 << 30

// quoted reads on behind an opening quotation mark, to behind the closing one.
func (p *parser) quoted(q byte) error {
	p.buf = p.buf[:0]
	for {
		c, err := p.r.ReadByte()
		if err != nil {
			return notEOF(err)
		}
		switch {
		case c == '\\' && p.escape && q != '`':
			if c, err = p.r.ReadByte(); err != nil {
				return notEOF(err)
			}
			if i := strings.IndexByte("0nrtZb", c); i >= 0 {
				c = "\x00\n\r\t\x1a\b"[i]
			}
		case c == q:
			if next, err := p.r.Peek(1); err != nil || next[0] != q {
				return nil
			}
			_, _ = p.r.ReadByte()
		}
		if p.buf = append(p.buf, c); len(p.buf) > longest {
			return p.wrong("a value without an end")
		}
	}
}
