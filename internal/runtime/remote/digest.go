package remote

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"time"

	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/runtime/process"
	"alibi/internal/tree"
)

// Digests is what our program on another host is told to digest files of a folder, which it is told next. Their names
// come by its standard input, each with a zero byte behind it.
const Digests = "digest"

// Digest has our program, at path on the host, digest files of the folder dir there, so that none of them comes here.
// They get what tree.Digest gives; one that can't be read keeps the zero digest.
func Digest(ctx context.Context, h host.Host, path, dir string, entries []tree.Entry, tell tree.Progress) error {
	var names bytes.Buffer
	for _, e := range entries {
		names.WriteString(e.Path)
		names.WriteByte(0)
	}
	in, out := io.Pipe()
	ended := make(chan error, 1)
	go func() {
		err := h.Pipe(ctx, &names, out, path, Errand, Digests, dir)
		out.CloseWithError(err)
		ended <- err
	}()
	lines := bufio.NewScanner(in)
	var err error
	for err == nil && lines.Scan() {
		err = digested(lines.Text(), entries, tell)
	}
	err = errors.Join(err, lines.Err())
	in.CloseWithError(io.ErrClosedPipe)
	if perr := <-ended; err == nil {
		err = perr
	}
	if err != nil {
		return fmt.Errorf("host %s: our program there, digesting files: %w", h.Name(), err)
	}
	return nil
}

// digested takes one line of what our program says.
func digested(line string, entries []tree.Entry, tell tree.Progress) error {
	var i int
	var digest string
	var size, at int64
	if _, err := fmt.Sscanf(line, "%d %s %d %d", &i, &digest, &size, &at); err != nil || i < 0 || i >= len(entries) {
		return fmt.Errorf("it said %q", line)
	}
	e := &entries[i]
	if n, err := hex.Decode(e.Hash[:], []byte(digest)); err != nil || n != len(e.Hash) {
		return fmt.Errorf("it said %q", line)
	}
	e.Size, e.MTime = size, time.Unix(at, 0).UTC()
	tell(size, 1)
	return nil
}

// DigestHere is what our program does on the other host: it writes a line for each file that it could read, with its
// place among the names, digest, size and time.
func DigestHere(dir string, in io.Reader, out io.Writer) error {
	text, err := io.ReadAll(in)
	if err != nil {
		return err
	}
	process.Gentle() // the host has others to serve
	names := bytes.Split(bytes.TrimSuffix(text, []byte{0}), []byte{0})
	ctx := context.Background()
	root, err := local.New("here").Open(ctx, dir)
	if err != nil {
		return err
	}
	defer root.Close()
	w := bufio.NewWriter(out)
	const portion = 256 // after which what was found is said
	for from := 0; from < len(names); from += portion {
		var list []tree.Entry
		for _, n := range names[from:min(from+portion, len(names))] {
			list = append(list, tree.Entry{Path: string(n)})
		}
		if err := tree.Digest(ctx, root, list, nil, func(int64, int) {}); err != nil {
			return err
		}
		for i, e := range list {
			if e.Hash != (tree.Hash{}) {
				fmt.Fprintf(w, "%d %x %d %d\n", from+i, e.Hash, e.Size, e.MTime.Unix())
			}
		}
		if err := w.Flush(); err != nil {
			return err
		}
	}
	return nil
}
