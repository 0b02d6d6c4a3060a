package archive

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/tables"
)

func FuzzParser(f *testing.F) {
	f.Add("INSERT INTO `sk_posts` (`ID`,`body`,`raw`) VALUES (1,'a\\'b',_binary'x'),(2,NULL,X'00ff');")
	f.Add(
		"-- x\nDROP TABLE `a;b`;\nINSERT INTO \"sk_posts\" (\"ID\",\"body\",\"raw\") VALUES (-1.5e3,CAST(X'00' AS " +
			"TEXT),'');DELIMITER ;;",
	)
	f.Fuzz(func(t *testing.T, sql string) {
		for _, engine := range []string{"mysql", "sqlite"} {
			p := newParser(strings.NewReader(sql), engine)
			err := p.table(context.Background(), source(engine).Manifest.Schema.Tables[0],
				func(tables.Row) error { return nil })
			if err == nil {
				_ = p.end()
			}
		}
	})
}

func TestAnArchiveInSeveralPartsOfSQLIsReadBack(t *testing.T) {
	var rows []tables.Row
	for i := range int64(30_000) { // about 30 MiB: more than three parts of the SQL
		id := tables.Value{Kind: tables.Int, Int: i, Bytes: []byte(fmt.Sprint(i))}
		rows = append(
			rows,
			tables.Row{
				Key: []tables.Value{id},
				Values: []tables.Value{
					id,
					{Kind: tables.Text, Bytes: []byte(strings.Repeat(fmt.Sprintf("tide %d ", i), 100))},
					{},
				},
			},
		)
	}
	src := source("mysql", rows...)
	src.Manifest.Bytes = 64 << 20
	src.Manifest.Owners = true
	src.Entries[0].Owner, src.Entries[0].Attrs = &host.Owner{User: 33, Group: 34}, host.Attrs{
		"user.tide": []byte("h\x00igh"),
	}
	src.Entries[1].Owner, src.Entries[1].Mode = &host.Owner{}, os.ModeDir|os.ModeSetgid|0o775
	text := write(t, src)
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	for name, way := range map[string]struct {
		part int64
		key  *age.X25519Identity
	}{"one file": {}, "parts": {part: 100 << 10}, "encrypted": {key: id},
		"encrypted parts": {part: 100 << 10, key: id}} {
		base := filepath.Join(t.TempDir(), "x.tar.zst")
		out, err := Create(base, way.part)
		require.NoError(t, err, name)
		to := io.WriteCloser(nopCloser{out})
		var keys []age.Identity
		if way.key != nil {
			to, err = age.Encrypt(out, way.key.Recipient())
			require.NoError(t, err)
			keys = append(keys, way.key)
		}
		_, err = to.Write(text)
		require.NoError(t, err)
		require.NoError(t, to.Close())
		_, err = out.Close()
		require.NoError(t, err)
		require.NoError(t, CheckParts(base), name)
		in, err := Open(base, keys)
		require.NoError(t, err, name)
		g := &got{}
		_, err = Read(context.Background(), in, g, Limits{}, func(int64) {})
		require.NoError(t, err, name)
		in.Close()
		assert.True(t, g.ended)
		require.Len(t, g.rows["sk_posts"], len(rows), name)
		assert.Equal(t, rows[29_999].Values[1].Bytes, g.rows["sk_posts"][29_999].Values[1].Bytes)
		assert.Equal(t, &host.Owner{User: 33, Group: 34}, g.entries["index.php"].Owner)
		assert.Equal(t, host.Attrs{"user.tide": []byte("h\x00igh")}, g.entries["index.php"].Attrs)
		assert.Equal(t, os.ModeDir|os.ModeSetgid|0o775, g.entries["wp-content"].Mode)
	}
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }
