package mysql

import (
	"crypto/md5"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"strconv"
	"strings"

	"alibi/internal/tables"
)

// class is how a column's values are read, digested and written.
type class uint8

const (
	plain   class = iota // dates, decimals and the like: ASCII on the wire
	integer              // an Int, unless it is too large
	float
	raw  // short strings, to the byte
	long // texts and blobs, to the byte
	wide // UTF-16 and its like: read and written as UTF-8
	json // of MySQL, which takes it only as UTF-8
)

var classes = map[string]class{
	"tinyint": integer, "smallint": integer, "mediumint": integer, "int": integer, "bigint": integer, "year": integer,
	"float": float, "double": float,
	"char": raw, "varchar": raw, "binary": raw, "varbinary": raw, "enum": raw, "set": raw, "bit": raw,
	"tinytext": long, "text": long, "mediumtext": long, "longtext": long, "tinyblob": long, "blob": long,
	"mediumblob": long, "longblob": long,
	"geometry": long, "point": long, "linestring": long, "polygon": long, "multipoint": long, "multilinestring": long,
	"multipolygon": long, "geometrycollection": long, "geomcollection": long,
	"json": json,
}

// column is what is known of a column beyond its name.
type column struct {
	tables.Column
	class class
	text  bool // characters, not bytes
}

func newColumn(c tables.Column) column {
	base, _, _ := strings.Cut(strings.ToLower(c.Type), "(")
	base, _, _ = strings.Cut(base, " ")
	out := column{Column: c, class: classes[base]}
	out.text = out.class != integer && out.class != float && c.Charset != "" && c.Charset != "binary" ||
		out.class == plain
	switch c.Charset {
	case "ucs2", "utf16", "utf16le", "utf32":
		out.class = wide
	}
	return out
}

// expr is the column in a SELECT, so that the wire carries it to the byte.
func (c column) expr() string {
	switch {
	case c.class == wide:
		return "CONVERT(" + name(c.Name) + " USING utf8mb4)"
	case c.class == float: // a float alone is rounded when it is written out
		return "CAST(CAST(" + name(c.Name) + " AS DOUBLE) AS CHAR)"
	case c.class == integer && strings.Contains(strings.ToLower(c.Type), "zerofill"):
		return "(" + name(c.Name) + " + 0)" // the zeros are shown, not stored
	}
	return name(c.Name)
}

// large is from which length on a value is digested apart, so that a row's
// digest is not bounded by the longest statement that the server takes.
const large = 8192

// Parts of a row's digest: a number or date and a comma; the length of anything
// else, a colon and the bytes, or the digest of a large one; "-" for NULL's
// value or length. The server calls few functions for it: they are what a
// digest costs.

// isShort tells whether the column's values hold neither a comma nor a lone "-".
func (c column) isShort() bool { return c.class == plain || c.class == integer || c.class == float }

// isLong tells whether the column's values may be large.
func (c column) isLong() bool { return c.class == long || c.class == json || c.class == wide }

// part is the column's part of a row's digest, in the server's language, as
// arguments of CONCAT.
func (c column) part() string {
	e := c.expr()
	if c.isShort() {
		return "IFNULL(" + e + ",'-'),','"
	}
	b := "CAST(" + e + " AS BINARY)"
	if c.isLong() {
		b = "IF(LENGTH(" + e + ")<" + strconv.Itoa(large) + "," + b + ",MD5(" + e + "))"
	}
	return "IFNULL(LENGTH(" + e + "),'-'),':',IFNULL(" + b + ",'')"
}

// appendPart is part, computed here.
func (c column) appendPart(b []byte, v tables.Value) []byte {
	switch null := v.Kind == tables.Null; {
	case null && c.isShort():
		return append(b, "-,"...)
	case null:
		return append(b, "-:"...)
	case c.isShort():
		return append(append(b, v.Bytes...), ',')
	}
	b = append(strconv.AppendInt(b, int64(len(v.Bytes)), 10), ':')
	if len(v.Bytes) >= large && c.isLong() {
		sum := md5.Sum(v.Bytes)
		return hex.AppendEncode(b, sum[:])
	}
	return append(b, v.Bytes...)
}

