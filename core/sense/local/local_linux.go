// Package local provides the sensors of the system on which this program runs.
package local

import (
	"vividstrain/core/sense"
	"vividstrain/core/sense/linux"
)

// thisComputer is where this kernel publishes its state.
var thisComputer = linux.Roots{Proc: "/proc", Sys: "/sys"}

// Local returns the sources for this computer; the processes of g are the watched ones.
func Local(g *linux.Group) []sense.Source { return linux.Under(thisComputer, g) }

// Host returns the sources that measure what other programs take of this computer.
func Host(g *linux.Group) []sense.Source {
	return linux.HostUnder(thisComputer, g)
}

// kernelSpec returns what the kernel states about the machine.
func kernelSpec() map[string]string { return linux.Spec(thisComputer) }
