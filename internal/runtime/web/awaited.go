package web

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"alibi/internal/stack/phpsrc"
)

// Awaited is the files of a copy that are still to come while it runs.
type Awaited interface {
	// Await waits until a file is there, or will not be; names are slash paths below the copy's root.
	Await(ctx context.Context, name string) error
	// AwaitPage is Await for the path of an address.
	AwaitPage(ctx context.Context, address string) error
	// Names gives the names of the files in a folder that are still to come.
	Names(dir string) []string
	// Ended is closed when no more are to come.
	Ended() <-chan struct{}
}

// awaits tells whether files are still to come to the site.
func (s Spec) awaits() bool { return s.Sealed != nil && s.Sealed.Awaited != nil }

// First is PHP code of ours that runs before the site's: "" if there is none.
func (s Spec) First() string {
	if !s.awaits() {
		return ""
	}
	return filepath.Join(s.Run, "awaited.php")
}

// await answers the site's code, which asks for files that are still to come.
func (w *Web) await() error {
	s := w.Spec
	if !s.awaits() {
		return nil
	}
	code, err := files.ReadFile("awaited.php")
	if err != nil {
		return err
	}
	text := strings.Replace(string(code), "/*ROOT*/''", phpsrc.Literal(s.Root), 1)
	if err := os.WriteFile(s.First(), []byte(text), 0o600); err != nil {
		return err
	}
	socket := filepath.Join(s.Run, "awaited.sock")
	_ = os.Remove(socket) // of an earlier run
	l, err := net.Listen("unix", socket)
	if err != nil {
		return err
	}
	w.closers = append(w.closers, l)
	if err := os.Chmod(socket, 0o666); err != nil { // its folder is closed
		return err
	}
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		select {
		case <-s.Sealed.Awaited.Ended():
			l.Close() // and the code does without
		case <-ctx.Done():
		}
	}()
	go func() {
		defer cancel()
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				answer(ctx, s.Sealed.Awaited, c)
			}()
		}
	}()
	return nil
}

// answer takes one question: "file NAME" is answered when the file is there or can't be had, "folder NAME" with the
// names of files to come, a line each.
func answer(ctx context.Context, a Awaited, c net.Conn) {
	line, err := bufio.NewReaderSize(c, 16<<10).ReadSlice('\n')
	if err != nil {
		return
	}
	what, arg, _ := strings.Cut(strings.TrimSpace(string(line)), " ")
	name, err := url.PathUnescape(arg)
	if err != nil {
		return
	}
	switch what {
	case "file":
		if a.Await(ctx, name) == nil {
			fmt.Fprintln(c, "here")
		}
	case "folder":
		for _, n := range a.Names(name) {
			fmt.Fprintln(c, url.PathEscape(n))
		}
	}
}
