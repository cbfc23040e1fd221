//go:build !linux

package clock

import "time"

var start = time.Now()

// ThreadTime is the time that has passed: no less than the processor time of
// the calling thread.
func ThreadTime() time.Duration { return time.Since(start) }

// ProcessTime is the time that has passed, for want of better.
func ProcessTime() time.Duration { return time.Since(start) }
