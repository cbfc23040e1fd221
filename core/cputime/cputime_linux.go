// Package cputime reads the processor time that a thread and this program have used.
package cputime

import (
	"time"

	"golang.org/x/sys/unix"
)

// Thread is the processor time that the calling thread has used.
func Thread() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_THREAD_CPUTIME_ID, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}

// Process is the processor time that this program has used.
func Process() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_PROCESS_CPUTIME_ID, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}
