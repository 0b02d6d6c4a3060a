package relay

import (
	"bufio"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql/driver"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"

	"github.com/go-sql-driver/mysql"

	"alibi/internal/tables"
)

// mostValue bounds what one value may take, in bytes: a server gives no larger ones (max_allowed_packet).
const mostValue = 1 << 30

// errForged is given for an answer whose signature is another one.
var errForged = errors.New("an answer of the relay was changed on its way")

// answer is what a relay says to one request: rows, as they come.
type answer struct {
	body    io.Closer
	r       *bufio.Reader
	mac     hash.Hash
	rows    hash.Hash // of the rows; nil: they are not digested
	also    hash.Hash // what is read goes there too: rows, while one is read
	columns []string
	changed int64
	done    error // io.EOF at the end, or why there is no more
}

// newAnswer reads up to the names of the columns.
func newAnswer(body io.ReadCloser, key []byte, sign string) (*answer, error) {
	a := &answer{body: body, r: bufio.NewReaderSize(body, 64<<10), mac: hmac.New(sha256.New, key)}
	a.mac.Write([]byte(sign))
	mark, err := a.take(2)
	if err == nil && string(mark) != "A1" {
		err = fmt.Errorf("%w: %q", ErrRefused, mark)
	}
	if err == nil {
		err = a.head()
	}
	if err != nil {
		body.Close()
		return nil, err
	}
	return a, nil
}

// head reads the names of the columns; a statement without a result has none.
func (a *answer) head() error {
	kind, err := a.r.Peek(1)
	for ; err == nil && kind[0] == 'W'; kind, err = a.r.Peek(1) {
		if _, err := a.take(1); err != nil {
			return err
		}
	}
	if err != nil {
		return cut(err)
	}
	if kind[0] != 'C' {
		if err := a.next(nil); err != io.EOF {
			return err
		}
		return nil
	}
	_, err = a.take(1)
	n, err2 := a.number()
	if err = errors.Join(err, err2); err != nil {
		return err
	}
	if n > 4096 {
		return errForged
	}
	a.columns = make([]string, n)
	for i := range a.columns {
		v, err := a.value()
		if err != nil {
			return err
		}
		a.columns[i] = string(v)
	}
	return nil
}

// next reads a row; io.EOF after the last one, when the signature of all was found to be right.
func (a *answer) next(cells []driver.Value) error {
	if a.done != nil {
		return a.done
	}
	a.done = a.part(cells)
	return a.done
}

func (a *answer) part(cells []driver.Value) error {
	kind, err := a.r.ReadByte()
	if err != nil {
		return cut(err)
	}
	if kind == 'Z' {
		var sum [2 * sha256.Size]byte
		if _, err := io.ReadFull(a.r, sum[:]); err != nil {
			return cut(err)
		}
		if want := hex.EncodeToString(a.mac.Sum(nil)); !hmac.Equal([]byte(want), sum[:]) {
			return errForged
		}
		return io.EOF
	}
	a.mac.Write([]byte{kind})
	switch {
	case kind == 'R' && len(a.columns) > 0 && len(cells) == len(a.columns):
		if a.rows != nil {
			a.rows.Write([]byte{kind})
			a.also = a.rows
			defer func() { a.also = nil }()
		}
		for i := range cells {
			v, err := a.value()
			if err != nil {
				return err
			}
			if cells[i] = nil; v != nil {
				cells[i] = v
			}
		}
		return nil
	case kind == 'N':
		n, err := a.number()
		if err != nil {
			return err
		}
		a.changed = int64(n)
		return a.part(nil)
	case kind == 'E':
		n, err := a.number()
		if err != nil {
			return err
		}
		text, err := a.value()
		if err != nil {
			return err
		}
		if err := a.part(nil); err != io.EOF {
			return errors.Join(errForged, err)
		}
		return &mysql.MySQLError{Number: uint16(n), Message: string(text)}
	}
	return fmt.Errorf("%w: part %q", errForged, kind)
}

func (a *answer) take(n int) ([]byte, error) {
	b := make([]byte, n)
	if _, err := io.ReadFull(a.r, b); err != nil {
		return nil, cut(err)
	}
	a.mac.Write(b)
	if a.also != nil {
		a.also.Write(b)
	}
	return b, nil
}

func (a *answer) number() (uint32, error) {
	b, err := a.take(4)
	if err != nil {
		return 0, err
	}
	return binary.BigEndian.Uint32(b), nil
}

// value reads a text with its length before it; nil is none at all.
func (a *answer) value() ([]byte, error) {
	n, err := a.number()
	switch {
	case err != nil:
		return nil, err
	case n == 1<<32-1:
		return nil, nil
	case n > mostValue:
		return nil, errForged
	}
	return a.take(int(n))
}

// cut says that an answer ended in its middle: the host ended the program, or the line broke.
func cut(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return fmt.Errorf("%w: the host ended an answer of the relay in its middle", tables.ErrAway)
	}
	return fmt.Errorf("%w: %w", tables.ErrAway, err)
}
