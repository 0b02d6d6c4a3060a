package wall

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"time"
)

// Database carries connections to a database server, for one account alone: whoever gives another name is refused
// here, whatever the server would say.
// Source: https://mariadb.com/kb/en/clientserver-protocol/
type Database struct {
	Account string
	Dial    func(ctx context.Context) (net.Conn, error) // to the server
	Tell    func(Call)                                  // nil: nobody hears of who was refused
}

const (
	capSSL        = 1 << 11
	capCompress   = 1 << 5
	cap41         = 1 << 9
	changeUser    = 0x11
	mostHandshake = 1 << 16
)

// errRefused says that another account was named than the copy's.
var errRefused = errors.New("another account")

// Serve carries one connection until it ends.
func (d *Database) Serve(c net.Conn) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	s, err := d.Dial(ctx)
	if err != nil {
		refuse(c, 0, 1130, "08004", "the copy's database server does not answer")
		return
	}
	defer s.Close()
	from, to := bufio.NewReaderSize(c, 1<<16), bufio.NewReaderSize(s, 1<<16)
	if err := d.greet(c, s, from, to); err != nil {
		return
	}
	go func() {
		_, _ = io.Copy(c, to) // the other way ends it
		c.Close()
	}()
	d.commands(c, s, from)
}

// packet reads one whole packet with its head of four bytes: length, number.
func packet(r *bufio.Reader) ([]byte, error) {
	head, err := r.Peek(4)
	if err != nil {
		return nil, err
	}
	n := length(head)
	if n > mostHandshake {
		return nil, fmt.Errorf("a packet of %d bytes in a greeting", n)
	}
	b := make([]byte, 4+n)
	_, err = io.ReadFull(r, b)
	return b, err
}

func length(head []byte) int { return int(head[0]) | int(head[1])<<8 | int(head[2])<<16 }

// greet passes on the server's greeting, without what would hide what is said, and the client's answer if it
// gives the copy's account.
func (d *Database) greet(c, s net.Conn, from, to *bufio.Reader) error {
	hello, err := packet(to)
	if err != nil {
		return err
	}
	withoutSecrecy(hello)
	if _, err := c.Write(hello); err != nil {
		return err
	}
	answer, err := packet(from)
	if err != nil {
		return err
	}
	name, ok := accountOf(answer[4:])
	if !ok || name != d.Account {
		d.refused(c, answer[3]+1, name)
		return errRefused
	}
	_, err = s.Write(answer)
	return err
}

// withoutSecrecy takes the offers of TLS and compression from a server's greeting.
func withoutSecrecy(hello []byte) {
	b := hello[4:]
	if len(b) < 1 || b[0] != 10 {
		return // an error that the server gives in place of a greeting
	}
	end := bytes.IndexByte(b, 0)
	if at := end + 1 + 4 + 8 + 1; end > 0 && at+2 <= len(b) {
		low := binary.LittleEndian.Uint16(b[at:])
		binary.LittleEndian.PutUint16(b[at:], low&^(capSSL|capCompress))
		if high := at + 2 + 1 + 2; high+2 <= len(b) {
			const zstd = 1 << (26 - 16)
			binary.LittleEndian.PutUint16(b[high:], binary.LittleEndian.Uint16(b[high:])&^zstd)
		}
	}
}

// accountOf reads the account that a client names; a client of before 4.1, or one that asks for TLS, names none.
func accountOf(answer []byte) (string, bool) {
	const fixed = 4 + 4 + 1 + 23
	if len(answer) <= fixed || binary.LittleEndian.Uint32(answer)&cap41 == 0 ||
		binary.LittleEndian.Uint32(answer)&(capSSL|capCompress) != 0 {
		return "", false
	}
	name, _, ok := bytes.Cut(answer[fixed:], []byte{0})
	return string(name), ok
}

// commands passes on what the client says, but no change of the account.
func (d *Database) commands(c, s net.Conn, from *bufio.Reader) {
	for {
		head, err := from.Peek(4)
		if err != nil {
			return
		}
		n := length(head)
		if head[3] == 0 && n > 0 {
			first, err := from.Peek(5)
			if err != nil {
				return
			}
			if first[4] == changeUser {
				name := "another"
				if b, err := packet(from); err == nil {
					if at, _, ok := bytes.Cut(b[5:], []byte{0}); ok {
						name = string(at)
					}
				}
				d.refused(c, 1, name)
				return
			}
		}
		if _, err := io.CopyN(s, from, int64(4+n)); err != nil {
			return
		}
	}
}

// refused tells a client, and who wants to know, that an account is not let in.
func (d *Database) refused(c net.Conn, number byte, account string) {
	if d.Tell != nil {
		d.Tell(Call{At: time.Now(), Network: "database", Host: account})
	}
	refuse(c, number, 1045, "28000", "Access denied for user '"+account+
		"': the copy's wall lets in its own account alone")
}

// refuse sends an error of the protocol.
func refuse(c net.Conn, number byte, code uint16, state, text string) {
	b := []byte{0, 0, 0, number, 0xff, byte(code), byte(code >> 8), '#'}
	b = append(append(b, state...), text...)
	n := len(b) - 4
	b[0], b[1], b[2] = byte(n), byte(n>>8), byte(n>>16)
	_, _ = c.Write(b) // it may be gone
}
