package ssh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"alibi/internal/host"
)

// Streams asks the host once whether it runs a tar that takes names from a list.
func (r *root) Streams() bool {
	r.h.mu.Lock()
	known := r.h.tar
	r.h.mu.Unlock()
	if known == nil {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		out, err := r.h.Command(ctx, "tar", "--version")
		if err != nil && Lost(err) {
			return false // for this time
		}
		yes := err == nil && bytes.Contains(out, []byte("GNU tar"))
		known = &yes
		_, err = r.h.Command(ctx, "gzip", "--version")
		r.h.mu.Lock()
		r.h.tar, r.h.gzip = known, err == nil
		r.h.mu.Unlock()
	}
	return *known
}

// compresses tells whether tar's streams are to be compressed.
func (r *root) compresses(ctx context.Context) bool {
	if !r.h.Compresses(ctx) || !r.Streams() {
		return false
	}
	r.h.mu.Lock()
	defer r.h.mu.Unlock()
	return r.h.gzip
}

// reading are the options of a tar that takes files by a list of their names.
var reading = []string{"--format=gnu", "--ignore-failed-read", "--no-recursion", "--verbatim-files-from", "--null"}

func listed(names []string) io.Reader { return strings.NewReader(strings.Join(names, "\x00")) }

// SendTar has tar read the files. Where one is gone or changes meanwhile, tar
// says so at its end and the others are whole.
func (r *root) SendTar(ctx context.Context, names []string, w io.Writer) error {
	args := reading
	var z io.WriteCloser
	if r.compresses(ctx) {
		args = append([]string{"-I", "gzip -1"}, args...)
		z = inflate(w)
		w = z
	}
	err := r.h.Pipe(ctx, listed(names), w, "tar", append(args, "-C", r.path, "-T", "-", "-cf", "-")...)
	if z != nil {
		if zerr := z.Close(); err == nil {
			err = zerr
		}
	}
	var exit *ssh.ExitError
	if errors.As(err, &exit) && exit.ExitStatus() == 1 {
		return nil // some files changed as they were read
	}
	if err != nil && strings.Contains(err.Error(), "Exiting with failure status due to previous errors") {
		return nil // some files are gone
	}
	return err
}

// TakeTar has tar write the files.
func (r *root) TakeTar(ctx context.Context, in io.Reader) error {
	args := []string{"-C", r.path, "--no-same-owner", "-xpf", "-"}
	if r.compresses(ctx) {
		z := deflate(in)
		defer z.Close()
		in, args = z, append([]string{"-z"}, args...)
	}
	return r.h.Pipe(ctx, in, io.Discard, "tar", args...)
}

// TakeFrom has the host itself copy the files of another folder of its own, so
// that no byte passes through here. It tells whether it can; what is missing or
// changed meanwhile is for the caller to find.
func (r *root) TakeFrom(ctx context.Context, src host.Tree, names []string) (bool, error) {
	s, ok := src.(*root)
	if !ok || s.h != r.h || !r.Streams() {
		return false, nil
	}
	script := `from=$1 to=$2; shift 2; tar "$@" -C "$from" -T - -cf - | tar -C "$to" --no-same-owner -xpf -`
	return true, r.h.Pipe(ctx, listed(names), io.Discard, "sh", append([]string{"-c", script, "sh", s.path, r.path},
		reading...)...)
}

// Link gives a file a hard link, by OpenSSH's extension.
func (r *root) Link(from, to string) error {
	a, b, err := r.move(from, to)
	if err != nil {
		return err
	}
	if _, ok := r.c.HasExtension("hardlink@openssh.com"); !ok {
		return fmt.Errorf("linking on %s: %w", r.h.name, sftp.ErrSSHFxOpUnsupported)
	}
	return r.c.Link(a, b)
}
