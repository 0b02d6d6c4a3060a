package demotest

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	_ "embed"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // the record

	"alibi/internal/desk"
)

// former is a home with a live site and an archive, written by the build before operations were
// definitions: a live site "crew", its held copy "near" that was worked on and brought back, a
// copy "broken" whose folder is gone, six restore points, a pin sheet, nine runs that are over and
// one that waits.
//
//go:embed testdata/former.tar.zst
var former []byte

// formerDir is where the home lay when it was written. FormerEnd is when that was done.
const formerDir = "/srv/former"

var FormerEnd = time.Date(2026, 11, 29, 0, 6, 0, 0, time.UTC)

// Former unpacks that home, has its record and its sites lie where they are unpacked, which is a
// path of the same length, and opens it. It gives that path too.
func Former(t testing.TB, change ...func(*desk.Options)) (w *World, dir string) {
	t.Helper()
	var b [3]byte
	_, _ = rand.Read(b[:])
	dir = "/tmp/" + hex.EncodeToString(b[:])
	require.NoError(t, os.Mkdir(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	unpack(t, dir)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "home", "record.db"))
	require.NoError(t, err)
	defer db.Close()
	for _, q := range []string{
		"UPDATE sites SET doc = replace(doc, ?, ?)", "UPDATE runs SET doc = replace(doc, ?, ?)",
		"UPDATE made SET path = replace(path, ?, ?)", "UPDATE notes SET value = replace(value, ?, ?)",
	} {
		_, err := db.ExecContext(context.Background(), q, formerDir, dir)
		require.NoError(t, err, q)
	}
	w = At(t, filepath.Join(dir, "home"))
	w.Open(append(change, func(o *desk.Options) { o.Who = "runa" })...)
	return w, dir
}

func unpack(t testing.TB, dir string) {
	t.Helper()
	z, err := zstd.NewReader(bytes.NewReader(former))
	require.NoError(t, err)
	defer z.Close()
	folders := map[string]time.Time{}
	defer func() { // what is put into a folder changes its time
		for name, at := range folders {
			require.NoError(t, os.Chtimes(name, at, at))
		}
	}()
	for in := tar.NewReader(z); ; {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		require.NoError(t, err)
		name := filepath.Join(dir, filepath.FromSlash(h.Name))
		if h.FileInfo().IsDir() {
			require.NoError(t, os.MkdirAll(name, h.FileInfo().Mode().Perm()))
			folders[name] = h.ModTime
			continue
		}
		text, err := io.ReadAll(in)
		require.NoError(t, err)
		if filepath.Base(name) == "wp-config.php" {
			text = bytes.ReplaceAll(text, []byte(formerDir), []byte(dir))
		}
		require.NoError(t, os.WriteFile(name, text, h.FileInfo().Mode().Perm()))
		require.NoError(t, os.Chtimes(name, h.ModTime, h.ModTime))
	}
}
