package process

import (
	"os"
	"strconv"

	"golang.org/x/sys/unix"
)

// niceness is by how much Alibi steps back behind what else the machine does.
const niceness = 5

// Gentle has this process, and what it starts, give way to the rest of the
// machine: live sites that run on it come first. Where the system does not
// allow it, nothing changes.
func Gentle() {
	tasks, err := os.ReadDir("/proc/self/task") // Linux keeps a priority for each thread; new ones inherit it
	if err != nil {
		_ = unix.Setpriority(unix.PRIO_PROCESS, 0, niceness)
		return
	}
	for _, t := range tasks {
		if id, err := strconv.Atoi(t.Name()); err == nil {
			_ = unix.Setpriority(unix.PRIO_PROCESS, id, niceness)
		}
	}
}
