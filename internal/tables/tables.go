// Package tables is how Alibi reads and writes a site's database, whatever
// engine keeps it.
//
// A Database is opened where the site is. Its Snapshot is one consistent state
// that several readers may read at once, table by table, in ranges of keys, as
// a stream whose memory does not depend on the table's size. A Target is filled
// with tables, rows in bulk, and at last with indexes, views and triggers, so
// that none of them slows the rows or fires on them. An engine is done when it
// passes tablestest.Run.
package tables

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/zeebo/blake3"
)

// Errors that callers decide on.
var (
	ErrRefused = errors.New("the database refuses to be read") // no right, encrypted, or not a database
	ErrFull    = errors.New("the database server's disk is full: make room there, then go on")
	ErrBusy    = errors.New("the database is written to all the time")
	ErrWaits   = errors.New("others have its tables, and we have waited for long")
	ErrCrowded = errors.New("the database server takes no more connections")
	ErrAway    = errors.New("the database server does not answer")
	ErrShape   = errors.New("a table changed its definition while it was read")
	ErrDamaged = errors.New("the database is damaged")
)

// Transient tells whether an error may go away by itself, so that what failed is
// to be tried again.
func Transient(err error) bool {
	for _, e := range []error{ErrBusy, ErrWaits, ErrCrowded, ErrAway, ErrShape} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// Kind is how a value is stored.
type Kind uint8

const (
	Null Kind = iota
	Int
	Float
	Text
	Blob
)

// Value is one stored value, to the byte. Bytes is only valid as long as its
// giver says.
type Value struct {
	Kind  Kind
	Int   int64
	Float float64
	Bytes []byte
}

// WithInt gives a value like v with another number.
func (v Value) WithInt(n int64) Value {
	out := Value{Kind: Int, Int: n}
	if v.Bytes != nil {
		out.Bytes = strconv.AppendInt(nil, n, 10)
	}
	return out
}

// String writes a value for people: an address of a row, a cell in a list.
func (v Value) String() string {
	switch v.Kind {
	case Int:
		return strconv.FormatInt(v.Int, 10)
	case Float:
		return strconv.FormatFloat(v.Float, 'g', -1, 64)
	case Text, Blob:
		return string(v.Bytes)
	}
	return "NULL"
}

// Equal tells whether two values are stored alike.
func (v Value) Equal(o Value) bool {
	return v.Kind == o.Kind && v.Int == o.Int && bytes.Equal(v.Bytes, o.Bytes) &&
		math.Float64bits(v.Float) == math.Float64bits(o.Float)
}

// Row is one row: the values of the table's key, which may be hidden ones, and
// those of its columns, in the schema's order.
type Row struct {
	Key    []Value
	Values []Value
}

// Address names the row by its key.
func (r Row) Address() string {
	s := ""
	for i, k := range r.Key {
		if i > 0 {
			s += ", "
		}
		s += k.String()
	}
	return s
}

// append writes the row in a form that is equal for equal rows only.
func (r Row) append(b []byte) []byte {
	for _, v := range r.Values {
		b = append(b, byte(v.Kind))
		switch v.Kind {
		case Int:
			b = binary.LittleEndian.AppendUint64(b, uint64(v.Int))
		case Float:
			b = binary.LittleEndian.AppendUint64(b, math.Float64bits(v.Float))
		case Text, Blob:
			b = binary.AppendUvarint(b, uint64(len(v.Bytes)))
			b = append(b, v.Bytes...)
		}
	}
	return b
}

// Digest is the digest of a row, or of a set of rows in any order.
type Digest [2]uint64

// Digest digests the row's values; buf is scratch room and is given back.
func (r Row) Digest(buf []byte) (Digest, []byte) {
	buf = r.append(buf[:0])
	sum := blake3.Sum256(buf)
	return Digest{binary.LittleEndian.Uint64(sum[:]), binary.LittleEndian.Uint64(sum[8:])}, buf
}

// Add puts a row's digest to a set's. The order does not matter, and equal
// rows count as often as they are there.
func (d *Digest) Add(row Digest) {
	lo := d[0] + row[0]
	carry := uint64(0)
	if lo < row[0] {
		carry = 1
	}
	d[0], d[1] = lo, d[1]+row[1]+carry
}

// String writes the digest in hexadecimal.
func (d Digest) String() string { return fmt.Sprintf("%016x%016x", d[1], d[0]) }

// Column is one column of a table.
type Column struct {
	Name      string
	Type      string // as declared
	Charset   string // of text, where the engine has one for each column
	Collation string
}

// Table is one table as it stands in a snapshot.
type Table struct {
	Name       string
	Stored     string     // its name in the database, where that is another; see the engine
	Columns    []Column   // those that are stored; generated ones are not among them
	Key        []string   // what a row is known by; empty: nothing, equal rows may repeat
	Counters   bool       // its rows are the engine's own: the numbers that other tables give to their next rows
	Hidden     bool       // the key is none of the columns but the engine's own row number
	Declared   []string   // the key that the table itself declares then, if no part of it can be missing
	Create     string     // the statement that makes it, in the engine's language
	Definition Definition // what Create says, part by part
	Rows       int64      // counted
	Bytes      int64      // as near as the engine can say
}

// Column gives the index of a column, or -1.
func (t Table) Column(name string) int {
	for i, c := range t.Columns {
		if c.Name == name {
			return i
		}
	}
	return -1
}

// Object is what is made after the rows: an index, a view, a trigger, a routine.
type Object struct {
	Kind, Name, Table, SQL string
	Mode                   string // settings under which the engine read SQL, if that matters
}

// WorksWith tells whether a view or a trigger names a table, as a whole word.
func (o Object) WorksWith(table string) bool {
	if o.Kind != "view" && o.Kind != "trigger" {
		return false
	}
	for at := 0; ; {
		n := strings.Index(o.SQL[at:], table)
		if n < 0 {
			return false
		}
		before, _ := utf8.DecodeLastRuneInString(o.SQL[:at+n])
		after, _ := utf8.DecodeRuneInString(o.SQL[at+n+len(table):])
		if !isWord(before) && !isWord(after) {
			return true
		}
		at += n + len(table)
	}
}

// Schema is everything but the rows.
type Schema struct {
	Engine   string
	Tables   []Table
	After    []Object
	Settings map[string]string // of the database as a whole, by the engine's own names
	Hidden   []Object          // what is there and not shown to the account: kind and name
	Problems []string          // what can't be copied, and why, in sentences
}

// Table finds a table by name.
func (s Schema) Table(name string) (Table, bool) {
	for _, t := range s.Tables {
		if t.Name == name {
			return t, true
		}
	}
	return Table{}, false
}

// Range is a part of a table in the order of its key: behind After, up to and
// with To. nil is no bound.
type Range struct{ After, To []Value }

// Database is a site's database where it is.
type Database interface {
	// Snapshot fixes a consistent state, making nobody wait who uses the site.
	Snapshot(ctx context.Context) (Snapshot, error)
	// Stamp is a short text that changes when anything in the database does.
	Stamp(ctx context.Context) (string, error)
}

// Writable is a database that Alibi may write to: a copy's.
type Writable interface {
	Database
	// Exec runs one statement with ? for arguments.
	Exec(ctx context.Context, sql string, args ...any) error
}

// Loose tells whether a snapshot's tables are read at moments of their own, as where each request is a connection of
// its own: no two of its readings see one state.
func Loose(s Snapshot) bool {
	l, ok := s.(interface{ Loose() bool })
	return ok && l.Loose()
}

// Snapshot is one state of a database. Readers may be used at once.
type Snapshot interface {
	Schema() Schema
	// Readers is how many Reads may go on at once.
	Readers() int
	// Ranges cuts a table into parts of about rows rows each; one that is whole
	// if it has no key.
	Ranges(ctx context.Context, table string, rows int) ([]Range, error)
	// Read gives the rows of a range in the order of the key. A row is valid
	// until give returns; an error from give ends the reading.
	Read(ctx context.Context, table string, r Range, give func(Row) error) error
	// Digest digests a row of a table, in the way in which this engine does it;
	// buf is scratch room and is given back.
	Digest(table string, r Row, buf []byte) (Digest, []byte)
	Close() error
}

// Target is an empty database, or one that a broken-off load left, that is
// being filled. It is nobody's until Finish.
type Target interface {
	// Begin makes the schema's tables, without what comes after the rows. Those
	// that were loaded whole before are kept, and named.
	Begin(ctx context.Context, s Schema) (loaded []string, err error)
	// Load fills a table from the rows that next gives until it gives false.
	// What a broken-off Load left of this table is emptied first.
	Load(ctx context.Context, table string, next func(put func(Row) error) error) error
	// Finish makes indexes, views and triggers and makes everything durable.
	Finish(ctx context.Context) error
	// Close gives up what was not finished; the files stay for the next try.
	Close() error
}

// Tally adds up the digests of tables, so that two readings of a database can
// be told apart. It is not safe for concurrent use.
type Tally map[string][2]uint64

// Add counts a row, by the first half of its digest.
func (t Tally) Add(table string, d Digest) {
	x := t[table]
	t[table] = [2]uint64{x[0] + 1, x[1] + d[0]}
}

// Join adds what was counted elsewhere.
func (t Tally) Join(o Tally) {
	for table, x := range o {
		t[table] = [2]uint64{t[table][0] + x[0], t[table][1] + x[1]}
	}
}

// String is the same for the same rows in the same tables.
func (t Tally) String() string {
	h := blake3.New()
	rows := uint64(0)
	for _, n := range slices.Sorted(maps.Keys(t)) {
		rows += t[n][0]
		fmt.Fprintf(h, "%q %d %x\n", n, t[n][0], t[n][1])
	}
	return fmt.Sprintf("%d rows %x", rows, h.Sum(nil)[:8])
}
