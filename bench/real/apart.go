package main

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// apart has the programs of one machine of the bench keep to the first processor, and those of the other to the second,
// with all that this one starts from now on. Their command lines name the folders.
func apart(first, second string) error {
	if runtime.NumCPU() < 2 {
		return fmt.Errorf("there is one processor only: two machines can't be told apart")
	}
	if err := pin(os.Getpid(), 1); err != nil { // what it starts from now on follows
		return err
	}
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		return err
	}
	for _, file := range all {
		line, err := os.ReadFile(file)
		if err != nil {
			continue // it has ended
		}
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		if err != nil {
			return err
		}
		switch {
		case pid == os.Getpid():
		case strings.Contains(string(line), first):
			err = pin(pid, 0)
		case strings.Contains(string(line), second):
			err = pin(pid, 1)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// pin has all threads of a program keep to a processor.
func pin(pid, processor int) error {
	tasks, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/[0-9]*", pid))
	if err != nil {
		return err
	}
	var set unix.CPUSet
	set.Set(processor)
	for _, t := range tasks {
		id, err := strconv.Atoi(filepath.Base(t))
		if err != nil {
			return err
		}
		if err := unix.SchedSetaffinity(id, &set); err != nil && err != unix.ESRCH {
			return fmt.Errorf("giving process %d a processor of its own: %w", pid, err)
		}
	}
	return nil
}
