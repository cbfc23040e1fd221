// Package cputime reads the processor time used by a thread and by this program.
package cputime

import (
	"time"

	"golang.org/x/sys/unix"
)

// Thread returns the processor time used by the calling thread.
func Thread() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_THREAD_CPUTIME_ID, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}

// Process returns the processor time used by this program.
func Process() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_PROCESS_CPUTIME_ID, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}
