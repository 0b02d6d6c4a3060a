package process

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Member is a program of a family, as the system sees it (proc_pid_status(5), proc_pid_io(5)).
type Member struct {
	PID     int
	Name    string
	Own     int64 // bytes of memory that are its alone
	Shared  int64 // bytes of memory that it shares with others
	Written int64 // bytes that it and those that it waited for have written, wherever to
}

// Family lists the program, what it started, and what those started.
func (p *Process) Family() (out []Member) {
	for todo := []int{p.PID()}; len(todo) > 0; todo = todo[1:] {
		if m, ok := member(todo[0]); ok {
			out = append(out, m)
			todo = append(todo, children(todo[0])...)
		}
	}
	return out
}

// End ends one program of a family at once. The zero Member is none: its number would mean all of our own (kill(2)).
func (m Member) End() error {
	if m.PID <= 1 {
		return unix.ESRCH
	}
	return unix.Kill(m.PID, unix.SIGKILL)
}

// member reads what the system knows of a process; not ok if it has ended.
func member(pid int) (Member, bool) {
	dir := fmt.Sprintf("/proc/%d/", pid)
	status, err := os.ReadFile(dir + "status")
	if err != nil {
		return Member{}, false
	}
	m := Member{PID: pid}
	for line := range bytes.Lines(status) {
		name, value, _ := strings.Cut(string(line), ":")
		switch name {
		case "Name":
			m.Name = strings.TrimSpace(value)
		case "RssAnon":
			m.Own = kib(value)
		case "RssShmem":
			m.Shared = kib(value)
		}
	}
	io, err := os.ReadFile(dir + "io")
	if err != nil {
		return m, true // it is another account's
	}
	for line := range bytes.Lines(io) { // what goes to a file by way of memory is in the second alone
		if name, value, _ := strings.Cut(string(line), ":"); name == "wchar" || name == "write_bytes" {
			n, _ := strconv.ParseInt(strings.TrimSpace(value), 10, 64) // the system writes a number
			m.Written = max(m.Written, n)
		}
	}
	return m, true
}

// kib reads a number of KiB.
func kib(value string) int64 {
	n, _ := strconv.ParseInt(strings.TrimSuffix(strings.TrimSpace(value), " kB"), 10, 64) // the system writes a number
	return n << 10
}
