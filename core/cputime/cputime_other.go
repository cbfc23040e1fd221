//go:build !linux

package cputime

import "time"

var start = time.Now()

// Thread is the time that has passed: no less than the processor time of
// the calling thread.
func Thread() time.Duration { return time.Since(start) }

// Process is the time that has passed, as nothing better is known.
func Process() time.Duration { return time.Since(start) }
