package cputime

import "runtime"

var cores = runtime.GOMAXPROCS(0)

// Cores returns how many processors this program may use: those that the Go runtime found when it started, which a
// control group may limit.
func Cores() int { return cores }

// ShareCores lets one thread more than cores run Go code. Decoders and encoders stay on threads of their own, and a core
// idles while one hands over to another, unless the operating system has something to run then: a conversion on two cores
// is 12 % faster (BenchmarkConvert).
func ShareCores() { runtime.GOMAXPROCS(cores + 1) }
