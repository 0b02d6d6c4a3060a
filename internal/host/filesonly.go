package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
)

// FilesOnly is what a host says, by its name, that brings files and nothing else.
type FilesOnly string

// Command is refused.
func (f FilesOnly) Command(context.Context, string, ...string) ([]byte, error) {
	return nil, fmt.Errorf("host %s: %w", string(f), ErrNoCommands)
}

// Pipe is refused.
func (f FilesOnly) Pipe(context.Context, io.Reader, io.Writer, string, ...string) error {
	return fmt.Errorf("host %s: %w", string(f), ErrNoCommands)
}

// Dial is refused.
func (f FilesOnly) Dial(context.Context, string, string) (net.Conn, error) {
	return nil, fmt.Errorf("host %s: %w", string(f), ErrNoForward)
}

// MakeAll makes a folder of a host and those above it, one by one.
func MakeAll(ctx context.Context, h Host, dir string) (Root, error) {
	up := path.Dir(path.Clean(dir))
	if r, err := h.Write(ctx, dir); err == nil || up == dir {
		return r, err
	}
	r, err := MakeAll(ctx, h, up)
	if err != nil {
		return nil, err
	}
	if err := r.Mkdir(path.Base(dir), 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	return h.Write(ctx, dir)
}
