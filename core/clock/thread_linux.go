package clock

import (
	"time"

	"golang.org/x/sys/unix"
)

// ThreadTime is the processor time that the calling thread has used.
func ThreadTime() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_THREAD_CPUTIME_ID, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}

// ProcessTime is the processor time that this program has used.
func ProcessTime() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_PROCESS_CPUTIME_ID, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}
