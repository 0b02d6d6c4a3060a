package pool

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strconv"
	"syscall"

	"alibi/internal/host"
	"alibi/internal/runtime/php"
	"alibi/internal/runtime/remote"
	"alibi/internal/runtime/wall"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
)

// order is what our program on another host is told first.
type order struct {
	Site site.Site `json:"site"`
	PHP  []string  `json:"php,omitempty"` // folders in which there is one
	// Command is one to be run in the copy's world; none: a shell.
	Command []string `json:"command,omitempty"`
	Sealed  bool     `json:"sealed,omitempty"` // behind a wall or not at all
	Full    bool     `json:"full,omitempty"`   // it was stopped for what its folders hold
}

// further is what it is told then: that the copy's code tries for Alibi what it can reach, or does so no more.
type further struct {
	Trying bool `json:"trying"`
}

// Our program on another host is started as `PROGRAM run-a-copy-here`, and ends when its standard input does. It is put
// there as it is, whatever else it does where it comes from.
func init() {
	if len(os.Args) < 2 || os.Args[1] != remote.Errand {
		return
	}
	switch {
	case len(os.Args) == 2:
		os.Exit(errand(os.Stdin, os.Stdout, os.Stderr))
	case os.Args[2] == remote.Digests && len(os.Args) == 4:
		leave(remote.DigestHere(os.Args[3], os.Stdin, os.Stdout))
	case os.Args[2] == inside && len(os.Args) == 4:
		leave(insideHere(os.Args[3]))
	}
	name, err := os.Executable() // it is asked whether it runs there
	fmt.Println(name)
	leave(err)
}

// leave ends our program as what it ran did.
func leave(err error) {
	var ended *exec.ExitError
	switch {
	case err == nil:
		os.Exit(0)
	case errors.As(err, &ended):
		os.Exit(max(ended.ExitCode(), 1))
	}
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

// errand runs the copy that in tells of until in ends or the copy does.
func errand(in io.Reader, out, log io.Writer) int {
	say := json.NewEncoder(out)
	failed := func(err error) int {
		_ = say.Encode(remote.Answer{Failed: err.Error(), Full: errors.Is(err, web.ErrFull), Unsealed: wall.Missing()})
		return 1
	}
	told := json.NewDecoder(in)
	var o order
	if err := told.Decode(&o); err != nil {
		return failed(fmt.Errorf("reading what is to run: %w", err))
	}
	dir, err := folder()
	if err != nil {
		return failed(err)
	}
	defer os.RemoveAll(dir)
	p := &Pool{Local: o.Site.Host, Run: dir, Sealed: o.Sealed, Log: slog.New(slog.NewTextHandler(log, nil)),
		PHP:     func() []php.PHP { return php.Find(context.Background(), o.PHP...) },
		running: map[site.ID]*entry{}, starts: map[site.ID]int{}, full: map[site.ID]bool{o.Site.ID: o.Full}}
	x, err := p.Get(context.Background(), o.Site)
	if err != nil {
		return failed(err)
	}
	defer p.Close()
	w := x.(*web.Web) // here it is no other
	a := remote.Answer{Unsealed: wall.Missing()}
	a.Network, a.Addr = w.At()
	if say.Encode(a) != nil {
		return 1
	}
	over := make(chan struct{})
	go func() {
		defer close(over)
		p.listen(told, o.Site.ID)
	}()
	select {
	case <-over:
	case <-w.Gone():
		_ = say.Encode(remote.Answer{Failed: "it ended", Full: w.Full()})
	}
	return 0
}

// listen does what is told further, until nobody tells more.
func (p *Pool) listen(told *json.Decoder, id site.ID) {
	var tries []func()
	for {
		var f further
		if told.Decode(&f) != nil {
			return
		}
		switch n := len(tries); {
		case f.Trying:
			tries = append(tries, p.Trying(id))
		case n > 0:
			tries[n-1]()
			tries = tries[:n-1]
		}
	}
}

// started begins the names of the folders of running copies among temporary files; the number of the process follows.
const started = "alibi-copy-"

// folder makes one for what runs here.
func folder() (string, error) {
	sweepDead()
	return os.MkdirTemp("", started+strconv.Itoa(os.Getpid())+"-")
}

// sweepDead removes what is left of our programs that were killed.
func sweepDead() {
	list, _ := filepath.Glob(filepath.Join(os.TempDir(), started+"*-*"))
	for _, dir := range list {
		var pid int
		fi, err := os.Lstat(dir)
		if _, serr := fmt.Sscanf(filepath.Base(dir), started+"%d-", &pid); err != nil || serr != nil || !fi.IsDir() {
			continue
		}
		owner := host.OwnerOf(fi)
		if owner != nil && owner.User == os.Geteuid() && errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) {
			_ = os.RemoveAll(dir) // the next one tries again
		}
	}
}

