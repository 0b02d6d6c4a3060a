package keeper

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"alibi/internal/desk"
)

// Standing is a process that works as soon as no other one does.
type Standing struct {
	desk *desk.Desk
	// Told is told when it begins to work, and while it waits of the process that
	// works instead; it is called from another goroutine. It may be nil.
	Told func(works bool, holder string)
	// First is how the first try to become the keeper ended: nil, or ErrTaken.
	First error

	stop context.CancelFunc
	done chan error
}

// again is how often a process that waits tries to become the keeper.
const again = time.Second

// Stand becomes the keeper of a home, now or as soon as the one that it has ends,
// until End is called. An error says that this is not possible at all.
func Stand(ctx context.Context, d *desk.Desk, told func(works bool, holder string)) (*Standing, error) {
	k, err := Take(d)
	if err != nil && !errors.Is(err, ErrTaken) {
		return nil, err
	}
	s := &Standing{desk: d, Told: told, First: err, done: make(chan error, 1)}
	ctx, s.stop = context.WithCancel(ctx)
	go func() { s.done <- s.work(ctx, k) }()
	return s, nil
}

// End ends it, within a second or so, and gives the error that it worked until.
func (s *Standing) End() error {
	s.stop()
	return <-s.done
}

func (s *Standing) work(ctx context.Context, k *Keeper) error {
	for k == nil {
		s.tell(false, Holder(s.desk.Home()))
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(again):
		}
		var err error
		if k, err = Take(s.desk); err != nil && !errors.Is(err, ErrTaken) {
			s.desk.Workings().Log.Warn("taking over as keeper", "err", err) // the port may be let go in a moment
		}
	}
	s.tell(true, "")
	return k.Run(ctx)
}

func (s *Standing) tell(works bool, holder string) {
	if s.Told != nil {
		s.Told(works, holder)
	}
}

// Holder names the process that is the keeper of a home, as the system knows it;
// "" if none is, or it can't be told.
func Holder(home string) string {
	pid := holder(home)
	if pid == 0 {
		return ""
	}
	command, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil {
		return fmt.Sprintf("process %d", pid)
	}
	words := strings.Fields(strings.ReplaceAll(string(command), "\x00", " "))
	return fmt.Sprintf("process %d (%s)", pid, strings.Join(words[:min(len(words), 6)], " "))
}

// holder is the number of the process that took a home's lock; 0 if none did, it has ended, or it can't be told.
func holder(home string) int {
	var st unix.Stat_t
	if err := unix.Stat(filepath.Join(home, "keeper.lock"), &st); err != nil {
		return 0
	}
	f, err := os.Open("/proc/locks") // proc_locks(5)
	if err != nil {
		return 0
	}
	defer f.Close()
	file := fmt.Sprintf("%02x:%02x:%d", unix.Major(st.Dev), unix.Minor(st.Dev), st.Ino)
	for lines := bufio.NewScanner(f); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) < 6 || fields[1] != "FLOCK" || fields[5] != file {
			continue
		}
		if pid, err := strconv.Atoi(fields[4]); err == nil {
			return pid
		}
	}
	return 0
}