// value makes a value of what came over the wire; it shares its memory. Bytes
// is what the server wrote, also of numbers.
func (c column) value(wire []byte) tables.Value {
	if wire == nil {
		return tables.Value{}
	}
	v := tables.Value{Kind: tables.Blob, Bytes: wire}
	switch c.class {
	case integer:
		if n, err := strconv.ParseInt(string(wire), 10, 64); err == nil {
			v.Kind, v.Int = tables.Int, n
		} else {
			v.Kind = tables.Text // more than 63 bits
		}
	case float:
		v.Kind = tables.Float
		v.Float, _ = strconv.ParseFloat(string(wire), 64)
	default:
		if c.text {
			v.Kind = tables.Text
		}
	}
	return v
}

// literal writes a value into a statement.
func (c column) literal(b []byte, v tables.Value) []byte {
	switch {
	case v.Kind == tables.Null:
		return append(b, "NULL"...)
	case v.Kind == tables.Int && v.Bytes == nil:
		return strconv.AppendInt(b, v.Int, 10)
	case c.class == integer, c.class == float:
		return append(b, v.Bytes...)
	case c.class == wide, c.class == json:
		b = append(b, "_utf8mb4"...)
	case c.class == raw, c.class == long:
		b = append(b, "_binary"...)
	}
	return quote(b, v.Bytes)
}

// bound writes a value of a key to compare the column with, so that an index
// serves and the order is the column's.
func (c column) bound(v tables.Value) string {
	switch {
	case c.class == wide:
		return "CONVERT(" + string(quote([]byte("_utf8mb4"), v.Bytes)) + " USING " + c.Charset + ") COLLATE " +
			c.Collation
	case c.class == raw && c.text:
		return string(quote([]byte("_"+c.Charset), v.Bytes)) + " COLLATE " + c.Collation
	}
	return string(c.literal(nil, v))
}

// ordered tells whether ranges can be cut by the column.
func (c column) ordered() bool {
	t := strings.ToLower(c.Type)
	return c.class != float && c.class != long && c.class != json && !strings.HasPrefix(t, "enum") &&
		!strings.HasPrefix(t, "set") &&
		!strings.HasPrefix(t, "bit")
}

// quote writes a string literal with the escapes of the default SQL mode.
func quote(b, s []byte) []byte {
	b = append(b, '\'')
	last := 0
	for i, c := range s {
		var e byte
		switch c {
		case 0:
			e = '0'
		case '\n':
			e = 'n'
		case '\r':
			e = 'r'
		case 0x1a:
			e = 'Z'
		case '\'', '"', '\\':
			e = c
		default:
			continue
		}
		b = append(b, s[last:i]...)
		b = append(b, '\\', e)
		last = i + 1
	}
	b = append(b, s[last:]...)
	return append(b, '\'')
}

// digest digests a row: MD5, because the server can compute it too.
func digest(cols []column, r tables.Row, buf []byte) (tables.Digest, []byte) {
	buf = buf[:0]
	for i, c := range cols {
		buf = c.appendPart(buf, r.Values[i])
	}
	sum := md5.Sum(buf)
	return fromSum(sum), buf
}

func fromSum(sum [md5.Size]byte) tables.Digest {
	return tables.Digest{binary.BigEndian.Uint64(sum[:]), binary.BigEndian.Uint64(sum[8:])}
}

// decodeSum reads a digest that the server wrote.
func decodeSum(text []byte) (tables.Digest, error) {
	var sum [md5.Size]byte
	if _, err := hex.Decode(sum[:], text); err != nil {
		return tables.Digest{}, errors.New("a row is too large for the server to digest")
	}
	return fromSum(sum), nil
}

// rowSum is digest in the server's language: 32 hexadecimal digits.
func rowSum(cols []column) string {
	parts := make([]string, len(cols))
	for i, c := range cols {
		parts[i] = c.part()
	}
	return "MD5(CONCAT(" + strings.Join(parts, ",") + "))"
}

func digestText(s string) string {
	sum := md5.Sum([]byte(s))
	return hex.EncodeToString(sum[:])
}