// sent is a copy that our program runs on another host.
type sent struct{ *remote.Copy }

// trying passes on that the copy's code tries for Alibi what it can reach.
func (x sent) trying() (done func()) {
	_ = x.Tell(further{Trying: true}) // it may have ended
	return func() { _ = x.Tell(further{}) }
}

// there says what our program on another host said.
type there struct {
	host, text string
	kind       error
}

func (t *there) Error() string { return "host " + t.host + ": " + t.text }
func (t *there) Unwrap() error { return t.kind }

// startThere starts a copy on another host: by our own program, as it would be started here, or, where that can't run,
// by PHP alone.
func (p *Pool) startThere(ctx context.Context, s site.Site, spec web.Spec) (Running, error) {
	h, err := p.Hosts(ctx, s.Host)
	if err != nil {
		return nil, err
	}
	have, err := remote.Find(ctx, h)
	if err != nil {
		return nil, err
	}
	program, why, err := remote.Program(ctx, h)
	if err != nil {
		return nil, err
	}
	if program == "" {
		p.Log.Warn("a copy runs by PHP alone", "site", s.Name, "host", s.Host, "why", why)
		return p.startByPHP(ctx, h, s, spec, have)
	}
	o := orderOf(s, have)
	p.mu.Lock()
	o.Sealed, o.Full = p.Sealed, p.full[s.ID]
	p.mu.Unlock()
	x, a, err := remote.Send(ctx, h, program, o)
	if err != nil {
		return nil, err
	}
	if a.Failed != "" {
		x.Stop()
		return nil, p.because(s, a)
	}
	return sent{x}, nil
}

// because is why a copy does not run, as our program on its host says.
func (p *Pool) because(s site.Site, a remote.Answer) error {
	t := &there{host: s.Host, text: a.Failed}
	switch {
	case a.Full:
		t.kind = web.ErrFull
	case p.Sealed && a.Unsealed != "":
		t.kind = ErrUnsealed
	}
	return t
}

// orderOf is what our program on another host is told of a copy: what is needed to run it.
func orderOf(s site.Site, have []php.PHP) (o order) {
	if o.Site = s; s.Facts != nil {
		o.Site.Facts = &site.Facts{Network: s.Facts.Network}
	}
	for _, x := range have {
		o.PHP = append(o.PHP, path.Dir(x.CLI))
	}
	return o
}

// startByPHP starts a copy where our program can't run.
func (p *Pool) startByPHP(ctx context.Context, h host.Host, s site.Site, spec web.Spec, have []php.PHP) (Running,
	error) {
	var err error
	if spec.PHP, err = p.choose(s, have); err != nil {
		return nil, fmt.Errorf("host %s: %w", s.Host, err)
	}
	spec.Run = path.Join(path.Dir(s.Root), "run")
	why := ""
	if spec.Sealed, why = sealed(h, s), remote.Unsealed(ctx, h, s.Database.Server); why != "" {
		spec.Sealed = nil
		if p.Sealed {
			return nil, fmt.Errorf("%w: %s", ErrUnsealed, why)
		}
	}
	x, err := remote.Start(ctx, h, spec)
	if err != nil {
		return nil, err
	}
	return x, nil
}
