package site

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Bounds are what the programs of a copy may use of a machine at most; 0: no bound.
type Bounds struct {
	Memory    int64         // bytes in memory, of all of them together
	Program   int64         // bytes of address space, of each
	Processes int           // at once
	CPU       time.Duration // of each
	File      int64         // bytes of each file that is written
	Files     int           // open at once, of each
	Temp      int64         // bytes of /tmp
	Disk      int64         // bytes of the copy's folders
}

// UsualBounds are those of a copy for which no others were chosen: far above what a site needs. That of the disk comes
// with the size of the site.
var UsualBounds = Bounds{Memory: 4 << 30, Program: 4 << 30, Processes: 256, CPU: time.Hour, File: 4 << 30, Files: 4096,
	Temp: 512 << 20}

// leastDisk is the usual bound of a small copy's disk; that of a large one is twice what it was made with.
const leastDisk = 20 << 30

// Bounds gives what a copy's programs may use: what its runtime says, and what is usual for the rest.
func (s Site) Bounds() Bounds {
	usual := UsualBounds
	usual.Disk = max(leastDisk, 2*s.Bytes())
	b, err := usual.With(s.Runtime.Bounds)
	if err != nil {
		return usual // it was checked when it was chosen
	}
	return b
}

// With gives bounds with those that a text names in place of its own: `memory=2G program=1G processes=64 cpu=30m
// file=1G files=1024 temp=1G disk=10G`, each where it is wanted.
func (b Bounds) With(text string) (Bounds, error) {
	for _, word := range strings.Fields(text) {
		name, value, _ := strings.Cut(word, "=")
		sizes := map[string]*int64{"memory": &b.Memory, "program": &b.Program, "file": &b.File, "temp": &b.Temp,
			"disk": &b.Disk}
		counts := map[string]*int{"processes": &b.Processes, "files": &b.Files}
		var err error
		switch {
		case sizes[name] != nil && value != "":
			*sizes[name], err = ParseSize(value)
		case counts[name] != nil:
			var n int
			if n, err = strconv.Atoi(value); err == nil && n < 8 {
				err = fmt.Errorf("%d is less than a site's programs need", n)
			}
			*counts[name] = n
		case name == "cpu":
			b.CPU, err = ParseSpan(value)
		default:
			err = errors.New("write memory, program, processes, cpu, file, files, temp or disk, =, and how much")
		}
		if err != nil {
			return Bounds{}, fmt.Errorf("%q is no bound: %w", word, err)
		}
	}
	return b, nil
}

// Or gives a runtime in which what is not said is another one's.
func (r Runtime) Or(other Runtime) Runtime {
	for _, x := range []struct{ is, or *string }{{&r.PHP, &other.PHP}, {&r.Memory, &other.Memory},
		{&r.Upload, &other.Upload}, {&r.Extensions, &other.Extensions}, {&r.Bounds, &other.Bounds}} {
		if *x.is == "" {
			*x.is = *x.or
		}
	}
	if r.RunTime == 0 {
		r.RunTime = other.RunTime
	}
	r.Show = r.Show || other.Show
	return r
}
