package mysql_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables/mysql"
)

// packet frames a payload as the protocol does: three bytes of length, and a number.
// Source: "Protocol Basics" of the MySQL documentation.
func packet(n byte, payload []byte) []byte {
	head := binary.LittleEndian.AppendUint32(nil, uint32(len(payload)))
	head[3] = n
	return append(head, payload...)
}

// greeting is what a server says first (HandshakeV10).
func greeting() []byte {
	b := append([]byte{10}, "11.4.2-MariaDB\x00"...)
	b = append(b, 1, 0, 0, 0)
	b = append(b, "12345678\x00"...)
	b = append(b, 0xff, 0xf7, 45, 2, 0, 0x3f, 0x00, 21)
	b = append(b, make([]byte, 10)...)
	b = append(b, "123456789012\x00"...)
	return packet(0, append(b, "mysql_native_password\x00"...))
}

// liar is a server that lets everybody in and answers every statement with lie.
func liar(t *testing.T, lie func() []byte) mysql.Login {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				_, _ = c.Write(greeting())
				ok := packet(2, []byte{0, 0, 0, 2, 0, 0, 0})
				for {
					var head [4]byte
					if _, err := io.ReadFull(c, head[:]); err != nil {
						return
					}
					size := int64(head[0]) | int64(head[1])<<8 | int64(head[2])<<16
					if _, err := io.CopyN(io.Discard, c, size); err != nil {
						return
					}
					if _, err := c.Write(ok); err != nil {
						return
					}
					ok = lie()
				}
			}()
		}
	}()
	return mysql.Login{Network: "tcp", Addr: l.Addr().String(), User: "reader", Password: "secret-of-the-test"}
}

func TestAServerThatLiesIsRefused(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	var mu sync.Mutex
	noise := func(n int) []byte {
		mu.Lock()
		defer mu.Unlock()
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(random.UintN(256))
		}
		return b
	}
	lies := map[string]func() []byte{
		"more columns than can be": func() []byte {
			return packet(1, []byte{0xfe, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x7f})
		},
		"less than no columns": func() []byte {
			return packet(1, []byte{0xfe, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff})
		},
		"sixteen million columns":  func() []byte { return packet(1, []byte{0xfd, 0xff, 0xff, 0xff}) },
		"a packet without its end": func() []byte { return []byte{0xff, 0xff, 0xff, 1, 3} },
		"a column's name without end": func() []byte {
			return append(packet(1, []byte{1}), packet(2, []byte{3, 'd', 'e', 'f', 0xfd, 0xff, 0xff, 0xff})...)
		},
		"an error with escape codes": func() []byte {
			return packet(1, append([]byte{0xff, 0x15, 4, '#'}, "28000\x1b]0;x\a\x1b[2J"...))
		},
		"a file of this machine wanted": func() []byte { return packet(1, append([]byte{0xfb}, "/etc/hostname"...)) },
		"nothing":                       func() []byte { return packet(1, nil) },
		"its way back to the handshake": greeting,
	}
	for i := range 20 {
		lies[fmt.Sprint("noise ", i)] = func() []byte { return packet(1, noise(1+i*i)) }
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	var all sync.WaitGroup
	for name, lie := range lies {
		login := liar(t, lie)
		all.Go(func() {
			ctx, cancel := context.WithTimeout(context.Background(), time.Second)
			defer cancel()
			began := time.Now()
			_, err := mysql.Open(login, "site").Snapshot(ctx)
			if assert.Error(t, err, name) {
				assert.NotContains(t, err.Error(), "secret-of-the-test", name)
			}
			assert.Less(t, time.Since(began), time.Minute, name)
		})
	}
	all.Wait()
	runtime.ReadMemStats(&after)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(256<<20), "what a server says of sizes is not believed")
}
