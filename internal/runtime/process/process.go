// Package process runs the programs that serve sites: database servers, PHP,
// web servers. Each is started in a group of its own and bears the folder that
// it works for in its environment, so that what a dead Alibi left running can
// be found and ended by the next one.
package process

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// mark is the variable of the environment by which our programs are known.
const mark = "ALIBI_RUN"

// Process is a program that was started.
type Process struct {
	name  string
	log   string
	world bool // it is the first of a world, and keeps its bounds from outside
	cmd   *exec.Cmd
	done  chan struct{}
	err   error
}

// Start runs a program for a folder, where its output goes to NAME.log. env is
// added to a small environment of ours; the person's own is not handed on.
func Start(dir, name string, env []string, program string, args ...string) (*Process, error) {
	return start(nil, dir, name, env, program, args...)
}

// StartWorld runs a program that makes a world of its own for others (package wall); it is given open files beside
// the usual ones.
func StartWorld(files []*os.File, dir, name string, env []string, program string, args ...string) (*Process, error) {
	p, err := start(files, dir, name, env, program, args...)
	if err == nil {
		p.world = true
	}
	return p, err
}

func start(files []*os.File, dir, name string, env []string, program string, args ...string) (*Process, error) {
	log := filepath.Join(dir, name+".log")
	out, err := os.OpenFile(log, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("starting %s: %w", name, err)
	}
	defer out.Close()
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	cmd.Stdout, cmd.Stderr, cmd.ExtraFiles = out, out, files
	cmd.Env = append([]string{mark + "=" + dir, "PATH=" + os.Getenv("PATH"), "HOME=" + dir, "TMPDIR=" + dir,
		"LC_ALL=C"}, env...)
	cmd.SysProcAttr = &unix.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting %s: %w", name, err)
	}
	p := &Process{name: name, log: log, cmd: cmd, done: make(chan struct{})}
	go func() {
		p.err = cmd.Wait()
		close(p.done)
	}()
	return p, nil
}

// Done is closed when the program has ended.
func (p *Process) Done() <-chan struct{} { return p.done }

// PID is the program's number.
func (p *Process) PID() int { return p.cmd.Process.Pid }

// Ended says why the program ended, with the last line that it wrote.
func (p *Process) Ended() error {
	<-p.done
	why := "it ended by itself"
	if p.err != nil {
		why = p.err.Error()
	}
	if b, err := os.ReadFile(p.log); err == nil {
		lines := strings.Split(strings.TrimSpace(string(b)), "\n")
		if last := lines[len(lines)-1]; last != "" {
			why += ": " + last
		}
	}
	return fmt.Errorf("%s does not run: %s", p.name, why)
}

// Await waits until ready says so, the program ends, or the time is over.
func (p *Process) Await(limit time.Duration, ready func() bool) error {
	until := time.Now().Add(limit)
	for wait := time.Millisecond; ; wait = min(2*wait, 10*time.Millisecond) {
		if ready() {
			return nil
		}
		select {
		case <-p.done:
			return p.Ended()
		case <-time.After(wait):
		}
		if time.Now().After(until) {
			_ = p.Stop(0)
			return fmt.Errorf("%s did not answer within %s; see %s", p.name, limit, p.log)
		}
	}
}

// Stop asks the program to end, and ends it and all that it started when the
// grace is over. One that is in a world of its own ends at once, with all that is in that.
func (p *Process) Stop(grace time.Duration) error {
	group := -p.PID()
	if p.world {
		for _, pid := range children(p.PID()) {
			_ = unix.Kill(pid, unix.SIGKILL) // the first of the world: when it has ended, all have
		}
		select {
		case <-p.done:
		case <-time.After(time.Second):
		}
		grace = 0
	}
	if grace > 0 {
		_ = unix.Kill(p.PID(), unix.SIGTERM)
		select {
		case <-p.done:
		case <-time.After(grace):
		}
	}
	if err := unix.Kill(group, unix.SIGKILL); err != nil && !errors.Is(err, unix.ESRCH) {
		return fmt.Errorf("stopping %s: %w", p.name, err)
	}
	<-p.done
	for range 200 { // what it started ends a moment later
		if errors.Is(unix.Kill(group, 0), unix.ESRCH) {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	return nil
}

// children are the processes that one has started itself.
func children(pid int) (out []int) {
	list, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	if err != nil {
		return nil
	}
	for _, f := range list {
		b, err := os.ReadFile(f)
		if err != nil {
			continue // it ended
		}
		for _, w := range strings.Fields(string(b)) {
			if n, err := strconv.Atoi(w); err == nil {
				out = append(out, n)
			}
		}
	}
	return out
}

// Left lists the programs that were started for dir, or for a folder below it,
// and still run, whoever started them. They are known by the mark, or by the
// folder that they work in: some write over their environment.
func Left(dir string) []int {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil // no such thing here
	}
	below := func(at string) bool { return at == dir || strings.HasPrefix(at, dir+"/") }
	var out []int
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		proc := filepath.Join("/proc", e.Name())
		if at, err := os.Readlink(filepath.Join(proc, "cwd")); err == nil &&
			below(strings.TrimSuffix(at, " (deleted)")) {
			out = append(out, pid)
			continue
		}
		b, err := os.ReadFile(filepath.Join(proc, "environ"))
		if err != nil {
			continue // it ended, or is another's
		}
		for _, v := range bytes.Split(b, []byte{0}) {
			if at, ours := bytes.CutPrefix(v, []byte(mark+"=")); ours && below(string(at)) {
				out = append(out, pid)
			}
		}
	}
	return out
}

// Reap ends what Left lists, and waits until it is gone.
func Reap(dir string) {
	for try := range 100 {
		left := Left(dir)
		for _, pid := range left {
			_ = unix.Kill(pid, map[bool]unix.Signal{true: unix.SIGTERM, false: unix.SIGKILL}[try < 20])
		}
		if len(left) == 0 {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}
