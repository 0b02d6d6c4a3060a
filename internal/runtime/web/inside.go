package web

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
)

// Inside is a program that is to run in the world of a copy, beside what serves that.
type Inside struct {
	Cmd *exec.Cmd

	begin func() (io.Closer, error)
	w     *Web
}

// Inside gets a program ready that sees and reaches what the copy's own code does; gateway is where the copy's pages
// are asked for. The spec's folder Run is the program's own.
func (s Spec) Inside(ctx context.Context, gateway string, program string, args ...string) (*Inside, error) {
	if s.Sealed == nil {
		return nil, fmt.Errorf("a program in the copy's world: there is none here")
	}
	if err := os.MkdirAll(filepath.Join(s.Run, "tmp"), 0o700); err != nil {
		return nil, fmt.Errorf("making room for the program: %w", err)
	}
	if err := s.give(); err != nil {
		return nil, fmt.Errorf("giving the copy's files to its account: %w", err)
	}
	w := &Web{Spec: s, net: "tcp", addr: gateway}
	world, err := w.world()
	if err != nil {
		w.Stop()
		return nil, err
	}
	l, err := world.Prepare(w.ways(), program, args...)
	if err != nil {
		w.Stop()
		return nil, err
	}
	cmd := exec.CommandContext(ctx, l.Program, l.Args...)
	cmd.ExtraFiles = l.Files
	return &Inside{Cmd: cmd, begin: l.Begin, w: w}, nil
}

// Begin is called when Cmd was started, or could not be: what leads out of the world is carried from then on.
func (i *Inside) Begin() error {
	c, err := i.begin()
	if err == nil {
		i.w.closers = append(i.w.closers, c)
	}
	return err
}

// Close ends what is carried, and removes the program's folder.
func (i *Inside) Close() error {
	i.w.Stop()
	return os.RemoveAll(i.w.Spec.Run)
}
