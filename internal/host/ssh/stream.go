package ssh

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/pkg/sftp"
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
		r.h.mu.Lock()
		r.h.tar = known
		r.h.mu.Unlock()
	}
	return *known
}

// SendTar has tar read the files. Where one is gone or changes meanwhile, tar
// says so at its end and the others are whole.
func (r *root) SendTar(ctx context.Context, names []string, w io.Writer) error {
	list := strings.NewReader(strings.Join(names, "\x00"))
	err := r.h.Pipe(ctx, list, w, "tar", "--format=gnu", "--ignore-failed-read", "--no-recursion", "--verbatim-files-from", "--null", "-C", r.path, "-T", "-", "-cf", "-")
	if err != nil && strings.Contains(err.Error(), "exited with status 1") {
		return nil // some files changed as they were read
	}
	if err != nil && strings.Contains(err.Error(), "Exiting with failure status due to previous errors") {
		return nil // some files are gone
	}
	return err
}

// TakeTar has tar write the files.
func (r *root) TakeTar(ctx context.Context, in io.Reader) error {
	return r.h.Pipe(ctx, in, io.Discard, "tar", "-C", r.path, "--no-same-owner", "-xpf", "-")
}

// Link gives a file a second name, by OpenSSH's extension.
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
