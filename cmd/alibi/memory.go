package main

import (
	"os"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// leastLimit is what the program may take up whatever it does, in bytes: garbage is collected more often near it.
const leastLimit = 160 << 20

// boundMemory keeps what the program takes up near what it needs, without ever letting it collect garbage all the time
// for something that is larger. A limit in the environment (GOMEMLIMIT) is left alone.
func boundMemory() {
	if os.Getenv("GOMEMLIMIT") != "" {
		return
	}
	debug.SetMemoryLimit(limitFor(0))
	go func() {
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		for range time.Tick(time.Second) {
			metrics.Read(live)
			debug.SetMemoryLimit(limitFor(live[0].Value.Uint64()))
		}
	}()
}

// limitFor is the limit for a heap of which so many bytes were in use at the last collection.
func limitFor(live uint64) int64 { return max(leastLimit, int64(live)/2*3) }
