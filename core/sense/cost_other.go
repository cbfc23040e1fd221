//go:build !linux

package sense

import "time"

var start = time.Now()

// threadTime is the time that has passed: no less than the processor time of
// the calling thread.
func threadTime() time.Duration { return time.Since(start) }
