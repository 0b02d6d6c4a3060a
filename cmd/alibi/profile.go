//go:build profile

package main

import (
	"os"
	"runtime/pprof"
)

// profiled writes to the folder in ALIBI_PROFILE where processor time went and what was held in memory at the end, as
// go tool pprof reads it. Only programs built for measuring do so: go build -tags profile.
func profiled(run func() int) int {
	dir := os.Getenv("ALIBI_PROFILE")
	if dir == "" {
		return run()
	}
	cpu, err := os.Create(dir + "/cpu.pprof")
	if err != nil {
		panic(err)
	}
	defer cpu.Close()
	if err := pprof.StartCPUProfile(cpu); err != nil {
		panic(err)
	}
	code := run()
	pprof.StopCPUProfile()
	heap, err := os.Create(dir + "/heap.pprof")
	if err != nil {
		panic(err)
	}
	defer heap.Close()
	if err := pprof.Lookup("allocs").WriteTo(heap, 0); err != nil {
		panic(err)
	}
	return code
}
