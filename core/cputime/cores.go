package cputime

import "runtime"

var cores = runtime.GOMAXPROCS(0)

// Cores returns how many processors this program may use: those that the Go runtime found when it started, which a
// control group may limit.
func Cores() int { return cores }
