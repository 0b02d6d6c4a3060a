package wall

import (
	"fmt"
	"io"
	"os"
)

// Launch is how a program is started in a world.
type Launch struct {
	Program string
	Args    []string
	Files   []*os.File // beside the usual ones

	ours  *os.File
	ways  *Ways
	ports []int
}

// Prepare gets a world ready for a program. ways may be nil: then nothing leads out of it, and it has no network.
func (w World) Prepare(ways *Ways, program string, args ...string) (*Launch, error) {
	l := &Launch{ways: ways}
	if ways != nil {
		l.ports = ways.Ports()
		theirs, ours, err := pair()
		if err != nil {
			return nil, err
		}
		l.Files, l.ours = []*os.File{theirs}, ours
	}
	var err error
	if l.Program, l.Args, err = w.command(l.ports, program, args...); err != nil {
		l.drop()
		return nil, err
	}
	return l, nil
}

func (l *Launch) drop() {
	for _, f := range append(l.Files, l.ours) {
		if f != nil {
			f.Close()
		}
	}
}

// Begin is called when the program was started, or could not be. It carries the ways out until what it gives
// is closed.
func (l *Launch) Begin() (io.Closer, error) {
	if l.ways == nil {
		return io.NopCloser(nil), nil
	}
	l.Files[0].Close() // the world's end of it
	l.Files[0] = nil
	defer l.drop()
	c, err := receive(l.ours, l.ways, l.ports)
	if err != nil {
		return nil, fmt.Errorf("building the copy's wall: %w", err)
	}
	return c, nil
}
