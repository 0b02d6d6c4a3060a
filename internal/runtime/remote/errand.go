package remote

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"alibi/internal/host"
)

// Answer is what our program on another host says of the copy that it runs, a line of JSON each.
type Answer struct {
	Network  string `json:"network,omitempty"` // at which its web server answers: "unix" or "tcp"
	Addr     string `json:"addr,omitempty"`
	Failed   string `json:"failed,omitempty"`   // why it does not run
	Full     bool   `json:"full,omitempty"`     // its folders hold more than they may
	Unsealed string `json:"unsealed,omitempty"` // why no wall keeps its code in
}

// Copy is a copy that our program runs on another host.
type Copy struct {
	Running
	full atomic.Bool
}

// patience is how long a copy may take to start.
const patience = 30 * time.Second

// Send has our program, at path on the host, run a copy: order is what it is told first.
func Send(ctx context.Context, h host.Host, path string, order any) (*Copy, Answer, error) {
	x := &Copy{Running: Running{h: h, gone: make(chan struct{}), log: &record{}}}
	run, stop := context.WithCancel(context.WithoutCancel(ctx))
	x.stop = stop
	var in *io.PipeReader
	in, x.in = io.Pipe()
	said, out := io.Pipe()
	go func() {
		x.err = h.Pipe(run, in, out, path, Errand)
		out.Close()
		in.Close()
	}()
	first := make(chan Answer, 1)
	go func() {
		defer close(x.gone)
		lines := bufio.NewScanner(said)
		for lines.Scan() {
			var a Answer
			if json.Unmarshal(lines.Bytes(), &a) != nil {
				fmt.Fprintf(x.log, "%s\n", lines.Bytes())
				continue
			}
			if a.Full {
				x.full.Store(true)
			}
			select {
			case first <- a:
			default: // it was told what to answer before
			}
		}
		_, _ = io.Copy(io.Discard, said) // a line that is too long: nothing of ours
	}()
	if err := x.Tell(order); err != nil {
		x.Stop()
		return nil, Answer{}, fmt.Errorf("host %s: our program there did not listen: %w", h.Name(), errors.Join(err, x.err))
	}
	select {
	case a := <-first:
		x.net, x.addr = a.Network, a.Addr
		return x, a, nil
	case <-x.gone:
		return nil, Answer{}, fmt.Errorf("host %s: our program there ended: %w", h.Name(),
			errors.Join(x.err, errors.New(x.log.last())))
	case <-time.After(patience):
		x.Stop()
		return nil, Answer{}, fmt.Errorf("host %s: our program there says nothing", h.Name())
	}
}

// Tell tells our program there something further.
func (x *Copy) Tell(what any) error {
	line, err := json.Marshal(what)
	if err != nil {
		return err
	}
	_, err = x.in.Write(append(line, '\n'))
	return err
}

// Full tells whether the copy was stopped because its folders hold more than they may.
func (x *Copy) Full() bool { return x.full.Load() }
