//go:build !linux

package cputime

import "time"

var start = time.Now()

// Thread returns the elapsed time, an upper bound of the calling thread's processor time.
func Thread() time.Duration { return time.Since(start) }

// Process returns the elapsed time, as nothing better is known.
func Process() time.Duration { return time.Since(start) }
